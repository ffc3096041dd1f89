"""Who reaches what, as exact sets, and what of it two states of a site do not have in common.

Theory: connections as boxes
============================
Of one network, host and transport a connection is a point: who sends it, and to which port of the host. What a site
lets through is a union of boxes, so many senders by so many ports, and two unions may be cut up differently though
they hold the same points. So both are cut at every end of a span of ports that either has. Between two cuts nothing
changes from port to port, there what one has more than the other is a difference of two sets of senders, and ports with
the same difference are listed together.

>>> from eager_lantern.api import AddressSet, PortSet
>>> everybody, office = AddressSet.parse("0.0.0.0/0"), AddressSet.parse("10.61.4.0/24")
>>> before = {("internet", "store", "tcp"): ((everybody, PortSet.parse("21")), (office, PortSet.parse("22-23")))}
>>> after = {("internet", "store", "tcp"): ((everybody, PortSet.parse("20-22")),)}
>>> for each in more(before, after):
...     print(each.ports, "from", each.sources)
20 from 0.0.0.0/0
22 from 0.0.0.0-10.61.3.255, 10.61.5.0-255.255.255.255
>>> [str(each.ports) for each in more(after, before)]
['23']
"""

from collections.abc import Hashable, Iterator, Mapping, Sequence
from itertools import pairwise
from typing import TypeVar

from msgspec import Struct
from msgspec.structs import replace

from ..model.entries import BlockedPorts
from ..model.problem import network_names
from ..model.site import INTERNET, Filter, Forward, Gateway, GatewayFilter, HostFilter, Rule, Site, Transport
from ..network.flow import Flow
from ..network.journey import trace
from ..network.reachability import reaches
from ..network.topology import Topology
from ..values.addresses import Address, AddressSet
from ..values.ports import EVERY_PORT, UNPRIVILEGED, PortSet

Key = tuple[str, str, Transport]
"""From which network or host, to which host or part of a network, over which transport."""
Box = tuple[AddressSet, PortSet]
"""Everybody of these senders reaches every one of these ports of the host."""
Access = Mapping[Key, Sequence[Box]]


class Reached(Struct, frozen=True):
    """Ports of a host, or of a part of a network, that some senders on a network, or a host of its own, reach in one
    state and not in the other."""

    network: str
    host: str
    protocol: Transport
    sources: AddressSet
    ports: PortSet


def access(site: Site) -> Access:
    """What anybody on each network reaches: on hosts of other networks, and on the server wherever it stands. That
    something listens there is taken for granted."""
    topology = Topology(site)
    found: dict[Key, list[Box]] = {}
    for network in network_names(site):
        for each in reaches(topology, network):
            box = each.journey.asked.sources, each.ports
            found.setdefault((network, each.host, each.protocol), []).append(box)
        for protocol, box in _beside_the_server(topology, network):
            found.setdefault((network, topology.server.name, protocol), []).append(box)
    return found


class OutsideDoor(Struct, frozen=True):
    """Ports of an outside address by which some senders on a network get to ports of a host behind."""

    network: str
    address: Address
    protocol: Transport
    sources: AddressSet
    ports: PortSet
    host: str
    inside: PortSet


def doors(site: Site) -> tuple[OutsideDoor, ...]:
    """Every outside address and port that leads to a host by another address or port of its own."""
    topology = Topology(site)
    found: list[OutsideDoor] = []
    for network in network_names(site):
        for each in reaches(topology, network):
            asked = each.journey.asked
            if (each.journey.flow.to, each.ports) != (asked.to, asked.ports):
                found.append(
                    OutsideDoor(network, each.door, each.protocol, asked.sources, asked.ports, each.host, each.ports)
                )
    return tuple(found)


def other_doors(these: Sequence[OutsideDoor], those: Sequence[OutsideDoor], told: Access) -> tuple[Reached, ...]:
    """What leads in by the first doors and not by the others, as ports of the outside address; but for what is told
    already of the hosts behind."""
    beside: dict[Key, list[Box]] = {}
    for each in those:
        beside.setdefault((each.network, str(each.address), each.protocol), []).append((each.sources, each.ports))
    found: dict[Key, list[Box]] = {}
    for each in these:
        key: Key = (each.network, str(each.address), each.protocol)
        offset = each.inside.lowest - each.ports.lowest
        for sources, ports in _difference([(each.sources, each.ports)], beside.get(key, ())):
            behind = (sources, ports.shift(offset))
            if any(_difference([behind], told.get((each.network, each.host, each.protocol), ()))):
                found.setdefault(key, []).append((sources, ports))
    return more({}, found)


def with_unknown_open(site: Site) -> Site:
    """The site as it were if every rule of which nobody knows what it does let pass what it matches, and outside ports
    of which nobody knows where they lead went the way of their entries, past the filter."""
    return replace(
        site,
        server=replace(site.server, filter=_opened_host(site.server.filter)),
        clients=tuple(replace(each, filter=_opened_host(each.filter)) for each in site.clients),
        gateways=tuple(
            replace(
                each,
                filter=_opened_gateway(each),
                unknown_ports=BlockedPorts(),
                hairpin_source="inside" if each.hairpin_source == "unknown" else each.hairpin_source,
            )
            for each in site.gateways
        ),
    )


def _opened_host(filters: HostFilter) -> HostFilter:
    return HostFilter(
        incoming=_with_unknown_allowed(filters.incoming), outgoing=_with_unknown_allowed(filters.outgoing)
    )


def _opened_gateway(gateway: Gateway) -> GatewayFilter:
    """Both filters, which let pass what entries of unknown ports hand on."""
    inward, outward = _with_unknown_allowed(gateway.filter.inward), _with_unknown_allowed(gateway.filter.outward)
    unknown = gateway.unknown_ports.ports
    handed = tuple(_let_in(each, each.ports & unknown, gateway.filter_sees == "inside") for each in gateway.forwards)
    return GatewayFilter(inward=replace(inward, rules=(*filter(_has_ports, handed), *inward.rules)), outward=outward)


def _let_in(forward: Forward, ports: PortSet, sees_inside: bool) -> Rule:
    rule = Rule(action="allow", protocol=forward.protocol, ports=ports, from_=forward.from_)
    if not sees_inside:
        return rule
    return replace(rule, ports=ports.shift(forward.offset), to=AddressSet.single(forward.to))


def _has_ports(rule: Rule) -> bool:
    return bool(rule.ports)


def _with_unknown_allowed(table: Filter) -> Filter:
    rules = tuple(replace(each, action="allow") if each.action == "unknown" else each for each in table.rules)
    return replace(table, rules=rules)


def _beside_the_server(topology: Topology, network: str) -> Iterator[tuple[Transport, Box]]:
    """What anybody on the server's own network reaches of it; on the internet that is listed already."""
    server = topology.server
    protocols: tuple[Transport, ...] = ("tcp", "udp")
    if network != server.network or network == INTERNET:
        return
    for to in server.addresses.each:
        for protocol in protocols:
            flow = Flow(protocol, topology.everybody(network), UNPRIVILEGED, to, EVERY_PORT)
            for journey in trace(topology.one_way, network, flow):
                if journey.outcome == "ok" and journey.end.at == server.name:
                    yield protocol, (journey.asked.sources, journey.flow.ports)


def as_access(reached: Sequence[Reached]) -> Access:
    """The same by network, host and transport."""
    found: dict[Key, list[Box]] = {}
    for each in reached:
        found.setdefault((each.network, each.host, each.protocol), []).append((each.sources, each.ports))
    return found


def both(one: Access, other: Access) -> Access:
    """What is in either."""
    return {key: (*one.get(key, ()), *other.get(key, ())) for key in {*one, *other}}


def more(before: Access, after: Access) -> tuple[Reached, ...]:
    """What is reached after and was not before, each connection once."""
    return tuple(Reached(*key, *box) for key, box in sorted(beyond(after, before), key=lambda each: each[0]))


AnyKey = TypeVar("AnyKey", bound=Hashable)


def beyond(
    these: Mapping[AnyKey, Sequence[Box]], those: Mapping[AnyKey, Sequence[Box]]
) -> Iterator[tuple[AnyKey, Box]]:
    """What is in the first and not in the others, each connection once."""
    for key, boxes in these.items():
        for box in _difference(boxes, those.get(key, ())):
            yield key, box


def _difference(boxes: Sequence[Box], others: Sequence[Box]) -> Iterator[Box]:
    """The points of the first boxes that are in none of the others, cut up by senders."""
    found: dict[AddressSet, list[tuple[int, int]]] = {}
    alike = all(each in others for each in boxes)
    for low, high in () if alike else _slices([*boxes, *others]):
        left = _senders(boxes, low) - _senders(others, low)
        if left:
            found.setdefault(left, []).append((low, high))
    return ((sources, PortSet.of(*spans)) for sources, spans in found.items())


def _slices(boxes: Sequence[Box]) -> Iterator[tuple[int, int]]:
    """The spans of ports between which no box begins or ends."""
    starts = {low for _, ports in boxes for low, _ in ports.spans} | {
        high + 1 for _, ports in boxes for _, high in ports.spans
    }
    ordered = sorted(starts)
    yield from ((low, after - 1) for low, after in pairwise(ordered))


def _senders(boxes: Sequence[Box], port: int) -> AddressSet:
    found = AddressSet()
    for sources, ports in boxes:
        if port in ports:
            found = found | sources
    return found
