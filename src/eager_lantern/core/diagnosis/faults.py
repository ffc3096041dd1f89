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
from .fault import Effect, Fault, FaultKind, consistent, cut, digit_off, moved, variants_of
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
            f"{server.name} has another address than {own} by now",
            f"does {server.name} still have {own}?",
            f"give {server.name} a fixed address or a reserved lease of {own}",
            variants_of(topology.site, ("server", "address"), Addresses((other, *server.address.each[1:]))),
        )


def _running(site: Site, i: int, service: Service) -> Iterator[Fault]:
    place: SitePath = ("services", i, "control_port")
    at, name, port = site.server.name, service.name, service.control_port
    look = f"which program on {at} listens on port {port}, and on all of its addresses?"
    refused, greets = Effect(name, "connect", "refused"), Effect(name, "greet", "wrong")
    rows: tuple[tuple[FaultKind, str, str, Effect], ...] = (
        ("service-not-running", "does not run", "start it", refused),
        ("service-on-other-port", f"listens on another port than {port}", f"set its port to {port}", refused),
        ("other-program-on-port", f"finds port {port} taken by another program", "stop the other program", greets),
    )
    for kind, message, cure, effect in rows:
        yield Fault(kind, place, at, f"{name} {message}", look, f"{cure} on {at}", effect=effect)


def _tls(site: Site, i: int, service: Service) -> Iterator[Fault]:
    at, name, tls = site.server.name, service.name, service.tls
    place: SitePath = ("services", i, "tls")
    if service.protocol == "ftp" and tls.mode == "explicit":
        yield Fault(
            "tls-refused",
            (*place, "mode"),
            at,
            f"{name} does not offer TLS",
            f"is explicit TLS switched on in the settings of {name}, with a certificate?",
            f"switch explicit TLS on for {name}",
            effect=Effect(name, "secure", "refused"),
        )
        if not tls.required:
            yield Fault(
                "tls-demanded",
                (*place, "required"),
                at,
                f"{name} lets nobody in without TLS",
                f"does {name} demand TLS?",
                f"let clients use TLS, or make it optional at {name}",
                variants_of(site, (*place, "required"), True),
            )
    if service.protocol == "ftp" and tls.mode != "none" and not tls.reuse_required:
        yield Fault(
            "reuse-demanded",
            (*place, "reuse_required"),
            at,
            f"{name} demands that data connections resume the TLS session",
            f"does {name} demand TLS session reuse for data?",
            f"switch that demand off at {name}, or use clients that resume sessions",
            variants_of(site, (*place, "reuse_required"), True),
        )
    if tls.mode != "none":
        look = f"eager-lantern visit --closely: which names and dates has the certificate of {name}?"
        cure = f"give {name} a certificate for {', '.join(tls.names) or 'the name that clients type'}"
        rows: tuple[tuple[FaultKind, str], ...] = (
            ("certificate-of-other-name", "shows a certificate of another name than clients type"),
            ("certificate-out-of-date", "shows a certificate that has run out"),
        )
        for kind, message in rows:
            effect = Effect(name, "secure", "wrong")
            yield Fault(kind, (*place, "names"), at, f"{name} {message}", look, cure, effect=effect)


def _passive_faults(topology: Topology, i: int, service: Service, seen: PortSet) -> Iterator[Fault]:
    site, at, name = topology.site, topology.site.server.name, service.name
    place: SitePath = ("services", i, "passive")
    passive = service.passive or Passive()
    look = f"which passive range is set at {name}?"
    if passive.ports != UNPRIVILEGED:
        ranges = (*moved(passive.ports), *digit_off(passive.ports)[:4], *cut(passive.ports, seen)[:2])
        yield Fault(
            "range-changed",
            (*place, "ports"),
            at,
            f"{name} uses another passive range than {passive.ports}",
            look,
            f"set the passive range of {name} to {passive.ports}",
            variants_of(site, (*place, "ports"), *ranges),
        )
        yield Fault(
            "range-left-to-system",
            (*place, "ports"),
            at,
            f"{name} has no passive range set, so the system picks any port",
            look,
            f"set the passive range of {name} to {passive.ports}",
            variants_of(site, (*place, "ports"), UNPRIVILEGED, topology.site.server.own_ports),
        )
    if passive.announce != OWN:
        rows = f"set the address that {name} announces to {passive.announce}"
        seen_by = f"which address does {name} announce in its passive reply: {passive.announce}?"
        yield Fault(
            "announce-private",
            (*place, "announce"),
            at,
            f"{name} announces its own address in the passive reply",
            seen_by,
            rows,
            variants_of(site, (*place, "announce"), OWN),
        )
        stale = free_address(topology, INTERNET, 4)
        if stale is not None:
            yield Fault(
                "announce-stale",
                (*place, "announce"),
                at,
                f"{name} announces an address that is not the site's any more",
                seen_by,
                rows,
                variants_of(site, (*place, "announce"), Destination(addresses=Addresses((stale,)))),
            )


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
    at = site.server.name
    rows: tuple[tuple[FaultKind, str, str, str, Rung], ...] = (
        ("account-locked", "is locked or switched off", f"is {whose} active?", "switch it on", "login"),
        ("account-mistyped", "has another password or name than is typed", f"is {whose} typed as it is written there?",
         "type or set it anew", "login"),
        ("account-without-right", "may not list its folder", f"what may {whose} do in its folder?",
         "give it the right to list", "list"),
        ("account-without-right", "may not write to its folder", f"what may {whose} do in its folder?",
         "give it the right to write", "send"),
        ("account-without-folder", "has a home folder that is not there", f"is the home folder of {whose} there?",
         "make the folder, or point the account at it,", "list"),
    )  # fmt: skip
    for kind, message, look, cure, rung in rows:
        effect = Effect(service, rung, "refused", client)
        yield Fault(kind, place, at, f"{whose} {message}", look, f"{cure} on {at}", effect=effect)


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
                f"{name.name} leads to another address than {name.addresses}",
                f"what do the name's own servers, and the client's resolver, say of {name.name}?",
                f"set the address record of {name.name} to {name.addresses}, and wait until the old one has run out",
                variants_of(site, place, Addresses((other,))),
            )
        six = free_address(topology, INTERNET, 6)
        if six is not None and not name.addresses.of_family(6):
            yield Fault(
                "ipv6-without-path",
                place,
                name.name,
                f"{name.name} has an IPv6 address (AAAA) that does not reach the server",
                f"which AAAA records has {name.name}, and does the server answer there?",
                f"take the AAAA record of {name.name} out, or let IPv6 in",
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
                f"{client.name} does not use TLS",
                f"is explicit or implicit TLS set in the program that {client.name} uses?",
                f"set TLS as the service has it, for {client.name}",
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
        f"{client.name} uses {other} mode",
        f"which mode is set in the program that {client.name} uses?",
        f"set it to {client.modes[0] if client.modes else 'passive'}",
        variants_of(site, (*place, "modes"), (other, *(each for each in client.modes if each != other))),
    )
    if client.address.of_family(4) and client.active_address is None:
        yield Fault(
            "client-names-private",
            (*place, "active_address"),
            client.name,
            f"{client.name} names a private address for the connection back",
            f"which address does {client.name} name in PORT, and is a router at home in front of it?",
            f"let {client.name} use passive mode",
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
        f"the network of {client.name} lets only few ports out",
        f"does another network, a phone's for example, get further than that of {client.name}?",
        f"have the data range allowed outward where {client.name} is",
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
