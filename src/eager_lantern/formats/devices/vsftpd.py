"""vsftpd's configuration (public interface): ``key=value`` lines without spaces, the last of a key counts, and what no
line states has the daemon's own default. Written as lines of that file."""

import re
from collections.abc import Iterator, Mapping

from ...core.changes.adopted import DeviceConfig, ParsedValue, Skipped
from ...core.model.entries import OWN, Destination, Port
from ...core.model.site import Service, Site
from ...core.values.ports import UNPRIVILEGED, PortSet
from ...wire.terminal_safe import printable
from ..damage import guarded
from ..reading import BadInput, InputProblem
from .format import DeviceFormat, for_each_service, one_by_one
from .settings import (
    ACCOUNTS_DECIDE,
    ANONYMOUS,
    CONFINED,
    MOST_LINES,
    accounts_of,
    announced_text,
    fragment,
    inside_remark,
    is_path,
    names_of,
    range_ends,
    unconfined_remark,
)

ENDING = "vsftpd.conf"
_SWITCHES = {
    "anonymous_enable": True, "chroot_list_enable": False, "chroot_local_user": False, "connect_from_port_20": False,
    "force_local_data_ssl": True, "force_local_logins_ssl": True, "implicit_ssl": False, "pasv_enable": True,
    "pasv_promiscuous": False, "port_promiscuous": False, "require_ssl_reuse": True, "ssl_enable": False,
    "userlist_deny": True, "userlist_enable": False,
}  # fmt: skip
"""Switches that are read, with their defaults (vsftpd.conf(5))."""
_NUMBERS = {
    "ftp_data_port": 20,
    "listen_port": 21,
    "max_clients": 0,
    "max_per_ip": 0,
    "pasv_max_port": 0,
    "pasv_min_port": 0,
}
_LIST = "/etc/vsftpd.user_list"
_TRUE, _FALSE = ("yes", "true", "1"), ("no", "false", "0")
_KNOWN = {
    *_SWITCHES,
    "listen",
    "listen_ipv6",
    "local_enable",
    "pasv_min_port",
    "pasv_max_port",
    "listen_port",
    "pam_service_name",
}
_LINE = re.compile(r"\s*([a-z0-9_]+)=(.*)$")


def _is_vsftpd(file: str, text: str) -> bool:
    keys = {found[1] for line in text.splitlines()[:MOST_LINES] if (found := _LINE.match(line))}
    return len(keys & _KNOWN) > 1 or (file.rpartition("/")[2].endswith(ENDING) and bool(keys & _KNOWN))


@guarded
def read_vsftpd(file: str, text: str) -> DeviceConfig:
    """All settings, those by default as well. Raises BadInput with every line that the daemon would not start with."""
    lines: dict[str, int] = {}
    values: dict[str, str] = {}
    problems: list[InputProblem] = []
    for number, line in enumerate(text.splitlines()[:MOST_LINES], 1):
        if not line.strip() or line.startswith("#"):
            continue
        found = _LINE.fullmatch(line.rstrip("\r"))
        if found is None or found[2].startswith(" "):
            problems.append(InputProblem(number, f"found “{line.strip()[:60]}”; expected key=value without spaces"))
            continue
        key, value = found[1], found[2].strip()
        if key in _SWITCHES and value.lower() not in (*_TRUE, *_FALSE):
            problems.append(InputProblem(number, f"{key}: found “{value[:40]}”; expected YES or NO"))
        elif key in _NUMBERS and not re.fullmatch(r"[0-9]{1,6}", value):
            problems.append(InputProblem(number, f"{key}: found “{value[:40]}”; expected a number"))
        lines[key], values[key] = number, value
    if problems:
        raise BadInput(file, *problems)
    settings = _Settings(values, lines)
    try:
        return DeviceConfig(file, "settings", tuple(settings.read()), tuple(settings.skipped()), protocol="ftp")
    except ValueError as error:
        raise BadInput(file, InputProblem(lines.get("pasv_max_port", 0), str(error))) from None


class _Settings:
    """What the lines state together, by the names of the site file."""

    def __init__(self, values: Mapping[str, str], lines: Mapping[str, int]) -> None:
        self.values, self.lines = values, lines

    def on(self, key: str) -> bool:
        return self.values[key].lower() in _TRUE if key in self.values else _SWITCHES[key]

    def number(self, key: str) -> int:
        return int(self.values.get(key, _NUMBERS[key]))

    def read(self) -> Iterator[ParsedValue]:
        def found(key: str, *place: str, value: object) -> ParsedValue:
            return ParsedValue(place, value, self.lines.get(key, 0))

        yield found("listen_port", "control_port", value=Port.parse(str(self.number("listen_port"))))
        if not self.on("pasv_enable"):
            yield found("pasv_enable", "passive", value=None)
        else:
            low, high = self.number("pasv_min_port"), self.number("pasv_max_port")
            ports = PortSet.parse(f"{low or UNPRIVILEGED.lowest}-{high or UNPRIVILEGED.highest}")
            yield found("pasv_min_port", "passive", "ports", value=ports)
            address = self.values.get("pasv_address")
            yield found("pasv_address", "passive", "announce", value=Destination.parse(address) if address else OWN)
            yield found("pasv_promiscuous", "peer_must_match", value=not self.on("pasv_promiscuous"))
        yield found("port_promiscuous", "active", "accepts_other_address", value=self.on("port_promiscuous"))
        if self.on("connect_from_port_20"):
            port = Port.parse(str(self.number("ftp_data_port")))
            yield found("connect_from_port_20", "active", "from_port", value=port)
        if self.on("ssl_enable"):
            mode = "implicit" if self.on("implicit_ssl") else "explicit"
            yield found("ssl_enable", "tls", "mode", value=mode)
            yield found("force_local_logins_ssl", "tls", "required", value=self.on("force_local_logins_ssl"))
            yield found("force_local_data_ssl", "tls", "protects_data", value=self.on("force_local_data_ssl"))
            yield found("require_ssl_reuse", "tls", "reuse_required", value=self.on("require_ssl_reuse"))
        else:
            yield found("ssl_enable", "tls", "mode", value="none")
        if {"EPSV", "EPRT"} & set(re.split(r"[,\s]+", self.values.get("cmds_denied", "").upper())):
            yield found("cmds_denied", "speaks_epsv", value=False)
        if not self.on("chroot_list_enable"):
            yield found("chroot_local_user", *CONFINED, value=self.on("chroot_local_user"))

    def skipped(self) -> Iterator[Skipped]:
        def line(key: str) -> str:
            return f"{key}={self.values[key]}" if key in self.values else f"{key}, by default"

        if self.on("anonymous_enable"):
            yield Skipped(self.lines.get("anonymous_enable", 0), line("anonymous_enable"), ANONYMOUS)
        for key in ("chroot_list_enable", "userlist_enable"):
            if self.on(key):
                yield Skipped(self.lines[key], line(key), ACCOUNTS_DECIDE)
        for key in ("max_clients", "max_per_ip"):
            if self.number(key):
                yield Skipped(
                    self.lines[key], line(key), "limits how many may be there at once: compare it with the load"
                )
        if "listen_address" in self.values:
            why = "it listens on this address alone: compare it with the server's addresses"
            yield Skipped(self.lines["listen_address"], line("listen_address"), why)


def vsftpd_fragment(site: Site, service: Service) -> str:
    """The service as lines of its file; empty for SSH."""
    return fragment(site, service, _lines(site, service)) if service.protocol == "ftp" else ""


def _lines(site: Site, service: Service) -> Iterator[str]:
    yield f"listen_port={service.control_port}"
    if ports := range_ends(service):
        yield from (f"pasv_min_port={ports[0]}", f"pasv_max_port={ports[1]}")
    if service.passive is None:
        yield "pasv_enable=NO"
    if address := announced_text(service):
        yield f"pasv_address={address}"
        if not re.fullmatch(r"[0-9.]+", address):
            yield "pasv_addr_resolve=YES"
        yield from inside_remark(service)
    if not service.peer_must_match:
        yield "pasv_promiscuous=YES"
    if service.active and service.active.accepts_other_address:
        yield "port_promiscuous=YES"
    if service.active and service.active.from_port is not None:
        yield from ("connect_from_port_20=YES", f"ftp_data_port={service.active.from_port}")
    if not service.speaks_epsv:
        yield "cmds_denied=EPSV,EPRT"
    yield from _tls_lines(service)
    accounts = accounts_of(site, service)
    if accounts:
        yield from ("anonymous_enable=NO", "local_enable=YES")
        yield f"chroot_local_user={'YES' if any(each.confined for each in accounts) else 'NO'}"
        yield from unconfined_remark(accounts) if any(each.confined for each in accounts) else ()
        if any(each.confined for each in accounts):
            yield "# Whoever is confined must not be able to write into the top of that folder: give a folder below it."
        yield f"# Accounts are the system's own: {names_of(accounts)}."
    yield from _login_lines(service)


def _login_lines(service: Service) -> Iterator[str]:
    """Its list of who may log in, or may not; it is one or the other, so that of both those are listed who may."""
    listed = [each for each in service.allows if each not in service.bars] if service.allows else service.bars
    if not service.allows and not service.bars:
        return
    yield f"# Before a restart make {_LIST}, with a line each: {', '.join(printable(each, 80) for each in listed)}."
    yield from ("userlist_enable=YES", f"userlist_deny={'NO' if service.allows else 'YES'}", f"userlist_file={_LIST}")


def _tls_lines(service: Service) -> Iterator[str]:
    tls = service.tls
    yield f"ssl_enable={'NO' if tls.mode == 'none' else 'YES'}"
    if tls.mode == "none":
        return
    if tls.mode == "implicit":
        yield "implicit_ssl=YES"
    yield f"force_local_logins_ssl={'YES' if tls.required else 'NO'}"
    yield f"force_local_data_ssl={'YES' if tls.protects_data else 'NO'}"
    yield f"require_ssl_reuse={'YES' if tls.reuse_required else 'NO'}"
    for key, path in (("rsa_cert_file", tls.certificate), ("rsa_private_key_file", tls.key)):
        yield from ([f"{key}={path}"] if path and is_path(path) else [])


FORMAT = DeviceFormat(
    "vsftpd", "the configuration of vsftpd", "/etc/vsftpd.conf",
    recognises=_is_vsftpd, reads=one_by_one(read_vsftpd),
    writes=for_each_service(ENDING, vsftpd_fragment), endings=(ENDING,),
    omits="accounts and their rights; files of single users",
)  # fmt: skip
