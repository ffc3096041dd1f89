"""A service's settings as a table of setting and value (CSV), in the words of our own pages: the way in for a server
whose own format is not read here."""

import csv
import io
from typing import Literal

from ...core.changes.adopted import DeviceConfig, ParsedValue, Skipped
from ...core.model.entries import OWN, Destination, Port
from ...core.values.ports import PortSet
from ..damage import guarded
from .format import DeviceFormat, one_by_one
from .settings import FIRST, LAST, Found, read_lines


@guarded
def read_settings_table(file: str, text: str) -> DeviceConfig:
    """The settings. Raises BadInput with every value that cannot be read."""
    rows = _rows(text) or []
    protocol: Literal["ftp", "sftp"] = "sftp" if any(key == "port" for _, key, _ in rows) else "ftp"
    return read_lines(file, protocol, ((number, key, [value]) for number, key, value in rows), _values)


def _rows(text: str) -> list[tuple[int, str, str]] | None:
    """The rows of a table of two columns, setting and value; None for anything else."""
    first = text.partition("\n")[0]
    rows = csv.reader(io.StringIO(text), delimiter=max(",;\t", key=first.count))
    listed = []
    try:
        for i, cells in enumerate(rows):
            if i == 0 and [each.strip().lower() for each in cells[:2]] != ["setting", "value"]:
                return None
            if i and any(cells):
                key = cells[0].strip().lower()
                listed.append((rows.line_num, key, cells[1].strip() if len(cells) == 2 else _MANY))
    except csv.Error:
        return None
    return listed or None


_MANY = "\0"


def _values(number: int, word: str, rest: list[str]) -> Found:
    value = rest[0]
    if value == _MANY:
        raise ValueError("found more than a setting and its value; expected quotes around a value with a comma")

    def found(*key: str, value: object) -> ParsedValue:
        return ParsedValue(key, value, number)

    def one_of(*words: str) -> bool:
        """Whether it is the first of two words that may stand there."""
        start = value.lower().partition(":")[0].strip()
        if start not in words:
            raise ValueError(f"found “{value[:40]}”; expected {words[0]} or {words[1]}")
        return start == words[0]

    match word:
        case "control port" | "port":
            yield found("control_port", value=Port.parse(value))
        case "tls":
            mode = value.split()[0].lower()
            if mode not in ("none", "explicit", "implicit"):
                raise ValueError(f"found “{value[:40]}”; expected none, explicit or implicit")
            yield found("tls", "mode", value=mode)
        case "login without tls":
            yield found("tls", "required", value=one_of("refused", "allowed"))
        case "data under tls":
            if one_of("required", "on request"):
                yield found("tls", "protects_data", value=True)
        case "data must resume the tls session":
            yield found("tls", "reuse_required", value=one_of("yes", "no"))
        case "passive data ports, first":
            yield found(*FIRST, value=Port.parse(value.split()[0]).number)
        case "passive data ports, last":
            yield found(*LAST, value=Port.parse(value.split()[0]).number)
        case "passive data ports, all" | "passive data ports":
            yield found("passive", "ports", value=PortSet.parse(value))
        case "announced to outside clients":
            yield found("passive", "announce", value=_announce_of(value))
        case "announced to inside clients":
            yield found("passive", "announce_inside", value=_announce_of(value))
        case "epsv and eprt":
            yield found("speaks_epsv", value=one_of("on", "off"))
        case "data from another address than control":
            yield found("peer_must_match", value=one_of("refused", "accepted"))
        case "active mode comes from port":
            yield found("active", "from_port", value=None if value.lower() == "any" else Port.parse(value))
        case "active mode to another address than the client's":
            yield found("active", "accepts_other_address", value=one_of("yes", "no"))
        case "active mode to a private address":
            yield found("active", "repairs_private", value=True)
        case "transports for data":
            yield found("passive", "protocols", value=tuple(each.strip().lower() for each in value.split(",")))
        case "certificate for":
            names = () if value.startswith("the names and addresses") else tuple(map(str.strip, value.split(",")))
            yield found("tls", "names", value=names)
        case "host key":
            yield found("host_key", value=value)
        case "certificate file":
            yield found("tls", "certificate", value=value)
        case "private key file":
            yield found("tls", "key", value=value.removesuffix(", readable by the service alone"))
        case "protocol":
            pass  # the names of the settings show it
        case _:
            yield Skipped(number, f"{word}: {value}", "is not a setting on the pages of sheets")


def _announce_of(value: str) -> Destination:
    return OWN if value.startswith("the server's own address") or value.lower() == "own" else Destination.parse(value)


FORMAT = DeviceFormat(
    "settings-table", "a table of setting and value (CSV)", "the CSV tables that sheets writes, or typed by hand",
    recognises=lambda file, text: _rows(text) is not None,
    reads=one_by_one(read_settings_table),
)  # fmt: skip
