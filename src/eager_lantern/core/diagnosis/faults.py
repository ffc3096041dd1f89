"""Every fault that a site may have, made from the site itself; those of the server and of clients."""

from collections.abc import Iterator, Mapping, Sequence

from msgspec.structs import replace

from ..model.change import change
from ..model.entries import OWN, Destination, Typed
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
from ..predict.forecast import REFUSED
from ..values.addresses import Address, Addresses
from ..values.outcomes import Outcome, Rung
from ..values.ports import UNPRIVILEGED, PortSet
from ..values.text_value import SitePath
from .fault import (
    ACCEPTS_OTHER,
    Effect,
    Fault,
    FaultKind,
    SeenValues,
    Variants,
    consistent,
    cut,
    digit_off,
    moved,
    of,
    variants_of,
)
from .faults_on_the_way import filter_faults, forward_faults, gateway_faults
from .situation import doors_of


def server_faults(topology: Topology, seen: SeenValues) -> Iterator[Fault]:
    """Of the server's address, then of each service, its accounts and the published names."""
    yield from _address_faults(topology)
    for i, service in enumerate(topology.site.services):
        if service.protocol != "other":
            yield from _running(topology.site, i, service)
            yield from _tls(topology.site, i, service)
        if service.protocol == "ftp":
            yield from _passive_faults(topology, i, service, seen)
    yield from _account_faults(topology.site, seen)
    yield from _name_faults(topology, seen)


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


Ends = tuple[tuple[Rung, Outcome], ...]
_OF_SERVICE: Mapping[FaultKind, Ends] = {
    "service-not-running": (("connect", "refused"),),
    "service-on-other-port": (("connect", "refused"),),
    "other-program-on-port": (("greet", "wrong"),),
    "storage-full": (("send", "refused"), ("send", "wrong")),
}
"""How sessions of a service end under faults that no key of a site expresses."""
_OF_FTP: Mapping[FaultKind, Ends] = {"passive-refused": (("announce", "refused"),)}
_OF_TLS: Mapping[FaultKind, Ends] = {
    "tls-refused": (("secure", "refused"),),
    "tls-version-differs": (("secure", "refused"), ("secure", "wrong")),
    "tls-implicit-explicit": (("greet", "silent"), ("greet", "wrong"), ("secure", "wrong"), ("secure", "silent")),
    "certificate-of-other-name": (("secure", "wrong"),),
    "certificate-out-of-date": (("secure", "wrong"),),
    "certificate-issuer-unknown": (("secure", "wrong"),),
}
_OF_SSH: Mapping[FaultKind, Ends] = {
    "ssh-subsystem-missing": (("list", "refused"), ("list", "wrong")),
    "ssh-algorithms-differ": (("secure", "refused"), ("secure", "wrong")),
    "host-key-changed": (("host-key", "wrong"),),
}
_TOO_MANY: Ends = ("greet", "refused"), ("login", "refused")


def _running(site: Site, i: int, service: Service) -> Iterator[Fault]:
    place: SitePath = ("services", i, "control_port")
    name, port, at = service.name, service.control_port, site.server.name
    values = of(service=name, port=f"port {port}", number=port)
    own = _OF_FTP if service.protocol == "ftp" else _OF_SSH
    for kind, ends in (*_OF_SERVICE.items(), *own.items()):
        ways = _effects(name, ends)
        if kind == "passive-refused":
            ways = tuple((replace(effect, mode="passive"),) for (effect,) in ways)
        yield Fault(kind, place, at, ways, values)
    if typed := ", ".join(each.name for each in site.names) or ", ".join(service.tls.names):
        nowhere: Ends = ("name", "refused"), ("name", "silent")
        whose = [(), *((each,) for each in _users(site, service))]
        ways = tuple(way for clients in whose for way in _effects(name, nowhere, clients))
        yield Fault("name-unresolved", ("names",), typed, ways, of(name=typed))
    # a limit may be one of each address, and sessions end and make room
    many = *_effects(name, _TOO_MANY), *((Effect(name, rung, outcome, share=0.5),) for rung, outcome in _TOO_MANY)
    yield Fault("too-many-connections", place, at, many, values)
    if service.protocol == "ftp":
        taken = _effects(name, (("announce", "refused"),))
        any_port = variants_of(site, ("services", i, "passive", "ports"), UNPRIVILEGED)  # some servers go on with any
        yield Fault("range-in-use", ("services", i, "passive", "ports"), at, (*taken, *any_port), values)


def _effects(service: str, ends: Ends, clients: tuple[str, ...] = ()) -> Variants:
    """A way for each end that sessions of a service may come to."""
    resets = {("connect", "refused"): REFUSED}  # where nothing listens, and nothing else stands in the way
    every = tuple((Effect(service, *end, clients, error=resets.get(end, "")),) for end in ends)
    if len(every) < 2:
        return every
    return *every, tuple(Effect(service, rung, outcome, clients, 0.5) for rung, outcome in ends)  # now so, now so


def _tls(site: Site, i: int, service: Service) -> Iterator[Fault]:
    at, tls = site.server.name, service.tls
    place: SitePath = ("services", i, "tls")
    names = ", ".join(tls.names) or "the name that clients type"
    other = "implicit" if tls.mode != "implicit" else "explicit"
    values = of(service=service.name, names=names, other=other, meant=tls.mode)
    if service.protocol == "ftp" and tls.mode == "explicit" and not tls.required:
        yield Fault("tls-demanded", (*place, "required"), at, variants_of(site, (*place, "required"), True), values)
    if service.protocol == "ftp" and tls.mode == "none":
        demanded = ((change(site, (*place, "mode"), "explicit"), change(site, (*place, "required"), True)),)
        yield Fault("tls-demanded", (*place, "required"), at, demanded, values)
    if service.protocol == "ftp" and tls.mode != "none" and not tls.reuse_required:
        reuse: SitePath = (*place, "reuse_required")
        yield Fault("reuse-demanded", reuse, at, variants_of(site, reuse, True), values)
    for kind, ends in _OF_TLS.items() if tls.mode != "none" else ():
        if kind != "tls-refused" or tls.mode == "explicit":
            key = "names" if kind.startswith("certificate-") else "mode"
            yield Fault(kind, (*place, key), at, _effects(service.name, ends), values)


def _passive_faults(topology: Topology, i: int, service: Service, seen: SeenValues) -> Iterator[Fault]:
    site, at = topology.site, topology.site.server.name
    place: SitePath = ("services", i, "passive")
    passive = service.passive or Passive()
    values = of(service=service.name, range=passive.ports, announced=passive.announce)
    if passive.ports != UNPRIVILEGED:
        ports: SitePath = (*place, "ports")
        ranges = (*moved(passive.ports), *digit_off(passive.ports)[:4], *cut(passive.ports, seen.ports)[:2])
        yield Fault("range-changed", ports, at, variants_of(site, ports, *ranges), values)
        any_port = UNPRIVILEGED, topology.site.server.own_ports
        yield Fault("range-left-to-system", ports, at, variants_of(site, ports, *any_port), values)
    if passive.announce != OWN:
        announce: SitePath = (*place, "announce")
        yield Fault("announce-private", announce, at, variants_of(site, announce, OWN), values)
        others = _unknown_addresses(topology, seen.announced) or _some(free_address(topology, INTERNET, 4))
        if others:
            stale = (Destination(addresses=Addresses((each,))) for each in others)
            found = of(found=_listed(_unknown_addresses(topology, seen.announced)))
            yield Fault("announce-stale", announce, at, variants_of(site, announce, *stale), (*values, *found))


def _some(address: Address | None) -> tuple[Address, ...]:
    return () if address is None else (address,)


def _listed(addresses: tuple[Address, ...]) -> str:
    """Addresses that were seen, to stand behind what they are called; empty where none was."""
    return f" ({', '.join(map(str, addresses))})" if addresses else ""


def _unknown_addresses(topology: Topology, seen: tuple[Address, ...]) -> tuple[Address, ...]:
    """Of addresses that were seen those that no device of the site has."""
    return tuple(each for each in seen if each not in doors_of(topology))


def _account_faults(site: Site, seen: SeenValues) -> Iterator[Fault]:
    for i, account in enumerate(site.accounts):
        place: SitePath = ("accounts", i)
        whose = f"account “{account.name}” of {account.service}"
        for whom in _sharing(account.clients, seen):
            named = whose if len(whom) > 1 or len(whom[0]) == len(account.clients) else f"{whose}, at {whom[0][0]},"
            yield from _login_faults(site, place, named, account.service, whom)
    for i, service in enumerate(site.services):
        with_account = {client for each in site.accounts if each.service == service.name for client in each.clients}
        users = (each.client for each in site.promises if each.service == service.name and each.holds == "works")
        without = [
            each for each in dict.fromkeys(users if service.protocol != "other" else ()) if each not in with_account
        ]
        for whom in _sharing(without, seen):
            clients = dict.fromkeys(client for each in whom for client in each)
            whose = f"the account of {', '.join(clients)} on {service.name}"
            yield from _login_faults(site, ("services", i), whose, service.name, whom)


def _users(site: Site, service: Service) -> list[str]:
    """Whose sessions with a service are promised."""
    users = (each.client for each in site.promises if each.service == service.name and each.holds == "works")
    return list(dict.fromkeys(users)) if service.protocol != "other" else []


def _sharing(clients: Sequence[str], seen: SeenValues) -> Iterator[tuple[tuple[str, ...], ...]]:
    """Whom a fault of an account may concern: all who share it, or one of them. Only where two of them were seen does
    that make two faults of it."""
    alone = tuple((each,) for each in clients)
    if len(clients) < 2:
        yield from ((each,) for each in alone)
    elif len(seen.clients.intersection(clients)) < 2:
        yield tuple(clients), *alone
    else:
        yield from ((each,) for each in (tuple(clients), *alone))


_OF_ACCOUNT: tuple[tuple[FaultKind, Ends, str, str], ...] = (
    ("account-locked", (("login", "refused"),), "", ""),
    ("account-mistyped", (("login", "refused"),), "", ""),
    ("account-shell-refused", (("login", "refused"),), "", ""),
    ("account-root-writable", (("login", "refused"), ("login", "wrong"), ("list", "wrong")), "", ""),
    ("account-home-owner", (("list", "wrong"), ("login", "wrong"), ("login", "refused")), "", ""),
    ("account-without-right", (("list", "refused"),), "list", "list"),
    ("account-without-right", (("send", "refused"),), "write to", "write"),
    ("account-without-folder", (("list", "refused"),), "", ""),
)


def _login_faults(
    site: Site, place: SitePath, whose: str, service: str, whom: tuple[tuple[str, ...], ...]
) -> Iterator[Fault]:
    for kind, ends, act, right in _OF_ACCOUNT:
        ways = tuple(way for clients in whom for way in _effects(service, ends, clients))
        yield Fault(kind, place, site.server.name, ways, of(account=whose, act=act, right=right))


def _name_faults(topology: Topology, seen: SeenValues) -> Iterator[Fault]:
    site = topology.site
    for i, name in enumerate(site.names):
        place: SitePath = ("names", i, "addresses")
        family = name.addresses.each[0].family if name.addresses else 4
        others = _unknown_addresses(topology, seen.dialled) or _some(free_address(topology, INTERNET, family))
        if others and name.addresses:
            old = variants_of(site, place, *(Addresses((each,)) for each in others))
            found = _listed(_unknown_addresses(topology, seen.dialled))
            yield Fault("name-lags", place, name.name, old, of(addresses=name.addresses, found=found))
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
_BARRED: Ends = ("connect", "silent"), ("connect", "refused"), ("greet", "refused")
WEB = PortSet.of((80, 80), (443, 443))


def client_faults(topology: Topology, seen: SeenValues) -> Iterator[Fault]:
    """Of every client of the site."""
    site = topology.site
    for i, client in enumerate(site.clients):
        place: SitePath = ("clients", i)
        if client.reaches is not None and (elsewhere := _unknown_addresses(topology, seen.dialled)):
            typed = (Typed(Addresses((each,)), port=client.reaches.port) for each in elsewhere)
            dials = variants_of(site, (*place, "reaches"), *typed)
            values = of(addresses=", ".join(map(str, elsewhere)), meant=client.reaches)
            yield Fault("client-dials-elsewhere", (*place, "reaches"), client.name, dials, values)
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
        for service in site.services:
            if client.name in _users(site, service):
                barred = tuple((Effect(service.name, *end, (client.name,)),) for end in _BARRED)
                yield Fault(
                    "client-barred", place, client.name, barred, of(service=service.name, server=site.server.name)
                )


def _modes(site: Site, place: SitePath, client: CompleteClient) -> Iterator[Fault]:
    other: Mode = "active" if client.modes[:1] == ("passive",) else "passive"
    strayed = variants_of(site, (*place, "modes"), (other, *(each for each in client.modes if each != other)))
    if other == "active":
        strayed = (*strayed, *_accepted(site, strayed))
    values = of(other=other, mode=client.modes[0] if client.modes else "passive")
    yield Fault("client-other-mode", (*place, "modes"), client.name, strayed, values)
    if client.address.of_family(4) and client.active_address is None:
        private = variants_of(site, (*place, "active_address"), HOME)
        private = (*private, *_accepted(site, private))
        yield Fault("client-names-private", (*place, "active_address"), client.name, private)


def _accepted(site: Site, variants: Variants) -> Variants:
    """The same where the server tries an address that is not its client's own, as many do."""
    doors = tuple(
        change(site, ("services", i, "active", ACCEPTS_OTHER), True)
        for i, each in enumerate(site.services)
        if each.protocol == "ftp" and each.active is not None and not each.active.accepts_other_address
    )
    return tuple((*way, *doors) for way in variants) if doors else ()


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


def faults_of(site: Site, seen: SeenValues = SeenValues()) -> tuple[Fault, ...]:
    """All single faults of a consistent site, in the order of the way from outside in. ``seen`` are values
    that faults take from what was seen."""
    topology = Topology(site)
    return tuple(good for each in _every(topology, seen) if (good := consistent(site, each)) is not None)


def _every(topology: Topology, seen: SeenValues) -> Iterator[Fault]:
    yield from client_faults(topology, seen)
    yield from gateway_faults(topology)
    yield from forward_faults(topology, seen)
    yield from filter_faults(topology, seen)
    yield from server_faults(topology, seen)
