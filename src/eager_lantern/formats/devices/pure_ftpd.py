"""Pure-FTPd's configuration (public interface): its one file, a file of its folder, which is named as the setting is,
or the options that it is started with. Written as lines of the one file."""

import re
from collections.abc import Iterator
from pathlib import PurePath

from ...core.changes.adopted import DeviceConfig, ParsedValue, Skipped
from ...core.model.entries import Destination, Port
from ...core.model.site import Service, Site
from ..damage import guarded
from .format import DeviceFormat, for_each_service, one_by_one
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
    is_switched_on,
    let_in,
    lines_of,
    names_of,
    range_ends,
    range_of,
    read_lines,
    unconfined_remark,
    words_of,
)

ENDING = "pure-ftpd.conf"
_WORDS = {
    "bind", "passiveportrange", "forcepassiveip", "tls", "allowuserfxp", "chrooteveryone", "maxclientsnumber",
    "noanonymous", "puredb", "unixauthentication", "pamauthentication",
}  # fmt: skip


_STATES_NOTHING = {
    "altlog", "fscharset", "clientcharset", "minuid", "tlsciphersuite", "ipv4only", "ipv6only", "syslogfacility",
    "umask", "maxidletime", "maxdiskusage", "pidfile", "verboselog", "dontresolve", "daemonize", "displaydotfiles",
}  # fmt: skip
"""Names of files of its folder with nothing that a site states."""
_OPTIONS = {
    "S": "bind", "p": "passiveportrange", "P": "forcepassiveip", "Y": "tls", "A": "chrooteveryone", "E": "noanonymous",
    "w": "allowuserfxp", "W": "allowuserfxp",
}  # fmt: skip
_OPTION = re.compile(r"-([A-Za-z0-9])\s*([^\s-]\S*)?")
_STARTED = re.compile(r"(?:\S*pure-ftpd\S* )?-[A-Za-z0-9][^\n]*pure-ftpd[^\n]*")


def _is_pure_ftpd(file: str, text: str) -> bool:
    named = _setting_of(file) in _WORDS | _STATES_NOTHING
    return named or bool(words_of(text) & _WORDS) or _STARTED.fullmatch(text.strip()) is not None


def _setting_of(file: str) -> str:
    return PurePath(file).name.lower()


@guarded
def read_pure_ftpd(file: str, text: str) -> DeviceConfig:
    """The settings. Raises BadInput with every value that cannot be read."""
    lines = lines_of(text)
    if _STARTED.fullmatch(text.strip()):
        lines = _of_options(text)
    elif not words_of(text) & _WORDS:
        lines = ((number, _setting_of(file), [word, *rest]) for number, word, rest in lines)
    return read_lines(file, "ftp", lines, _values)


def _of_options(text: str) -> Iterator[Line]:
    """``-S ,2121 -p 61200:61455 -Y 2 -A`` as lines of the one file; of the login names that it takes one remains."""
    for letter, value in _OPTION.findall(text):
        if letter == "l":
            yield 1, "puredb" if value.startswith("puredb") else f"{value[:20]}authentication", [value or "yes", "yes"]
        elif letter in _OPTIONS:
            yield 1, _OPTIONS[letter], [value or "yes"]


def _values(number: int, word: str, rest: list[str]) -> Found:
    def found(*key: str, value: object) -> ParsedValue:
        return ParsedValue(key, value, number)

    match word:
        case "bind":
            yield found("control_port", value=Port.parse(" ".join(rest).rpartition(",")[2].strip()))
        case "passiveportrange":
            low, high = re.split(r"[\s:]+", " ".join(rest), maxsplit=1)
            yield found("passive", "ports", value=range_of(low, high))
        case "forcepassiveip":
            yield found("passive", "announce", value=Destination.parse(rest[0]))
        case "tls":
            level = rest[0]
            if level not in ("0", "1", "2", "3"):
                raise ValueError(f"found “{level[:40]}”; expected 0, 1, 2 or 3")
            yield found("tls", "mode", value="none" if level == "0" else "explicit")
            yield found("tls", "required", value=level in ("2", "3"))
            yield found("tls", "protects_data", value=level != "2")
        case "chrooteveryone":
            yield found(*CONFINED, value=is_switched_on(rest[0]))
        case "noanonymous":
            if not is_switched_on(rest[0]):
                yield Skipped(number, "NoAnonymous no", ANONYMOUS)
        case "puredb":
            yield Skipped(number, f"PureDB {' '.join(rest)}", ACCOUNTS_DECIDE)
        case "unixauthentication" | "pamauthentication":
            if is_switched_on(rest[0]):
                yield Skipped(number, f"{word} yes", ACCOUNTS_DECIDE)
        case "allowuserfxp":
            yield found("active", "accepts_other_address", value=is_switched_on(rest[0]))


def pure_ftpd_fragment(site: Site, service: Service) -> str:
    """The service as lines of its file; empty for what it does not do: SSH, implicit TLS, a service without EPSV."""
    if service.protocol != "ftp" or service.tls.mode == "implicit" or not service.speaks_epsv:
        return ""
    return fragment(site, service, _lines(site, service))


def _lines(site: Site, service: Service) -> Iterator[str]:
    tls = service.tls
    level = 0 if tls.mode == "none" else 1 if not tls.required else 3 if tls.protects_data else 2
    yield f"Bind ,{service.control_port}"
    if ports := range_ends(service):
        yield f"PassivePortRange {ports[0]} {ports[1]}"
    if address := announced_text(service):
        yield f"ForcePassiveIP {address}"
        yield from inside_remark(service)
    yield f"TLS {level}"
    accounts = accounts_of(site, service)
    if accounts:
        yield f"ChrootEveryone {'yes' if any(each.confined for each in accounts) else 'no'}"
        yield from unconfined_remark(accounts) if any(each.confined for each in accounts) else ()
        names = names_of(let_in(service, accounts))
        yield f"# Accounts are set elsewhere (pure-pw, or the system's users); of these alone may log in: {names}."
        yield "NoAnonymous yes"
    yield f"AllowUserFXP {'yes' if service.active and service.active.accepts_other_address else 'no'}"


FORMAT = DeviceFormat(
    "pure-ftpd", "the configuration of Pure-FTPd", "its one file or folder, pure-ftpd-wrapper --show-options",
    recognises=_is_pure_ftpd,
    reads=one_by_one(read_pure_ftpd), writes=for_each_service(ENDING, pure_ftpd_fragment), endings=(ENDING,),
    omits="accounts and their rights",
)  # fmt: skip
