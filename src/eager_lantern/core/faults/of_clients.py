"""What goes wrong at a client."""

from collections.abc import Iterator

from ..model.site import Client, Filter, HostFilter, Mode, Rule, Site
from ..values.addresses import Address
from ..values.ports import PortSet
from ..values.site_path import SitePath
from .fault import Fault, setting

HOME = Address.parse("192.168.222.10")
"""An address as home networks have it (RFC 1918)."""
WEB = PortSet.of((80, 80), (443, 443))


def client_faults(site: Site) -> Iterator[Fault]:
    """Of every client of the site."""
    for i, client in enumerate(site.clients):
        place: SitePath = ("clients", i)
        yield from _modes(site, place, client)
        if client.speaks_tls != "never" and any(each.tls.mode != "none" for each in site.services):
            yield Fault(
                "client-without-tls",
                (*place, "speaks_tls"),
                client.name,
                f"{client.name} does not use TLS",
                f"is explicit or implicit TLS set in the program that {client.name} uses?",
                f"set it to TLS as the service has it, for {client.name}",
                setting(site, (*place, "speaks_tls"), "never"),
            )
        if client.filter.outgoing.default == "allow" and not client.filter.outgoing.rules:
            yield _narrow(site, place, client)


def _modes(site: Site, place: SitePath, client: Client) -> Iterator[Fault]:
    other: Mode = "active" if client.modes[:1] == ("passive",) else "passive"
    yield Fault(
        "client-other-mode",
        (*place, "modes"),
        client.name,
        f"{client.name} uses {other} mode",
        f"which mode is set in the program that {client.name} uses?",
        f"set it to {client.modes[0] if client.modes else 'passive'}",
        setting(site, (*place, "modes"), (other, *(each for each in client.modes if each != other))),
    )
    if client.address.of_family(4) and client.active_address is None:
        yield Fault(
            "client-names-private",
            (*place, "active_address"),
            client.name,
            f"{client.name} names a private address for the connection back",
            f"which address does {client.name} name in PORT, and is a router at home in front of it?",
            f"let {client.name} use passive mode",
            setting(site, (*place, "active_address"), HOME),
        )


def _narrow(site: Site, place: SitePath, client: Client) -> Fault:
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
        setting(site, (*place, "filter"), *tables),
    )


def _allowing(ports: PortSet) -> Rule:
    return Rule(action="allow", protocol="tcp", ports=ports)
