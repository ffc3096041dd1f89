"""What a site lets in, as exact sets, and how much of it the promises need."""

from collections.abc import Mapping

from msgspec import Struct

from ..model.problem import network_names
from ..model.site import Site, Transport
from ..network.reachability import reaches
from ..network.topology import Topology, listens_on
from ..values.ports import PortSet

Exposed = Mapping[tuple[str, str, Transport], PortSet]
"""Ports of a host that connections from a network arrive at, by network, host and transport."""


class Widened(Struct, frozen=True):
    """Ports of a host that a network reaches and did not reach before."""

    network: str
    host: str
    protocol: Transport
    ports: PortSet


def exposed(site: Site) -> Exposed:
    """What anybody on each network reaches on hosts in others, whoever listens there."""
    topology = Topology(site)
    found: dict[tuple[str, str, Transport], PortSet] = {}
    for network in network_names(site):
        for each in reaches(topology, network):
            key = (network, each.host, each.protocol)
            found[key] = found.get(key, PortSet()) | each.ports
    return found


def widened(before: Exposed, after: Exposed) -> tuple[Widened, ...]:
    """What is reached after a change and was not before."""
    more = ((key, ports - before.get(key, PortSet())) for key, ports in after.items())
    return tuple(Widened(*key, ports) for key, ports in sorted(more, key=lambda each: each[0]) if ports)


def beyond_need(site: Site, more: tuple[Widened, ...]) -> tuple[Widened, ...]:
    """What of that no promise of the site needs: of the server the ports of the services that are promised to work, of
    a client those that it names in active mode."""
    needed = _needed(site)
    beyond = (
        Widened(each.network, each.host, each.protocol, each.ports - needed.get((each.host, each.protocol), PortSet()))
        for each in more
    )
    return tuple(each for each in beyond if each.ports)


def _needed(site: Site) -> dict[tuple[str, Transport], PortSet]:
    works = [each for each in site.promises if each.holds == "works"]
    kept_open = {each.name for each in site.services if each.keep_open_for}
    served = {each.service for each in works} | kept_open
    found: dict[tuple[str, Transport], PortSet] = {}
    for service in site.services:
        if service.name in served:
            ports = listens_on(service)
            protocols: tuple[Transport, ...] = service.passive.protocols if service.passive else ()
            for protocol in {"tcp", *protocols}:
                key: tuple[str, Transport] = (site.server.name, "udp" if protocol == "udp" else "tcp")
                found[key] = found.get(key, PortSet()) | ports
    active = {each.client for each in works if each.mode == "active"}
    for client in site.clients:
        if client.name in active:
            found[client.name, "tcp"] = client.active_ports
    return found
