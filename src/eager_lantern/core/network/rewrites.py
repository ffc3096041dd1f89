"""Everything by which a gateway changes where a connection goes, in one list and in the order in which it is asked.

The engine, the relays of the loopback lab, the text for the kernel and the findings read this list; how each matches a
connection with it is its own affair, so that they can be held against each other.
"""

from typing import assert_never

from msgspec import Struct

from ..model.site import Forward, Gateway, Transport
from ..values.addresses import Address, AddressSet
from ..values.ports import EVERY_PORT, PortSet
from ..values.site_path import SitePath


class Rewrite(Struct, frozen=True):
    """What is led where. ``outside`` is the one address that it is about, ``protocol`` the one transport, ``sources``
    the only ones; None is any. Ports are moved by ``offset``. A ``forwarded`` connection may pass the filter, a
    pair of addresses joins them and asks it. ``place`` is below the gateway's own."""

    place: SitePath
    name: str
    forwarded: bool
    protocol: Transport | None
    outside: Address | None
    ports: PortSet
    sources: AddressSet | None
    to: Address
    offset: int


def rewrites(gateway: Gateway) -> tuple[Rewrite, ...]:
    """What the device rewrites as it stands: with the master switch off its pairs alone."""
    return tuple(each for each in entries(gateway) if gateway.forwarding or not each.forwarded)


def entries(gateway: Gateway) -> tuple[Rewrite, ...]:
    """The forwards that the device holds, in the order in which they win, then its pairs, then the host that gets
    everything else, whatever the master switch says. Forwards that are switched off are no entries: only the
    pages to work from name them, as the site file has them."""
    forwards = in_order(gateway, gateway.entered_forwards())
    exposed = gateway.exposed_host.each if gateway.exposed_host else ()
    pairs = enumerate(gateway.pairs)
    return (
        *(
            Rewrite(("forwards", i), f.name, True, f.protocol, f.outside, f.ports, f.from_, f.to, f.offset)
            for i, f in forwards
        ),
        *(Rewrite(("pairs", i), "", False, None, pair.outside, EVERY_PORT, None, pair.inside, 0) for i, pair in pairs),
        *(Rewrite(("exposed_host",), "", True, None, None, EVERY_PORT, None, each, 0) for each in exposed),
    )


def in_order(gateway: Gateway, forwards: list[tuple[int, Forward]]) -> list[tuple[int, Forward]]:
    """Forwards of a device with their indexes, the one that wins before those that it wins over."""
    match gateway.forward_order:
        case "first":
            return forwards
        case "last":
            return forwards[::-1]
        case "narrowest":
            return sorted(forwards, key=lambda pair: len(pair[1].ports))
        case _ as never:
            assert_never(never)
