"""Addresses and exact sets of them, IPv4 and IPv6 side by side, and IPv4 inside IPv6 (RFC 6052, section 2.2).

Both families lie on one line of integers, so that the interval algebra of ports serves
here too: IPv4 is 0 to 2**32 - 1 and IPv6 follows, shifted up by 2**32. A set is cut
where the families meet when it is printed.
"""

import re
from collections.abc import Iterable, Iterator
from functools import cache, lru_cache
from ipaddress import (
    IPv4Address,
    IPv6Address,
    IPv6Network,
    ip_address,
    ip_network,
    summarize_address_range,
)
from typing import Literal, Self

from .intervals import MOST_REMEMBERED, IntervalSet, Span
from .text_value import LONGEST_MANY, Value, bounded

Family = Literal[4, 6]
FAMILIES: tuple[Family, Family] = (4, 6)
Kind = Literal["public", "private", "carrier", "loopback", "link-local", "multicast", "unspecified", "reserved"]

_IPV6_BASE = 2**32
_NUMBERS = {str(each): each for each in range(256)}
_TOP = _IPV6_BASE + 2**128 - 1


def _number(ip: IPv4Address | IPv6Address) -> int:
    return int(ip) if ip.version == 4 else int(ip) + _IPV6_BASE


def _ip(number: int) -> IPv4Address | IPv6Address:
    return IPv4Address(number) if number < _IPV6_BASE else IPv6Address(number - _IPV6_BASE)


class Address(Value):
    """One IPv4 or IPv6 address; ``number`` is its place on the common line."""

    __slots__ = ("number",)

    def __init__(self, number: int) -> None:
        self.number = number

    @classmethod
    def parse(cls, text: str) -> Self:
        """Read one address. Raises ValueError with what would be right."""
        bounded(text)
        try:
            if "%" in text:
                raise ValueError
            return cls(_number(ip_address(text.strip())))
        except ValueError:
            raise ValueError(f"found “{text.strip()[:60]}”{_address_slip(text.strip())}") from None

    @property
    def family(self) -> Family:
        """4 or 6."""
        return 4 if self.number < _IPV6_BASE else 6

    @property
    def kind(self) -> Kind:
        """What the IANA special-purpose registries (RFC 6890) say of it.

        The documentation prefixes (RFC 5737, RFC 3849) count as public: they stand for
        public addresses wherever a site is made up.
        """
        return _kind_of_number(self.number)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Address) and other.number == self.number

    def __hash__(self) -> int:
        return hash(self.number)

    @property
    def digits(self) -> str:
        """The address as numbers, also where nobody knows it."""
        return str(_ip(self.number))

    def __str__(self) -> str:
        return _text(self.number)


UNKNOWN_TEXT = "?"
OUTSIDE_NOT_KNOWN, SENDER_NOT_KNOWN = Address(63), Address(64)
"""What stands for an outside address, and for whoever comes from outside, until somebody fills it in: addresses of
0.0.0.0/8, which no host has (RFC 1122, section 3.2.1.3). Both are shown as a question mark."""
_NOT_KNOWN = (OUTSIDE_NOT_KNOWN.number, SENDER_NOT_KNOWN.number)


def _text(number: int) -> str:
    return UNKNOWN_TEXT if number in _NOT_KNOWN else str(_ip(number))


def _address_slip(text: str) -> str:
    """What was found in place of an address, and what was expected."""
    parts = text.split(".")
    if ported := re.fullmatch(r"([0-9.]+|\[[0-9A-Fa-f:]+\]):[0-9]{1,5}", text):
        return f" with a port; expected the address alone: {ported[1].strip('[]')}"
    if re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9.-]*", text) and re.search("[A-Za-z]", text) and ".." not in text:
        return ", a name; expected an address, as in 198.51.100.61 (names that clients type stand under “names”)"
    if "/" in text:
        return ", a network; expected one address"
    if "%" in text:
        return f"; expected an address without a zone (%{text.partition('%')[2]})"
    if len(parts) == 4 and all(part.isdigit() for part in parts):
        if any(int(part[:9]) > 255 for part in parts):
            return "; expected four numbers of 0 to 255"
        return "; expected numbers without a zero in front"
    if len(parts) > 1 and all(part.isdigit() for part in parts):
        return f", which has {len(parts)} numbers; expected four, as an IPv4 address has"
    return "; expected an address, as in 198.51.100.61 or 2001:db8::61"


def _prefix(text: str) -> Span:
    return _plain_prefix(bounded(text)) or _other_prefix(text)


def _plain_prefix(text: str) -> Span | None:
    """An IPv4 network or address as nearly all are written; None for anything else, which the library reads slower."""
    address, slash, length = text.strip().partition("/")
    try:
        a, b, c, d = [_NUMBERS[each] for each in address.split(".")]
        size = 1 << (32 - _NUMBERS[length] if slash else 0)
    except (KeyError, ValueError):
        return None
    low = a << 24 | b << 16 | c << 8 | d
    return None if low & (size - 1) else (low, low + size - 1)


def _other_prefix(text: str) -> Span:
    try:
        if "%" in text:
            raise ValueError("a zone")
        network = ip_network(text.strip())
    except ValueError as error:
        raise ValueError(_prefix_slip(text.strip(), error)) from None
    low = _number(network.network_address)
    return low, low + (1 << (network.max_prefixlen - network.prefixlen)) - 1


def _prefix_slip(text: str, error: ValueError) -> str:
    if "host bits" in str(error):
        return f"found {text}, a host inside a network; expected {ip_network(text, strict=False)}, or the address alone"
    if "%" in text:
        return f"found “{text[:60]}”; expected an address without a zone (%{text.partition('%')[2]})"
    return f"found “{text[:60]}”; expected an address or a network: 10.61.4.20, 10.61.4.0/24 or 2001:db8::/64"


@lru_cache(maxsize=MOST_REMEMBERED)
def _spans(text: str) -> tuple[Span, ...]:
    return IntervalSet.of(*(_address_span(part) for part in bounded(text, LONGEST_MANY).split(","))).spans


def _address_span(text: str) -> Span:
    low, dash, high = text.partition("-")
    if not dash:
        return _prefix(text)
    first, last = Address.parse(low), Address.parse(high)
    if first.family != last.family:
        raise ValueError(
            f"found {text.strip()}, from one address family to the other; expected two addresses of one family"
        )
    if last < first:
        raise ValueError(f"found {text.strip()}, which ends before it starts; expected the lower address first")
    return first.number, last.number


class AddressSet(IntervalSet):
    """An immutable set of addresses; members are :class:`Address` numbers."""

    __slots__ = ()

    @classmethod
    def parse(cls, text: str) -> Self:
        """Read ``10.61.4.0/24, 2001:db8::7, 10.61.5.1-10.61.5.9``.

        Raises ValueError that states which part is wrong and what would be right.
        """
        return cls(_spans(text))

    @classmethod
    def single(cls, *addresses: Address) -> Self:
        """The set of just these addresses."""
        if len(addresses) == 1:
            return cls(((addresses[0].number, addresses[0].number),))
        return cls.of(*((each.number, each.number) for each in addresses))

    def of_family(self, family: Family) -> Self:
        """Its members of one family."""
        if not self.spans or (family == 4 and self.highest < _IPV6_BASE):
            return self
        return type(self)(_of_half(self.spans, family))

    def among(self, universe: "AddressSet") -> Self:
        """A set with the same members of a universe, in the fewest spans: what is none of it may lie between."""
        others, found = universe - self, list[Span]()
        for low, high in _of_one_family(self.spans):
            near = bool(found) and (found[-1][1] < _IPV6_BASE) == (low < _IPV6_BASE)
            if near and not others & type(self)(((found[-1][1] + 1, low - 1),)):
                found[-1] = (found[-1][0], high)
            else:
                found.append((low, high))
        return type(self)(tuple(found))

    def prefixes(self) -> tuple[str, ...]:
        """The fewest networks, as ``10.61.4.0/24``, that make up the set."""
        parts = (summarize_address_range(_ip(low), _ip(high)) for low, high in _of_one_family(self.spans))
        return tuple(str(each) for part in parts for each in part)

    def __str__(self) -> str:
        return ", ".join(map(_span_text, _of_one_family(self.spans)))


@lru_cache(maxsize=1024)
def _of_half(spans: tuple[Span, ...], family: Family) -> tuple[Span, ...]:
    half = (0, _IPV6_BASE - 1) if family == 4 else (_IPV6_BASE, _TOP)
    return (IntervalSet(spans) & IntervalSet((half,))).spans


def _of_one_family(spans: Iterable[Span]) -> Iterator[Span]:
    """The same, cut where the families meet."""
    for low, high in spans:
        if low < _IPV6_BASE <= high:
            yield low, _IPV6_BASE - 1
            yield _IPV6_BASE, high
        else:
            yield low, high


def _span_text(span: Span) -> str:
    low, size = _ip(span[0]), span[1] - span[0] + 1
    if size == 1:
        return _text(span[0])
    if size & (size - 1) == 0 and int(low) % size == 0:
        return f"{low}/{low.max_prefixlen - size.bit_length() + 1}"
    return f"{low}-{_ip(span[1])}"


EVERY_ADDRESS = AddressSet.of((0, _TOP))


@lru_cache(maxsize=MOST_REMEMBERED)
def _kind_of_number(number: int) -> Kind:
    if number in _NOT_KNOWN:
        return "public"
    return next((kind for kind, members in _special().items() if number in members), "public")


@cache
def _special() -> dict[Kind, AddressSet]:
    """The special-purpose registries (RFC 6890 and its updates), by kind."""
    return {
        "unspecified": AddressSet.parse("0.0.0.0/8, ::/128"),
        "private": AddressSet.parse("10.0.0.0/8, 172.16.0.0/12, 192.168.0.0/16, fc00::/7"),
        "carrier": AddressSet.parse("100.64.0.0/10"),
        "loopback": AddressSet.parse("127.0.0.0/8, ::1/128"),
        "link-local": AddressSet.parse("169.254.0.0/16, fe80::/10"),
        "multicast": AddressSet.parse("224.0.0.0/4, ff00::/8"),
        "reserved": AddressSet.parse("192.0.0.0/24, 198.18.0.0/15, 240.0.0.0/4, 100::/64, 2001:2::/48"),
    }


@cache
def public_addresses() -> AddressSet:
    """Every address that a host on the internet may have."""
    known = EVERY_ADDRESS.of_family(4) | AddressSet.parse("2000::/3")
    for members in _special().values():
        known = known - members
    return known


class Addresses(Value):
    """The addresses of one device, in the order they were written: one, or several."""

    __slots__ = ("each",)

    def __init__(self, each: tuple[Address, ...] = ()) -> None:
        self.each = each

    @classmethod
    def parse(cls, text: str) -> Self:
        """Read ``198.51.100.61, 2001:db8::61``. Raises ValueError as :meth:`Address.parse`."""
        return cls(tuple(Address.parse(part) for part in bounded(text, LONGEST_MANY).split(",")))

    def of_family(self, family: Family) -> tuple[Address, ...]:
        """Those of one family."""
        return tuple(each for each in self.each if each.family == family)

    @property
    def as_set(self) -> AddressSet:
        """The same as a set."""
        return AddressSet.single(*self.each)

    def __bool__(self) -> bool:
        return bool(self.each)

    def __contains__(self, address: Address) -> bool:
        return address in self.each

    def __str__(self) -> str:
        return ", ".join(map(str, self.each))


def network_around(address: Address, length: int) -> AddressSet:
    """The network that a host with this address and length of prefix stands in. Raises ValueError for a length that no
    prefix has."""
    return AddressSet.parse(str(ip_network(f"{address}/{length}", strict=False)))


def address_or_none(text: str) -> Address | None:
    """The address that a text is, if it is one and not a name."""
    try:
        return Address.parse(text)
    except ValueError:
        return None


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
                f"found “{text.strip()[:60]}”; expected a prefix of NAT64: 64:ff9b::/96, or another IPv6 network of /96"
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
