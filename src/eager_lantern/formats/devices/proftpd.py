"""ProFTPD's configuration (public interface), read from ``proftpd.conf`` and written as a fragment of it, which
``proftpd -t`` accepts."""

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Literal, NamedTuple

from msgspec.structs import replace

from ...core.changes.adopted import DeviceConfig, Key, ParsedValue, Skipped
from ...core.model.entries import Destination, Port
from ...core.model.site import Account, Service, Site
from ...wire.terminal_safe import printable
from ..damage import guarded
from .format import DeviceFormat, DeviceTarget, for_each_service
from .settings import (
    ACCOUNTS_DECIDE,
    ANONYMOUS,
    CONFINED,
    Found,
    Line,
    accounts_of,
    announced_text,
    fragment,
    inside_remark,
    is_path,
    is_switched_on,
    is_word,
    let_in,
    not_included,
    not_read,
    range_ends,
    range_of,
    read_lines,
    spliced,
    unconfined_remark,
    words_of,
)

ENDING = "proftpd.conf"
_WORDS = {"servertype", "defaultserver", "passiveports", "tlsengine", "masqueradeaddress", "loadmodule"}
_TLS_OPTIONS = ("tls", "options")


def _is_proftpd(file: str, text: str) -> bool:
    """What has a directive of its own, or a section alone, as included files do."""
    sections = re.search(
        r"^\s*<(Limit|Global|VirtualHost|Anonymous|IfModule|Directory)\b[^>]*>\s*$", text, re.MULTILINE
    )
    return bool(words_of(text) & _WORDS or sections) and not text.lstrip().startswith("{")


def _read(texts: Mapping[str, str], target: DeviceTarget) -> list[DeviceConfig]:
    """Files that another one includes are read where it does so."""
    wanted = frozenset((each.protocol, each.control_port.number) for each in target.services)
    return [read_proftpd(file, texts[file], texts, wanted) for file in not_included(texts)]


class _Server(NamedTuple):
    """The main server, or one of a VirtualHost: the number of the line at which it begins, how that calls it, and the
    lines that are about the server itself."""

    line: int
    title: str
    lines: list[Line]

    @property
    def protocol(self) -> Literal["ftp", "sftp"]:
        """What it speaks."""
        engine = [rest for _, word, rest in self.lines if word == "sftpengine" and rest]
        return "sftp" if engine and engine[-1][0].lower() in ("on", "yes", "true", "1") else "ftp"

    @property
    def port(self) -> int:
        """Where it listens."""
        ports = [rest[0] for _, word, rest in self.lines if word == "port" and rest and rest[0].isdecimal()]
        return int(ports[-1][:6]) if ports else 21


@guarded
def read_proftpd(
    file: str,
    text: str,
    texts: Mapping[str, str] | None = None,
    wanted: frozenset[tuple[str, int]] = frozenset(),
) -> DeviceConfig:
    """The settings of one server, which count before those for all servers, wherever these stand: of the first that
    speaks what is ``wanted`` at its port, else of the main server. ``texts`` are files that it may include. Raises
    BadInput with every value that cannot be read."""
    others = {name: each for name, each in (texts or {}).items() if name != file}
    general, servers = _servers(spliced(text, others))
    chosen = next((each for each in servers if (each.protocol, each.port) in wanted), servers[0])
    found = read_lines(file, chosen.protocol, [*general, *chosen.lines], _values, _with_tls_options)
    left = tuple(
        Skipped(each.line, f"{each.title}, port {each.port}", "is another server: make it a service of its own")
        for each in servers
        if each is not chosen and (each.lines or each is not servers[0])
    )
    return replace(found, skipped=(*found.skipped, *left))


def _servers(lines: Iterator[Line]) -> tuple[list[Line], list[_Server]]:
    """The lines for all servers, and each server with the lines that are about it, not about a part of it; a limit of
    commands with what it states."""
    inside: list[str] = []
    limited: list[str] = []
    general, servers = list[Line](), [_Server(1, "the main server", [])]
    for number, word, rest in lines:
        mine = general if "global" in inside else servers[-1].lines if "virtualhost" in inside else servers[0].lines
        if word.startswith("</"):
            inside = inside[:-1]
        elif word.startswith("<"):
            inside.append(word.strip("<>"))
            limited = [each.strip(">").lower() for each in rest]
            if inside[-1] == "virtualhost":
                servers.append(_Server(number, f"VirtualHost {' '.join(rest).strip('>')}", []))
        elif inside and inside[-1] == "limit":
            mine.append((number, "limit", [word, *rest, " ".join(limited)]))
        elif inside and inside[-1] not in ("global", "virtualhost", "ifmodule", "ifdefine"):
            mine.append((number, f"<{inside[-1]}>", [word, *rest]))
        else:
            mine.append((number, word, rest))
    return general, servers


def _values(number: int, word: str, rest: list[str]) -> Found:
    def found(*key: str, value: object) -> ParsedValue:
        return ParsedValue(key, value, number)

    match word:
        case "port":
            yield found("control_port", value=Port.parse(rest[0]))
        case "passiveports":
            yield found("passive", "ports", value=range_of(rest[0], rest[1]))
        case "masqueradeaddress":
            yield found("passive", "announce", value=Destination.parse(rest[0]))
        case "allowforeignaddress":
            yield found("active", "accepts_other_address", value=is_switched_on(rest[0]))
            yield found("peer_must_match", value=not is_switched_on(rest[0]))
        case "tlsengine":
            yield found("tls", "mode", value="explicit" if is_switched_on(rest[0]) else "none")
            yield found(*_TLS_OPTIONS, value=())
        case "tlsrequired":
            level = rest[0].lower()
            yield found("tls", "required", value=level in ("on", "true", "yes", "ctrl", "auth", "auth+data"))
            yield found("tls", "protects_data", value=level not in ("ctrl", "auth"))
        case "tlsoptions":
            yield found(*_TLS_OPTIONS, value=tuple(each.lower() for each in rest))
        case "limit":
            if {"epsv", "eprt"} & set(rest[-1].split()) and rest[0] == "denyall":
                yield found("speaks_epsv", value=False)
            if "login" in rest[-1].split():
                yield Skipped(number, " ".join(rest[:-1]), ACCOUNTS_DECIDE)
        case "defaultroot" if rest == ["~"]:
            yield found(*CONFINED, value=True)
        case "defaultroot" | "authuserfile" | "rootlogin":
            yield Skipped(number, " ".join([word, *rest]), ACCOUNTS_DECIDE)
        case "<anonymous>" if rest[0] == "user":
            yield Skipped(number, "Anonymous", ANONYMOUS)
        case "include":
            yield not_read(number, rest)


def _with_tls_options(values: dict[Key, ParsedValue]) -> None:
    """Implicit TLS and the reuse of sessions are options, which may stand before or behind the switch."""
    options, mode = values.pop(_TLS_OPTIONS, None), values.get(("tls", "mode"))
    if mode is None or options is None or mode.value == "none":
        return
    if mode.value == "explicit" and "useimplicitssl" in options.value:
        values["tls", "mode"] = ParsedValue(("tls", "mode"), "implicit", options.line)
    reuse = "nosessionreuserequired" not in options.value
    values["tls", "reuse_required"] = ParsedValue(("tls", "reuse_required"), reuse, options.line)


def transfer_lines(service: Service) -> Iterator[str]:
    """Ports, announced address, foreign addresses and EPSV, as a service has them."""
    yield f"Port {service.control_port}"
    if ports := range_ends(service):
        yield f"PassivePorts {ports[0]} {ports[1]}"
    if address := announced_text(service):
        yield f"MasqueradeAddress {address}"
        yield from inside_remark(service)
    foreign = bool(service.active and service.active.accepts_other_address)
    if foreign == (not service.peer_must_match):
        yield f"AllowForeignAddress {'on' if foreign else 'off'}"
    if not service.speaks_epsv:
        yield from ("<Limit EPSV EPRT>", "  DenyAll", "</Limit>")


def tls_lines(service: Service) -> Iterator[str]:
    """The directives of mod_tls, as a service has them."""
    tls = service.tls
    yield f"TLSEngine {'off' if tls.mode == 'none' else 'on'}"
    if tls.mode != "none":
        required = ("on" if tls.protects_data else "ctrl") if tls.required else "off"
        yield f"TLSRequired {required}"
        options = ["UseImplicitSSL"] * (tls.mode == "implicit") + ["NoSessionReuseRequired"] * (not tls.reuse_required)
        yield from ([f"TLSOptions {' '.join(options)}"] if options else [])
        for word, path in (("TLSRSACertificateFile", tls.certificate), ("TLSRSACertificateKeyFile", tls.key)):
            yield from ([f"{word} {path}"] if path and is_path(path) else [])


def proftpd_fragment(site: Site, service: Service) -> str:
    """The service as a fragment; empty for SSH."""
    return fragment(site, service, _lines(site, service)) if service.protocol == "ftp" else ""


def _lines(site: Site, service: Service) -> Iterator[str]:
    yield from transfer_lines(service)
    accounts = accounts_of(site, service)
    if any(each.confined for each in accounts):
        yield "DefaultRoot ~"
        yield from unconfined_remark(accounts)
    yield from _login_lines(let_in(service, accounts)) if accounts else ()
    yield from ("<IfModule mod_tls.c>", *(f"  {line}" for line in tls_lines(service)), "</IfModule>")


def _login_lines(accounts: Sequence[Account]) -> Iterator[str]:
    names = [each.name for each in accounts if is_word(each.name)]
    yield "# Only the accounts of the site file may log in:"
    yield "<Limit LOGIN>"
    yield from [f"  AllowUser OR {','.join(names)}"] if names else ()
    yield from ("  DenyAll", "</Limit>")
    yield from (
        f"# {printable(each.name, 80)}: this name cannot be written here" for each in accounts if not is_word(each.name)
    )


FORMAT = DeviceFormat(
    "proftpd", "the configuration of ProFTPD", "/etc/proftpd/proftpd.conf",
    recognises=_is_proftpd,
    reads=_read, writes=for_each_service(ENDING, proftpd_fragment), endings=(ENDING,),
    omits="accounts and their rights; included files, unless named as well; "
    "other servers (VirtualHost) than that at the port of the service",
)  # fmt: skip
