"""Everything that a site lets pass: to each host, and to everywhere else on each network.

Theory: an address stands for those like it
===========================================
A rule that serves the web lets connections out to anywhere, and no host of the site is there to receive them. So what a
site lets pass is asked for of every network as well, at addresses that nobody of the site has. There are too many to
ask for each, but a filter cannot tell two of them apart that lie in the same of its rules' ``to``. Each network is
therefore cut at all of them, and one address of each part is asked. Two states of a site are cut alike, or their parts
could not be compared:

>>> from eager_lantern.api import parse_site
>>> site = parse_site("pier", '''
... lantern: 1
... site: Pier
... networks: [{name: office, subnet: 10.61.4.0/24}]
... gateways:
...   - name: router
...     outside: {network: internet, address: 198.51.100.61}
...     inside: {network: office, address: 10.61.4.1}
...     translate: outward
...     filter:
...       outward:
...         default: deny
...         rules: [{action: allow, protocol: tcp, ports: 443, to: 203.0.113.0/28}]
... server: {name: store, network: office, address: 10.61.4.20}
... services: [{name: tides, protocol: sftp, control_port: 22}]
... ''').site
>>> places = parts(site)
>>> for (origin, to, protocol), boxes in passage(site, places).items():
...     for sources, ports in boxes:
...         print(origin, "→", to, protocol, ports)
office → store tcp 1-65535
office → store udp 1-65535
office → 203.0.113.0/28 on internet tcp 443
"""

from collections.abc import Iterator, Mapping, Sequence

from msgspec import Struct

from ..model.problem import network_names
from ..model.site import INTERNET, Client, Filter, Server, Site, Transport
from ..network.flow import Flow, Journey
from ..network.journey import trace
from ..network.reachability import BOTH, doors
from ..network.topology import Host, Topology
from ..values.addresses import FAMILIES, Address, AddressSet
from ..values.ports import EVERY_PORT, UNPRIVILEGED, PortSet
from .access import Access, Box, access

MOST_PARTS = 64
"""Parts of one network that are told apart; of sites with more the last ones stay together."""


class NetworkPart(Struct, frozen=True):
    """Addresses of a network that no host of the site has, and that no filter of it tells apart."""

    network: str
    addresses: AddressSet
    whole: bool

    def __str__(self) -> str:
        return f"anywhere on {self.network}" if self.whole else f"{self.addresses} on {self.network}"


Place = str | NetworkPart
"""A host, by its name, or a part of a network."""
PassageKey = tuple[str, Place, Transport]
"""From which network or host, to which place, over which transport."""
Passage = Mapping[PassageKey, Sequence[Box]]


def parts(*sites: Site) -> tuple[NetworkPart, ...]:
    """The parts of all networks of the sites, where nobody of any of them is."""
    topologies = [Topology(each) for each in sites]
    cuts = dict.fromkeys(to for each in sites for to in _targets(each))
    found: list[NetworkPart] = []
    for network in dict.fromkeys(name for each in sites for name in network_names(each)):
        free = topologies[0].everybody(network)
        for topology in topologies:
            free = free - AddressSet.single(*topology.held_on(network))
        for family in FAMILIES:
            mine = free.of_family(family)
            cells = _cells(mine, cuts) if mine else []
            found += [NetworkPart(network, cell, len(cells) == 1) for cell in cells]
    return tuple(found)


def _cells(whole: AddressSet, cuts: Mapping[AddressSet, None]) -> list[AddressSet]:
    cells = [whole]
    for cut in cuts:
        if len(cells) < MOST_PARTS:
            cells = [part for cell in cells for part in (cell & cut, cell - cut) if part]
    return cells


def _targets(site: Site) -> Iterator[AddressSet]:
    hosts: tuple[Server | Client, ...] = (site.server, *site.clients)
    tables: list[Filter] = [each for host in hosts for each in (host.filter.incoming, host.filter.outgoing)]
    tables += [each for gateway in site.gateways for each in (gateway.filter.inward, gateway.filter.outward)]
    yield from (rule.to for table in tables for rule in table.rules if rule.to is not None)
    routes = [route for host in hosts for route in host.routes]
    yield from (route.to for route in (*routes, *(each for gateway in site.gateways for each in gateway.routes)))


def passage(site: Site, places: Sequence[NetworkPart]) -> Passage:
    """What every network and every host with a filter of its own reaches: hosts, and those parts of networks. That
    something listens, and that answers find back, is taken for granted."""
    topology = Topology(site).one_way
    found: dict[PassageKey, list[Box]] = {key: list(boxes) for key, boxes in access(site).items()}
    for key, box in _further(topology, places):
        found.setdefault(key, []).append(box)
    return found


def named(known: Passage) -> Access:
    """The same by the words for its places."""
    return {(origin, str(place), protocol): boxes for (origin, place, protocol), boxes in known.items()}


def _further(topology: Topology, places: Sequence[NetworkPart]) -> Iterator[tuple[PassageKey, Box]]:
    """What is not listed by who reaches which host of another network."""
    for network in network_names(topology.site):
        everybody = topology.everybody(network)
        yield from _to_parts(topology, network, network, everybody, UNPRIVILEGED, places)
        for host in topology.clients:
            if host.network in (network, INTERNET):
                yield from _to_hosts(topology, network, network, everybody, UNPRIVILEGED, host.addresses.each)
    for origin in (topology.server, *topology.clients):
        if not origin.outgoing.lets_all_pass:
            for from_ports in _own_ports(topology, origin):
                own = origin.addresses.as_set
                yield from _to_parts(topology, origin.name, origin, own, from_ports, places)
                goals = (*doors(topology, origin.network), *_beside(topology, origin), *_abroad(topology, origin))
                yield from _to_hosts(topology, origin.name, origin, own, from_ports, goals)


def _own_ports(topology: Topology, host: Host) -> Iterator[PortSet]:
    """The ports that a host may come from: any of its own, and of the server the one of active data."""
    yield UNPRIVILEGED
    if host is topology.server:
        actives = [each.active.from_port for each in topology.site.services if each.active]
        yield from (PortSet.single(number) for number in {each.number for each in actives if each})


def _beside(topology: Topology, host: Host) -> Iterator[Address]:
    others = (each for each in (topology.server, *topology.clients) if each.network == host.network)
    yield from (address for each in others if each.name != host.name for address in each.addresses.each)


def _abroad(topology: Topology, host: Host) -> Iterator[Address]:
    """Clients on the internet, of whom a site has addresses, for a host that is not there."""
    if host.network != INTERNET:
        yield from (address for each in topology.clients if each.network == INTERNET for address in each.addresses.each)


def _to_parts(
    topology: Topology,
    name: str,
    origin: Host | str,
    sources: AddressSet,
    from_ports: PortSet,
    places: Sequence[NetworkPart],
) -> Iterator[tuple[PassageKey, Box]]:
    for place in places:
        if place.network == origin:  # nothing stands between
            continue
        to = Address(place.addresses.lowest)
        for protocol, journey in _journeys(topology, origin, sources, from_ports, to):
            if journey.reason == "nobody there" and journey.end.at == place.network:
                yield (name, place, protocol), (journey.asked.sources, journey.asked.ports)


def _to_hosts(
    topology: Topology,
    name: str,
    origin: Host | str,
    sources: AddressSet,
    from_ports: PortSet,
    goals: Sequence[Address],
) -> Iterator[tuple[PassageKey, Box]]:
    for to in goals:
        for protocol, journey in _journeys(topology, origin, sources, from_ports, to):
            if journey.outcome == "ok":
                yield (name, journey.end.at, protocol), (journey.asked.sources, journey.flow.ports)


def _journeys(
    topology: Topology, origin: Host | str, sources: AddressSet, from_ports: PortSet, to: Address
) -> Iterator[tuple[Transport, Journey]]:
    for protocol in BOTH:
        for journey in trace(topology, origin, Flow(protocol, sources, from_ports, to, EVERY_PORT)):
            yield protocol, journey
