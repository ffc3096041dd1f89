"""Whether passive ranges are chosen well."""

import math
from collections.abc import Iterator

from ..model.site import Service, Site
from ..network.topology import Topology
from ..predict.endpoints import service_of
from ..values.phrases import ports_phrase
from ..values.ports import UNPRIVILEGED, PortSet
from ..values.quantities import Chance, Duration
from ..values.site_path import SitePath
from .finding import Finding

WIDE = 4096
TIMES_THE_BURST = 32
HANDLING, CHANCE, REST = Duration(1), Chance(0.001), Duration(60)


def range_findings(topology: Topology) -> Iterator[Finding]:
    """Findings about the passive range and control port of each service, and the ports of active clients."""
    site = topology.site
    yield from _resting(topology)
    for i, service in enumerate(site.services):
        yield from _control_twice(site, i, service)
        if service.protocol == "ftp" and service.passive:
            yield from _range(site, service, service.passive.ports, ("services", i, "passive", "ports"))


def _resting(topology: Topology) -> Iterator[Finding]:
    """Active clients with fewer ports than they use up while a port rests. A data connection from a certain port of
    the server to the same port of the client is the same connection again, and one that was closed rests for twice
    the longest life of a segment (RFC 9293, section 3.6.1)."""
    site = topology.site
    told: set[str] = set()
    for promise in site.promises:
        client, service = topology.client(promise.client), service_of(topology, promise.service)
        if promise.mode != "active" or client is None or service.active is None or client.name in told:
            continue
        if service.transfer_seconds is None:  # without a load nobody knows how soon a port is wanted again
            continue
        rests = service.load.rests if service.load and service.load.rests else REST
        seconds = HANDLING.amount + service.transfer_seconds
        need = math.ceil(rests.amount / seconds)
        if service.active.from_port and len(client.active_ports) < need:
            told.add(client.name)
            message = (
                f"{client.name} waits for data on {ports_phrase(client.active_ports)}, each of which rests for {rests} "
                f"after use: transfers of {seconds:.1f} s in a row need {need} of them"
            )
            cure = f"let it wait on at least {need} ports, and open them where the old ones are open"
            where: SitePath = ("clients", site.clients.index(client), "active_ports")
            yield Finding("active-ports-rest", "risks", message, cure, where)


def _control_twice(site: Site, i: int, service: Service) -> Iterator[Finding]:
    for other in site.services[:i]:
        if other.control_port == service.control_port:
            message = f"{other.name} and {service.name} both want port {service.control_port}: only one can listen"
            cure = "give one of them another control port"
            yield Finding("port-taken-twice", "risks", message, cure, ("services", i, "control_port"))


def _range(site: Site, service: Service, ports: PortSet, place: SitePath) -> Iterator[Finding]:
    server = site.server
    if ports == UNPRIVILEGED:
        message = f"{service.name} leaves the choice of data ports to the system, so that no forward can fit"
        yield Finding("range-left-to-system", "risks", message, "fix a range, for example 61200-61455", place)
        return
    if local := ports & server.own_ports:
        message = f"{service.name} hands out {local}, which {server.name} uses for its own outgoing connections too"
        cure = f"choose a range outside of {server.own_ports}"
        yield Finding("range-overlaps-local-ports", "risks", message, cure, place)
    for other in site.services:
        if other.control_port.number in ports and other is not service:
            message = f"port {other.control_port} of {other.name} lies in the data range of {service.name}"
            yield Finding("range-overlaps-service", "risks", message, "move the range or the service", place)
    yield from _size(service, ports, place)


def _size(service: Service, ports: PortSet, place: SitePath) -> Iterator[Finding]:
    need, reason = _need(service)
    if need > len(ports):
        message = f"{service.name} has {len(ports)} data ports, and {reason}"
        yield Finding("range-too-small", "risks", message, f"make the range at least {need} ports wide", place)
    elif len(ports) > WIDE or (need and len(ports) > max(256, TIMES_THE_BURST * need)):
        most = f"up to {need} at once" if need else "most servers"
        message = f"{service.name} opens {len(ports)} data ports, far more than {most} can need"
        yield Finding("range-too-wide", "risks", message, "a few hundred do for most; every one is an open port", place)


def _need(service: Service) -> tuple[int, str]:
    """How many data ports the load asks for, and what it is that asks; 0 where nothing is known."""
    if service.load is None:
        return 0, ""
    from ..sizing.demand import demand_of, ports_at_once, sized  # few sites tell their load

    try:
        sizing = sized(demand_of(service.load, HANDLING), CHANCE.share)
    except ValueError:  # not enough is known of the load for more than this
        most = service.load.burst if service.load.burst is not None else service.load.client_count or 0
        need = ports_at_once(most)
        return need, f"{most} clients at once may hold {need}"
    demand = sizing.demand
    if sizing.by_burst >= sizing.by_load:
        return sizing.size, f"{demand.burst} clients at once take up to {sizing.size}, {demand.most_at_once} each"
    return sizing.size, f"its load needs {sizing.size}, so that one connection in {1 / CHANCE.share:.0f} finds none"
