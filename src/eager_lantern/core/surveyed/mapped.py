"""A router's mappings, one port each as it lists them, as the forwards that they are."""

from collections.abc import Sequence

from ..model.entries import Port
from ..model.site import Forward
from ..observed.survey import MappingSeen
from ..values.ports import PortSet
from ..values.quantities import Duration


def forwards_of(mappings: Sequence[MappingSeen]) -> tuple[Forward, ...]:
    """The same as forwards: neighbouring ports to one host with one shift are one range, in the order of the first.

    >>> from eager_lantern.core.values.addresses import Address
    >>> host = Address.parse("10.61.4.20")
    >>> found = forwards_of([MappingSeen("tcp", port, host, port, "x") for port in (21, 61200, 61201, 61202)])
    >>> [str(each.ports) for each in found]
    ['21', '61200-61202']
    """
    alike: dict[tuple[object, ...], list[MappingSeen]] = {}
    for each in mappings:
        key = (each.protocol, each.to, each.to_port - each.port, each.enabled, each.name, bool(each.lease_seconds))
        alike.setdefault(key, []).append(each)
    return tuple(_forward(span, same) for same in alike.values() for span in PortSet.of(*_single(same)).spans)


def _single(mappings: Sequence[MappingSeen]) -> list[tuple[int, int]]:
    return [(each.port, each.port) for each in mappings if each.port and each.to_port]


def _forward(span: tuple[int, int], same: Sequence[MappingSeen]) -> Forward:
    """One range of mappings that are alike; a lease that ends is told by the shortest of them."""
    one = same[0]
    shift = one.to_port - one.port
    lasting = min(each.lease_seconds for each in same)
    return Forward(
        name=one.name,
        protocol=one.protocol,
        ports=PortSet.of(span),
        to=one.to,
        to_port=Port(span[0] + shift) if shift else None,
        enabled=one.enabled,
        lifetime=Duration(lasting) if lasting else None,
    )
