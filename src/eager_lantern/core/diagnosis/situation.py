"""How a session would end: who tries what, and what becomes of it on a site with a fault.

A situation is one try: from a place, of a service, in a mode. On a site that is as it is, its end is known but for
the data port, which the server draws from its range: each end has a chance, and the ports with which it comes.
"""

from collections.abc import Iterator
from itertools import chain

from msgspec import Struct
from msgspec.structs import replace

from ..model.entries import Typed
from ..model.site import INTERNET, CompleteClient, Mode, Promise, Site
from ..network.flow import Flow, Journey
from ..network.journey import trace
from ..network.topology import Topology
from ..observed.observation import Situation
from ..predict.endpoints import position_of, service_of
from ..predict.forecast import ClientPosition, Forecast, Stop, error_of, rung_of
from ..predict.session import predict_from
from ..values.addresses import Address, Addresses
from ..values.outcomes import ORDER, Outcome, Rung
from ..values.ports import UNPRIVILEGED, PortSet
from .fault import Effect


class End(Struct, frozen=True):
    """How a try ends: at a rung, or, where that is None, not before it has worked. ``ports`` are the data ports with
    which it comes to this; ``announced`` is the address for data where the reply names one, ``elsewhere`` whether
    that is not the server as the client knows it; ``target`` is where the client goes to.
    ``came_to`` are the devices and hosts that the connection comes to which ends it; None is all of them. ``lands`` are
    the ports of the server that the control connection comes to; ``error`` is what the client's system calls a
    refusal."""

    chance: float
    rung: Rung | None
    outcome: Outcome
    ports: PortSet = PortSet()
    announced: Address | None = None
    elsewhere: bool = False
    target: Address | None = None
    came_to: frozenset[str] | None = None
    lands: PortSet = PortSet()
    error: str = ""

    @property
    def shows(self) -> tuple[Rung | None, Outcome]:
        """What is seen of it."""
        return self.rung, self.outcome


class PossibleEnds(Struct, frozen=True):
    """A try as it would be on a site: the mode that is used, whether TLS is, and how it may end."""

    mode: Mode | None
    secured: bool
    ends: tuple[End, ...]


def session_of(topology: Topology, tried: Situation) -> PossibleEnds:
    """How a try may end on a site that is so; the chances sum up to 1."""
    if tried.lit is not None:
        return PossibleEnds(None, False, tuple(_lit(topology, tried.client, *tried.lit)))
    service = service_of(topology, tried.service)
    position = _as_tried(position_of(topology, tried.client), tried)
    if tried.dialled is not None and tried.dialled in doors_of(topology):
        port = position.spec.reaches.port if position.spec.reaches else None
        position = replace(position, spec=replace(position.spec, reaches=Typed(Addresses((tried.dialled,)), port=port)))
    mode = (tried.mode or (position.spec.modes or ("passive",))[0]) if service.protocol == "ftp" else None
    promise = Promise(client=tried.client, service=tried.service, mode=mode, holds=tried.holds)
    forecast = predict_from(topology, promise, position)
    ends = tuple(_ends_of_forecast(forecast))
    if not tried.known_program and service.tls.reuse_required and position.spec.resumes_tls:
        forgetful = predict_from(topology, promise, replace(position, spec=replace(position.spec, resumes_tls=False)))
        ends = tuple(replace(each, chance=each.chance / 2) for each in (*ends, *_ends_of_forecast(forgetful)))
    if tried.reports and forecast.announced is not None and forecast.announced != forecast.target and mode == "passive":
        anyway = predict_from(topology, promise, replace(position, spec=_untrusting(position.spec)))
        ends = tuple(replace(each, elsewhere=True, announced=forecast.announced) for each in _ends_of_forecast(anyway))
    lands = PortSet.of(*(span for each in forecast.control for span in each.flow.ports.spans))
    ends = tuple(replace(each, target=forecast.target, lands=lands) for each in ends)
    return PossibleEnds(mode, service.protocol == "sftp" or position.spec.secures(service.tls), ends)


def doors_of(topology: Topology) -> frozenset[Address]:
    """The addresses by which a site knows its server: its own, and those that the devices before it have outside."""
    behind, gateways = {topology.server.network}, topology.site.gateways
    for _ in gateways:
        behind |= {each.outside.network for each in gateways if each.inside.network in behind}
    outside = (each.outside.address.each for each in gateways if each.inside.network in behind - {INTERNET})
    return frozenset((*topology.server.addresses.each, *chain.from_iterable(outside)))


def ends_with(session: PossibleEnds, effects: tuple[Effect, ...], tried: Situation) -> tuple[End, ...]:
    """How the same ends where the server does otherwise."""
    ends = session.ends
    for each in effects:
        if each.meets(tried.service, tried.client, session.mode):
            ends = tuple(_with_effect(ends, _as_met(each, session.mode), session.secured))
    return ends


def shows_late(ends: tuple[End, ...]) -> bool:
    """Whether any of it takes a long or a large transfer to be seen."""
    return any(each.rung == "send" for each in ends)


def shown_to_the_end(ends: tuple[End, ...]) -> tuple[End, ...]:
    """The same where the transfers are long and large enough to show what takes such."""
    late = tuple(each for each in ends if each.rung == "send")
    whole = sum(each.chance for each in ends)
    return tuple(replace(each, chance=whole / len(late)) for each in late) or ends


def _lit(topology: Topology, client: str, to: Address, ports: PortSet) -> Iterator[End]:
    """What becomes of each port on its way to a lamp."""
    position = position_of(topology, client)
    flow = Flow("tcp", position.sources, UNPRIVILEGED, to, ports)
    for each in trace(topology, position.origin, flow):
        arrived = each.outcome == "ok" and each.end.at == topology.server.name
        chance = len(each.asked.ports) / len(ports)
        rung: Rung | None = None if arrived else "connect"
        yield End(chance, rung, "refused" if not arrived and each.outcome == "ok" else each.outcome, each.asked.ports)


def with_stand_in(site: Site, tried: Situation) -> Site:
    """The site with whoever tries, where the file does not have them."""
    if tried.stands_in is None or any(each.name == tried.stands_in.name for each in site.clients):
        return site
    return replace(site, clients=(*site.clients, tried.stands_in))


def _as_tried(position: ClientPosition, tried: Situation) -> ClientPosition:
    """The client with the habits that were seen of it."""
    spec = position.spec
    if tried.extended is not None:
        spec = replace(spec, uses_epsv=tried.extended)
    if tried.secured is not None:
        spec = replace(spec, speaks_tls="where-offered" if tried.secured else "never")
    if tried.trusts is not None:
        spec = replace(spec, trusts_announced=tried.trusts)
    if tried.names is not None:
        spec = replace(spec, active_address=tried.names)
    return replace(position, spec=spec)


def _untrusting(spec: CompleteClient) -> CompleteClient:
    return replace(spec, trusts_announced=False)


def _ends_of_forecast(forecast: Forecast) -> Iterator[End]:
    """The ends of a forecast: of data, by how many of the ports each has."""
    announced = forecast.announced if forecast.promise.mode == "passive" else None
    data = forecast.data
    if forecast.predicted == "unknown" and not (data and data.fails):
        yield End(1.0, forecast.rung or "connect", "unknown")
    elif data is None or not data.asked or forecast.rung == "send":
        yield from _session_ends(forecast, announced)
    else:
        whole = len(data.asked)
        settled_ports = PortSet()
        for stop in forecast.stops:
            if ports := stop.ports - settled_ports:
                settled_ports = settled_ports | ports
                came_to = _came_to(data.journeys, stop)
                end = End(len(ports) / whole, rung_of(stop.reason), stop.outcome, ports, announced, came_to=came_to)
                end = replace(end, error=_error_of(forecast, stop))
                if stop.reason == "another peer":  # some servers refuse a stranger, and some take no notice of one
                    yield replace(end, chance=end.chance / 2, outcome="silent")
                    end = replace(end, chance=end.chance / 2)
                yield end
        if works := data.asked - settled_ports:
            yield End(len(works) / whole, None, "ok", works, announced)


def _error_of(forecast: Forecast, stop: Stop) -> str:
    """What the client's system calls a refusal; empty where it is none, or no system's."""
    target = forecast.target
    return error_of(stop.answer, target.family) if stop.answer and target is not None else ""


def _came_to(journeys: tuple[Journey, ...], stop: Stop) -> frozenset[str]:
    """The devices and hosts that the connections came to which something stopped."""
    stopped = [each for each in journeys if (each.end.at, each.reason) == (stop.at, stop.reason)]
    return frozenset(step.at for each in stopped for step in each.steps)


def _session_ends(forecast: Forecast, announced: Address | None) -> Iterator[End]:
    """The end of all sessions alike, or of either kind where it depends on the client's source port; what takes a
    long or a large transfer to be seen may not be seen."""
    works = End(1.0, None, "ok", forecast.data.asked if forecast.data else PortSet(), announced)
    if forecast.predicted == "works":
        yield works
        return
    rung = forecast.rung or "connect"
    outcome = forecast.stops[0].outcome if forecast.stops else "unknown"
    came_to = _came_to(forecast.control, forecast.stops[0]) if forecast.stops and rung == "connect" else None
    error = _error_of(forecast, forecast.stops[0]) if forecast.stops else ""
    stopped = End(1.0, rung, outcome, works.ports, announced, came_to=came_to, error=error)
    if forecast.predicted == "partly" or rung == "send":
        yield replace(works, chance=0.5)
        yield replace(stopped, chance=0.5)
    else:
        yield stopped


def _as_met(effect: Effect, mode: Mode | None) -> Effect:
    """In active mode a command that is refused is met before any data connection (RFC 959, section 5.4)."""
    return replace(effect, rung="data") if mode == "active" and effect.rung == "list" else effect


IMPATIENT = 0.03
"""How often a client gives up before it is refused: systems wait some seconds after a wrong password."""


def _with_effect(ends: tuple[End, ...], effect: Effect, secured: bool) -> Iterator[End]:
    """The same where the server does otherwise at a rung: what was stopped before still is."""
    if effect.rung == "secure" and not secured:
        yield from ends
        return
    at = ORDER.index(effect.rung)
    for each in ends:
        if each.rung is not None and ORDER.index(each.rung) < at:
            yield each
            continue
        ended = replace(each, rung=effect.rung, outcome=effect.outcome, came_to=None, error=effect.error)
        impatient = IMPATIENT if (effect.rung, effect.outcome) == ("login", "refused") else 0.0
        yield replace(ended, chance=each.chance * effect.share * (1 - impatient))
        if impatient:
            yield replace(ended, outcome="silent", chance=each.chance * effect.share * impatient)
        if effect.share < 1:
            yield replace(each, chance=each.chance * (1 - effect.share))
