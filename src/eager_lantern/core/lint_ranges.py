"""Whether passive ranges are chosen well."""

from collections.abc import Iterator

from .finding import Finding
from .place import Place
from .ports import UNPRIVILEGED, PortSet
from .site import Service, Site
from .topology import Topology

WIDE = 4096
TIMES_THE_BURST = 32


def range_findings(topology: Topology) -> Iterator[Finding]:
    """Findings about the passive range and control port of each service."""
    site = topology.site
    for i, service in enumerate(site.services):
        yield from _control_twice(site, i, service)
        if service.protocol == "ftp" and service.passive:
            yield from _range(site, service, service.passive.ports, ("services", i, "passive", "ports"))


def _control_twice(site: Site, i: int, service: Service) -> Iterator[Finding]:
    for other in site.services[:i]:
        if other.control_port == service.control_port:
            message = f"{other.name} and {service.name} both want port {service.control_port}: only one can listen"
            cure = "give one of them another control port"
            yield Finding("port-taken-twice", "risks", message, cure, ("services", i, "control_port"))


def _range(site: Site, service: Service, ports: PortSet, place: Place) -> Iterator[Finding]:
    server = site.server
    if ports == UNPRIVILEGED:
        message = f"{service.name} leaves the choice of data ports to the system, so that no forward can fit"
        yield Finding("range-left-to-system", "risks", message, "fix a range, for example 61200-61455", place)
        return
    if local := ports & server.local_ports:
        message = f"{service.name} hands out {local}, which {server.name} uses for its own outgoing connections too"
        cure = f"choose a range outside of {server.local_ports}"
        yield Finding("range-overlaps-local-ports", "risks", message, cure, place)
    for other in site.services:
        if other.control_port.number in ports and other is not service:
            message = f"port {other.control_port} of {other.name} lies in the data range of {service.name}"
            yield Finding("range-overlaps-service", "risks", message, "move the range or the service", place)
    yield from _size(service, ports, place)


def _size(service: Service, ports: PortSet, place: Place) -> Iterator[Finding]:
    most = max(service.load.burst or 0, service.load.clients or 0) if service.load else 0
    if most > len(ports):
        message = f"{service.name} has {len(ports)} data ports, and up to {most} transfers may start at once"
        yield Finding("range-too-small", "risks", message, f"make the range at least {most} ports wide", place)
    elif len(ports) > WIDE or (most and len(ports) > max(256, TIMES_THE_BURST * most)):
        need = f"up to {most} transfers at once" if most else "most servers"
        message = f"{service.name} opens {len(ports)} data ports, far more than {need} can need"
        yield Finding("range-too-wide", "risks", message, "a few hundred do for most; every one is an open port", place)
