"""Know before you open a port, prove it after: file transfer through firewalls and NAT."""

__version__ = "0.1.0"
