"""The ledger: which ports each of the places that must agree lets pass, and what all of them let pass."""

from collections.abc import Iterator

from msgspec import Struct
from msgspec.structs import replace

from ..model.site import Active, Passive
from ..network.flow import Flow
from ..network.topology import LOCALHOST, Host, Topology
from ..values.addresses import Address, AddressSet
from ..values.outcomes import Outcome
from ..values.ports import UNPRIVILEGED, PortSet
from .endpoints import entrances, typed_port
from .forecast import Forecast
from .layers import Layer, Route, control_moves, layers, route_of


class Ledger(Struct, frozen=True):
    """The layers between a client and the data ports of a service, in order of the way. ``outcome`` is how what
    does not work ends, as the forecast says it."""

    service: str
    client: str
    mode: str
    layers: tuple[Layer, ...]
    reachable: PortSet
    announced: Address | None
    outcome: Outcome | None = None


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
        reached = self.forecast.data.works if self.forecast.data else PortSet()
        promise = self.forecast.promise
        stops = self.forecast.stops
        return Ledger(
            promise.service,
            promise.client,
            promise.mode or "",
            self.data,
            reached,
            self.forecast.announced,
            stops[0].outcome if stops else None,
        )


def measure(topology: Topology, forecast: Forecast) -> Study:
    """Measure the layers of a session that is promised to work."""
    if forecast.promise.holds == "shut" or forecast.target is None:
        return Study(forecast, None, (), None, ())
    port = PortSet.single(typed_port(topology, forecast.stand, forecast.service))
    flow = Flow("tcp", forecast.stand.sources, UNPRIVILEGED, forecast.target, port)
    route = route_of(topology, forecast.stand.origin, flow, topology.server, {})
    route = replace(route, moves=control_moves(route, forecast.service.control_port.number))
    if not _is_way_in(topology, forecast, forecast.target, route):
        return Study(forecast, None, (), None, ())
    control = () if _arrives(forecast) else tuple(layers(topology, route, port))
    if forecast.service.protocol != "ftp" or forecast.promise.mode is None:
        return Study(forecast, route, control, None, ())
    data_route = (
        _passive_route(topology, forecast) if forecast.promise.mode == "passive" else _active(topology, forecast)
    )
    data = tuple(_data_layers(topology, forecast, data_route, control)) if data_route else ()
    return Study(forecast, route, control, data_route, data)


def _arrives(forecast: Forecast) -> bool:
    """Whether all of the control connection comes to the server: then every layer lets it pass, and none is asked."""
    return bool(forecast.control) and all(each.outcome == "ok" for each in forecast.control)


def _is_way_in(topology: Topology, forecast: Forecast, address: Address, route: Route) -> bool:
    """Whether an address is one by which the server is meant to be reached from there."""
    own = forecast.stand.spec.on_server and address == LOCALHOST
    return own or address in entrances(topology, forecast.stand.network) or route.turning is not None


def address_works(topology: Topology, forecast: Forecast) -> bool:
    """Whether the address that data goes to is one of the server's, seen from the client."""
    if forecast.data is None or forecast.data_flow is None or forecast.promise.mode != "passive":
        return True
    known = {forecast.target, *entrances(topology, forecast.stand.network)}
    return forecast.data_flow.to in known or bool(forecast.data.works)


def _passive_route(topology: Topology, forecast: Forecast) -> Route | None:
    """The way that passive data ought to take: to the announced address where that leads to the
    server, else to the control connection's."""
    passive = forecast.service.passive or Passive()
    assert forecast.target is not None
    meant = Flow("tcp", forecast.stand.sources, UNPRIVILEGED, forecast.target, passive.ports)
    flow = forecast.data_flow or meant
    if not address_works(topology, forecast):
        flow = replace(flow, to=forecast.target)
    route = route_of(topology, forecast.stand.origin, flow, topology.server, forecast.helped)
    arrived = [each for each in forecast.control if each.outcome == "ok"]
    return replace(route, ends_at=arrived[0].flow.to) if arrived and len(topology.server.addresses.each) > 1 else route


def _active(topology: Topology, forecast: Forecast) -> Route | None:
    flow = forecast.data_flow or _meant_back(topology, forecast)
    if flow is None or not isinstance(forecast.stand.origin, Host):
        return None
    end = topology.server if forecast.stand.spec.on_server else forecast.stand.origin
    return route_of(topology, topology.server, flow, end, forecast.helped)


def _meant_back(topology: Topology, forecast: Forecast) -> Flow | None:
    """What the server would send for data if control were not stopped, where no translation on the client's side
    leaves open to which address."""
    spec, target = forecast.stand.spec, forecast.target
    chain = topology.chain(forecast.stand.network, topology.server.network) or ()
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
    yield _handed_out(topology, forecast, wanted)
    if not address_works(topology, forecast):
        at = topology.site.services.index(forecast.service)
        yield Layer("address", topology.server.name, PortSet(), wanted, ("services", at, "passive", "announce"))
    if forecast.data is None and (blocked := next((each for each in control if each.missing), None)):
        yield Layer("control", blocked.at, PortSet(), wanted, blocked.place, blocked.journeys)
    others = PortSet.of(*((each.control_port.number,) * 2 for each in topology.site.services))
    yield from layers(topology, route, (UNPRIVILEGED - others) | wanted)


def _handed_out(topology: Topology, forecast: Forecast, wanted: PortSet) -> Layer:
    if forecast.promise.mode == "passive":
        index = topology.site.services.index(forecast.service)
        return Layer("hands-out", topology.server.name, wanted, wanted, ("services", index, "passive", "ports"))
    index = topology.site.clients.index(forecast.stand.spec)
    return Layer("hands-out", forecast.stand.name, wanted, wanted, ("clients", index, "active_ports"))
