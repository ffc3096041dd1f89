"""Tables of forwards and of filter rules: ours from ``sheets``, or any whose columns mean the same.

A table is typed off a screen or exported by some page, so heads, separators and words differ. Of a cell that cannot
be read the line is told, and nothing is taken over, since a rule that is left out could make something seem shut that
is open; a column that means nothing here is refused by its name. Rows of other transports than TCP and UDP concern no
file transfer and are left out, which is reported.
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Literal

from ....core.changes.adopted import DeviceConfig, Direction, ParsedValue, Skipped
from ....core.model.entries import Port
from ....core.model.site import Filter, Forward, Refusal, Rule
from ....core.sheets.sheet import UNTOLD
from ....core.values.addresses import Address, AddressSet
from ....core.values.ports import EVERY_PORT, PortSet
from ...damage import guarded
from ...reading import BadInput, InputProblem, bad_file
from ...shipped import ports_called
from ..cells import address_of_cell, addresses_of_cell, ports_of_cell, tidy_name
from ..cloud.tags import ANYBODY, NOBODY, Whom, near, rules_for, whom
from ..format import DeviceFormat
from .grid import PastedTable, Row, Torn, grids_in
from .heads import Meaning, are_heads, columns_of, plain, table_words

MOST_ROWS = 100_000
_UNKNOWN = ("unknown", UNTOLD)
_KINDS: dict[str, Refusal] = {
    "refuse, with a reset": "reset",
    "refuse, with icmp “port unreachable”": "port-unreachable",
    "refuse, with icmp “host unreachable”": "host-unreachable",
    "refuse, with icmp “administratively prohibited”": "prohibited",
}
_PROGRAM, _CATEGORY, _SWITCHED_OFF = "the program of ", "only on networks of category ", "switched off"
"""Remarks of our own pages."""
_NUMBERS = {"6": "tcp", "17": "udp"}
_TICKS = ("x", "☑", "✓", "✔", "✅", "1")
_OUTSIDE_LINE = re.compile(r"(?:wan|internet|outside|external|extern|ppp|pppoe)[ _-]?[0-9]?")
_OTHER_FORMATS = {"displayname", "localport", "remoteaddress"}
"""Heads of a listing of a system's own filter, whose rows stand in no order."""


def _is_rule_table(file: str, text: str) -> bool:
    """Whether it has heads of such a table."""
    if text.lstrip()[:1] in ("{", "["):
        return False
    begin = text[:50_000]
    try:
        found = grids_in(begin, are_heads)
    except Torn as torn:
        whole = "\n".join(begin.splitlines()[: torn.line - 1])
        found = grids_in(whole, are_heads)
    return any(_is_ours(each) for each in found)


def _is_ours(grid: PastedTable) -> bool:
    columns, _ = columns_of(grid)
    listed = {plain(each).replace(" ", "") for each in grid.heads.cells}
    return bool({"ports", "first", "service"} & columns.keys()) and not listed >= _OTHER_FORMATS


@guarded
def read_rule_tables(file: str, text: str, beside: AddressSet = NOBODY) -> list[DeviceConfig]:
    """The tables of a text: forwards, where rows name an inside address, else filter rules, by their direction where
    they state one. ``beside`` is the device's own network, which some names stand for. Raises BadInput with every line
    that cannot be read."""
    try:
        grids = [each for each in grids_in(text, are_heads) if _is_ours(each)]
    except Torn as error:
        raise bad_file(
            file, f"found no row of a table ({error}); expected cells between commas, semicolons or tabs", error.line
        ) from None
    if not any(each.rows for each in grids):
        line = grids[0].heads.line if grids else 0
        raise bad_file(
            file, "found heads and no row; expected at least one: an empty table would take out everything", line
        )
    found: dict[tuple[str, Direction | None], DeviceConfig] = {}
    for grid in grids:
        for config in _configs_of(file, grid, beside):
            key = config.subject, config.direction
            if key in found:
                what = "forwards" if config.subject == "forwards" else "rules"
                raise bad_file(file, f"found a second table of {what}; expected one in a file", grid.heads.line)
            found[key] = config
    return list(found.values())


def _configs_of(file: str, grid: PastedTable, beside: AddressSet) -> Iterator[DeviceConfig]:
    columns, unknown = columns_of(grid)
    if unknown:
        listed = ", ".join(f"“{each[:40]}”" for each in unknown)
        what = "a column that means nothing here" if len(unknown) == 1 else "columns that mean nothing here"
        raise bad_file(
            file, f"found {what} ({listed}); expected heads such as name, protocol, ports, source, action, state: "
            "rename it, or take it out if it decides nothing", grid.heads.line,
        )  # fmt: skip
    reader = _Forwards(grid, columns) if "to" in columns else _Rules(grid, columns, beside)
    problems: list[InputProblem] = []
    for number, cells in _in_order(grid.rows[:MOST_ROWS], columns):
        try:
            reader.read(number, cells)
        except ValueError as error:
            problems.append(InputProblem(number, str(error)))
    if len(grid.rows) > MOST_ROWS:
        problems.append(
            InputProblem(grid.rows[MOST_ROWS].line, f"found more rows than {MOST_ROWS:,}; expected no more")
        )
    if problems:
        raise BadInput(file, *problems)
    yield from reader.configs(file)


def _in_order(rows: Sequence[Row], columns: Mapping[Meaning, int]) -> Sequence[Row]:
    """By their priorities, where they have some: pages sort by what was clicked last."""
    at = columns.get("priority")
    if at is None or not all(at < len(row.cells) and row.cells[at].isdigit() for row in rows):
        return rows
    return sorted(rows, key=lambda row: int(row.cells[at]))


class _Table:
    """What both kinds of table have in common: cells by their meaning."""

    def __init__(self, grid: PastedTable, columns: Mapping[Meaning, int]) -> None:
        self.columns = columns
        self.skipped = [Skipped(each.line, " ".join(each.cells).strip(), "it is no row") for each in grid.remarks]
        # numbers above 999 without separators anywhere: commas part ports here
        at = [i for meaning, i in columns.items() if meaning in _PORTS]
        self.plain_numbers = any(
            re.search(r"\b[1-9][0-9]{3,4}\b", row.cells[i]) for row in grid.rows for i in at if i < len(row.cells)
        )
        state = columns.get("state", -1)
        self.ticked = any(0 <= state < len(row.cells) and row.cells[state].lower() in _TICKS for row in grid.rows)
        lines = {plain(self.cell(row.cells, "interface")) for row in grid.rows} - set(table_words().any)
        self.has_one_outside_line = len(lines) == 1 and all(map(_OUTSIDE_LINE.fullmatch, lines))
        if "protocol" not in columns and "service" not in columns:
            self.skipped.append(Skipped(grid.heads.line, "no column for the protocol", "all entries are read as TCP"))

    def cell(self, cells: Sequence[str], meaning: Meaning) -> str:
        at = self.columns.get(meaning)
        return cells[at] if at is not None and at < len(cells) else ""

    def anything(self, cells: Sequence[str], meaning: Meaning) -> bool:
        """Whether a cell limits nothing, or its column is missing."""
        return self.cell(cells, meaning).lower() in table_words().any

    def ports(self, text: str) -> PortSet:
        return EVERY_PORT if text.lower() in table_words().any else ports_of_cell(text, self.plain_numbers)

    def span(self, cells: Sequence[str], whole: Meaning, first: Meaning, last: Meaning) -> PortSet:
        """Ports in one column, or from one to another."""
        if first not in self.columns:
            return self.ports(self.cell(cells, whole))
        low, high = self.cell(cells, first), self.cell(cells, last)
        return self.ports(f"{low}-{high}" if high and high != low and low else low)

    def protocols(self, number: int, cells: Sequence[str]) -> tuple[str, ...]:
        """The transports of a row, none where it is of another kind, which is told."""
        if "protocol" not in self.columns:
            return ("tcp",)
        text = self.cell(cells, "protocol").lower()
        text = _NUMBERS.get(text, text)
        if text in ("tcp", "udp"):
            return (text,)
        if plain(text) in table_words().both or text in table_words().any:
            return ("tcp", "udp")
        if "icmp" in text or text.startswith("echo ") or re.fullmatch(r"(?!.*(?:tcp|udp))[a-z0-9-]+", text):
            self.skipped.append(
                Skipped(number, " ".join(cells), f"{text} is neither TCP nor UDP, and carries no file transfer")
            )
            return ()
        raise ValueError(f"found “{text[:40]}” for a protocol; expected tcp, udp or both")

    def is_on(self, cells: Sequence[str]) -> bool:
        """Whether a row counts; an empty cell is off where others are ticked, and on where words stand."""
        words, text = table_words(), self.cell(cells, "state").lower()
        if not text:
            return not self.ticked
        if text in words.on or text in words.off:
            return text in words.on
        raise ValueError(f"found “{text[:40]}”; expected on or off")

    def sources(self, cells: Sequence[str], meaning: Meaning) -> AddressSet | None:
        return _sources_of_cell(self.cell(cells, meaning))

    def needs_any(self, cells: Sequence[str], meaning: Meaning, why: str) -> None:
        """Raises ValueError for what a site file cannot state."""
        if not self.anything(cells, meaning):
            raise ValueError(f"found “{self.cell(cells, meaning)[:40]}” for {why}; expected any: a site states none")


_PORTS: tuple[Meaning, ...] = ("ports", "first", "last", "inside", "inside first", "inside last")


class _Forwards(_Table):
    def __init__(self, grid: PastedTable, columns: Mapping[Meaning, int]) -> None:
        super().__init__(grid, columns)
        self.values: list[ParsedValue] = []

    def configs(self, file: str) -> Iterator[DeviceConfig]:
        yield DeviceConfig(file, "forwards", tuple(self.values), tuple(self.skipped))

    def read(self, number: int, cells: Sequence[str]) -> None:
        shown = [self.cell(cells, each) for each in ("to", "ports", "first", "inside", "inside first")]
        if all(each in table_words().empty for each in shown):
            self.skipped.append(Skipped(number, " ".join(cells).strip(), "it is an empty row"))
            return
        protocols = self.protocols(number, cells)
        if not protocols:
            return
        text, _, outside = self.cell(cells, "ports").partition(" at ")
        outside = outside or ("" if self.anything(cells, "outside") else self.cell(cells, "outside"))
        ports = self.ports(text) if "first" not in self.columns else self.span(cells, "ports", "first", "last")
        inside = self.span(cells, "inside", "inside first", "inside last")
        if inside != EVERY_PORT and len(inside) not in (1, len(ports)):
            raise ValueError(
                f"found {len(ports)} ports that lead to {len(inside)}; expected as many, or the first of them"
            )
        self.needs_any(cells, "schedule", "the times at which it holds")
        self.needs_any(cells, "from ports", "the port of the sender")
        self.needs_any(cells, "profile", "a profile")
        if not self.has_one_outside_line:
            self.needs_any(cells, "interface", "a line")
        shifted = inside != EVERY_PORT and inside.lowest != ports.lowest
        for protocol in protocols:
            forward = Forward(
                ports=ports,
                to=address_of_cell(self.cell(cells, "to")),
                name=tidy_name(self.cell(cells, "name")),
                protocol="udp" if protocol == "udp" else "tcp",
                to_port=Port(inside.lowest) if shifted else None,
                outside=Address.parse(outside) if outside else None,
                from_=self.sources(cells, "from"),
                enabled=self.is_on(cells),
            )
            self.values.append(ParsedValue(("forwards",), forward, number))


class _Rules(_Table):
    def __init__(self, grid: PastedTable, columns: Mapping[Meaning, int], beside: AddressSet) -> None:
        super().__init__(grid, columns)
        self.beside = beside
        self.rules: dict[Direction | None, list[ParsedValue]] = {}
        self.default: Filter | None = None
        if "do" not in columns:
            why = "all rows are read as allowed, and what no row names as denied"
            self.skipped.append(Skipped(grid.heads.line, "no column for what a rule does", why))
            self.default = Filter(default="deny")

    def configs(self, file: str) -> Iterator[DeviceConfig]:
        for way, values in self.rules.items() or ((None, []),):
            default = self.default if way in (None, "in") else None
            yield DeviceConfig(file, "rules", tuple(values), tuple(self.skipped), default, direction=way)

    def read(self, number: int, cells: Sequence[str]) -> None:
        do = self.cell(cells, "do")
        action = _action(do) if "do" in self.columns else "allow"
        refuses_with = _KINDS.get(do.lower())
        if self.cell(cells, "number").lower() == "last" or self.cell(cells, "ports").lower() == "all others":
            if action == "unknown":
                raise ValueError("found unknown for what becomes of all others; expected allow, deny or refuse")
            self.default = Filter(default=action, refuses_with=refuses_with)
            return
        way = self._direction(cells)
        if not any(self.cell(cells, each) for each in self.columns if each not in ("name", "number", "priority")):
            self.skipped.append(Skipped(number, " ".join(cells).strip(), "it is an empty row"))
            return
        name, *remarks = (each.strip() for each in self.cell(cells, "name").split(";"))
        protocols, ports = self._what(number, cells)
        if not protocols:
            return
        senders, _, came = self.cell(cells, "from").partition(" coming from port ")
        came = came or self.cell(cells, "from ports")
        program = next((each.removeprefix(_PROGRAM) for each in (name, *remarks) if each.startswith(_PROGRAM)), None)
        if not self.anything(cells, "program"):
            program = self.cell(cells, "program")
        if not all(self.anything(cells, each) for each in ("schedule", "interface")):
            action = "unknown"  # it may hold, and may not
            why = "a rule for one line or at some times may hold or not: what it matches is unknown"
            self.skipped.append(Skipped(number, " ".join(cells).strip(), why))
        rule = Rule(
            action=action,
            name="" if name.startswith((_PROGRAM, _CATEGORY)) or name == _SWITCHED_OFF else tidy_name(name),
            protocol="any" if len(protocols) > 1 else "udp" if protocols == ("udp",) else "tcp",
            ports=EVERY_PORT if program and self.anything(cells, "ports") else ports,
            program=program,
            from_ports=None if came.lower() in table_words().any else self.ports(came),
            categories=_categories((name, *remarks)) or self._profile(cells),
            refuses_with=refuses_with,
            enabled=self.is_on(cells) and _SWITCHED_OFF not in (name, *remarks),
        )
        about = self._whom(senders), self._whom(self.cell(cells, "destination"))
        if any(each.possible for each in about):
            why = "whom a name in it stands for is not in this table: what the rule matches is unknown for those"
            self.skipped.append(Skipped(number, " ".join(cells).strip(), why))
        mine = self.rules.setdefault(way, [])
        mine += [ParsedValue(("rules",), each, number) for each in rules_for(rule, *about)]

    def _what(self, number: int, cells: Sequence[str]) -> tuple[tuple[str, ...], PortSet]:
        """The transports and the ports, which the name of a service may state both."""
        if {"ports", "first"} & self.columns.keys():
            protocols = self.protocols(number, cells)
            return protocols, self.span(cells, "ports", "first", "last") if protocols else EVERY_PORT
        return _service(self.cell(cells, "service"))

    def _whom(self, text: str) -> Whom:
        """Whom a cell is about; a name that the table does not resolve may stand for anybody."""
        return (
            ANYBODY
            if text.lower() in table_words().any
            else whom(re.split(r"\s*[,;]\s*|\s+(?=[0-9])", text), self.beside)
        )

    def _direction(self, cells: Sequence[str]) -> Direction | None:
        if "direction" not in self.columns:
            return None
        text = plain(self.cell(cells, "direction"))
        if text in table_words().inbound:
            return "in"
        if text in table_words().outbound:
            return "out"
        raise ValueError(f"found “{text[:40]}” for a direction; expected inbound or outbound")

    def _profile(self, cells: Sequence[str]) -> tuple[str, ...] | None:
        """The categories of networks on which it holds."""
        if self.anything(cells, "profile"):
            return None
        return tuple(each.strip().lower() for each in re.split("[,;/]", self.cell(cells, "profile")) if each.strip())


_SERVICE = re.compile(r"(?:(tcp|udp)\s*[/:]?\s*)?([0-9][0-9\s,:–-]*)(?:\s*[/:]?\s*(tcp|udp))?")


def _service(text: str) -> tuple[tuple[str, ...], PortSet]:
    """What a service is: “SSH”, “tcp/21”, “61200-61455/tcp”, “FTP (21)”. Raises ValueError."""
    low = plain(text)
    if low in table_words().any or low in ("all traffic", "all"):
        return ("tcp", "udp"), EVERY_PORT
    if low in ("all tcp", "all udp"):
        return (low[-3:],), EVERY_PORT
    if found := _SERVICE.fullmatch(low):
        transport = found[1] or found[3]
        return (transport,) if transport else ("tcp", "udp"), ports_of_cell(found[2], plain=True)
    known = ports_called(low)
    if not known:
        raise ValueError(f"found “{text[:40]}” for a service; expected a name that is registered, or tcp/21")
    return tuple(known), next(iter(known.values()))


def _sources_of_cell(text: str) -> AddressSet | None:
    return None if text.lower() in table_words().any else addresses_of_cell(text)


def _action(text: str) -> Literal["allow", "deny", "refuse", "unknown"]:
    word, words = plain(text), table_words()
    if word in words.allow:
        return "allow"
    if word in words.deny:
        return "deny"
    if text.lower() in _UNKNOWN:
        return "unknown"
    if word in words.refuse or text.lower() in _KINDS:
        return "refuse"
    raise ValueError(f"found “{text[:40]}” for what a rule does; expected allow, deny or refuse")


def _categories(remarks: Sequence[str]) -> tuple[str, ...] | None:
    found = [each.removeprefix(_CATEGORY) for each in remarks if each.startswith(_CATEGORY)]
    return tuple(each.strip() for each in found[0].split(",")) if found else None


FORMAT = DeviceFormat(
    "tables", "a table of forwards or of filter rules (CSV, or copied off a page)",
    "the page of a router, exported or typed off",
    recognises=_is_rule_table, reads=lambda texts, target: [
        config for file, text in texts.items()
        for config in read_rule_tables(file, text, near(target.site, target.device))
    ],
    omits="whatever the page does not show; columns that mean nothing here are refused by name",
)  # fmt: skip
