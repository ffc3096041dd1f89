"""What the internet reaches behind the gateways: which ports, where they lead, and which line opens them."""

from collections.abc import Iterator

from msgspec import Struct
from msgspec.structs import replace

from ..model.site import INTERNET, Service, Transport
from ..network.reachability import Reach, opener, reaches
from ..network.topology import Topology, listens_on
from ..values.addresses import Address
from ..values.ports import PortSet
from ..values.text_value import SitePath
from .forecast import Forecast


class Opening(Struct, frozen=True):
    """Ports of an address that lead to a host. ``inside`` are the host's own numbers of them, ``sources`` those
    who get in where not everybody does; ``service`` is the one of the site that listens there, ``wanted`` whether
    a promise needs it from the internet."""

    door: Address
    protocol: Transport
    ports: PortSet
    host: str
    inside: PortSet
    at: str
    place: SitePath | None
    rule: str | None
    sources: str
    service: str
    wanted: bool


def openings(topology: Topology, forecasts: tuple[Forecast, ...]) -> tuple[Opening, ...]:
    """Everything that anybody on the internet reaches, what nobody needs first, then by port."""
    needed = {each.service.name for each in forecasts if _comes_from_outside(topology, each)}
    joined: dict[tuple[object, ...], Opening] = {}
    for reach in reaches(topology, INTERNET):
        for each in _split(topology, reach, needed):
            key = (each.door, each.protocol, each.host, each.place, each.sources, each.service)
            first = joined.get(key)
            more = first and replace(first, ports=first.ports | each.ports, inside=first.inside | each.inside)
            joined[key] = more or each
    return tuple(sorted(joined.values(), key=lambda each: (each.wanted, each.protocol, each.ports.lowest)))


def open_in_clear(topology: Topology) -> frozenset[str]:
    """The services that take a login without TLS from anybody on the internet."""
    in_clear = [each for each in topology.site.services if each.protocol == "ftp" and not each.tls.demanded]
    if not in_clear:
        return frozenset()
    reached = [each for each in reaches(topology, INTERNET) if each.host == topology.server.name]
    return frozenset(
        each.name
        for each in in_clear
        if any(each.control_port.number in reach.ports and reach.protocol == "tcp" for reach in reached)
    )


def _comes_from_outside(topology: Topology, forecast: Forecast) -> bool:
    """Whether a promise needs its service to be reached across the internet."""
    chain = topology.chain(forecast.position.network, topology.server.network) or ()
    passed = {forecast.position.network, *(each.device.far(each.way) for each in chain)}
    return forecast.promise.holds == "works" and INTERNET in passed


def _split(topology: Topology, reach: Reach, needed: set[str]) -> Iterator[Opening]:
    """The ports of each service apart, and those that no service of the site listens on."""
    left = reach.ports
    if reach.host == topology.server.name:
        for service in topology.site.services:
            mine = left & _service_ports(service, reach.protocol)
            if mine:
                yield _opening(topology, reach, mine, service.name, service.name in needed)
                left = left - mine
    if left:
        yield _opening(topology, reach, left, "", False)


def _service_ports(service: Service, protocol: Transport) -> PortSet:
    if protocol == "tcp":
        return listens_on(service)
    return service.passive.ports if service.passive and protocol in service.passive.protocols else PortSet()


def _opening(topology: Topology, reach: Reach, inside: PortSet, service: str, wanted: bool) -> Opening:
    journey, step = reach.journey, opener(reach.journey)
    moved = journey.flow.ports.lowest - journey.asked.ports.lowest
    everybody = topology.everybody(INTERNET).of_family(reach.door.family)
    whole = journey.asked.sources == everybody
    return Opening(
        reach.door,
        reach.protocol,
        inside.shift(-moved),
        reach.host,
        inside,
        step.at,
        step.place,
        step.rule,
        "" if whole else str(journey.asked.sources),
        service,
        wanted,
    )
