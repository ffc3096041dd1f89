"""Addresses that a stranger names for this machine to connect to: a server in its passive reply, a resolver in its
answer.

Whoever follows them can be led to what only this machine reaches: a host of its own network, itself, or the service
from which hosts of a cloud get their credentials. So such an address is shown before anything is sent to it, and one
that is not everybody's needs a word of its own (``--even-private``).
"""

from ...core.values.addresses import Address
from ...core.values.phrases import article

WORD = "--even-private"
METADATA = frozenset(map(Address.parse, ("169.254.169.254", "fd00:ec2::254", "100.100.100.200", "168.63.129.16")))
"""Where providers answer their own hosts (public interface: each provider's documentation names its own)."""


def not_everybodys(address: str) -> str:
    """What an address is, in words, where it is not a host's on the internet; empty where it is. Raises ValueError for
    what is no address."""
    found = Address.parse(address)
    if found in METADATA:
        return "the address of a cloud's metadata service"
    return "" if found.kind == "public" else f"{article(found.kind)} address"
