"""The ledger: which ports each layer passes on its own, and which pass all of them.

A layer is measured with the very engine that predicts: the site is rebuilt with every other
layer thrown open, and the flow is sent through it. What arrives is what this layer passes.

Theory: why all others are thrown open
======================================
A packet shows only the first thing that stops it. Whoever mends that meets the second one, and needs a
round for each. So every layer is asked alone: filters of the others allow all, their forwards lead
every port on to the next hop, nothing is blocked; what still does not arrive is this layer's doing.
The ports that all layers pass, one by one, are then the ports that work, and a test holds that for
every case but those where the server itself has the last word.

A layer that nothing in the site file speaks of passes everything and is left out (an empty filter that
allows); one that a connection never comes to has no say either. A layer counts in the numbers that a
port has there: forwards before it may have moved them (``moves``).

>>> from eager_lantern.api import judge, parse_site
>>> (ledger,) = judge(parse_site("pier", '''
... lantern: 1
... site: Pier
... networks: [{name: office, subnet: 10.61.4.0/24}]
... gateways:
...   - name: router
...     outside: {network: internet, address: 198.51.100.61}
...     inside: {network: office, address: 10.61.4.1}
...     translate: outward
...     forwards: [{ports: "21, 61200-61202", to: 10.61.4.20}]
... server:
...   name: store
...   network: office
...   address: 10.61.4.20
...   filter: {incoming: {default: deny, rules: [{action: allow, ports: "21, 61201-61203"}]}}
... services:
...   - {name: tides, protocol: ftp, control_port: 21, passive: {ports: 61200-61203, announce: 198.51.100.61}}
... clients: [{name: gauge, network: internet, address: 203.0.113.50, reaches: 198.51.100.61}]
... promises: [{client: gauge, service: tides, mode: passive}]
... ''').site).ledgers
>>> for layer in ledger.layers:
...     print(layer.at, layer.name, layer.ports & layer.wanted)
store data range 61200-61203
router forwards 61200-61202
store allows in 61201-61203
>>> print(ledger.reachable)
61201-61202
"""

from collections.abc import Iterator
from typing import Literal

from msgspec import Struct, structs
from msgspec.structs import replace

from ..model.entries import BlockedPorts, Port
from ..model.site import OPEN, Active, Filter, Forward, Gateway, GatewayFilter, HostFilter, Passive, Site
from ..network.filters import Table
from ..network.flow import Flow, Journey
from ..network.journey import Helped, trace
from ..network.topology import LOCALHOST, Crossing, Device, Host, Topology
from ..values.addresses import Address, Addresses, AddressSet
from ..values.outcomes import Outcome
from ..values.ports import EVERY_PORT, UNPRIVILEGED, PortSet
from ..values.text_value import SitePath
from .endpoints import entrances, typed_port
from .forecast import Forecast
from .logins import AT_LOGIN

Aspect = Literal["hands-out", "address", "control", "outgoing", "outward", "provider", "forwards", "inward", "incoming"]


_DOES: dict[Aspect, str] = {
    "hands-out": "data range",
    "address": "announces",
    "control": "blocks login",
    "outgoing": "allows out",
    "outward": "allows out",
    "provider": "provider allows",
    "forwards": "forwards",
    "inward": "allows in",
    "incoming": "allows in",
}


class Layer(Struct, frozen=True):
    """One place that must agree: ``ports`` is what it passes of ``wanted``, and beyond it, in the numbers that
    ports have there; ``moved`` is how far devices before it have moved them from what was asked. Where it stops the
    control connection, ``journeys`` are of that."""

    aspect: Aspect
    at: str
    ports: PortSet
    wanted: PortSet
    place: SitePath
    journeys: tuple[Journey, ...] = ()
    moved: int = 0

    @property
    def name(self) -> str:
        """What the place does, in words: the same on every screen and in JSON."""
        return _DOES[self.aspect]

    @property
    def missing(self) -> PortSet:
        """What it ought to pass and does not."""
        return self.wanted - self.ports

    @property
    def shut(self) -> PortSet:
        """What it is known to stop: of the rest the site marks as unknown."""
        unasked = PortSet()
        for each in self.journeys:
            if each.reason in ("rule unknown", "ports unknown", "hairpin unknown"):
                unasked = unasked | each.asked.ports
        return self.missing - unasked.shift(self.moved)

    @property
    def outcome(self) -> str:
        """How it stops the rest: refused, silent, wrong or unknown; ok where nothing is missing."""
        missing = self.missing.shift(-self.moved)
        asked = [each for each in self.journeys if self.aspect == "control" or each.asked.ports & missing]
        stops = sorted((each.outcome for each in asked if each.outcome != "ok"), key=lambda each: each == "unknown")
        return stops[0] if stops else "ok" if not self.missing else "silent"


class Route(Struct, frozen=True):
    """The way that a flow ought to take, end to end. ``moves`` are the devices that move a port on purpose, with
    the number that it has before and behind them: a control port that is another outside. ``ends_at`` is the one
    address of the end that will do, where it has several."""

    origin: Host | str
    flow: Flow
    end: Host
    crossings: tuple[Crossing, ...]
    turning: Device | None
    helped: Helped
    moves: tuple[tuple[str, int, int], ...] = ()
    ends_at: Address | None = None

    @property
    def started_by(self) -> str:
        """The host or network that it comes from."""
        return self.origin if isinstance(self.origin, str) else self.origin.name

    @property
    def goal(self) -> Address:
        """The address that it is for on the server's side: where a NAT64 device stands on the way, the IPv4 address
        that it makes of the one that was asked for."""
        prefixes = (each.device.spec.nat64 for each in self.crossings if each.way == "outward")
        inner = (each.within(self.flow.to) for each in prefixes if each is not None)
        return next((each for each in inner if each is not None), self.flow.to)

    def translated_by(self, gateway: Gateway) -> bool:
        """Whether a gateway on the server's side changes addresses of this flow's family."""
        return gateway.translates(self.goal.family) != "none"

    @property
    def entrances(self) -> list[Device]:
        """The devices that it comes in through by an address of theirs, from outside to inside."""
        return [each.device for each in self.crossings if each.way == "inward" and self.translated_by(each.device.spec)]

    @property
    def offset(self) -> int:
        """How far the port is moved from end to end."""
        return self.moves[-1][2] - self.moves[0][1] if self.moves else 0

    def moved_at(self, name: str) -> tuple[int, int] | None:
        """The number of the port before and behind a device that may move it."""
        return next(((before, behind) for at, before, behind in self.moves if at == name), None)


def control_moves(route: "Route", own: int) -> tuple[tuple[str, int, int], ...]:
    """How the devices on a way ought to move the port that is asked for, so that it ends as the service's own:
    each as its forward states, the last one as it takes."""
    port, moves = route.flow.ports.lowest, []
    names = route.entrances
    devices = [*([route.turning] if route.turning and route.turning not in names else []), *names]
    for device in devices:
        forwards = [each for _, each in device.spec.entered_forwards() if port in each.ports and each.protocol == "tcp"]
        behind = port + forwards[0].offset if forwards and device is not devices[-1] else port
        moves.append((device.name, port, own if device is devices[-1] else behind))
        port = behind
    return tuple(moves) if port != own or any(a != b for _, a, b in moves) else ()


def route_of(topology: Topology, origin: Host | str, flow: Flow, end: Host, helped: Helped) -> Route:
    """The way from an origin to a host; out to a device that turns the flow back and in again, where one has
    the address that is used."""
    start = origin.network if isinstance(origin, Host) else origin
    crossings = topology.chain(start, end.network) or ()
    crossed = {each.device.name for each in crossings}
    turning = next(
        (
            each
            for each in topology.devices
            if flow.to.number in each.outside_addresses and each.name not in crossed and _turns(topology, each, start)
        ),
        None,
    )
    if turning is not None:
        inside = turning.spec.inside.network
        crossings = (*(topology.chain(start, inside) or ()), *(topology.chain(inside, end.network) or ()))
    return Route(origin, flow, end, crossings, turning, helped)


def _turns(topology: Topology, device: Device, start: str) -> bool:
    """Whether a network lies behind a device, so that it meets the device's outside address from inside."""
    ways = topology.chain(start, device.spec.outside.network) or ()
    return any(each.device is device and each.way == "outward" for each in ways)


def layers(topology: Topology, route: Route, candidates: PortSet) -> Iterator[Layer]:
    """The layers on a route, from origin to end; candidates are the ports to look at.

    A layer that the flow never comes to, because its address leads nowhere, is left out.
    """
    for aspect, at in _stations(route):
        layer = _measured(topology, route, candidates, aspect, at)
        if layer is not None:
            yield layer


def _stations(route: Route) -> Iterator[tuple[Aspect, str]]:
    if isinstance(route.origin, Host) and not _trivial(route.origin.outgoing):
        yield "outgoing", route.origin.name
    for way in ("outward", "inward"):
        for crossing in route.crossings:
            if crossing.way == way:
                yield from ((aspect, crossing.device.name) for aspect in _aspects(route, crossing))
        if way == "outward" and route.turning:
            yield "forwards", route.turning.name
    yield "incoming", route.end.name


def _trivial(table: Table) -> bool:
    return not table.matches and table.default == "allow"


def _aspects(route: Route, crossing: Crossing) -> list[Aspect]:
    spec, device = crossing.device.spec, crossing.device
    if crossing.way == "outward":
        return [] if _trivial(device.outward) else ["outward"]
    shut = spec.provider_blocks.ports or (spec.outside.ports is not None and route.translated_by(spec))
    aspects: list[Aspect] = ["provider"] if shut else []
    if route.translated_by(spec):
        aspects.append("forwards")
    asked = not route.translated_by(spec) or bool(spec.pairs) or not spec.forwards_pass_filter
    asked = asked or spec.filter_sees == "outside"
    if asked and not _trivial(device.inward):
        aspects.append("inward")
    return aspects


def _measured(topology: Topology, route: Route, candidates: PortSet, aspect: Aspect, at: str) -> Layer | None:
    alone = _opened_but(topology, route, aspect, at)
    origin = alone.host(route.origin.name) if isinstance(route.origin, Host) else route.origin
    flow = replace(route.flow, ports=candidates)
    moved = _moved_before(route, aspect, at)
    journeys = tuple(each for each in trace(alone, origin, flow, route.helped) if _concerns(route, aspect, at, each))
    if not journeys:
        return None
    passes, stops = PortSet(), PortSet()
    for each in journeys:
        arrived = each.outcome == "ok" and each.end.at == route.end.name and route.ends_at in (None, each.flow.to)
        if arrived and each.asked.ports.shift(route.offset) == each.flow.ports:
            passes = passes | each.asked.ports
        else:
            stops = stops | each.asked.ports
    wanted = route.flow.ports
    place = _blamed(journeys, at, wanted) or _entrance(topology, at)
    return Layer(aspect, at, (passes - stops).shift(moved), wanted.shift(moved), place, journeys, moved)


def _moved_before(route: Route, aspect: Aspect, at: str) -> int:
    """How far a port has been moved when it comes to a layer."""
    if aspect == "incoming":
        return route.offset
    steps = route.moved_at(at)
    if steps is None or aspect in ("outgoing", "outward"):
        return 0
    behind = aspect == "inward" and all(each.device.spec.filter_sees == "inside" for each in route.crossings)
    return steps[1 if behind else 0] - route.flow.ports.lowest


def _concerns(route: Route, aspect: Aspect, at: str, journey: Journey) -> bool:
    """Whether a journey came to the layer at all. An address that leads nowhere concerns the
    device whose address it is meant to be."""
    if journey.outcome == "ok" or any(step.at == at for step in journey.steps):
        return True
    return aspect == "forwards" and at == _first_entrance(route)


def _first_entrance(route: Route) -> str | None:
    first = next(iter(route.entrances), route.turning)
    return first.name if first else None


def _blamed(journeys: tuple[Journey, ...], at: str, wanted: PortSet) -> SitePath:
    """The rule or forward of this device that decides most of the wanted ports and lets them pass,
    else what stops most of them."""
    weights: dict[tuple[bool, SitePath], int] = {}
    for each in journeys:
        for step in each.steps:
            if step.at == at and step.place:
                key = (step.does != "stop", step.place)
                weights[key] = weights.get(key, 0) + len(each.asked.ports & wanted)
    best = max(weights, key=lambda key: (weights[key] > 0, key[0], weights[key]), default=(False, ()))
    return best[1]


def _entrance(topology: Topology, at: str) -> SitePath:
    """Where a device's outside address stands: to blame when nothing comes to the device at all."""
    return next(((*each.place, "outside", "address") for each in topology.devices if each.name == at), ())


def _opened_but(topology: Topology, route: Route, aspect: Aspect, at: str) -> Topology:
    """The site with every layer open but one. Routes between the same gateways share it."""
    gateways = tuple(
        _opened_gateway(each, route, aspect if each.name == at else None) for each in topology.site.gateways
    )
    key = (aspect, at, tuple((each.forwards, each.hairpin_source) for each in gateways))
    if key not in topology.derived:
        topology.derived[key] = Topology(_alone(topology.site, gateways, aspect, at), ways_back=False)
    return topology.derived[key]


def _alone(site: Site, gateways: tuple[Gateway, ...], aspect: Aspect, at: str) -> Site:
    """The site with these gateways, and every host open but for one of its filters."""
    server = structs.replace(site.server, filter=_opened_host(site.server.filter, site.server.name, aspect, at))
    clients = tuple(
        structs.replace(each, filter=_opened_host(each.filter, each.name, aspect, at)) for each in site.clients
    )
    return structs.replace(site, gateways=gateways, server=server, clients=clients)


def _opened_host(both: HostFilter, name: str, aspect: Aspect, at: str) -> HostFilter:
    def kept(way: Aspect, table: Filter) -> Filter:
        return table if (way, name) == (aspect, at) else OPEN

    return HostFilter(incoming=kept("incoming", both.incoming), outgoing=kept("outgoing", both.outgoing))


def _ideal(gateway: Gateway, route: Route) -> Iterator[Forward]:
    """The forwards that lead every port on, and move the one that is to be moved."""
    steps = route.moved_at(gateway.name)
    for hop in next_hops(route, gateway).each:
        if steps is not None and steps[0] != steps[1]:
            yield Forward(ports=PortSet.single(steps[0]), to=hop, to_port=Port(steps[1]))
        yield Forward(ports=EVERY_PORT, to=hop)


def _opened_gateway(gateway: Gateway, route: Route, kept: Aspect | None) -> Gateway:
    """A gateway that passes everything but for the aspect that is kept as it is."""
    ideal = tuple(_ideal(gateway, route))
    not_back = gateway.hairpin_source in ("kept", "unknown")
    return structs.replace(
        gateway,
        provider_blocks=gateway.provider_blocks if kept == "provider" else BlockedPorts(),
        outside=gateway.outside if kept == "provider" else structs.replace(gateway.outside, ports=None),
        forwarding=gateway.forwarding if kept == "forwards" else True,
        forwards=gateway.forwards if kept == "forwards" else ideal,
        unknown_ports=gateway.unknown_ports if kept == "forwards" else BlockedPorts(),
        forward_order=gateway.forward_order if kept == "forwards" else "first",
        exposed_host=gateway.exposed_host if kept == "forwards" else None,
        hairpin_source="inside" if not_back and kept != "forwards" else gateway.hairpin_source,
        forward_ranges=gateway.forward_ranges if kept == "forwards" else True,
        forward_limit=gateway.forward_limit if kept == "forwards" else None,
        forwards_pass_filter=kept != "inward",
        filter_sees=gateway.filter_sees if kept == "inward" else "inside",
        filter=GatewayFilter(
            inward=gateway.filter.inward if kept == "inward" else OPEN,
            outward=gateway.filter.outward if kept == "outward" else OPEN,
        ),
    )


def next_hops(route: Route, gateway: Gateway) -> Addresses:
    """Where a gateway ought to forward to: the next one that translates inward, else the end."""
    inward = route.entrances
    names = [each.name for each in inward]
    on_route = gateway.name in names or (route.turning is not None and route.turning.name == gateway.name)
    if not on_route or gateway.pairs:
        return Addresses()
    behind = inward[names.index(gateway.name) + 1 :] if gateway.name in names else inward
    last = Addresses((route.ends_at,)) if route.ends_at else route.end.addresses
    hops = behind[0].spec.outside.address if behind else last
    return Addresses(hops.of_family(route.goal.family)[:1])


class Ledger(Struct, frozen=True):
    """The layers between a client and the data ports of a service, in order of the way. ``outcome`` is how what
    does not work ends, as the forecast states it; of ``unknown`` ports nothing is certain."""

    service: str
    client: str
    mode: str
    layers: tuple[Layer, ...]
    reachable: PortSet
    announced: Address | None
    outcome: Outcome | None = None
    unknown: PortSet = PortSet()


class Study(Struct, frozen=True):
    """A forecast with every layer of its connections measured, for the ledger and the findings; those of the control
    connection where it does not arrive."""

    forecast: Forecast
    control_route: Route | None
    control: tuple[Layer, ...]
    data_route: Route | None
    data: tuple[Layer, ...]

    @property
    def ledger(self) -> Ledger | None:
        """The ledger of the data ports; None for a session that has none."""
        if not self.data:
            return None
        data = self.forecast.data
        promise = self.forecast.promise
        stops = self.forecast.stops
        return Ledger(
            promise.service,
            promise.client,
            promise.mode or "",
            self.data,
            data.works if data else PortSet(),
            self.forecast.announced,
            stops[0].outcome if stops else None,
            data.unknown if data else PortSet(),
        )


def measure(topology: Topology, forecast: Forecast) -> Study:
    """Measure the layers of a session that is promised to work."""
    if forecast.promise.holds == "shut" or forecast.target is None or not forecast.control:
        return Study(forecast, None, (), None, ())
    port = PortSet.single(typed_port(topology, forecast.position, forecast.service))
    flow = Flow("tcp", forecast.position.sources, UNPRIVILEGED, forecast.target, port)
    route = route_of(topology, forecast.position.origin, flow, topology.server, {})
    route = replace(route, moves=control_moves(route, forecast.service.control_port.number))
    if not _is_way_in(topology, forecast, forecast.target, route):
        return Study(forecast, None, (), None, ())
    control = () if _arrives(forecast) else tuple(layers(topology, route, port))
    if (
        forecast.service.protocol != "ftp"
        or forecast.promise.mode is None
        or any(each.reason in AT_LOGIN for each in forecast.stops)
    ):
        return Study(forecast, route, control, None, ())
    data_route = (
        _passive_route(topology, forecast) if forecast.promise.mode == "passive" else _active_route(topology, forecast)
    )
    data = tuple(_data_layers(topology, forecast, data_route, control)) if data_route else ()
    return Study(forecast, route, control, data_route, data)


def _arrives(forecast: Forecast) -> bool:
    """Whether all of the control connection comes to the server: then every layer lets it pass, and none is asked."""
    return bool(forecast.control) and all(each.outcome == "ok" for each in forecast.control)


def _is_way_in(topology: Topology, forecast: Forecast, address: Address, route: Route) -> bool:
    """Whether an address is one by which the server is meant to be reached from there."""
    own = forecast.position.spec.on_server and address == LOCALHOST
    return own or address in entrances(topology, forecast.position.network) or route.turning is not None


def address_works(topology: Topology, forecast: Forecast) -> bool:
    """Whether the address that data goes to is one of the server's, seen from the client."""
    if forecast.data is None or forecast.data_flow is None or forecast.promise.mode != "passive":
        return True
    known = {forecast.target, *entrances(topology, forecast.position.network)}
    return forecast.data_flow.to in known or bool(forecast.data.works)


def _passive_route(topology: Topology, forecast: Forecast) -> Route | None:
    """The way that passive data ought to take: to the announced address where that leads to the
    server, else to the control connection's."""
    passive = forecast.service.passive or Passive()
    assert forecast.target is not None
    meant = Flow("tcp", forecast.position.sources, UNPRIVILEGED, forecast.target, passive.ports)
    flow = forecast.data_flow or meant
    if not address_works(topology, forecast):
        flow = replace(flow, to=forecast.target)
    route = route_of(topology, forecast.position.origin, flow, topology.server, forecast.helped)
    arrived = [each for each in forecast.control if each.outcome == "ok"]
    return replace(route, ends_at=arrived[0].flow.to) if arrived and len(topology.server.addresses.each) > 1 else route


def _active_route(topology: Topology, forecast: Forecast) -> Route | None:
    flow = forecast.data_flow or _meant_back(topology, forecast)
    if flow is None or not isinstance(forecast.position.origin, Host):
        return None
    end = topology.server if forecast.position.spec.on_server else forecast.position.origin
    return route_of(topology, topology.server, flow, end, forecast.helped)


def _meant_back(topology: Topology, forecast: Forecast) -> Flow | None:
    """What the server would send for data if control were not stopped, where no translation on the client's side
    leaves open to which address."""
    spec, target = forecast.position.spec, forecast.target
    chain = topology.chain(forecast.position.network, topology.server.network) or ()
    family = target.family if target else 4
    hidden = any(each.way == "outward" and each.device.spec.translates(family) != "none" for each in chain)
    named = next(iter(spec.address.of_family(target.family)), None) if target else None
    own = next(iter(topology.server.addresses.of_family(target.family)), None) if target else None
    if forecast.control and forecast.rung not in ("connect", "greet"):
        return None
    if hidden or named is None or own is None or spec.active_address not in (None, named):
        return None
    active = forecast.service.active or Active()
    from_ports = PortSet.single(active.from_port.number) if active.from_port else UNPRIVILEGED
    return Flow("tcp", AddressSet.single(own), from_ports, named, spec.active_ports)


def _data_layers(topology: Topology, forecast: Forecast, route: Route, control: tuple[Layer, ...]) -> Iterator[Layer]:
    wanted = route.flow.ports
    yield _passive_layer(topology, forecast, wanted)
    if not address_works(topology, forecast):
        at = topology.site.services.index(forecast.service)
        yield Layer("address", topology.server.name, PortSet(), wanted, ("services", at, "passive", "announce"))
    if forecast.data is None and (blocked := next((each for each in control if each.missing), None)):
        yield Layer("control", blocked.at, PortSet(), wanted, blocked.place, blocked.journeys)
    others = PortSet.of(*((each.control_port.number,) * 2 for each in topology.site.services))
    yield from layers(topology, route, (UNPRIVILEGED - others) | wanted)


def _passive_layer(topology: Topology, forecast: Forecast, wanted: PortSet) -> Layer:
    if forecast.promise.mode == "passive":
        index = topology.site.services.index(forecast.service)
        return Layer("hands-out", topology.server.name, wanted, wanted, ("services", index, "passive", "ports"))
    index = topology.client_index(forecast.position.name)
    return Layer("hands-out", forecast.position.name, wanted, wanted, ("clients", index, "active_ports"))
