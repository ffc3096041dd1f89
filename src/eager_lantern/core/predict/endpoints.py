"""Both ends of a promise's control connection: the client's source, and the address and port that it dials.

A client goes to what it types, in its own order (IPv6 first, RFC 6724); anybody on a network goes to where the
server can be reached from there.
"""

from collections.abc import Sequence
from shlex import quote

from msgspec.structs import replace

from ..model.entries import Destination
from ..model.site import INTERNET, Client, CompleteClient, Service, Site
from ..network.flow import Journey
from ..network.reachability import doors
from ..network.topology import LOCALHOST, Host, Topology
from ..values.addresses import FAMILIES, Address, Addresses, AddressSet, Family
from ..values.phrases import operand
from .forecast import ClientPosition


def position_of(topology: Topology, name: str) -> ClientPosition:
    """The client of this name, or anybody on the network of this name."""
    spec = topology.client(name)
    if spec is None:
        return ClientPosition(name, name, name, topology.strangers(name), CompleteClient(name=name, network=name))
    own = AddressSet.single(*(each for family in FAMILIES for each in spec.address.of_family(family)[:1]))
    own = spec.address.as_set if spec.on_server else own  # there each address has a connection of its own
    sources = own if spec.address else topology.strangers(spec.network)
    return ClientPosition(name, topology.host(name), spec.network, sources, spec)


def _kept_out(topology: Topology, position: ClientPosition, service: Service) -> ClientPosition:
    """All who are meant where a service is to be shut to a network: everybody there and behind its other gateways,
    but for those to whom the site promises the service."""
    if isinstance(position.origin, Host):
        return position
    network, found = position.network, position.sources
    passed = {each.device.name for each in topology.chain(network, topology.server.network) or ()}
    for device in topology.devices:
        if device.spec.outside.network == network and device.name not in passed:
            found = found | device.outside_addresses
    outsiders = unpromised(topology, position, service)
    for each in topology.site.clients:
        if each not in outsiders:
            found = found - topology.seen_on(each, network)
    for each in outsiders:  # some may share an address with one that is promised the service
        found = found | topology.seen_on(each, network)
    return replace(position, sources=found)


def unpromised(topology: Topology, position: ClientPosition, service: Service) -> tuple[Client, ...]:
    """Where anybody on a network stands, the clients that come from there and are promised nothing of a service."""
    if isinstance(position.origin, Host):
        return ()
    site = topology.site
    meant = {each.client for each in site.promises if each.service == service.name and each.holds == "works"}
    others = (each for each in site.clients if each.name not in meant and each.name not in service.keep_open_for)
    return tuple(each for each in others if topology.seen_on(each, position.network))


def service_of(topology: Topology, name: str) -> Service:
    """The service of this name. Raises StopIteration for a name that the site does not have."""
    return next(each for each in topology.site.services if each.name == name)


def typed_port(topology: Topology, position: ClientPosition, service: Service) -> int:
    """The port that a client types for a service: the one that it reaches belongs to the service that it is
    promised, or to the only one for files where none is; to every other it goes by the service's own."""
    typed = position.spec.reaches.port if position.spec.reaches is not None else None
    if typed is None or service.name not in services_typed(topology.site, position.name):
        return service.control_port.number
    return typed.number


def services_typed(site: Site, client: str) -> tuple[str, ...]:
    """The services that the port of a client's ``reaches`` is for."""
    promised = (each.service for each in site.promises if each.client == client and each.holds == "works")
    transfers = tuple(each.name for each in site.services if each.protocol != "other")
    return tuple(dict.fromkeys(promised)) or (transfers if len(transfers) == 1 else ())


def targets(topology: Topology, position: ClientPosition) -> tuple[Address, ...]:
    """The addresses that a client may try, in its order."""
    if position.spec.reaches is None:
        return entrances(topology, position.network)
    each = resolved(topology, position.spec.reaches).each
    return tuple(sorted((*_mapped(topology, position, each), *each), key=lambda address: -address.family))


def _mapped(topology: Topology, position: ClientPosition, known: Sequence[Address]) -> tuple[Address, ...]:
    """The addresses by which a client of IPv6 alone reaches an IPv4 server: of a name its network makes them, where
    there are no others (DNS64, RFC 6147, section 5.1.4), of an address only a client that does so itself (RFC 8305,
    section 7.1)."""
    spec = position.spec
    alone = bool(spec.address) and not spec.address.of_family(4)
    prefix = topology.stands_for_ipv4(position.network) if alone else None
    by_name = spec.reaches is not None and bool(spec.reaches.name)
    if prefix is None or not (by_name or spec.maps_ipv4) or any(each.family == 6 for each in known):
        return ()
    return tuple(prefix.around(each) for each in known)


def ways_in(topology: Topology, position: ClientPosition) -> tuple[Address, ...]:
    """Every address by which the server might be reached from where somebody stands: those that a client
    tries, and all that lead to some host, whoever knows them."""
    own = [each for each in topology.server.addresses.each if topology.sees(position.network, each)]
    return tuple(dict.fromkeys((*targets(topology, position), *own, *doors(topology, position.network))))


def resolved(topology: Topology, destination: Destination) -> Addresses:
    """The addresses behind a destination; ``own`` is the server's own."""
    if destination.own:
        return topology.server.addresses
    if destination.name == "localhost":
        return Addresses((LOCALHOST,))
    named = (name.addresses for name in topology.site.names if name.name == destination.name)
    return destination.addresses or next(named, Addresses())


def entrances(topology: Topology, network: str) -> tuple[Address, ...]:
    """The addresses under which the server may be reached from a network."""
    found = tuple(each for family in FAMILIES for each in _entrances(topology, network, family))
    prefix = topology.stands_for_ipv4(network)
    return found if prefix is None else (*found, *(prefix.around(each) for each in found if each.family == 4))


def _entrances(topology: Topology, network: str, family: Family) -> tuple[Address, ...]:
    for crossing in topology.chain(network, topology.server.network) or ():
        if crossing.way == "inward" and crossing.device.spec.translates(family) != "none":
            return tuple(Address(number) for number in crossing.device.outside_addresses.of_family(family))
    return topology.server.addresses.of_family(family)


def is_inside(topology: Topology, control: Journey) -> bool:
    """Whether the server sees its peer on a network that reaches the server untranslated."""
    peer = Address(control.flow.sources.lowest)
    if peer in (*topology.server.addresses.each, LOCALHOST):
        return True
    crossings = topology.crossings(topology.server.network, peer)
    if crossings is None:
        return False
    network = crossings[-1].device.far(crossings[-1].way) if crossings else topology.server.network
    return network != INTERNET and topology.sees(network, control.flow.to)


def inside_peers(topology: Topology) -> AddressSet:
    """The addresses by which the server knows clients that reach it untranslated."""
    own = topology.server.addresses.each
    found = AddressSet.single(LOCALHOST)
    for family in FAMILIES:
        for network in sorted(topology.ways(topology.server.network, family)):
            if network != INTERNET and any(topology.sees(network, each) for each in own if each.family == family):
                there = topology.everybody(network) | AddressSet.single(*topology.held_on(network))
                found = found | there.of_family(family)
    return found


def visit_command(site: Site, service: Service, host: str, port: int) -> str:
    """As a shell reads it, with an account of the service."""
    user = next((each.name for each in site.accounts if each.service == service.name), "")
    if service.protocol == "sftp":
        target = f"{user or 'ACCOUNT'}@{f'[{host}]' if ':' in host else host}"
        return f"sftp -P {port} {operand(target)}"
    account = f" --user {quote(user)}" if user else ""
    options = f"--port {port}{_security_option(service)}{account}"
    return (
        f"eager-lantern visit {options} {operand(host)}"
        if host.startswith("-")
        else f"eager-lantern visit {quote(host)} {options}"
    )


def _security_option(service: Service) -> str:
    return {"none": " --security none", "explicit": "", "implicit": " --security implicit"}[service.tls.mode]
