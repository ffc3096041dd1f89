"""A survey beside the site file, and the site as the survey found it.

A survey is of the server or of a client, as it was taken. Only what was learnt counts: where a survey could not
learn something, nothing is concluded from it.
"""

from collections.abc import Iterator
from shlex import quote

from msgspec.structs import replace

from ..model.entries import FolderMode
from ..model.site import (
    INTERNET,
    OPEN,
    Account,
    Client,
    Filter,
    Gateway,
    HostFilter,
    Server,
    Service,
    Site,
    system_accounts,
    writes_home,
)
from ..network.topology import Topology
from ..observed.conclusions import OF_ROUTERS, forwards_of, outside_of, translated_before
from ..observed.survey import ListeningSocket, Survey, SurveyedAccount
from ..values.addresses import Address, Addresses
from ..values.phrases import listed, ports_named, the
from ..values.ports import UNPRIVILEGED, PortSet
from ..values.text_value import SitePath
from .finding import Finding, FindingKind, Severity


def as_surveyed(site: Site, survey: Survey) -> Site:
    """The site with the server's address and own ports as they are, without its filter where none is active, with the
    outside address of its last router and the forwards that its own router lists."""
    nearest = _nearest(site, survey)
    last = outermost(site, site.server)
    gateways = []
    for each in site.gateways:
        found = each
        if nearest is not None and each.name == nearest.name:
            found = _as_told(found, survey)
        if last is not None and each.name == last[0].name and nearest is not None and each.name != nearest.name:
            found = _at_seen_address(found, outside_of(survey))
        gateways.append(found)
    return replace(site, gateways=tuple(gateways), server=_server(site.server, survey))


def _nearest(site: Site, survey: Survey) -> Gateway | None:
    """The gateway that is the router of the survey, else the only one on the server's network."""
    inside = [each for each in site.gateways if each.inside.network == site.server.network]
    named = [each for each in inside if survey.router is not None and survey.router in each.inside.address]
    return named[0] if named else inside[0] if len(inside) == 1 else None


def _as_told(gateway: Gateway, survey: Survey) -> Gateway:
    """The router by its own word; by what is seen outside where it has none."""
    reported = tuple(each.address for each in survey.outside if each.means in OF_ROUTERS and each.address.family == 4)
    found = _at_seen_address(gateway, reported[:1] or outside_of(survey))
    return replace(found, forwards=forwards_of(survey.mappings)) if survey.mappings else found


def _at_seen_address(gateway: Gateway, seen: tuple[Address, ...]) -> Gateway:
    """The gateway at an outside address that was seen; as it is where it has one of them."""
    own = gateway.outside.address.each
    if not seen or set(own) & set(seen) or not gateway.outside.address:
        return gateway
    others = tuple(each for each in own if each.family != seen[0].family)
    return replace(gateway, outside=replace(gateway.outside, address=Addresses((seen[0], *others))))


def _server(server: Server, survey: Survey) -> Server:
    way = survey.way_out(4)
    held = {each.address for each in survey.host.addresses}
    if survey.learnt("addresses") and held and not held & set(server.address.each) and way and way.source:
        others = tuple(each for each in server.address.each if each.family != 4)
        server = replace(server, address=Addresses((way.source, *others)))
    ports = survey.host.local_ports
    if ports is not None and server.own_ports not in (ports.ports, ports.free):
        server = replace(server, local_ports=ports.free)
    if survey.host.filter is not None and not survey.host.filter.active:
        server = replace(server, filter=HostFilter(OPEN, server.filter.outgoing))
    return server


NEVER_OF: dict[str, tuple[str, ...]] = {
    "ftp": ("sshd", "nginx", "apache2", "httpd", "caddy", "haproxy", "smbd", "named", "dnsmasq"),
    "sftp": ("nginx", "apache2", "httpd", "caddy", "haproxy", "smbd", "named", "dnsmasq"),
}
"""Programs that do not speak a protocol (public interface: the names that they run under)."""


def survey_findings(site: Site, survey: Survey, client_name: str = "") -> tuple[Finding, ...]:
    """Where the survey of the server, or of the client that is named, parts from the site."""
    client = next((i for i, each in enumerate(site.clients) if each.name == client_name), None)
    if client is not None:
        of_client = site.clients[client]
        return tuple(_host_findings(site, of_client, ("clients", client), survey))
    return (*_of_server(site, survey), *_host_findings(site, site.server, ("server",), survey))


def _of_server(site: Site, survey: Survey) -> Iterator[Finding]:
    for i, service in enumerate(site.services):
        if survey.learnt("listeners"):
            yield from _control_port_findings(site, service, ("services", i, "control_port"), survey)
            yield from _taken(service, ("services", i), survey)
        yield from _starting(service, ("services", i, "control_port"), survey)
    yield from _local_ports(site.server, survey)
    yield from _filter_findings(site.server, survey)
    protocols = {each.name: each.protocol for each in site.services}
    for seen in survey.host.accounts:
        for i, account in enumerate(site.accounts):
            if account.name == seen.name and account in system_accounts(site):
                yield from _account_findings(account, ("accounts", i), seen, protocols[account.service] == "sftp")


def _host_findings(site: Site, host: Server | Client, place: SitePath, survey: Survey) -> Iterator[Finding]:
    yield from _lease(host, place, survey)
    yield from _route_findings(site, host, place, survey)


def _finding(kind: FindingKind, severity: Severity, place: SitePath, message: str, advice: str) -> Finding:
    return Finding(kind, severity, message, advice, place)


def _listeners_on(survey: Survey, port: int) -> list[ListeningSocket]:
    return [each for each in survey.host.listeners if (each.protocol, each.port) == ("tcp", port)]


def _control_port_findings(site: Site, service: Service, place: SitePath, survey: Survey) -> Iterator[Finding]:
    """Whether somebody waits on the control port, at the server's address."""
    port, own = service.control_port.number, site.server.address
    found = _listeners_on(survey, port)
    if any(each.address is None or each.address in own for each in found):
        return
    if found:
        at = listed(sorted({str(each.address) for each in found}))
        message = f"{_program_name(found[0])} listens on port {port} of {at} only, not of {own}"
        yield _finding("listens-elsewhere", "breaks", place, message, f"let it listen on {own}, or on every address")
        return
    like = [each for each in survey.host.listeners if each.protocol == "tcp" and _speaks(service, each.program)]
    others = listed(dict.fromkeys(f"{each.program} on port {each.port}" for each in like))
    also = f"; there is {others}" if others else ""
    advice = f"start {service.name}, or say in the file on which port it waits"
    yield _finding(
        "listens-elsewhere", "breaks", place, f"nothing listens on port {port} of {site.server.name}{also}", advice
    )


def _speaks(service: Service, program: str) -> bool:
    """Whether the name of a program shows that it speaks the service's protocol."""
    return {"ftp": "ftp" in program, "sftp": "ssh" in program}.get(service.protocol, False)


def _program_name(listener: ListeningSocket) -> str:
    return listener.program or "a program"


def _taken(service: Service, place: SitePath, survey: Survey) -> Iterator[Finding]:
    """Ports of the service on which another program waits."""
    control = _listeners_on(survey, service.control_port.number)
    for each in control:
        if each.program in NEVER_OF.get(service.protocol, ()):
            message = f"{each.program} listens on port {each.port}, the control port of {service.name}"
            advice = f"let {each.program} wait elsewhere, or give {service.name} another port"
            yield _finding("port-taken-by-another", "breaks", (*place, "control_port"), message, advice)
    ports = service.passive.ports if service.passive else PortSet()
    if ports == UNPRIVILEGED:  # the system takes free ones
        return
    own = {each.program for each in control}
    if "" in own:  # it may be the service's own program that waits for data
        return
    others: dict[str, list[int]] = {}
    for each in survey.host.listeners:
        if each.protocol == "tcp" and each.port in ports and each.program and each.program not in own:
            others.setdefault(each.program, []).append(each.port)
    for program, numbers in others.items():
        named = ports_named(PortSet.of(*((number, number) for number in numbers)))
        message = f"{program} listens on {named}, in the passive range of {service.name}"
        advice = f"let it listen elsewhere, or move the range of {the('service', service.name)} past it"
        yield _finding("port-taken-by-another", "risks", (*place, "passive", "ports"), message, advice)


def _starting(service: Service, place: SitePath, survey: Survey) -> Iterator[Finding]:
    for each in _listeners_on(survey, service.control_port.number):
        if each.starts is False:
            message = f"{service.name} runs ({each.unit}), and does not start with the system"
            yield _finding("starts-not-by-itself", "risks", place, message, f"systemctl enable {each.unit}")
            return


def _account_findings(account: Account, place: SitePath, seen: SurveyedAccount, by_ssh: bool) -> Iterator[Finding]:
    """An SSH server confines nobody to a folder that is another's than root's, or that others may write into. A folder
    of others stays as it is, and of root nothing is proposed: another account is the cure there."""
    name = account.name
    if name == "root":
        return
    if not seen.known:
        advice = "make it (the server's page has the commands), or say in the file who keeps it: kept_by"
        yield _finding(
            "account-differs", "breaks", (*place, "name"), f"the server's system knows no account {name}", advice
        )
        return
    if account.shell is not None and seen.has_shell is not None and account.shell != seen.has_shell:
        has = f"the shell {seen.shell}, and none" if seen.has_shell else f"no shell ({seen.shell}), and one"
        advice = "usermod --shell sets it on Linux (/usr/sbin/nologin for none), or say in the file how it is: shell"
        yield _finding("account-differs", "risks", (*place, "shell"), f"{name} has {has} in the file", advice)
    if account.home is not None and seen.home and account.home.rstrip("/") != seen.home.rstrip("/"):
        message = f"the home of {name} is {seen.home}, and {account.home} in the file"
        advice = f"on Linux usermod --home {quote(account.home)} {quote(name)}, or say in the file what it is"
        yield _finding("account-differs", "risks", (*place, "home"), message, advice)
    writes = seen.writes_top
    refused = by_ssh and writes is not None and (seen.owner != "root" or FolderMode.parse(seen.mode).lets_others_write)
    if not account.confined or writes_home(account) or not (refused or writes):
        yield from _kept_otherwise(account, place, seen)
    else:
        message = f"{seen.home}, to which {name} is confined, is {seen.owner}'s with mode {seen.mode}"
        what = "an SSH server refuses such a login" if refused else "some servers refuse such a login"
        home = quote(seen.home)
        own = f'chown root:"$(id -gn {quote(name)})" {home} && chmod 750 {home}'
        change = own if seen.owner == name else "give it a home of its own that is root's, with mode 755"
        advice = f"{change}, and give it a folder below to write in: {what}"
        yield _finding("account-differs", "breaks" if refused else "risks", (*place, "home"), message, advice)


def _kept_otherwise(account: Account, place: SitePath, seen: SurveyedAccount) -> Iterator[Finding]:
    """Where the folder that the file names is another's, or has another mode, than the file states."""
    if not seen.mode or account.home is None or account.home.rstrip("/") != seen.home.rstrip("/"):
        return
    home = quote(seen.home)
    if account.home_owner not in (None, seen.owner):
        message = f"{seen.home} is {seen.owner}'s, and {account.home_owner}'s in the file"
        advice = f"chown {quote(account.home_owner or '')} {home}, or say in the file whose it is: home_owner"
        yield _finding("account-differs", "risks", (*place, "home_owner"), message, advice)
    if account.home_mode is not None and account.home_mode != FolderMode.parse(seen.mode):
        message = f"{seen.home} has mode {seen.mode}, and {account.home_mode} in the file"
        advice = f"chmod {account.home_mode} {home}, or say in the file what it is: home_mode"
        yield _finding("account-differs", "risks", (*place, "home_mode"), message, advice)


def _local_ports(server: Server, survey: Survey) -> Iterator[Finding]:
    seen = survey.host.local_ports
    if seen is not None and server.own_ports not in (seen.ports, free := seen.free):
        place: SitePath = ("server", "local_ports") if server.local_ports is not None else ("server", "system")
        message = f"{server.name} takes ports {free} for its own connections, not {server.own_ports}"
        advice = f'say so in the file: server: local_ports: "{free}"'
        yield _finding("local-ports-differ", "risks", place, message, advice)


def _keeps_out(table: Filter) -> bool:
    return table.default != "allow" or any(each.enabled and each.action != "allow" for each in table.rules)


def _filter_findings(server: Server, survey: Survey) -> Iterator[Finding]:
    seen = survey.host.filter
    if seen is not None and not seen.active and _keeps_out(server.filter.incoming):
        message = f"the filter of {server.name} keeps nothing out: {seen.detail}"
        advice = "load its rules (sheets writes them), and let them be loaded when the system starts"
        yield _finding("filter-inactive", "risks", ("server", "filter"), message, advice)


def _lease(host: Server | Client, place: SitePath, survey: Survey) -> Iterator[Finding]:
    held = [each for each in survey.host.addresses if each.address in host.address]
    if not survey.learnt("addresses") or not survey.host.addresses or not host.address:
        return
    if not held:
        there = listed(str(each.address) for each in survey.host.addresses)
        message = f"{host.name} has {there}, and not {host.address}"
        advice = "another lease, or the survey of another host? Reserve the address, and say it in the file"
        yield _finding("lease-differs", "breaks", (*place, "address"), message, advice)
    elif isinstance(host, Server) and host.lease == "static" and any(each.lease for each in held):
        message = f"{held[0].address} of {host.name} is leased by DHCP; the site file lists it as static"
        advice = "set it fixed on the server, or reserve it and say in the file: lease: reserved"
        yield _finding("lease-differs", "risks", (*place, "address"), message, advice)


def _route_findings(site: Site, host: Server | Client, place: SitePath, survey: Survey) -> Iterator[Finding]:
    way = survey.way_out(4)
    if way is not None and way.tunnel:
        message = f"what {host.name} sends to the internet goes through the tunnel {way.interface}"
        advice = "let it go past the tunnel, or serve from where the tunnel comes out"
        yield _finding("tunnel-in-the-way", "breaks", (*place, "network"), message, advice)
        return
    found = outermost(site, host)
    if found is not None:
        yield from _outside_findings(*found, survey)


def outermost(site: Site, host: Server | Client) -> tuple[Gateway, SitePath] | None:
    """The last device that translates on the way to the internet."""
    chain = Topology(site).chain(host.network, INTERNET) or ()
    device = next((each.device for each in reversed(chain) if each.device.spec.translates(4) != "none"), None)
    return (device.spec, ("gateways", site.gateways.index(device.spec))) if device is not None else None


def _outside_findings(gateway: Gateway, place: SitePath, survey: Survey) -> Iterator[Finding]:
    own = gateway.outside_addresses.of_family(4)
    before = translated_before(survey)
    reported = [each.address for each in survey.outside]
    if before is not None and own and all(each.kind == "public" for each in own):
        which = next(each for each in reported if each.kind != "public")
        who = (
            "its carrier translates once more" if before == "carrier-translates" else "another router stands before it"
        )
        message = f"{gateway.name} has the outside address {which} itself: {who}, which the file does not have"
        advice = "put that device into the file as a gateway of its own, and check what still reaches the server"
        yield _finding("carrier-translates", "breaks", (*place, "outside"), message, advice)
        return
    seen = outside_of(survey)
    if own and seen and not set(own) & set(seen):
        by = next(each.by for each in survey.outside if each.address in seen)
        message = f"the outside address is {listed(map(str, seen))} ({by}), and the file has {listed(map(str, own))}"
        advice = f"say in the file what is true, and set what is announced and published to {seen[0]}"
        yield _finding("outside-differs", "breaks", (*place, "outside", "address"), message, advice)
