"""Every fault that a site may have, made from the site itself; those of the server and of clients."""

from collections.abc import Iterator

from ..model.change import change
from ..model.entries import OWN, Destination
from ..model.site import (
    INTERNET,
    Client,
    CompleteClient,
    Filter,
    HostFilter,
    Mode,
    Passive,
    Rule,
    Service,
    Site,
    complete,
)
from ..network.topology import Topology, free_address
from ..values.addresses import Address, Addresses
from ..values.outcomes import Rung
from ..values.ports import UNPRIVILEGED, PortSet
from ..values.text_value import SitePath
from .fault import Effect, Fault, FaultKind, consistent, cut, digit_off, moved, of, variants_of
from .faults_on_the_way import filter_faults, forward_faults, gateway_faults


def server_faults(topology: Topology, seen: PortSet) -> Iterator[Fault]:
    """Of the server's address, then of each service, its accounts and the published names."""
    yield from _address_faults(topology)
    for i, service in enumerate(topology.site.services):
        if service.protocol != "other":
            yield from _running(topology.site, i, service)
            yield from _tls(topology.site, i, service)
        if service.protocol == "ftp":
            yield from _passive_faults(topology, i, service, seen)
    yield from _account_faults(topology.site)
    yield from _name_faults(topology)


def _address_faults(topology: Topology) -> Iterator[Fault]:
    server = topology.site.server
    own = server.address.each[0]
    other = free_address(topology, server.network, own.family)
    if other is not None:
        yield Fault(
            "server-address-changed",
            ("server", "address"),
            server.name,
            variants_of(topology.site, ("server", "address"), Addresses((other, *server.address.each[1:]))),
            of(address=own),
        )


def _running(site: Site, i: int, service: Service) -> Iterator[Fault]:
    place: SitePath = ("services", i, "control_port")
    name, port = service.name, service.control_port
    refused, greets = Effect(name, "connect", "refused"), Effect(name, "greet", "wrong")
    kinds: tuple[tuple[FaultKind, Effect], ...] = (
        ("service-not-running", refused),
        ("service-on-other-port", refused),
        ("other-program-on-port", greets),
    )
    for kind, effect in kinds:
        values = of(service=name, port=f"port {port}", number=port)
        yield Fault(kind, place, site.server.name, values=values, effect=effect)


def _tls(site: Site, i: int, service: Service) -> Iterator[Fault]:
    at, tls, values = site.server.name, service.tls, of(service=service.name)
    place: SitePath = ("services", i, "tls")
    if service.protocol == "ftp" and tls.mode == "explicit":
        effect = Effect(service.name, "secure", "refused")
        yield Fault("tls-refused", (*place, "mode"), at, values=values, effect=effect)
        if not tls.required:
            yield Fault("tls-demanded", (*place, "required"), at, variants_of(site, (*place, "required"), True), values)
    if service.protocol == "ftp" and tls.mode != "none" and not tls.reuse_required:
        reuse: SitePath = (*place, "reuse_required")
        yield Fault("reuse-demanded", reuse, at, variants_of(site, reuse, True), values)
    if tls.mode != "none":
        kinds: tuple[FaultKind, ...] = ("certificate-of-other-name", "certificate-out-of-date")
        for kind in kinds:
            names = ", ".join(tls.names) or "the name that clients type"
            effect = Effect(service.name, "secure", "wrong")
            yield Fault(kind, (*place, "names"), at, values=of(service=service.name, names=names), effect=effect)


def _passive_faults(topology: Topology, i: int, service: Service, seen: PortSet) -> Iterator[Fault]:
    site, at = topology.site, topology.site.server.name
    place: SitePath = ("services", i, "passive")
    passive = service.passive or Passive()
    values = of(service=service.name, range=passive.ports, announced=passive.announce)
    if passive.ports != UNPRIVILEGED:
        ports: SitePath = (*place, "ports")
        ranges = (*moved(passive.ports), *digit_off(passive.ports)[:4], *cut(passive.ports, seen)[:2])
        yield Fault("range-changed", ports, at, variants_of(site, ports, *ranges), values)
        any_port = UNPRIVILEGED, topology.site.server.own_ports
        yield Fault("range-left-to-system", ports, at, variants_of(site, ports, *any_port), values)
    if passive.announce != OWN:
        announce: SitePath = (*place, "announce")
        yield Fault("announce-private", announce, at, variants_of(site, announce, OWN), values)
        stale = free_address(topology, INTERNET, 4)
        if stale is not None:
            other = Destination(addresses=Addresses((stale,)))
            yield Fault("announce-stale", announce, at, variants_of(site, announce, other), values)


def _account_faults(site: Site) -> Iterator[Fault]:
    for i, account in enumerate(site.accounts):
        place: SitePath = ("accounts", i)
        whose = f"account “{account.name}” of {account.service}"
        for client in account.clients:
            yield from _login_faults(site, place, whose, account.service, client)
    for i, service in enumerate(site.services):
        with_account = {client for each in site.accounts if each.service == service.name for client in each.clients}
        users = (each.client for each in site.promises if each.service == service.name and each.holds == "works")
        for client in dict.fromkeys(users if service.protocol != "other" else ()):
            if client not in with_account:
                whose = f"the account of {client} on {service.name}"
                yield from _login_faults(site, ("services", i), whose, service.name, client)


def _login_faults(site: Site, place: SitePath, whose: str, service: str, client: str) -> Iterator[Fault]:
    kinds: tuple[tuple[FaultKind, Rung, str, str], ...] = (
        ("account-locked", "login", "", ""),
        ("account-mistyped", "login", "", ""),
        ("account-without-right", "list", "list", "list"),
        ("account-without-right", "send", "write to", "write"),
        ("account-without-folder", "list", "", ""),
    )
    for kind, rung, act, right in kinds:
        effect = Effect(service, rung, "refused", client)
        values = of(account=whose, act=act, right=right)
        yield Fault(kind, place, site.server.name, values=values, effect=effect)


def _name_faults(topology: Topology) -> Iterator[Fault]:
    site = topology.site
    for i, name in enumerate(site.names):
        place: SitePath = ("names", i, "addresses")
        family = name.addresses.each[0].family if name.addresses else 4
        other = free_address(topology, INTERNET, family)
        if other is not None and name.addresses:
            yield Fault(
                "name-lags",
                place,
                name.name,
                variants_of(site, place, Addresses((other,))),
                of(addresses=name.addresses),
            )
        six = free_address(topology, INTERNET, 6)
        if six is not None and not name.addresses.of_family(6):
            yield Fault(
                "ipv6-without-path",
                place,
                name.name,
                ((change(site, place, Addresses((*name.addresses.each, six))),),),
            )


HOME = Address.parse("192.168.222.10")
"""An address as home networks have it (RFC 1918)."""
WEB = PortSet.of((80, 80), (443, 443))


def client_faults(site: Site) -> Iterator[Fault]:
    """Of every client of the site."""
    for i, client in enumerate(site.clients):
        place: SitePath = ("clients", i)
        used = complete(site, client)
        yield from _modes(site, place, used)
        if used.speaks_tls != "never" and any(each.tls.mode != "none" for each in site.services):
            yield Fault(
                "client-without-tls",
                (*place, "speaks_tls"),
                client.name,
                variants_of(site, (*place, "speaks_tls"), "never"),
            )
        if client.filter.outgoing.default == "allow" and not client.filter.outgoing.rules:
            yield _port_filter_fault(site, place, client)


def _modes(site: Site, place: SitePath, client: CompleteClient) -> Iterator[Fault]:
    other: Mode = "active" if client.modes[:1] == ("passive",) else "passive"
    yield Fault(
        "client-other-mode",
        (*place, "modes"),
        client.name,
        variants_of(site, (*place, "modes"), (other, *(each for each in client.modes if each != other))),
        of(other=other, mode=client.modes[0] if client.modes else "passive"),
    )
    if client.address.of_family(4) and client.active_address is None:
        yield Fault(
            "client-names-private",
            (*place, "active_address"),
            client.name,
            variants_of(site, (*place, "active_address"), HOME),
        )


def _port_filter_fault(site: Site, place: SitePath, client: Client) -> Fault:
    control = PortSet.of(*((each.control_port.number,) * 2 for each in site.services))
    tables = (
        HostFilter(incoming=client.filter.incoming, outgoing=Filter(default=default, rules=(_allowing(ports),)))
        for ports in (control | WEB, WEB)
        for default in ("deny", "refuse")
    )
    return Fault(
        "client-narrow-way-out",
        (*place, "filter"),
        client.name,
        variants_of(site, (*place, "filter"), *tables),
    )


def _allowing(ports: PortSet) -> Rule:
    return Rule(action="allow", protocol="tcp", ports=ports)


def faults_of(site: Site, seen: PortSet = PortSet()) -> tuple[Fault, ...]:
    """All single faults of a consistent site, in the order of the way from outside in. ``seen`` are data ports of
    which something is known: a range may end between any two of them."""
    topology = Topology(site)
    return tuple(good for each in _every(topology, seen) if (good := consistent(site, each)) is not None)


def _every(topology: Topology, seen: PortSet) -> Iterator[Fault]:
    yield from client_faults(topology.site)
    yield from gateway_faults(topology)
    yield from forward_faults(topology, seen)
    yield from filter_faults(topology, seen)
    yield from server_faults(topology, seen)
