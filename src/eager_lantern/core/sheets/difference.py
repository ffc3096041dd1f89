"""What of the pages of a site has to be entered anew where another state is on the devices already.

Theory: rows that stay
======================
A table of a page is a list of rows, and a device is changed row by row. The longest run of rows that both states
have stays (:mod:`difflib`); what lies between is changed, added or taken out. The number that a rule has in its list is
where it stands and not what it is, so it is left out of the comparison, and is how a row is named. What takes a step
back stands beside it, so that nobody has to remember what was there.
"""

from collections.abc import Iterator, Sequence
from difflib import SequenceMatcher
from itertools import zip_longest
from typing import NamedTuple

from ..values.phrases import listed
from .all import Sheets
from .sheet import Grid, Sheet, SheetPart

Row = tuple[str, ...]


class Entering(NamedTuple):
    """A step at a device, and what takes it back."""

    step: str
    undo: str


def changed_sheets(before: Sheets, after: Sheets) -> Sheets:
    """The pages of a change alone, with a first one that lists them."""
    pages = change_pages(before, after)
    rows = tuple((str(i), each.name, each.kind) for i, each in enumerate(pages, start=1))
    text = "One page for each device and client that changes." if pages else "Nothing changes on any page."
    part = SheetPart("Pages", grid=Grid(("page", "name", "kind"), rows, "read"))
    return Sheets(after.title, after.trouble, (Sheet("What changes", "order", text, (part,) if rows else ()), *pages))


def change_pages(before: Sheets, after: Sheets) -> tuple[Sheet, ...]:
    """The pages of a change alone: for each device, name or client's card that differs, its tables that do, with the
    steps from the one state to the other, and back."""
    old = {each.name: each for each in before.pages}
    found = []
    for page in after.pages:
        if page.kind in _OF_ALL:
            continue
        parts = [*_changed_parts(old.get(page.name, Sheet(page.name, page.kind, page.about, ())), page)]
        if parts:
            found.append(Sheet(page.name, page.kind, "What changes, and how to take it back.", tuple(parts)))
    return tuple(found)


BACK = ": to take it back"
_OF_ALL = ("order", "tests")
"""Pages that are of no device."""


def _changed_parts(before: Sheet, after: Sheet) -> Iterator[SheetPart]:
    old = {each.title: each.grid for each in before.parts if each.grid is not None}
    new = {each.title: each.grid for each in after.parts if each.grid is not None}
    for title in dict.fromkeys((*old, *new)):
        a, b = old.get(title), new.get(title)
        heads = (b or a or Grid((), ())).heads
        steps = [*_steps(heads, a.rows if a else (), b.rows if b else ())]
        if steps and (b or a or Grid((), ())).purpose == "enter":
            yield SheetPart(title, steps=tuple(each.step for each in steps))
            yield SheetPart(f"{title}{BACK}", steps=tuple(each.undo for each in reversed(steps)))


def _steps(heads: Row, before: Sequence[Row], after: Sequence[Row]) -> Iterator[Entering]:
    if _are_settings(heads, before) and _are_settings(heads, after):
        yield from _settings(dict(map(_pair, before)), dict(map(_pair, after)))
        return
    old, new = [_bare(heads, each) for each in before], [_bare(heads, each) for each in after]
    for what, i, j, k, m in SequenceMatcher(None, old, new, autojunk=False).get_opcodes():
        if what != "equal":
            for at, (was, now) in enumerate(zip_longest(before[i:j], after[k:m])):
                yield _entering(heads, k + min(at, m - k) + 1, was, now)


def _entering(heads: Row, number: int, was: Row | None, now: Row | None) -> Entering:
    """The step for one row, which is counted as rows stand once those above it are done."""
    if was is None and now is not None:
        added, called = _described(heads, now), _called(heads, now)
        return Entering(f"add as row {number}: {added}", f"take row {number} out ({called})")
    if was is not None and now is None:
        added, called = _described(heads, was), _called(heads, was)
        return Entering(f"take row {number} out ({called})", f"add as row {number}: {added}")
    assert was is not None
    assert now is not None
    called = _called(heads, was)
    there, back = _cells_changed(heads, was, now), _cells_changed(heads, now, was)
    return Entering(f"change row {number} ({called}): {there}", f"change row {number} back ({called}): {back}")


def _cells_changed(heads: Row, was: Row, now: Row) -> str:
    """Which cells of a row change, those that change alike together."""
    found: dict[tuple[str, str], list[str]] = {}
    for head, old, new in zip(heads, was, now, strict=True):
        if old != new and head not in _NUMBERS:
            found.setdefault((old or "nothing", new or "nothing"), []).append(head)
    return ", ".join(f"{_several(its)} {old} → {new}" for (old, new), its in found.items())


def _several(heads: Sequence[str]) -> str:
    """``outside and inside ports`` of ``outside ports`` and ``inside ports``."""
    *_, last = heads[0].split(" ")
    if all(each.endswith(f" {last}") for each in heads):
        return f"{listed(each.removesuffix(f' {last}') for each in heads)} {last}"
    return listed(heads)


_NUMBERS = ("no.", "page")
_NAMES = ("name", "name and remarks", "account")


def _are_settings(heads: Row, rows: Sequence[Row]) -> bool:
    """Whether each row is a setting of its own and its value."""
    return heads == ("setting", "value") and len({row[0] for row in rows}) == len(rows)


def _pair(row: Row) -> tuple[str, str]:
    return row[0], row[1]


def _settings(before: dict[str, str], after: dict[str, str]) -> Iterator[Entering]:
    for name in dict.fromkeys((*before, *after)):
        was, now = before.get(name), after.get(name)
        if was != now:
            yield Entering(_set_to(name, now, was), _set_to(name, was, now))


def _set_to(name: str, value: str | None, instead_of: str | None) -> str:
    if value is None:
        return f"take out “{name}” ({instead_of})"
    return f"set “{name}”: {instead_of} → {value}" if instead_of is not None else f"set “{name}” to {value}"


def _bare(heads: Row, row: Row) -> Row:
    """A row without its number."""
    return tuple(cell for head, cell in zip(heads, row, strict=True) if head not in _NUMBERS)


def _called(heads: Row, row: Row) -> str:
    """What a reader knows a row by: its name where it has one, else its first cells."""
    named = next((row[heads.index(each)] for each in _NAMES if each in heads), "")
    return (
        f"“{named}”"
        if named not in ("", "-")
        else " ".join([each for each in _bare(heads, row) if each not in ("", "-")][:3])
    )


def _described(heads: Row, row: Row) -> str:
    cells = [(head, cell) for head, cell in zip(heads, row, strict=True) if head not in _NUMBERS]
    return ", ".join(f"{head}: {cell}" for head, cell in cells if cell not in ("", "-"))
