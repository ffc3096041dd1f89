"""Ports that programs wait on, as a host lists them (public interface): ``ss -ltnup``, ``netstat -an`` of Linux,
Windows and macOS, and ``Get-NetTCPConnection`` or ``Get-NetUDPEndpoint`` as a table, JSON or CSV.

A listener is no part of a site file. It is held against the control port and the passive range of each service, and
what parts from the file is listed, with what to do.
"""

import csv
import io
import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import msgspec
from msgspec.structs import replace

from ...core.changes.adopted import DeviceConfig, ParsedValue, Skipped
from ...core.findings.surveyed import survey_findings
from ...core.model.site import Site, Transport
from ...core.observed.survey import ListeningSocket, Survey, SurveyedHost
from ...core.values.addresses import Address
from ..damage import guarded
from ..reading import bad_file
from .cells import tidy_name
from .format import DeviceFormat, DeviceTarget

MOST_LISTENERS = 10_000
_ROW = re.compile(r"\s*(?:(?:tcp|udp)[46]{0,2}|LISTEN|UNCONN)\s+\S", re.IGNORECASE)
_HEADS = re.compile(
    r"^\s*(?:Netid\s+State|State\s+Recv-Q|Proto\s+(?:Recv-Q|Local)|LocalAddress\s+LocalPort|"
    r"(?:Active|Aktive|Connexions|Conexiones) )", re.MULTILINE
)  # fmt: skip
_CELLS = re.compile(r"\"?localaddress\"?\s*[,;:]|\"localport\"", re.IGNORECASE)
_ENDPOINT = re.compile(r"(\[[0-9A-Fa-f:.%\w]*\]|[^\s]*)[:.]([0-9]{1,5}|\*)")
_PROGRAM = re.compile(r"\(\(\"([^\"]{1,80})\"|\s[0-9]{1,10}/(\S{1,80})")
_ANY = ("*", "")
_WILD = (Address.parse("0.0.0.0"), Address.parse("::"))
_LISTENS = ("listen", "2")
"""The state of a listener, in words and by number (MIB_TCP_STATE_LISTEN)."""
_KINDS = ("listens-elsewhere", "port-taken-by-another")


def _is_list(file: str, text: str) -> bool:
    begin = text[:3000]
    if _HEADS.search(begin):
        return True
    if _CELLS.search(begin[:400]) and "localport" in begin.lower():
        return '"displayname"' not in begin.lower()
    rows = [line for line in begin.splitlines() if line.strip()][:3]
    return bool(rows) and all(_ROW.match(line) and len(_endpoints(line)) == 2 for line in rows)


def _read(texts: Mapping[str, str], target: DeviceTarget) -> list[DeviceConfig]:
    return [_config(file, text, target) for file, text in texts.items()]


@guarded
def _config(file: str, text: str, target: DeviceTarget) -> DeviceConfig:
    found = list(_listeners(file, text))
    if len(found) > MOST_LISTENERS:
        raise bad_file(file, f"found {len(found):,} listeners; expected those of one host")
    return listener_config(file, found, target)


def listener_config(file: str, found: Sequence[tuple[ListeningSocket, int]], target: DeviceTarget) -> DeviceConfig:
    """Listeners with their lines, and where they part from the services, if the device is the server."""
    values = tuple(ParsedValue(("listeners",), each, line) for each, line in found)
    remarks = _remarks(target.site, [each for each, _ in found]) if target.device == target.site.server.name else ()
    return DeviceConfig(file, "listeners", values, tuple(remarks))


def _remarks(site: Site, found: Sequence[ListeningSocket]) -> Iterator[Skipped]:
    """Where the listeners part from the services of the site."""
    anywhere = tuple(replace(each, address=None) if each.address in _WILD else each for each in found)
    host = SurveyedHost(site.server.name, "", "other", listeners=anywhere)
    for each in survey_findings(site, Survey(host)):
        if each.kind in _KINDS:
            yield Skipped(0, each.message, each.advice)


def _listeners(file: str, text: str) -> Iterator[tuple[ListeningSocket, int]]:
    begin = text.lstrip("\ufeff \r\n")
    if begin[:1] in ("{", "["):
        yield from ((each, 0) for each in _of_objects(file, _objects(file, begin)))
    elif _CELLS.search(begin[:200]):
        separator = ";" if begin.splitlines()[0].count(";") > begin.splitlines()[0].count(",") else ","
        lines = "\n".join(line for line in begin.splitlines() if not line.startswith("#TYPE"))
        yield from (
            (each, 0) for each in _of_objects(file, list(csv.DictReader(io.StringIO(lines), delimiter=separator)))
        )
    elif re.search(r"^\s*LocalAddress\s+LocalPort", text, re.MULTILINE):
        yield from _of_table(file, text)
    else:
        yield from _of_rows(file, text)


def _objects(file: str, text: str) -> list[Any]:
    try:
        data = msgspec.json.decode(text)
    except (msgspec.DecodeError, RecursionError) as error:
        raise bad_file(file, f"found JSON that breaks off ({error!s:.60}); expected all that was printed") from None
    return data if isinstance(data, list) else [data]


def _of_objects(file: str, rows: Sequence[Any]) -> Iterator[ListeningSocket]:
    """Records with an address, a port and, of TCP, a state."""
    for row in rows:
        fields = {str(key).lower(): each for key, each in row.items()} if isinstance(row, Mapping) else {}
        address, port = fields.get("localaddress"), fields.get("localport")
        if address is None or port is None:
            raise bad_file(file, "found a record without LocalAddress and LocalPort; expected one of each listener")
        if "state" in fields and str(fields["state"]).lower() not in _LISTENS:
            continue
        protocol: Transport = "tcp" if "state" in fields else "udp"
        yield _socket(file, 0, protocol, str(address), str(port), "")


def _of_table(file: str, text: str) -> Iterator[tuple[ListeningSocket, int]]:
    """A table of which each row begins with an address and a port."""
    protocol: Transport = "udp"
    for number, line in enumerate(text.splitlines(), 1):
        words = line.split()
        if words[:2] == ["LocalAddress", "LocalPort"]:
            protocol = "tcp" if "State" in words else "udp"
        elif len(words) >= 2 and words[1].isdecimal() and (protocol == "udp" or "Listen" in words):
            yield _socket(file, number, protocol, words[0], words[1], ""), number


def _of_rows(file: str, text: str) -> Iterator[tuple[ListeningSocket, int]]:
    """Rows with both ends of a socket; of a listener the far one has no port."""
    for number, line in enumerate(text.splitlines(), 1):
        ends = _endpoints(line)
        if not _ROW.match(line) or len(ends) < 2:
            continue
        (address, port), (_, far) = ends[:2]
        if far not in ("*", "0") or port in ("*", "0"):
            continue
        word = line.split()[0].lower()
        protocol: Transport = "udp" if word.startswith("udp") or word == "unconn" else "tcp"
        program = _PROGRAM.search(line)
        name = (program[1] or program[2]) if program else ""
        yield _socket(file, number, protocol, address, port, tidy_name(name)), number


def _endpoints(line: str) -> list[tuple[str, str]]:
    """What of a line is an address and a port, or a star for either."""
    found = (_ENDPOINT.fullmatch(word) for word in line.split()[1:])
    return [(each[1], each[2]) for each in found if each is not None and (each[1] in _ANY or _address(each[1]))]


def _address(text: str) -> Address | None:
    try:
        return Address.parse(text.strip("[]").partition("%")[0])
    except ValueError:
        return None


def _socket(file: str, line: int, protocol: Transport, address: str, port: str, program: str) -> ListeningSocket:
    number = int(port) if port.isascii() and port.isdecimal() else -1
    bound = None if address in _ANY else _address(address)
    if not 0 < number <= 65_535 or (bound is None and address not in _ANY):
        raise bad_file(file, f"found “{address[:40]} {port[:10]}”; expected an address and a port", line)
    return ListeningSocket(protocol, number, "list", bound, program)


FORMAT = DeviceFormat(
    "listeners", "a list of listening ports", "ss -ltnup; netstat -an; Get-NetTCPConnection -State Listen",
    recognises=_is_list, reads=_read, omits="a site file states no listeners: they are held against its services",
)  # fmt: skip
