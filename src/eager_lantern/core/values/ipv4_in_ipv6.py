"""IPv4 addresses as networks of IPv6 alone name them: inside a prefix of 96 bits (RFC 6052, section 2.2)."""

from ipaddress import IPv6Network, ip_network
from typing import Self

from .addresses import Address, AddressSet
from .text_value import Value, bounded


class Prefix96(Value):
    """The prefix of 96 bits in front of an IPv4 address: what a NAT64 device stands for.

    >>> prefix = Prefix96.parse("64:ff9b::/96")
    >>> print(prefix.around(Address.parse("198.51.100.61")), prefix.within(Address.parse("64:ff9b::c633:643d")))
    64:ff9b::c633:643d 198.51.100.61
    """

    __slots__ = ("first",)

    def __init__(self, first: Address) -> None:
        self.first = first

    @classmethod
    def parse(cls, text: str) -> Self:
        """Read ``64:ff9b::/96``. Raises ValueError with what would be right."""
        bounded(text)
        try:
            network = ip_network(text.strip())
        except ValueError:
            network = None
        if not isinstance(network, IPv6Network) or network.prefixlen != 96:
            raise ValueError(
                f"“{text.strip()[:60]}” is no prefix of NAT64: write 64:ff9b::/96, or another IPv6 network of /96"
            )
        return cls(Address.parse(str(network.network_address)))

    @property
    def as_set(self) -> AddressSet:
        """Every address with this prefix."""
        return AddressSet.of((self.first.number, self.first.number + 2**32 - 1))

    def around(self, inner: Address) -> Address:
        """The IPv6 address for an IPv4 address."""
        return Address(self.first.number + inner.number)

    def within(self, outer: Address) -> Address | None:
        """The IPv4 address in an IPv6 one; None where that has another prefix."""
        return Address(outer.number - self.first.number) if outer.number in self.as_set else None

    def __str__(self) -> str:
        return f"{self.first}/96"
