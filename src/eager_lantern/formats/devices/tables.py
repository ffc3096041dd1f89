"""Tables of forwards and of filter rules as CSV: ours from ``sheets``, or any whose columns mean the same.

A table is typed off a screen or exported by some page, so heads, separators and words differ. Heads are known by what
they usually mean; of a cell that cannot be read the line is told, and nothing is taken over, since a rule that is left
out could make something seem shut that is open. Rows of other transports than TCP and UDP concern no file transfer and
are left out, which is reported.
"""

import csv
import io
import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Literal

from ...core.changes.adopted import DeviceConfig, ParsedValue, Skipped
from ...core.model.entries import Port
from ...core.model.site import Filter, Forward, Refusal, Rule
from ...core.sheets.sheet import UNTOLD
from ...core.values.addresses import Address, AddressSet
from ...core.values.ports import EVERY_PORT, PortSet
from ..damage import guarded
from ..reading import BadInput, InputProblem, bad_file, read_document
from .format import DeviceFormat, one_by_one

MOST_BYTES, MOST_ROWS = 20_000_000, 100_000
_HEADS = {
    "name": ("name", "name and remarks", "description", "comment", "remark", "remarks", "label"),
    "number": ("no.", "no", "number", "#", "order", "priority"),
    "protocol": ("protocol", "transport", "ip protocol"),
    "ports": (
        "ports", "port", "outside ports", "outside port", "external port", "external ports", "public port",
        "public ports", "destination port", "destination ports", "port range", "service port",
    ),
    "first": ("first port", "start port", "port start", "external port start", "first"),
    "last": ("last port", "end port", "port end", "external port end", "last"),
    "to": (
        "inside address", "inside host", "internal address", "internal ip", "internal host", "private address",
        "private ip", "local ip", "local address", "lan address", "lan ip", "forward to",
    ),
    "inside": ("inside ports", "inside port", "internal port", "internal ports", "private port", "local port"),
    "from": ("only from", "from", "source", "source address", "source ip", "allowed from", "remote address"),
    "destination": ("to", "destination", "destination address", "destination ip"),
    "state": ("state", "status", "on", "on/off", "enabled", "active"),
    "do": ("do", "action", "policy"),
}  # fmt: skip
_KNOWN = {head: meaning for meaning, heads in _HEADS.items() for head in heads}
_ANY = {
    "",
    "-",
    "any",
    "all",
    "anywhere",
    "everything",
    "*",
    "0.0.0.0/0",
    "::/0",
    "all others",
    "any address",
    "any port",
}
_ON = {"", "on", "yes", "true", "1", "enabled", "active", "x"}
_OFF = {"off", "no", "false", "0", "disabled", "inactive"}
_ALLOW, _DENY = {"allow", "accept", "permit", "pass", "open"}, {"deny", "drop", "block", "discard", "drop, no answer"}
_UNKNOWN = {"unknown", UNTOLD}
_REFUSE = {"refuse", "reject", "refuse, with an answer"}
_KINDS: dict[str, Refusal] = {
    "refuse, with a reset": "reset",
    "refuse, with icmp “port unreachable”": "port-unreachable",
    "refuse, with icmp “host unreachable”": "host-unreachable",
    "refuse, with icmp “administratively prohibited”": "prohibited",
}
_PROGRAM, _CATEGORY, _SWITCHED_OFF = "the program of ", "only on networks of category ", "switched off"
"""Remarks of our own pages."""
_NUMBERS = {"6": "tcp", "17": "udp"}
_BOTH = {"both", "tcp/udp", "tcp+udp", "tcp, udp", "tcp and udp", "udp/tcp", "tcp & udp"}


def _is_rule_table(file: str, text: str) -> bool:
    """Whether the first line has heads of such a table."""
    try:
        heads = _columns(next(_table_rows(text), (0, []))[1])
    except _Torn:
        return False
    return "ports" in heads or {"first", "last"} <= set(heads)


@guarded
def read_table_text(path: Path) -> str:
    """The text of a table in UTF-8, or in the encoding that older spreadsheets write (ISO 8859-1). Raises BadInput."""
    raw = read_document(path, MOST_BYTES)
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError:
        return raw.decode("latin-1")


@guarded
def read_rule_table(file: str, text: str) -> DeviceConfig:
    """A table of forwards, where rows name an inside address, else of filter rules. Raises BadInput with every line
    that cannot be read."""
    try:
        rows = list(_table_rows(text))
    except _Torn as error:
        raise bad_file(
            file, f"found no row of a table ({error}); expected cells between commas, semicolons or tabs", error.line
        ) from None
    if len(rows) < 2:
        raise bad_file(
            file, "found heads and no row; expected at least one: an empty table would take out everything", 1
        )
    heads = _columns(rows[0][1])
    forwards = "to" in heads
    reader = _Forwards(heads) if forwards else _Rules(heads)
    problems: list[InputProblem] = []
    for number, cells in rows[1 : MOST_ROWS + 1]:
        try:
            reader.read(number, cells)
        except ValueError as error:
            problems.append(InputProblem(number, str(error)))
    if len(rows) > MOST_ROWS + 1:
        problems.append(InputProblem(rows[MOST_ROWS + 1][0], f"found more rows than {MOST_ROWS:,}; expected no more"))
    if problems:
        raise BadInput(file, *problems)
    values, skipped = tuple(reader.values), tuple(reader.skipped)
    if "protocol" not in heads:
        skipped = (
            Skipped(rows[0][0], "no column for the protocol", "all entries are read as TCP"),
            *skipped,
        )
    if isinstance(reader, _Rules):
        return DeviceConfig(file, "rules", values, skipped, reader.default)
    return DeviceConfig(file, "forwards", values, skipped)


def _table_rows(text: str) -> Iterator[tuple[int, list[str]]]:
    """The rows that are not empty, each with its line; the separator is the one that the first line has most of."""
    first = text.partition("\n")[0]
    separator = max(",;\t", key=first.count)
    reader = csv.reader(io.StringIO(text), delimiter=separator, strict=True)
    try:
        for cells in reader:
            if any(each.strip() for each in cells):
                yield reader.line_num, [_cell(each) for each in cells]
    except csv.Error as error:
        raise _Torn(reader.line_num, str(error)) from None


def _cell(text: str) -> str:
    """Without the mark that keeps a spreadsheet from running a cell."""
    text = text.strip()
    return text[1:] if text[:1] == "'" and text[1:2] in ("=", "+", "-", "@") else text


def _columns(heads: Sequence[str]) -> dict[str, int]:
    found: dict[str, int] = {}
    for i, head in enumerate(heads):
        if (meaning := _KNOWN.get(head.strip().lower())) is not None:
            found.setdefault(meaning, i)
    return found


class _Torn(ValueError):
    """A row that is none: a quote that does not end, a cell beyond all bounds."""

    def __init__(self, line: int, why: str) -> None:
        super().__init__(why)
        self.line = line


class _Table:
    """What both kinds of table have in common: cells by their meaning."""

    def __init__(self, columns: Mapping[str, int]) -> None:
        self.columns = columns
        self.values: list[ParsedValue] = []
        self.skipped: list[Skipped] = []

    def cell(self, cells: Sequence[str], meaning: str) -> str:
        at = self.columns.get(meaning)
        return cells[at] if at is not None and at < len(cells) else ""

    def ports(self, cells: Sequence[str], meaning: str = "ports") -> PortSet:
        if meaning == "ports" and "ports" not in self.columns:
            first, last = self.cell(cells, "first"), self.cell(cells, "last")
            return _ports_of_cell(f"{first}-{last or first}" if first else "")
        return _ports_of_cell(self.cell(cells, meaning))

    def protocols(self, number: int, cells: Sequence[str]) -> tuple[str, ...]:
        """The transports of a row, none where it is of another kind, which is told."""
        if "protocol" not in self.columns:
            return ("tcp",)
        text = self.cell(cells, "protocol").lower()
        text = _NUMBERS.get(text, text)
        if text in ("tcp", "udp"):
            return (text,)
        if text in _BOTH or text in _ANY:
            return ("tcp", "udp")
        if re.fullmatch(r"[a-z0-9-]+", text):
            self.skipped.append(
                Skipped(number, " ".join(cells), f"{text} is neither TCP nor UDP, and carries no file transfer")
            )
            return ()
        raise ValueError(f"found “{text[:40]}” for a protocol; expected tcp, udp or both")


class _Forwards(_Table):
    def read(self, number: int, cells: Sequence[str]) -> None:
        protocols = self.protocols(number, cells)
        if not protocols:
            return
        text, _, outside = self.cell(cells, "ports").partition(" at ")
        ports = _ports_of_cell(text) if outside else self.ports(cells)
        inside = self.ports(cells, "inside")
        to = _address_of_cell(self.cell(cells, "to"))
        whom = _sources_of_cell(self.cell(cells, "from"))
        to_port = Port(inside.lowest) if inside != EVERY_PORT and inside.lowest != ports.lowest else None
        if inside != EVERY_PORT and len(inside) not in (1, len(ports)):
            raise ValueError(
                f"found {len(ports)} ports that lead to {len(inside)}; expected as many, or the first of them"
            )
        for protocol in protocols:
            forward = Forward(
                ports=ports,
                to=to,
                name=tidy_name(self.cell(cells, "name")),
                protocol="udp" if protocol == "udp" else "tcp",
                to_port=to_port,
                outside=Address.parse(outside) if outside else None,
                from_=whom,
                enabled=_is_on(self.cell(cells, "state")),
            )
            self.values.append(ParsedValue(("forwards",), forward, number))


class _Rules(_Table):
    default: Filter | None = None

    def read(self, number: int, cells: Sequence[str]) -> None:
        action, refuses_with = _action(self.cell(cells, "do")), _KINDS.get(self.cell(cells, "do").lower())
        if self.cell(cells, "number").lower() == "last" or self.cell(cells, "ports").lower() == "all others":
            if action == "unknown":
                raise ValueError("found unknown for what becomes of all others; expected allow, deny or refuse")
            self.default = Filter(default=action, refuses_with=refuses_with)
            return
        name, *remarks = (each.strip() for each in self.cell(cells, "name").split(";"))
        whom, _, came = self.cell(cells, "from").partition(" coming from port ")
        protocols = self.protocols(number, cells)
        if not protocols:
            return
        program = next((each.removeprefix(_PROGRAM) for each in (name, *remarks) if each.startswith(_PROGRAM)), None)
        rule = Rule(
            action=action,
            name="" if name.startswith((_PROGRAM, _CATEGORY)) or name == _SWITCHED_OFF else tidy_name(name),
            protocol="any" if len(protocols) > 1 else "udp" if protocols == ("udp",) else "tcp",
            ports=EVERY_PORT if program else self.ports(cells),
            program=program,
            from_=_sources_of_cell(whom),
            to=_sources_of_cell(self.cell(cells, "destination")),
            from_ports=_ports_of_cell(came) if came else None,
            categories=_categories((name, *remarks)),
            refuses_with=refuses_with,
            enabled=_is_on(self.cell(cells, "state")) and _SWITCHED_OFF not in (name, *remarks),
        )
        self.values.append(ParsedValue(("rules",), rule, number))


def _ports_of_cell(text: str) -> PortSet:
    if text.lower() in _ANY:
        return EVERY_PORT
    tidy = re.sub(r"(?<=\d)\s*(?:[-:–]|\bto\b)\s*(?=\d)", "-", text)
    return PortSet.parse(tidy)


def _address_of_cell(text: str) -> Address:
    return Address.parse(text.removesuffix("/32"))


def _sources_of_cell(text: str) -> AddressSet | None:
    return None if text.lower() in _ANY else AddressSet.parse(text)


def tidy_name(text: str) -> str:
    """A name or comment as a site file can have it."""
    if text in ("", "-"):
        return ""
    return " ".join("".join(each if each.isprintable() else " " for each in text).split())[:80]


def _is_on(text: str) -> bool:
    if text.lower() in _ON | _OFF:
        return text.lower() in _ON
    raise ValueError(f"found “{text[:40]}”; expected on or off")


def _action(text: str) -> Literal["allow", "deny", "refuse", "unknown"]:
    word = text.lower()
    if word in _ALLOW:
        return "allow"
    if word in _DENY:
        return "deny"
    if word in _UNKNOWN:
        return "unknown"
    if word in _REFUSE | _KINDS.keys():
        return "refuse"
    raise ValueError(f"found “{text[:40]}” for what a rule does; expected allow, deny or refuse")


def _categories(remarks: Sequence[str]) -> tuple[str, ...] | None:
    found = [each.removeprefix(_CATEGORY) for each in remarks if each.startswith(_CATEGORY)]
    return tuple(each.strip() for each in found[0].split(",")) if found else None


FORMAT = DeviceFormat(
    "tables", "a table of forwards or of filter rules (CSV)", "the page of a router, exported or typed off",
    recognises=_is_rule_table, reads=one_by_one(read_rule_table),
)  # fmt: skip
