"""Tables in a text: between commas, semicolons or tabs, or in columns of a screen, each with its heads and rows.

What was copied off a page holds more than a table: a title above it, a second line of heads for groups of columns, a
note below, a second table. The line of heads is the first with two that are known and no number among them; a cell in
a group above stands for those to its right that are empty, and its words come before theirs.
"""

import csv
import io
import re
from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple

_RULED = set("-=:+ \t")
"""What a line is drawn with between heads and rows."""


class Row(NamedTuple):
    """A row of a text, with its line."""

    line: int
    cells: tuple[str, ...]


class PastedTable(NamedTuple):
    """One table: its heads, its rows, and rows that are remarks."""

    heads: Row
    rows: tuple[Row, ...]
    remarks: tuple[Row, ...] = ()


class Torn(ValueError):
    """A row that is none: a quote that does not end, a cell beyond all bounds; ``line`` is where it begins."""

    def __init__(self, line: int, why: str) -> None:
        super().__init__(why)
        self.line = line


def grids_in(text: str, are_heads: Callable[[Sequence[str]], bool]) -> list[PastedTable]:
    """Every table of a text; ``are_heads`` is whether cells are heads of columns. Raises Torn."""
    found: list[PastedTable] = []
    group: Row | None = None
    for row in _rows(text):
        if are_heads(row.cells):
            if found and not found[-1].rows and not found[-1].remarks:  # the heads above were groups of these
                group = found.pop().heads
            found.append(PastedTable(_under(group, row), ()))
            group = None
            continue
        if _is_group(row):
            group = row
        if not found:
            continue
        last = found[-1]
        if _is_remark(row, len(last.heads.cells)):
            found[-1] = last._replace(remarks=(*last.remarks, row))
        else:
            found[-1] = last._replace(rows=(*last.rows, row))
            group = None
    return [_without_group(each, i + 1 < len(found)) for i, each in enumerate(found)]


def _without_group(grid: PastedTable, more: bool) -> PastedTable:
    """What stands right above the next heads belongs to them."""
    return grid._replace(remarks=grid.remarks[:-1]) if more and grid.remarks and not grid.rows else grid


def _rows(text: str) -> Iterator[Row]:
    """The rows that are not empty; the separator is the one that the lines have most of."""
    lines = text.splitlines()
    counts = {each: sorted((line.count(each) for line in lines[:50] if line.strip()), reverse=True) for each in "\t;,|"}
    separator = max(counts, key=lambda each: sum(counts[each][:10]))
    if not any(counts[separator][:1]):
        yield from _screen_rows(lines)
        return
    reader = csv.reader(io.StringIO(text.replace("\x00", "")), delimiter=separator, strict=True)
    whole = 0
    try:
        for cells in reader:
            whole = reader.line_num
            if not set("".join(cells)) <= _RULED:
                yield Row(reader.line_num, tuple(_cell(each) for each in _framed(cells, separator)))
    except csv.Error as error:
        raise Torn(whole + 1, str(error)) from None


def _framed(cells: list[str], separator: str) -> list[str]:
    """Without the frame of a table that is drawn with bars."""
    framed = separator == "|" and len(cells) > 2 and not cells[0].strip() and not cells[-1].strip()
    return cells[1:-1] if framed else cells


def _screen_rows(lines: Sequence[str]) -> Iterator[Row]:
    """Columns that stand below each other: two spaces part them, and each begins where the line with most of them
    has it."""
    widest = max(lines, key=lambda line: len(re.split(r" {2,}", line.strip())), default="")
    starts = [0, *(found.end() for found in re.finditer(r"(?<=\S) {2,}(?=\S)", widest))]
    if len(starts) < 2:
        return
    for number, line in enumerate(lines, 1):
        if not line.strip() or set(line) <= _RULED:
            continue
        parts = re.split(r" {2,}", line.strip())
        if len(parts) == len(starts):
            yield Row(number, tuple(parts))
        elif all(start >= len(line) or line[start - 1 : start] in ("", " ") for start in starts):
            ends = [*starts[1:], len(line)]
            yield Row(number, tuple(line[a:b].strip() for a, b in zip(starts, ends, strict=True)))
        else:
            yield Row(number, tuple(parts))


def _cell(text: str) -> str:
    """Without the mark that keeps a spreadsheet from running a cell."""
    text = text.strip()
    return text[1:] if text[:1] == "'" and text[1:2] in ("=", "+", "-", "@") else text


def _is_group(row: Row) -> bool:
    """Whether a row may name groups of columns: words, with holes between them."""
    filled = [each for each in row.cells if each]
    titled = len(filled) == 1 and bool(row.cells[0])
    return 0 < len(filled) < len(row.cells) and not titled and not any(re.search(r"[0-9]", each) for each in filled)


def _under(group: Row | None, heads: Row) -> Row:
    if group is None:
        return heads
    above, last = [], ""
    for each in (*group.cells, *[""] * (len(heads.cells) - len(group.cells))):
        last = each or last
        above.append(last)
    return Row(heads.line, tuple(f"{a} {b}".strip() if b else b for a, b in zip(above, heads.cells, strict=False)))


def _is_remark(row: Row, columns: int) -> bool:
    """A row of which the first cell alone is filled, where a table has more."""
    return columns > 2 and sum(map(bool, row.cells)) == 1 and bool(row.cells[0])
