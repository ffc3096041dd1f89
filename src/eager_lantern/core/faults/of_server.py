"""What goes wrong with the server: its address, its services, its accounts, and the names that lead to it."""

from collections.abc import Iterator

from ..model.change import change
from ..model.entries import OWN, Destination
from ..model.site import INTERNET, Passive, Service, Site
from ..network.free_address import free_address
from ..network.topology import Topology
from ..values.addresses import Addresses
from ..values.outcomes import Rung
from ..values.ports import UNPRIVILEGED, PortSet
from ..values.site_path import SitePath
from .fault import Effect, Fault, FaultKind, setting
from .slips import cut, digit_off, moved


def server_faults(topology: Topology, seen: PortSet) -> Iterator[Fault]:
    """Of the server's address, then of each service, its accounts and the published names."""
    yield from _address(topology)
    for i, service in enumerate(topology.site.services):
        if service.protocol != "other":
            yield from _running(topology.site, i, service)
            yield from _tls(topology.site, i, service)
        if service.protocol == "ftp":
            yield from _passive(topology, i, service, seen)
    yield from _accounts(topology.site)
    yield from _names(topology)


def _address(topology: Topology) -> Iterator[Fault]:
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
            setting(topology.site, ("server", "address"), Addresses((other, *server.address.each[1:]))),
        )


def _running(site: Site, i: int, service: Service) -> Iterator[Fault]:
    place: SitePath = ("services", i, "control_port")
    at, name, port = site.server.name, service.name, service.control_port
    look = f"which program on {at} listens on port {port}, and on all of its addresses?"
    refused, greets = Effect(name, "connect", "refused"), Effect(name, "greet", "wrong")
    told: tuple[tuple[FaultKind, str, str, Effect], ...] = (
        ("service-not-running", "does not run", "start it", refused),
        ("service-on-other-port", f"listens on another port than {port}", f"set its port to {port}", refused),
        ("other-program-on-port", f"finds port {port} taken by another program", "stop the other program", greets),
    )
    for kind, message, cure, effect in told:
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
                setting(site, (*place, "required"), True),
            )
    if service.protocol == "ftp" and tls.mode != "none" and not tls.reuse_required:
        yield Fault(
            "reuse-demanded",
            (*place, "reuse_required"),
            at,
            f"{name} demands that data connections resume the TLS session",
            f"does {name} demand TLS session reuse for data?",
            f"switch that demand off at {name}, or use clients that resume sessions",
            setting(site, (*place, "reuse_required"), True),
        )
    if tls.mode != "none":
        look = f"eager-lantern visit --closely: which names and dates has the certificate of {name}?"
        cure = f"give {name} a certificate for {', '.join(tls.names) or 'the name that clients type'}"
        told: tuple[tuple[FaultKind, str], ...] = (
            ("certificate-of-other-name", "shows a certificate of another name than clients type"),
            ("certificate-out-of-date", "shows a certificate that has run out"),
        )
        for kind, message in told:
            effect = Effect(name, "secure", "wrong")
            yield Fault(kind, (*place, "names"), at, f"{name} {message}", look, cure, effect=effect)


def _passive(topology: Topology, i: int, service: Service, seen: PortSet) -> Iterator[Fault]:
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
            f"{name} hands out other data ports than {passive.ports}",
            look,
            f"set the passive range of {name} to {passive.ports}",
            setting(site, (*place, "ports"), *ranges),
        )
        yield Fault(
            "range-left-to-system",
            (*place, "ports"),
            at,
            f"{name} has no passive range set, so the system picks any port",
            look,
            f"set the passive range of {name} to {passive.ports}",
            setting(site, (*place, "ports"), UNPRIVILEGED, topology.site.server.own_ports),
        )
    if passive.announce != OWN:
        told = f"set the address that {name} announces to {passive.announce}"
        seen_by = f"which address does {name} announce in its passive reply: {passive.announce}?"
        yield Fault(
            "announce-private",
            (*place, "announce"),
            at,
            f"{name} announces its own address in the passive reply",
            seen_by,
            told,
            setting(site, (*place, "announce"), OWN),
        )
        stale = free_address(topology, INTERNET, 4)
        if stale is not None:
            yield Fault(
                "announce-stale",
                (*place, "announce"),
                at,
                f"{name} announces an address that is not the site's any more",
                seen_by,
                told,
                setting(site, (*place, "announce"), Destination(addresses=Addresses((stale,)))),
            )


def _accounts(site: Site) -> Iterator[Fault]:
    for i, account in enumerate(site.accounts):
        place: SitePath = ("accounts", i)
        whose = f"account “{account.name}” of {account.service}"
        for client in account.clients:
            yield from _account(site, place, whose, account.service, client)
    for i, service in enumerate(site.services):
        with_account = {client for each in site.accounts if each.service == service.name for client in each.clients}
        users = (each.client for each in site.promises if each.service == service.name and each.holds == "works")
        for client in dict.fromkeys(users if service.protocol != "other" else ()):
            if client not in with_account:
                whose = f"the account of {client} on {service.name}"
                yield from _account(site, ("services", i), whose, service.name, client)


def _account(site: Site, place: SitePath, whose: str, service: str, client: str) -> Iterator[Fault]:
    at = site.server.name
    told: tuple[tuple[FaultKind, str, str, str, Rung], ...] = (
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
    for kind, message, look, cure, rung in told:
        effect = Effect(service, rung, "refused", client)
        yield Fault(kind, place, at, f"{whose} {message}", look, f"{cure} on {at}", effect=effect)


def _names(topology: Topology) -> Iterator[Fault]:
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
                setting(site, place, Addresses((other,))),
            )
        six = free_address(topology, INTERNET, 6)
        if six is not None and not name.addresses.of_family(6):
            yield Fault(
                "ipv6-without-path",
                place,
                name.name,
                f"{name.name} has an IPv6 address (AAAA) by which nobody gets in",
                f"which AAAA records has {name.name}, and does the server answer there?",
                f"take the AAAA record of {name.name} out, or let IPv6 in",
                ((change(site, place, Addresses((*name.addresses.each, six))),),),
            )
