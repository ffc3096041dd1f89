"""Connections as a packet filter tells them apart, as boxes: all of some transports, senders, addresses and ports
(public interface of libnftables: the names of its families)."""

from collections.abc import Iterator, Sequence
from typing import TypeVar

from msgspec import Struct
from msgspec.structs import replace

from ....core.values.addresses import AddressSet
from ....core.values.ports import EVERY_PORT, PortSet

IPV4, IPV6 = AddressSet.parse("0.0.0.0/0"), AddressSet.parse("::/0")
EVERYBODY = IPV4 | IPV6
TRANSPORTS = frozenset(("tcp", "udp"))
FAMILIES = {"ip": 4, "ip6": 6, "inet": None, "netdev": None}
"""Families of tables that see packets of IPv4, IPv6 or both."""


class Box(Struct, frozen=True):
    """All connections of these transports, senders, addresses and ports."""

    protocols: frozenset[str] = TRANSPORTS
    sources: AddressSet = EVERYBODY
    targets: AddressSet = EVERYBODY
    from_ports: PortSet = EVERY_PORT
    ports: PortSet = EVERY_PORT

    @property
    def is_empty(self) -> bool:
        """Whether no connection is in it."""
        addresses = self.sources.spans and self.targets.spans
        return not (self.protocols and addresses and self.from_ports.spans and self.ports.spans)

    def __and__(self, other: "Box") -> "Box":
        if self is EVERYTHING:
            return other
        return Box(
            _intersection(self.protocols, other.protocols, TRANSPORTS),
            _intersection(self.sources, other.sources, EVERYBODY),
            _intersection(self.targets, other.targets, EVERYBODY),
            _intersection(self.from_ports, other.from_ports, EVERY_PORT),
            _intersection(self.ports, other.ports, EVERY_PORT),
        )

    @property
    def answered(self) -> "Box":
        """The connections whose answers are in it, or the other way round."""
        return Box(self.protocols, self.targets, self.sources, self.ports, self.from_ports)

    def without(self, other: "Box") -> Iterator["Box"]:
        """What is not in another, as boxes that do not meet; it is whole where the two do not meet."""
        if (self & other).is_empty:
            yield self
            return
        left = self
        for each in self.__struct_fields__:
            mine, theirs = getattr(left, each), getattr(other, each)
            if outside := mine - theirs:
                yield replace(left, **{each: outside})
            left = replace(left, **{each: mine & theirs})
            if left.is_empty:
                return


EVERYTHING = Box()
"""All new connections."""
_Set = TypeVar("_Set", frozenset[str], AddressSet, PortSet)


def _intersection(mine: _Set, theirs: _Set, whole: _Set) -> _Set:
    """What is in both of two sets; the sets of a rule are the whole in most of its fields."""
    if mine is theirs or theirs is whole:
        return mine
    return theirs if mine is whole else mine & theirs


def common(boxes: Sequence[Box], others: Sequence[Box]) -> list[Box]:
    """What is in one of some boxes and in one of the others; most rules are asked about everything."""
    if len(boxes) == 1 == len(others):
        part = boxes[0] & others[0]
        return [] if part.is_empty else [part]
    return [part for each in boxes for other in others if not (part := each & other).is_empty]


def without(boxes: Sequence[Box], other: Box) -> list[Box]:
    """What of some boxes is not in another."""
    return [part for each in boxes for part in each.without(other) if not part.is_empty]


def family_box(family: str) -> Box:
    """All connections of a family of tables."""
    known = FAMILIES[family]
    if known is None:
        return EVERYTHING
    addresses = IPV4 if known == 4 else IPV6
    return Box(sources=addresses, targets=addresses)
