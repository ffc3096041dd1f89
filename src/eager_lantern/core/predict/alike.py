"""Promises of clients alike, worked out as one.

Clients that stand on one network and behave alike are one set of sources: what happens to all of it
happens to each of them. Where something on the way treats their addresses differently, the set is parted
along that, until every part has one fate; so a hundred clients cost as much as the differences that
the site makes between them.

>>> from eager_lantern.api import judge, parse_site
>>> verdict = judge(parse_site("pier", '''
... lantern: 1
... site: Pier
... server:
...   name: store
...   network: internet
...   address: 198.51.100.61
...   filter: {incoming: {default: allow, rules: [{action: deny, ports: 21, from: 203.0.113.51}]}}
... services: [{name: tides, protocol: sftp, control_port: 21}]
... clients:
...   - {name: gauge, network: internet, address: 203.0.113.50, reaches: 198.51.100.61}
...   - {name: buoy, network: internet, address: 203.0.113.51, reaches: 198.51.100.61}
...   - {name: mast, network: internet, address: 203.0.113.52, reaches: 198.51.100.61}
... promises: [{client: gauge, service: tides}, {client: buoy, service: tides}, {client: mast, service: tides}]
... ''').site)
>>> for each in verdict.forecasts:
...     print(each.position.name, each.predicted, each.control[0].asked.sources)
gauge works 203.0.113.50
buoy fails 203.0.113.51
mast works 203.0.113.52
"""

from collections.abc import Callable, Hashable, Iterator, Sequence

from msgspec import structs
from msgspec.structs import replace

from ..model.site import OPEN, CompleteClient, Promise
from ..network.flow import Flow, Journey, Step
from ..network.journey import Expected
from ..network.topology import Host, Topology
from ..values.addresses import FAMILIES, Addresses, AddressSet
from ..values.text_value import SitePath
from .endpoints import position_of, service_of, typed_port
from .forecast import ClientPosition, Forecast, Stop
from .ledger import Layer, Study

Wanted = tuple[Promise, SitePath]
"""A promise, and where the site file asks for it."""
Studying = Callable[[Promise, SitePath, ClientPosition], Study]
"""How a promise is worked out for whoever stands somewhere."""


def studies(topology: Topology, wanted: Sequence[Wanted], study: Studying) -> tuple[Study, ...]:
    """Every promise worked out, in order; clients alike together."""
    groups: dict[Hashable, list[tuple[int, Wanted, ClientPosition]]] = {}
    for i, (promise, place) in enumerate(wanted):
        position = position_of(topology, promise.client)
        groups.setdefault(_habits(topology, promise, position) or i, []).append((i, (promise, place), position))
    found: dict[int, Study] = {}
    for group in groups.values():
        found |= _together(group, study)
    return tuple(found[i] for i in range(len(wanted)))


def _habits(topology: Topology, promise: Promise, position: ClientPosition) -> Hashable:
    """What two promises have in common whose clients may be taken together; None for one that stands alone: data
    of active mode goes to the client's own address, and a filter of its own is a place of its own."""
    spec = position.spec
    alone = promise.holds == "shut" or promise.mode == "active" or spec.on_server or not spec.address
    if alone or not isinstance(position.origin, Host) or spec.filter.outgoing != OPEN:
        return None
    families = tuple(bool(position.sources.of_family(each)) for each in FAMILIES)
    port = typed_port(topology, position, service_of(topology, promise.service))
    return _nameless(spec), families, promise.service, promise.mode, port


def _nameless(spec: CompleteClient) -> CompleteClient:
    return structs.replace(spec, name="", address=Addresses())


def _together(group: list[tuple[int, Wanted, ClientPosition]], study: Studying) -> dict[int, Study]:
    """A group worked out as one, or in the parts that have one fate each."""
    _, first, position = group[0]
    if len(group) == 1:
        return {group[0][0]: study(*first, position)}
    every = AddressSet.of(*(span for _, _, each in group for span in each.sources.spans))
    whole = study(*first, replace(position, sources=every))
    asked = [each.asked for each in _journeys(whole)]
    parted = {each.sources for each in asked if each.sources != every.of_family(each.to.family)}
    if not parted and not any(each.to.number in every for each in asked):
        whose = _Whose(every)
        return {i: _Member(position, whose, each).study(whole, *own) for i, own, each in group}
    parts: dict[Hashable, list[tuple[int, Wanted, ClientPosition]]] = {}
    for member in group:
        parts.setdefault(tuple(bool(each & member[2].sources) for each in parted), []).append(member)
    found: dict[int, Study] = {}
    for part in parts.values() if len(parts) > 1 else [[member] for member in group]:
        found |= _together(part, study)
    return found


def _journeys(study: Study) -> Iterator[Journey]:
    """All journeys that begin at the client."""
    yield from study.forecast.control
    yield from study.forecast.data.journeys if study.forecast.data else ()
    for layer in (*study.control, *study.data):
        yield from layer.journeys


class _Whose:
    """Tells which sets of addresses in a study are those of the whole group. A translation's own are the same for
    all. Each set is compared once, however many members there are."""

    def __init__(self, every: AddressSet) -> None:
        self.wholes = [every, *(every.of_family(each) for each in FAMILIES)]
        self.known: dict[int, int | None] = {}

    def index(self, sources: AddressSet) -> int | None:
        """0 for all of the group, 1 and 2 for those of a family, None for others."""
        if id(sources) not in self.known:
            self.known[id(sources)] = next((i for i, each in enumerate(self.wholes) if each == sources), None)
        return self.known[id(sources)]


class _Member:
    """One client in place of the group that it is part of."""

    def __init__(self, group: ClientPosition, whose: _Whose, own: ClientPosition) -> None:
        self.group, self.whose, self.own = group, whose, own
        self.sources = [own.sources, *(own.sources.of_family(each) for each in FAMILIES)]

    def study(self, whole: Study, promise: Promise, place: SitePath) -> Study:
        forecast = self.forecast(whole.forecast, promise, place)
        control, data = (
            replace(
                each, origin=self.own.origin, flow=self.flow(each.flow), helped=forecast.helped if each.helped else {}
            )
            if each
            else None
            for each in (whole.control_route, whole.data_route)
        )
        return Study(forecast, control, self.layers(whole.control), data, self.layers(whole.data))

    def forecast(self, whole: Forecast, promise: Promise, place: SitePath) -> Forecast:
        data = whole.data and replace(
            whole.data, journeys=self.journeys(whole.data.journeys), stops=self.stops(whole.data.stops)
        )
        return replace(
            whole,
            promise=promise,
            place=place,
            position=self.own,
            control=self.journeys(whole.control),
            stops=self.stops(whole.stops),
            data=data,
            data_flow=whole.data_flow and self.flow(whole.data_flow),
            helped={name: self.expected(each) for name, each in whole.helped.items()},
        )

    def layers(self, layers: tuple[Layer, ...]) -> tuple[Layer, ...]:
        return tuple(replace(each, journeys=self.journeys(each.journeys)) for each in layers)

    def journeys(self, journeys: tuple[Journey, ...]) -> tuple[Journey, ...]:
        return tuple(
            Journey(self.flow(j.asked), self.flow(j.flow), j.outcome, j.reason, tuple(map(self.step, j.steps)))
            for j in journeys
        )

    def step(self, step: Step) -> Step:
        flow = self.flow(step.flow)
        if step.does != "send" or not isinstance(self.own.origin, Host):
            return Step(step.at, step.does, flow, step.place, step.rule, step.note, step.answer)
        return Step(self.own.name, "send", flow, self.own.origin.place, step.rule, step.note, step.answer)

    def stops(self, stops: tuple[Stop, ...]) -> tuple[Stop, ...]:
        return tuple(replace(each, at=self.own.name) if each.at == self.group.name else each for each in stops)

    def expected(self, expected: Expected) -> Expected:
        return replace(expected, peers=self.of(expected.peers))

    def flow(self, flow: Flow) -> Flow:
        return Flow(flow.protocol, self.of(flow.sources), flow.from_ports, flow.to, flow.ports, flow.pooled)

    def of(self, sources: AddressSet) -> AddressSet:
        index = self.whose.index(sources)
        return sources if index is None else self.sources[index]
