"""Everything by which a gateway changes where a connection goes, in one list and in the order in which it is asked.

The engine, the relays of the loopback lab and the text for the kernel read this list; how each matches a
connection with it is its own affair, so that they can be held against each other.
"""

from msgspec import Struct

from ..model.site import Gateway, Transport
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
    """The forwards that the device holds, unless its master switch is off, and then its pairs."""
    forwards = gateway.entered_forwards() if gateway.forwarding else ()
    pairs = enumerate(gateway.pairs)
    return (
        *(
            Rewrite(("forwards", i), f.name, True, f.protocol, None, f.ports, f.from_, f.to, f.offset)
            for i, f in forwards
        ),
        *(Rewrite(("pairs", i), "", False, None, pair.outside, EVERY_PORT, None, pair.inside, 0) for i, pair in pairs),
    )
