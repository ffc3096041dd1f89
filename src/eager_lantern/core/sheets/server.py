"""The page of the server: its address, services, accounts and filter, and the tests from all sides."""

import re
from collections.abc import Callable, Iterator
from shlex import quote

from msgspec import Struct

from ..model.entries import FolderMode
from ..model.site import (
    Account,
    Server,
    Service,
    Site,
    effective_rights,
    rights_in,
    rights_in_order,
    system_accounts,
    writes_home,
)
from ..network.topology import listens_on
from .sheet import Grid, Sheet, SheetPart, filter_part, loading_commands, loading_steps, untold_parts

_STAYS = {
    "static": "entered on the host itself",
    "reserved": "reserved for it on the device that gives out addresses",
    "dynamic": "not fixed: reserve it first, every forward and rule below names it",
}
_TLS = {
    "none": "none",
    "explicit": "explicit (AUTH TLS on the control port)",
    "implicit": "implicit (from the first byte)",
}


def server_sheet(site: Site, rule_file: str | None, shut_out: frozenset[tuple[str, str]]) -> Sheet:
    """The page; ``rule_file`` is the name of the file that a Linux server can load, ``shut_out`` are the clients
    and services of ways in that have to stay open and do not."""
    server = site.server
    parts = [
        _address_sheet_part(server),
        *(_service(each) for each in site.services if each.protocol != "other"),
        *(part for each in site.services for part in _host_keys(site, each)),
        *_account_parts(site),
        *_folders(site),
        *_filters(site),
        _way_in_part(site, shut_out),
        _restart(site, rule_file),
        _server_proof_part(site, rule_file),
    ]
    about = f"The server on {server.network}, {server.address}: service, accounts, its own filter."
    return Sheet(server.name, "server", about, tuple(parts))


def _address_sheet_part(server: Server) -> SheetPart:
    rows = [("address", str(server.address)), ("network", server.network), ("stays because", _STAYS[server.lease])]
    rows.append(("ports for its own connections", f"{server.own_ports}, as the data range must stay clear of them"))
    if server.gateway:
        rows.append(("default gateway", server.gateway))
    rows += [(f"route to {each.to}", f"through {each.via}") for each in server.routes]
    if server.ftp_helper:
        rows.append(("FTP helper of its filter", f"on, reads port {server.helper_ports}; blind under TLS"))
    if server.category:
        rows.append(("category of its network", server.category))
    return SheetPart("Its address", grid=Grid(("setting", "value"), tuple(rows)))


def _service(service: Service) -> SheetPart:
    return SheetPart(f"Service {service.name}", grid=Grid(("setting", "value"), tuple(_service_settings(service))))


def _service_settings(service: Service) -> Iterator[tuple[str, str]]:
    yield "protocol", "FTP" if service.protocol == "ftp" else "SFTP (over SSH)"
    yield "control port" if service.protocol == "ftp" else "port", str(service.control_port)
    if service.protocol != "ftp":
        if service.host_key:
            yield "host key", service.host_key
        return
    yield from _protection(service)
    if service.passive:
        ports, passive = service.passive.ports, service.passive
        yield "passive data ports, first", str(ports.lowest)
        yield "passive data ports, last", f"{ports.highest} ({len(ports)} ports in all)"
        if len(ports.spans) > 1:
            yield "passive data ports, all", str(ports)
        if passive.protocols != ("tcp",):
            yield "transports for data", ", ".join(passive.protocols)
        yield "announced to outside clients", _announce_setting(str(passive.announce))
        if passive.announce_inside is not None:
            yield "announced to inside clients", _announce_setting(str(passive.announce_inside))
    yield "EPSV and EPRT", "on: over IPv6 there is no data without them" if service.speaks_epsv else "off"
    yield "data from another address than control", "refused" if service.peer_must_match else "accepted"
    if service.active is not None:
        yield "active mode comes from port", str(service.active.from_port or "any")
        other = "yes" if service.active.accepts_other_address else "no"
        yield "active mode to another address than the client's", other
        if service.active.repairs_private:
            yield "active mode to a private address", "goes to the address that the client is seen at"


def _announce_setting(text: str) -> str:
    return "the server's own address (leave the setting empty)" if text == "own" else text


def _protection(service: Service) -> Iterator[tuple[str, str]]:
    tls = service.tls
    yield "TLS", _TLS[tls.mode]
    if tls.mode == "none":
        return
    yield "login without TLS", "refused" if tls.required else "allowed"
    yield "data under TLS", "required" if tls.required and tls.protects_data else "on request"
    yield "data must resume the TLS session", "yes" if tls.reuse_required else "no"
    yield "certificate for", ", ".join(tls.names) or "the names and addresses that clients type"
    if tls.certificate:
        yield "certificate file", tls.certificate
    if tls.key:
        yield "private key file", f"{tls.key}, readable by the service alone"


def _account_parts(site: Site) -> Iterator[SheetPart]:
    if not site.accounts:
        return
    rows = tuple(_account_row(site, each) for each in site.accounts)
    heads = ("account", "service", "logs in by", "folder", "may", "may not", "sees", "used by")
    lines = ["One password or key each, given to its users by another way. No right to log in to the system itself."]
    for service in site.services:
        if service.allows:
            lines.append(f"{service.name}: only {', '.join(service.allows)} may log in (its list of allowed users).")
        if service.bars:
            lines.append(f"{service.name}: never {', '.join(service.bars)} (its list of denied users).")
    yield SheetPart("Accounts", tuple(lines), Grid(heads, rows))
    yield from _setting_up(site)


def _setting_up(site: Site) -> Iterator[SheetPart]:
    """The commands for accounts of the system itself with their groups, for the folders of those that a directory
    keeps, and the commands that take them back; a server's own accounts are made in its own settings."""
    mine = system_accounts(site)
    if not mine or site.server.system == "other":
        return
    system = _WINDOWS if site.server.system == "windows" else _LINUX
    made = [each for each in mine if each.kept_by != "directory"]
    kept_elsewhere = [each.name for each in mine if each.kept_by == "directory"]
    steps = [
        "Make each account, then its folder. A confined account gets a folder below the top one to write in: the top "
        "stays with the administrator.",
        "Test each as its user, not as the administrator: eager-lantern visit --rights tries what it may do.",
    ]
    if kept_elsewhere:
        steps.insert(0, f"{', '.join(kept_elsewhere)}: made in the directory, not here; see that this host knows them.")
    groups = list(dict.fromkeys(group for each in made for group in each.groups))
    commands = [
        *map(system.makes_group, groups),
        *(command for each in made for command in system.makes(each)),
        *map(system.knows, kept_elsewhere),
        *(command for each in mine for command in system.gives_folder(each, _writes(site, each))),
    ]
    yield SheetPart("Set the accounts up", steps=tuple(steps), commands=tuple(commands))
    if made:
        undone = (*(system.removes(each.name) for each in made), *map(system.removes_group, groups))
        stays = ("Only what was made here: an account or group that was there before stays.",)
        yield SheetPart("Take an account back", stays, commands=undone)


def _writes(site: Site, account: Account) -> bool:
    return bool({"write", "append"} & (effective_rights(site, account) or frozenset()))


class _System(Struct, frozen=True):
    """The commands of a system for its accounts, by their names, and for an account's folder, by whether it writes."""

    makes: Callable[[Account], Iterator[str]]
    removes: Callable[[str], str]
    makes_group: Callable[[str], str]
    removes_group: Callable[[str], str]
    knows: Callable[[str], str]
    gives_folder: Callable[[Account, bool], Iterator[str]]


def _made_on_linux(account: Account) -> Iterator[str]:
    name, home = quote(account.name), quote(account.home or f"/srv/{account.name}")
    shell = "" if account.shell else " --shell /usr/sbin/nologin"
    groups = f" --groups {quote(','.join(account.groups))}" if account.groups else ""
    yield f"useradd --home-dir {home} --no-create-home{shell}{groups} -- {name}"
    if account.login != "key":
        yield f"passwd -- {name}"


def _folder_on_linux(account: Account, writes: bool) -> Iterator[str]:
    name, home = quote(account.name), quote(account.home or f"/srv/{account.name}")
    owner = account.home_owner or ("root" if account.confined else account.name)
    mode = account.home_mode or FolderMode(0o755 if account.confined else 0o750)
    group = "" if owner == account.name else " -g root" if mode.lets_others_in else f' -g "$(id -gn -- {name})"'
    yield f"install -d -o {quote(owner)}{group} -m {mode} -- {home}"
    if writes and account.confined and not writes_home(account):
        yield f"install -d -o {name} -m 750 -- {home}/in"


def _made_on_windows(account: Account) -> Iterator[str]:
    name = _powershell(account.name)
    yield f"New-LocalUser -Name {name} -Password (Read-Host -AsSecureString)"
    yield from (f"Add-LocalGroupMember -Group {_powershell(each)} -Member {name}" for each in account.groups)


def _folder_on_windows(account: Account, writes: bool) -> Iterator[str]:
    name, home = _powershell(account.name), _powershell(account.home or f"C:\\Transfers\\{account.name}")
    yield f"New-Item -ItemType Directory -Force -Path {home}"
    yield f"icacls {home} /grant ({name} + ':(OI)(CI){'M' if writes else 'RX'}')"


def _powershell(text: str) -> str:
    """A text as PowerShell reads it, which takes each of these characters for a quote."""
    return "'" + re.sub("[\u0027\u2018\u2019\u201a\u201b]", lambda found: found[0] * 2, text) + "'"


_LINUX = _System(
    makes=_made_on_linux,
    removes=lambda name: f"userdel -- {quote(name)}",
    makes_group=lambda name: f"groupadd -- {quote(name)}",
    removes_group=lambda name: f"groupdel -- {quote(name)}",
    knows=lambda name: f"id -- {quote(name)}",
    gives_folder=_folder_on_linux,
)
_WINDOWS = _System(
    makes=_made_on_windows,
    removes=lambda name: f"Remove-LocalUser -Name {_powershell(name)}",
    makes_group=lambda name: f"New-LocalGroup -Name {_powershell(name)}",
    removes_group=lambda name: f"Remove-LocalGroup -Name {_powershell(name)}",
    knows=lambda name: f"net user {_powershell(name)} /domain",
    gives_folder=_folder_on_windows,
)


def _host_keys(site: Site, service: Service) -> Iterator[SheetPart]:
    """The host keys of an SSH service: made once, looked at, and their fingerprint for the cards."""
    if service.protocol != "sftp" or site.server.system == "other":
        return
    steps = (
        "They are made at the installation; the first command makes those that are missing.",
        "Good: ED25519, and RSA of 3072 bits or more. Not any more: DSA, and RSA below 2048: take such files away.",
        "Write the fingerprint (SHA256:…) into host_key of the site file: every card then shows it.",
    )
    commands = ("ssh-keygen -A", "for key in /etc/ssh/ssh_host_*_key.pub; do ssh-keygen -lf $key; done")
    if site.server.system == "windows":
        keys = "$env:ProgramData\\ssh\\ssh_host_*_key.pub"
        commands = ("ssh-keygen -A", f'Get-ChildItem "{keys}" | ForEach-Object {{ ssh-keygen -lf $_ }}')
    yield SheetPart(f"Host keys of {service.name}", steps=steps, commands=commands)


_SEES = {
    None: "only its folder",
    False: "only its folder, whose top it may not write",
    True: "only its folder, whose top it may write",
}
"""Of a confined account, by whether it may write into the top of its folder."""
_LOGS_IN = {"password": "password", "key": "key", "both": "key and password"}
_KEPT_BY = {"service": "", "system": " (of the system)", "directory": " (of the directory)"}


def _folders(site: Site) -> Iterator[SheetPart]:
    rows = tuple(
        (account.name, each.shown_as, each.at or f"{(account.home or '').rstrip('/')}{each.shown_as}",
         rights_in_order(rights_in(site, account, each) or frozenset()) or "nothing")
        for account in site.accounts
        for each in account.folders
    )  # fmt: skip
    if rows:
        lines = ("Each under the name that its users see, also where it lies elsewhere.",)
        yield SheetPart("Folders beside the home", lines, Grid(("account", "seen as", "folder", "may"), rows))


def _account_row(site: Site, account: Account) -> tuple[str, ...]:
    may = effective_rights(site, account) or frozenset()
    groups = [each for each in site.groups if each.name in account.groups]
    denied = dict.fromkeys([*account.denies, *(right for each in groups for right in each.denies)])
    return (
        f"{account.name}{_KEPT_BY[account.kept_by]}",
        account.service,
        _LOGS_IN[account.login] + (", without a shell" if account.shell is False else ""),
        (account.home or "the system's default") + _kept(account),
        rights_in_order(may) or "nothing",
        ", ".join(each for each in denied if each not in may) or "anything else",
        _SEES[writes_home(account)] if account.confined else "the whole server",
        ", ".join(account.clients) or "anybody with the password",
    )


def _kept(account: Account) -> str:
    """Whose its folder is and with what mode, where the site states it."""
    owner = f"{account.home_owner}'s" if account.home_owner is not None else ""
    mode = f"mode {account.home_mode}" if account.home_mode is not None else ""
    stated = ", ".join(filter(None, (owner, mode)))
    return f" ({stated})" if stated else ""


def _filters(site: Site) -> Iterator[SheetPart]:
    server = site.server
    yield filter_part("Its own filter: what comes in", server.filter.incoming, server.category, site.services)
    outgoing = server.filter.outgoing
    if outgoing.rules or outgoing.default != "allow":
        yield filter_part("Its own filter: what goes out", outgoing, server.category, site.services)


def _way_in_part(site: Site, shut_out: frozenset[tuple[str, str]]) -> SheetPart:
    """The administrator's own way in, which nothing on this page may close."""
    ways = [each for each in site.services if each.protocol == "other" or each.keep_open_for]
    lines = [f"{each.name}, port {listens_on(each)}{_for(each)}: {_kept_open(each, shut_out)}" for each in ways]
    if not ways:
        lines = [
            "The site file names no service by which the server is administered (protocol: other, keep_open_for).",
            "Before you switch a filter to deny, make sure of your own way in, or stand at the machine.",
        ]
    lines += [f"Not known: {part}. Look at it before you enter anything here." for part in untold_parts(site.server)]
    return SheetPart(
        "Leave alone", (*lines, "Never switch the filter off to test: the page “Tests” shows which rule is missing.")
    )


def _kept_open(service: Service, shut_out: frozenset[tuple[str, str]]) -> str:
    lost = [name for name, other in sorted(shut_out) if other == service.name]
    if not lost:
        return "stays as it is."
    return f"this page shuts {', '.join(lost)} out of it. Mend the site file first (eager-lantern check)."


def _for(service: Service) -> str:
    return f", the way in of {', '.join(service.keep_open_for)}" if service.keep_open_for else ""


def _restart(site: Site, rule_file: str | None) -> SheetPart:
    ranges = any(each.passive for each in site.services)
    why = ": the port range is read only at the start" if ranges else ""
    steps = [f"Restart each service after its settings are saved{why}."]
    if rule_file is None:
        steps.append("Switch the filter on once all its rules are entered; nothing has to be restarted for it.")
        return SheetPart("Restart", steps=tuple(steps))
    steps += loading_steps(rule_file, "the server")
    helper = ("modprobe nf_conntrack_ftp",) if site.server.ftp_helper else ()
    commands = (*helper, *loading_commands(rule_file))
    return SheetPart("Restart", steps=tuple(steps), commands=commands)


def _server_proof_part(site: Site, rule_file: str | None) -> SheetPart:
    steps = [f"{each.name} listens on port {each.control_port}." for each in site.services if each.protocol != "other"]
    steps.append("Close each settings page, open it again, and compare it with this one, digit by digit.")
    if site.server.system != "linux":
        return SheetPart("See that it took", steps=tuple(steps))
    commands = [
        *(f"ss -ltn 'sport = :{each.control_port}'" for each in site.services if each.protocol != "other"),
        "sysctl net.ipv4.ip_local_port_range",
    ]
    if rule_file:
        commands.append("nft list table inet eager_lantern")
    return SheetPart("See that it took", steps=tuple(steps), commands=tuple(commands))
