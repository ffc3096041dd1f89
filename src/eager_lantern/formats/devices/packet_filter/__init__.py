"""The kernel's packet filter: rule sets read and written (public interface of nftables and iptables)."""
