"""What is open to whom beyond need, what travels in clear, and who is locked out."""

from collections.abc import Iterator

from ..model.site import INTERNET, Service, Tls
from ..network.flow import Flow
from ..network.journey import trace
from ..network.reachability import Reach, closed, opener, reaches
from ..network.topology import Device, Topology, listens_on
from ..predict.ledger import Study
from ..values.addresses import Address, AddressSet
from ..values.phrases import ports_named
from ..values.ports import EVERY_PORT, PortSet
from ..values.site_path import SitePath
from .finding import Finding, setting

UNFILTERED = 32_768


def exposure_findings(topology: Topology, studies: tuple[Study, ...]) -> Iterator[Finding]:
    """Findings about who reaches the server, and how well sessions are protected."""
    from_outside = [each for each in reaches(topology, INTERNET, ("tcp",)) if each.host == topology.server.name]
    yield from _unfiltered(topology, from_outside)
    for i, service in enumerate(topology.site.services):
        yield from _exposed(topology, studies, ("services", i), service, from_outside)
        yield from _in_clear(topology, studies, ("services", i), service)
    yield from _beyond_need(topology, from_outside)
    for device in topology.devices:
        yield from _exposed_host(topology, device)


def _unfiltered(topology: Topology, found: list[Reach]) -> Iterator[Finding]:
    for each in found:
        if len(each.ports) >= UNFILTERED and not topology.server.incoming.matches:
            message = f"{topology.server.name} filters nothing, and the internet reaches {len(each.ports)} of its ports"
            cure = "set server.filter.incoming to default: deny with a rule for each service"
            yield Finding("filter-off", "risks", message, cure, ("server", "filter"))
            return


def _exposed(
    topology: Topology, studies: tuple[Study, ...], place: SitePath, service: Service, found: list[Reach]
) -> Iterator[Finding]:
    """A service for the inside, or for administration, that anybody on the internet reaches."""
    inside_only = service.protocol == "other" or bool(service.keep_open_for)
    promised = any(_needs_internet(topology, each, service.name) for each in studies)
    port = service.control_port.number
    told: set[SitePath] = set()
    for each in found:
        open_to_all = len(each.ports) < UNFILTERED and not _limited(topology, each)
        if inside_only and not promised and port in each.ports and open_to_all:
            message = f"anybody on the internet reaches {service.name} (port {port}) through {each.door}"
            cure = "limit it to the addresses that need it, or take it out"
            cures = closed(topology.site, each.journey, PortSet.single(port))
            place = opener(each.journey).place or ()
            if place not in told:
                yield Finding("exposed-inside-service", "risks", message, cure, place, cures)
            told.add(place)


def _limited(topology: Topology, reach: Reach) -> bool:
    """Whether it is open to less than half of the internet: somebody has thought about who needs it."""
    everybody = topology.everybody(INTERNET).of_family(reach.door.family)
    admitted = reach.journey.asked.sources
    return 2 * _count(admitted) < _count(everybody)


def _count(addresses: AddressSet) -> int:
    return sum(high - low + 1 for low, high in addresses.spans)


def _needs_internet(topology: Topology, study: Study, service: str) -> bool:
    promise, stand = study.forecast.promise, study.forecast.stand
    if promise.service != service:
        return False
    return promise.holds == "shut" or not topology.sees(stand.network, topology.server.addresses.each[0])


def _beyond_need(topology: Topology, found: list[Reach]) -> Iterator[Finding]:
    """Ports of the server that the internet reaches and nothing of the site listens on."""
    needed = PortSet.single(20)
    for service in topology.site.services:
        needed = needed | listens_on(service)
    told: set[SitePath] = set()
    for each in found:
        extra = each.ports - needed
        step = opener(each.journey)
        place = step.place or ()
        if extra and (len(each.ports) < UNFILTERED or step.does == "forward") and place not in told:
            told.add(place)
            if place[-1] == "exposed_host":
                continue  # has a finding of its own
            reached = f"{ports_named(extra)} of {topology.server.name}"
            message = f"the internet reaches {reached}, where no service of the site listens"
            cures = closed(topology.site, each.journey, extra)
            cure = "make the range just as wide as the service's"
            yield Finding("open-beyond-need", "risks", message, cure, place, cures)


def _exposed_host(topology: Topology, device: Device) -> Iterator[Finding]:
    """A host that gets everything for which a device has no forward, with how much of it that opens."""
    if device.spec.exposed_host is None:
        return
    place: SitePath = (*device.place, "exposed_host")
    everybody = topology.everybody(device.spec.outside.network)
    opened = PortSet()
    for address in device.spec.outside.address.each:
        flow = Flow("tcp", everybody, None, address, EVERY_PORT)
        for each in trace(topology, device.spec.outside.network, flow):
            stopped = each.outcome != "ok" and each.reason != "nobody there"
            if not stopped and any(step.place == place for step in each.steps):
                opened = opened | each.flow.ports
    if opened:
        hosts = ", ".join(_named(topology, each) for each in device.spec.exposed_host.each)
        message = f"{device.name} leads all that it has no forward for to {hosts}: {len(opened)} TCP ports are open"
        cure = "forward just the ports that are needed, and take exposed_host out"
        yield Finding("exposed-host", "risks", message, cure, place, setting(topology.site, place, None))


def _named(topology: Topology, address: Address) -> str:
    hosts = (topology.server, *topology.clients)
    return next((each.name for each in hosts if address in each.addresses), str(address))


def _in_clear(topology: Topology, studies: tuple[Study, ...], place: SitePath, service: Service) -> Iterator[Finding]:
    """Passwords or files that cross other people's networks unprotected."""
    site = topology.site
    if service.protocol != "ftp" or not any(_crosses(topology, each, service.name) for each in studies):
        return
    if service.tls.mode == "none":
        message = f"{service.name} takes passwords and files in clear, and clients come across the internet"
        cures = setting(site, (*place, "tls"), Tls(mode="explicit", required=True))
        cure = "set tls: {mode: explicit, required: true}"
        yield Finding("login-in-clear", "risks", message, cure, (*place, "tls"), cures)
    elif not service.tls.protects_data:
        message = f"{service.name} protects the login and sends files in clear"
        where = (*place, "tls", "protects_data")
        yield Finding("data-in-clear", "risks", message, "set protects_data: true", where, setting(site, where, True))
    elif service.tls.mode == "explicit" and not service.tls.required:
        message = (
            f"{service.name} offers TLS without demanding it: a client that does not ask sends its password in clear"
        )
        where = (*place, "tls", "required")
        yield Finding("tls-not-required", "risks", message, "set required: true", where, setting(site, where, True))


def _crosses(topology: Topology, study: Study, service: str) -> bool:
    promise = study.forecast.promise
    if promise.service != service or promise.holds == "shut":
        return False
    start, end = study.forecast.stand.network, topology.server.network
    chain = topology.chain(start, end) or ()
    return INTERNET in {start, *(each.device.far(each.way) for each in chain)}
