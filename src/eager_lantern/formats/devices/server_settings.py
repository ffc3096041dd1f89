"""Settings of servers: as they themselves write them, and as a page of ours lists them.

Read are the configuration of ProFTPD, of Pure-FTPd (its one file, or a file of its folder, which is called as the
setting is), what ``sshd -T`` prints, and a table of two columns in the words of our own pages. Lines that concern
transfers and cannot be taken over are told; others are passed by. The words of the three servers are theirs (public
interface).
"""

import csv
import io
import re
from collections.abc import Callable, Iterator
from pathlib import PurePath
from typing import Literal

from ...core.changes.adopted import DeviceConfig, Key, ParsedValue, Skipped
from ...core.model.entries import OWN, Destination, Port
from ...core.values.ports import PortSet
from ..damage import guarded
from ..reading import BadInput, InputProblem

MOST_LINES = 100_000
CONFINED = ("accounts", "confined")
"""What a server says of all accounts of a service at once."""
_WHOM = "says who gets in and sees what: compare it with the accounts"
Protocol = Literal["ftp", "sftp"]
Line = tuple[int, str, list[str]]
"""The number of a line, its first word in small letters, and the words behind it."""
Found = Iterator[ParsedValue | Skipped]


@guarded
def read_settings(file: str, text: str) -> DeviceConfig | None:
    """What a file of settings tells; None for what is none that is known. Raises BadInput with every value that
    cannot be read."""
    name = PurePath(file).name
    lines = list(_lines(text))
    words = {word for _, word, _ in lines}
    if (settings := _page(text)) is not None:
        protocol: Protocol = "sftp" if any(key == "port" for _, key, _ in settings) else "ftp"
        return _read_lines(file, protocol, ((number, key, [value]) for number, key, value in settings), _of_page)
    if {"permitrootlogin", "hostkey"} <= words:
        return _read_lines(file, "sftp", iter(lines), _of_sshd)
    if words & {"servertype", "defaultserver", "passiveports", "tlsengine", "masqueradeaddress", "loadmodule"}:
        return _read_lines(file, "ftp", _of_main_server(lines), _of_proftpd)
    if words & _PURE.keys():
        return _read_lines(file, "ftp", iter(lines), _of_pure_ftpd)
    if name.lower() in _PURE:
        return _read_lines(
            file, "ftp", ((number, name.lower(), [word, *rest]) for number, word, rest in lines), _of_pure_ftpd
        )
    return None


def _lines(text: str) -> Iterator[Line]:
    for number, line in enumerate(text.splitlines()[:MOST_LINES], start=1):
        words = line.strip().split()
        if words and not words[0].startswith("#"):
            yield number, words[0].lower(), words[1:]


def _read_lines(
    file: str, protocol: Protocol, lines: Iterator[Line], reader: Callable[[int, str, list[str]], Found]
) -> DeviceConfig:
    values: dict[Key, ParsedValue] = {}
    skipped: list[Skipped] = []
    problems: list[InputProblem] = []
    for number, word, rest in lines:
        try:
            for each in reader(number, word, rest):
                if isinstance(each, Skipped):
                    skipped.append(each)
                else:
                    values[each.key] = each  # of what is set twice the later counts
        except (ValueError, IndexError) as error:
            why = str(error) if isinstance(error, ValueError) else "has no value"
            problems.append(InputProblem(number, f"{word}: {why}"))
    if problems:
        raise BadInput(file, *problems)
    return DeviceConfig(file, "settings", tuple(_combined_settings(values)), tuple(skipped), protocol=protocol)


_FIRST, _LAST, _OPTIONS = ("passive", "first"), ("passive", "last"), ("tls", "options")


def _combined_settings(values: dict[Key, ParsedValue]) -> Iterator[ParsedValue]:
    """What only several lines tell together: a range of two numbers, what a server does with TLS unless it is told."""
    first, last, options = (values.pop(key, None) for key in (_FIRST, _LAST, _OPTIONS))
    if first and last:
        values.setdefault(
            ("passive", "ports"), ParsedValue(("passive", "ports"), PortSet.of((first.value, last.value)), last.line)
        )
    mode = values.get(("tls", "mode"))
    if mode is not None and options is not None:
        if mode.value == "explicit" and "useimplicitssl" in options.value:
            values["tls", "mode"] = ParsedValue(("tls", "mode"), "implicit", options.line)
        reuse = "nosessionreuserequired" not in options.value
        values["tls", "reuse_required"] = ParsedValue(("tls", "reuse_required"), reuse, options.line)
    yield from values.values()


def _range_of(first: str, last: str) -> PortSet:
    return PortSet.parse(f"{Port.parse(first)}-{Port.parse(last)}")


def _is_switched_on(text: str) -> bool:
    word = text.strip().lower()
    if word not in {"on", "off", "yes", "no", "true", "false", "1", "0"}:
        raise ValueError(f"“{text[:40]}” where on or off is meant")
    return word in {"on", "yes", "true", "1"}


def _of_main_server(lines: list[Line]) -> Iterator[Line]:
    """The lines of ProFTPD that are about the server itself, not about a part of it; a limit of commands with what it
    says."""
    inside: list[str] = []
    limited: list[str] = []
    for number, word, rest in lines:
        if word.startswith("</"):
            inside = inside[:-1]
        elif word.startswith("<"):
            inside.append(word.strip("<>"))
            limited = [each.strip(">").lower() for each in rest]
        elif inside and inside[-1] == "limit":
            yield number, "limit", [word, *rest, " ".join(limited)]
        elif inside and inside[-1] not in ("global", "ifmodule", "ifdefine"):
            yield number, f"<{inside[-1]}>", [word, *rest]
        else:
            yield number, word, rest


def _of_proftpd(number: int, word: str, rest: list[str]) -> Found:  # public interface
    def values(*key: str, value: object) -> ParsedValue:
        return ParsedValue(key, value, number)

    match word:
        case "port":
            yield values("control_port", value=Port.parse(rest[0]))
        case "passiveports":
            yield values("passive", "ports", value=_range_of(rest[0], rest[1]))
        case "masqueradeaddress":
            yield values("passive", "announce", value=Destination.parse(rest[0]))
        case "allowforeignaddress":
            yield values("active", "accepts_other_address", value=_is_switched_on(rest[0]))
            yield values("peer_must_match", value=not _is_switched_on(rest[0]))
        case "tlsengine":
            yield values("tls", "mode", value="explicit" if _is_switched_on(rest[0]) else "none")
            yield values(*_OPTIONS, value=())
        case "tlsrequired":
            level = rest[0].lower()
            yield values("tls", "required", value=level in ("on", "true", "yes", "ctrl", "auth", "auth+data"))
            yield values("tls", "protects_data", value=level not in ("ctrl", "auth"))
        case "tlsoptions":
            yield values(*_OPTIONS, value=tuple(each.lower() for each in rest))
        case "limit":
            if {"epsv", "eprt"} & set(rest[-1].split()) and rest[0] == "denyall":
                yield values("speaks_epsv", value=False)
            if "login" in rest[-1].split():
                yield Skipped(number, " ".join(rest[:-1]), _WHOM)
        case "defaultroot" if rest == ["~"]:
            yield values(*CONFINED, value=True)
        case "defaultroot" | "authuserfile" | "rootlogin":
            yield Skipped(number, " ".join([word, *rest]), _WHOM)
        case "<anonymous>" if rest[0] == "user":
            yield Skipped(
                number, "Anonymous", "lets anybody in without an account of its own: compare it with the accounts"
            )
        case "include":
            yield Skipped(number, f"Include {' '.join(rest)}", "what it includes is not read: name those files as well")
        case "<virtualhost>":
            yield Skipped(number, " ".join(rest), "is of another server (VirtualHost): make it a service of its own")


_PURE = {
    "bind": "", "passiveportrange": "", "forcepassiveip": "", "tls": "", "allowuserfxp": "", "chrooteveryone": "",
    "maxclientsnumber": "", "noanonymous": "", "puredb": "", "unixauthentication": "", "pamauthentication": "",
}  # fmt: skip


def _of_pure_ftpd(number: int, word: str, rest: list[str]) -> Found:  # public interface
    def values(*key: str, value: object) -> ParsedValue:
        return ParsedValue(key, value, number)

    match word:
        case "bind":
            port = " ".join(rest).rpartition(",")[2].strip()
            yield values("control_port", value=Port.parse(port))
        case "passiveportrange":
            low, high = re.split(r"[\s:]+", " ".join(rest), maxsplit=1)
            yield values("passive", "ports", value=_range_of(low, high))
        case "forcepassiveip":
            yield values("passive", "announce", value=Destination.parse(rest[0]))
        case "tls":
            level = rest[0]
            if level not in ("0", "1", "2", "3"):
                raise ValueError(f"“{level[:40]}” where 0, 1, 2 or 3 is meant")
            yield values("tls", "mode", value="none" if level == "0" else "explicit")
            yield values("tls", "required", value=level in ("2", "3"))
            yield values("tls", "protects_data", value=level != "2")
        case "chrooteveryone":
            yield values(*CONFINED, value=_is_switched_on(rest[0]))
        case "noanonymous":
            if not _is_switched_on(rest[0]):
                why = "lets anybody in without an account of its own: compare it with the accounts"
                yield Skipped(number, "NoAnonymous no", why)
        case "puredb":
            yield Skipped(number, f"PureDB {' '.join(rest)}", _WHOM)
        case "unixauthentication" | "pamauthentication":
            if _is_switched_on(rest[0]):
                yield Skipped(number, f"{word} yes", _WHOM)
        case "allowuserfxp":
            yield values("active", "accepts_other_address", value=_is_switched_on(rest[0]))


_WHO = ("chrootdirectory", "allowusers", "denyusers", "allowgroups", "forcecommand")


def _of_sshd(number: int, word: str, rest: list[str]) -> Found:  # public interface
    if word == "port":
        yield ParsedValue(("control_port",), Port.parse(rest[0]), number)
    elif word in _WHO and rest != ["none"]:
        yield Skipped(number, f"{word} {' '.join(rest)}", _WHOM)


def _page(text: str) -> list[tuple[int, str, str]] | None:
    """The rows of a table of two columns, setting and value; None for anything else."""
    first = text.partition("\n")[0]
    rows = csv.reader(io.StringIO(text), delimiter=max(",;\t", key=first.count))
    found = []
    try:
        for i, cells in enumerate(rows):
            if i == 0 and [each.strip().lower() for each in cells[:2]] != ["setting", "value"]:
                return None
            if i and any(cells):
                key = cells[0].strip().lower()
                found.append((rows.line_num, key, cells[1].strip() if len(cells) == 2 else _MANY))
    except csv.Error:
        return None
    return found or None


_MANY = "\0"


def _of_page(number: int, word: str, rest: list[str]) -> Found:
    value = rest[0]
    if value == _MANY:
        raise ValueError("is not a setting and its value: put what has a comma in it between quotes")

    def values(*key: str, value: object) -> ParsedValue:
        return ParsedValue(key, value, number)

    def one_of(*words: str) -> bool:
        """Whether it is the first of two words that may stand there."""
        start = value.lower().partition(":")[0].strip()
        if start not in words:
            raise ValueError(f"“{value[:40]}” where {words[0]} or {words[1]} is meant")
        return start == words[0]

    match word:
        case "control port" | "port":
            yield values("control_port", value=Port.parse(value))
        case "tls":
            mode = value.split()[0].lower()
            if mode not in ("none", "explicit", "implicit"):
                raise ValueError(f"“{value[:40]}” where none, explicit or implicit is meant")
            yield values("tls", "mode", value=mode)
        case "login without tls":
            yield values("tls", "required", value=one_of("refused", "allowed"))
        case "data under tls":
            if one_of("required", "on request"):
                yield values("tls", "protects_data", value=True)
        case "data must resume the tls session":
            yield values("tls", "reuse_required", value=one_of("yes", "no"))
        case "passive data ports, first":
            yield values(*_FIRST, value=Port.parse(value.split()[0]).number)
        case "passive data ports, last":
            yield values(*_LAST, value=Port.parse(value.split()[0]).number)
        case "passive data ports, all" | "passive data ports":
            yield values("passive", "ports", value=PortSet.parse(value))
        case "announced to outside clients":
            yield values("passive", "announce", value=_announce_of(value))
        case "announced to inside clients":
            yield values("passive", "announce_inside", value=_announce_of(value))
        case "epsv and eprt":
            yield values("speaks_epsv", value=one_of("on", "off"))
        case "data from another address than control":
            yield values("peer_must_match", value=one_of("refused", "accepted"))
        case "active mode comes from port":
            yield values("active", "from_port", value=None if value.lower() == "any" else Port.parse(value))
        case "active mode to another address than the client's":
            yield values("active", "accepts_other_address", value=one_of("yes", "no"))
        case "active mode to a private address":
            yield values("active", "repairs_private", value=True)
        case "transports for data":
            yield values("passive", "protocols", value=tuple(each.strip().lower() for each in value.split(",")))
        case "certificate for":
            names = () if value.startswith("the names and addresses") else tuple(map(str.strip, value.split(",")))
            yield values("tls", "names", value=names)
        case "host key":
            yield values("host_key", value=value)
        case "certificate file":
            yield values("tls", "certificate", value=value)
        case "private key file":
            yield values("tls", "key", value=value.removesuffix(", readable by the service alone"))
        case "protocol":
            pass  # told by what the settings are called
        case _:
            yield Skipped(number, f"{word}: {value}", "is no setting of a service that pages of sheets have")


def _announce_of(value: str) -> Destination:
    return OWN if value.startswith("the server's own address") or value.lower() == "own" else Destination.parse(value)
