"""Which gateway a packet takes from where it is, and whether answers find the way back.

Theory: a connection is two ways
================================
A first packet that arrives proves nothing yet: the answer is a packet of its own, and whoever sends it asks his own
routes. It has to pass every device that the first one passed, in the opposite order, for only those devices know
the connection: one that has rewritten the destination is the only one that can write it back, so an answer past it
comes from an address that the client never called, and is dropped. So the way is walked once more from its end.
At each network that the connection came out on, whoever holds it then is asked where it would send to the present
source; that has to be the device through which it came.

The routes of a site are what its hosts know: with ``gateway`` a host knows its own network, its ``routes``, and
its gateway for all else. Without, it is taken to know every way, as long as there is only one. Here the server's
gateway is another device than the one that forwards:

>>> from eager_lantern.api import Address, AddressSet, Flow, PortSet, Topology, parse_site, trace
>>> site = parse_site("pier", '''
... lantern: 1
... site: Pier
... networks: [{name: office, subnet: 10.61.4.0/24}]
... gateways:
...   - name: router
...     outside: {network: internet, address: 198.51.100.61}
...     inside: {network: office, address: 10.61.4.1}
...     translate: outward
...     forwards: [{ports: 21, to: 10.61.4.20}]
...   - name: second
...     outside: {network: internet, address: 198.51.100.62}
...     inside: {network: office, address: 10.61.4.2}
...     translate: outward
... server: {name: store, network: office, address: 10.61.4.20, gateway: second}
... services: [{name: tides, protocol: ftp, control_port: 21, passive: {ports: 61200-61203}}]
... ''').site
>>> flow = Flow("tcp", AddressSet.parse("203.0.113.50"), None, Address.parse("198.51.100.61"), PortSet.parse("21"))
>>> for each in trace(Topology(site), "internet", flow):
...     print(each.outcome, each.reason, "at", each.end.at)
silent answers go elsewhere at store
"""

from collections.abc import Iterator, Sequence

from msgspec import Struct

from ..model.site import INTERNET, StaticRoute
from ..values.addresses import Address, AddressSet, public_addresses
from ..values.outcomes import Outcome
from ..values.text_value import SitePath
from .flow import Journey, Passage
from .topology import Crossing, Device, Host, Topology

Node = Host | Device


class NextHop(Struct, frozen=True):
    """Where a packet goes next. Without a crossing its destination is on this very network, or, ``lost``, nowhere;
    where there are ``several`` ways, the site does not say which one is taken."""

    crossing: Crossing | None
    lost: bool = False
    several: bool = False


class Astray(Struct, frozen=True):
    """Answers that do not come back to whom they are for: what the client notices, and who sends them elsewhere."""

    outcome: Outcome
    at: str
    place: SitePath


def next_hop(topology: Topology, network: str, address: Address, sender: Node | None) -> NextHop:
    """The device that a sender on a network hands a packet to; None is anybody there."""
    if sender is not None and (given := _configured_hop(topology, network, address, sender)) is not None:
        return given
    crossings = topology.crossings(network, address)
    lost = crossings is None
    if crossings is None:
        crossings = topology.chain(network, INTERNET) or ()
        if not crossings or any(each.way == "inward" for each in crossings):
            return NextHop(None, lost=True)
    if crossings and topology.forked and _several(topology, network, address, lost):
        return NextHop(None, several=True)
    return NextHop(crossings[0] if crossings else None, lost)


def _configured_hop(topology: Topology, network: str, address: Address, sender: Node) -> NextHop | None:
    """The configured routes of a sender: the narrowest that is about the address, else its gateway."""
    routes = sender.spec.routes if isinstance(sender, Device) else sender.routes
    about = [each for each in routes if address.number in each.to]
    for each in sorted(about, key=_width):
        if (crossing := topology.crossing(network, each.via)) is not None:
            return NextHop(crossing)
    if isinstance(sender, Device) or sender.gateway is None:
        return None
    if topology.holds(network, address):
        return NextHop(None)
    return NextHop(topology.crossing(network, sender.gateway), lost=topology.crossings(network, address) is None)


def sent_back_inside(topology: Topology, device: Device, address: Address) -> bool:
    """Whether a device sends what comes from inside for an address back to the inside: by a route of its own to a
    gateway there, or, where it has none about it, because the address lies there or further in."""
    if (narrowest := _narrowest(device, address)) is not None:
        return _leads_inside(topology, device, narrowest)
    crossings = topology.crossings(device.spec.inside.network, address)
    return crossings is not None and all(each.way == "inward" for each in crossings)


def _narrowest(device: Device, address: Address) -> StaticRoute | None:
    """The route of a device's own that is about an address."""
    return min((each for each in device.spec.routes if address.number in each.to), key=_width, default=None)


def _leads_inside(topology: Topology, device: Device, route: StaticRoute) -> bool:
    """Whether a device's route leads over its inside network, as it does through a gateway that stands there,
    wherever else that stands."""
    return topology.crossing(device.spec.inside.network, route.via) is not None


def _width(route: StaticRoute) -> int:
    return sum(high - low for low, high in route.to.spans)


def _several(topology: Topology, network: str, address: Address, lost: bool) -> bool:
    """Whether more than one device leads there from a network."""
    found, stranger = 0, not topology.sees(network, address)
    for crossing in topology.exits(network):
        reached = topology.beyond(network, crossing, address.family)
        known = any(topology.holds(each, address) for each in reached)
        found += known or (stranger and INTERNET in reached and (lost or address.kind == "public"))
    return found > 1


def ways_back(topology: Topology, journey: Journey) -> list[tuple[AddressSet, Astray | None]]:
    """What becomes of the answer at the end of a journey, be it of a host or of a device, by the source that whoever
    answers knows. Where nobody has the address, whoever asked for it last reports that."""
    if not journey.trail:
        return [(journey.flow.sources, None)]
    if journey.reason == "nobody there":
        sender = _sender(topology, journey.trail[-1])
        noticed_here = (
            _further(topology, journey.trail[:-1], sender, journey.flow.sources, journey.flow.sources)
            if sender
            else None
        )
        return [(journey.flow.sources, noticed_here)]
    return _astray_parts(topology, journey.trail, topology.node(journey.end.at), journey.flow.sources)


def _astray_parts(
    topology: Topology, trail: Sequence[Passage], node: Node, sources: AddressSet
) -> list[tuple[AddressSet, Astray | None]]:
    found: list[tuple[AddressSet, Astray | None]] = []
    for piece, verdict in _return_of_node(
        topology, trail[-1], len(trail) > 1 and trail[-2].to != trail[-1].to, node, sources
    ):
        before = _sender(topology, trail[-1])
        if verdict is None and len(trail) > 1 and isinstance(before, Device):
            verdict = _further(topology, trail[:-1], before, piece, trail[-1].sources)
        found.append((piece, verdict))
    return found


def _further(
    topology: Topology, trail: Sequence[Passage], node: Device, piece: AddressSet, behind: AddressSet
) -> Astray | None:
    """The same from a device on, which knows the connection by the source that it had before it."""
    last = trail[-1]
    kept = behind <= last.sources
    rewritten = len(trail) > 1 and trail[-2].to != last.to
    verdicts = [each for _, each in _return_of_node(topology, last, rewritten, node, piece if kept else last.sources)]
    wrong = [each for each in verdicts if each is not None]
    if wrong:
        mixed = len(wrong) < len(verdicts)
        return Astray("unknown", wrong[0].at, wrong[0].place) if mixed else wrong[0]
    before = _sender(topology, last)
    if len(trail) == 1 or not isinstance(before, Device):
        return None
    return _further(topology, trail[:-1], before, piece if kept else last.sources, last.sources)


def _return_of_node(
    topology: Topology, passage: Passage, rewritten: bool, node: Node, sources: AddressSet
) -> Iterator[tuple[AddressSet, Astray | None]]:
    """Whether a node sends its answers to where the connection came from, for each part of the sources."""
    before = _sender(topology, passage)
    for piece in _by_route(topology, node, sources):
        own = isinstance(before, Device) and piece <= before.addresses_on(passage.network)
        if isinstance(node, Device) and (
            beside := _bypassing_device(topology, node, passage.network, Address(piece.lowest))
        ):
            yield piece, beside
            continue
        if own or not isinstance(before, Device):
            yield piece, None
            continue
        hop = next_hop(topology, passage.network, Address(piece.lowest), node)
        if hop.crossing is not None and hop.crossing.device is before:
            yield piece, None
            continue
        place = (*node.place, "routes" if isinstance(node, Device) else "gateway")
        by_itself = hop.crossing is not None and hop.crossing.device is node
        comes_back = hop.crossing is not None and bool(piece & before.outside_addresses)
        noticed = (
            "unknown"
            if by_itself or comes_back
            else _outcome_of_astray(topology, hop, rewritten, Address(piece.lowest))
        )
        yield piece, Astray(noticed, node.name, place)


def _bypassing_device(topology: Topology, device: Device, network: str, source: Address) -> Astray | None:
    """A device that has the source on its other network or by a shorter way over that, or a route to it there, answers
    past all that the connection came by."""
    spec = device.spec
    other = spec.inside.network if network == spec.outside.network else spec.outside.network
    about = _narrowest(device, source)
    routed = about is not None and _leads_inside(topology, device, about) != (network == spec.inside.network)
    held = other not in (network, INTERNET) and _is_nearer(topology, device, other, network, source)
    return Astray("unknown", device.name, (*device.place, "routes")) if routed or held else None


def _is_nearer(topology: Topology, device: Device, other: str, network: str, source: Address) -> bool:
    """Whether it is no further to an address over another network of a device than over this one."""
    there, here = topology.crossings(other, source), topology.crossings(network, source)
    if there is None or (there and there[0].device is device):
        return False
    return here is None or len(there) <= len(here)


def _outcome_of_astray(topology: Topology, hop: NextHop, rewritten: bool, source: Address) -> Outcome:
    """Answers that go out by another device, or straight to the client, past one that has rewritten the connection,
    are nothing to the client, nor are those that are lost. An inner device may send them back where they came from, and
    what a device makes of half a connection, whether it drops, translates or passes it, is decided by no rule."""
    if hop.crossing is None:
        return "silent" if hop.lost or (rewritten and not hop.several) else "unknown"
    device = hop.crossing.device
    if hop.crossing.way == "inward" or (sent_back_inside(topology, device, source) and _passes_halves(device, source)):
        return "unknown"
    private = device.spec.outside.network == INTERNET and source.kind != "public"
    return "silent" if rewritten or hop.lost or private else "unknown"


def _passes_halves(device: Device, address: Address) -> bool:
    """Whether a device may pass half a connection back inside: by a route that was written for it, or where it does
    not translate, and so need not know the other half."""
    by_route = any(address.number in each.to for each in device.spec.routes)
    return by_route or device.spec.translates(address.family) == "none"


def _by_route(topology: Topology, node: Node, sources: AddressSet) -> Iterator[AddressSet]:
    """Parts of the sources to which a node has one way."""
    routes = node.spec.routes if isinstance(node, Device) else node.routes
    cuts = [*(each.to for each in routes), *topology.subnets.values(), public_addresses()]
    pieces = [sources]
    for cut in cuts:
        pieces = [part for each in pieces for part in (each & cut, each - cut) if part]
    yield from pieces


def _sender(topology: Topology, passage: Passage) -> Device | None:
    return next((each for each in topology.devices if each.name == passage.sender), None)
