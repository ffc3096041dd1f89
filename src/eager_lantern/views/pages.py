"""Pages for people: sheets as Markdown, HTML and CSV (RFC 4180), and a comparison as a change request."""

import csv
import io
from collections.abc import Callable, Iterator

from jinja2 import Environment, StrictUndefined

from ..core.changes.moves import move_steps
from ..core.changes.states import Comparison, Transition
from ..core.changes.steps import Edit, edit_action, senders
from ..core.network.topology import Topology
from ..core.predict.forecast import because
from ..core.sheets.all import Sheets
from ..core.sheets.sheet import Grid, Sheet, SheetPart
from ..core.values.text_value import SitePath
from .screen import AMBER, BRICK, INK, SEA, SLATE

_MARKS = str.maketrans({**{each: f"\\{each}" for each in "\\`*_{}[]#|"}, "<": "&lt;", ">": "&gt;", "&": "&amp;"})


def sheet_markdown(title: str, trouble: str, sheet: Sheet) -> str:
    """One page; ``trouble`` is what stands at its head, or nothing."""
    return "\n".join(_sheet_lines(title, trouble, sheet)).rstrip() + "\n"


def _sheet_lines(title: str, trouble: str, sheet: Sheet) -> Iterator[str]:
    yield f"# {plain_markdown(sheet.name)}"
    yield ""
    yield f"{plain_markdown(title)}, {plain_markdown(sheet.kind)}. {plain_markdown(sheet.about)}"
    yield ""
    if trouble:
        yield f"**◆ {plain_markdown(trouble)}**"
        yield ""
    for each in sheet.parts:
        yield from _part_lines(each)


def _part_lines(part: SheetPart) -> Iterator[str]:
    yield f"## {plain_markdown(part.title)}"
    yield ""
    for line in part.lines:
        yield f"{plain_markdown(line)}  "
    if part.lines:
        yield ""
    if part.grid is not None:
        yield from _grid(part.grid)
    for number, step in enumerate(part.steps, start=1):
        yield f"{number}. {plain_markdown(step)}"
    if part.steps:
        yield ""
    if part.commands:
        yield from ("```sh", *part.commands, "```", "")


def _grid(grid: Grid) -> Iterator[str]:
    tick = ("☐ ",) if grid.purpose == "enter" else ()
    yield table_row(("",) * len(tick) + grid.heads)
    yield table_row(("---",) * (len(tick) + len(grid.heads)))
    for i, row in enumerate(grid.rows):
        mark = tick if i not in grid.stay else ("",) * len(tick)
        yield table_row((*mark, *map(plain_markdown, row)))
    yield ""


def table_row(cells: tuple[str, ...]) -> str:
    """A row of a table; its cells are Markdown already."""
    return f"| {' | '.join(cells)} |"


def plain_markdown(text: str) -> str:
    """A text in which nothing is taken for markup."""
    return text.translate(_MARKS)


PALETTE = {"ink": INK, "amber": AMBER, "slate": SLATE, "brick": BRICK, "sea": SEA}


def sheet_pages(sheets: Sheets, template: str) -> str:
    """The HTML text, by a template of the shipped data."""
    environment = Environment(trim_blocks=True, lstrip_blocks=True, undefined=StrictUndefined, autoescape=True)
    return environment.from_string(template).render(sheets=sheets, palette=PALETTE)


def _inert(cell: str) -> str:
    """A cell that a spreadsheet would run as a formula gets a quote in front (OWASP, CSV injection)."""
    return f"'{cell}" if cell.startswith(("=", "+", "-", "@", "\t", "\r")) and cell != "-" else cell


def grid_csv(grid: Grid) -> str:
    """A table with its heads, in UTF-8 when written."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(map(_inert, grid.heads))
    writer.writerows(map(_inert, row) for row in grid.rows)
    return out.getvalue()


LineOf = Callable[[SitePath | None], int | None]


def change_table(found: Comparison, names: tuple[str, str], lines: tuple[LineOf, LineOf]) -> str:
    """The steps in their order, and beneath what they bring."""
    return "\n".join(_change_lines(found, names, lines)).rstrip() + "\n"


def _change_lines(found: Comparison, names: tuple[str, str], lines: tuple[LineOf, LineOf]) -> Iterator[str]:
    yield f"# {plain_markdown(found.after.site)}: change"
    yield ""
    yield f"From {plain_markdown(names[0])} to {plain_markdown(names[1])}."
    yield ""
    yield table_row(("step", "device", "change", "line", "done"))
    yield table_row(("---",) * 5)
    for number, step in enumerate(found.order.steps, start=1):
        at_once = f"{number}, at once" if len(step) > 1 else str(number)
        yield from (_edit(at_once, found, found.edits[each], lines) for each in step)
    yield ""
    yield table_row(("what", "who", "becomes"))
    yield table_row(("---",) * 3)
    for kind, turned in (("promise", found.promises), ("way in", found.ways_in)):
        for each in turned:
            if each.turn != "same":
                yield table_row((kind, plain_markdown(_promise_who(each)), plain_markdown(_what_becomes(each))))
    for word, site, reached in (
        ("reached now", found.after, found.gained),
        ("reached no more", found.before, found.lost),
        ("not asked for", found.after, found.unasked),
        ("perhaps reached now", found.after, found.unknown),
        ("not known in either", found.after, found.unsure),
        ("leads in now", found.after, found.doors_opened),
        ("leads in no more", found.before, found.doors_closed),
        ("perhaps leads in no more", found.before, found.doors_unknown),
    ):
        topology = Topology(site)
        for more in reached:
            what = f"{more.host}, {more.protocol} {more.ports}"
            yield table_row((word, plain_markdown(senders(topology, more)), plain_markdown(what)))
    if found.bridge is not None:
        yield ""
        yield table_row(("while the address moves", "done"))
        yield table_row(("---",) * 2)
        yield from (table_row((plain_markdown(each), "☐")) for each in move_steps(found.moves, found.bridge))
        for edit in found.bridge.edits if found.bridge.holds else ():
            if device := found.device(edit):
                yield table_row((plain_markdown(f"with both: {device}: {edit_action(edit)}"), "☐"))


def _edit(number: str, found: Comparison, edit: Edit, lines: tuple[LineOf, LineOf]) -> str:
    line = lines[0](edit.before) if edit.new is None else lines[1](edit.after)
    return table_row((number, *map(plain_markdown, (found.device(edit), edit_action(edit))), str(line or ""), "☐"))


def _promise_who(each: Transition) -> str:
    promise = each.promise
    return f"{promise.client} → {promise.service}, {promise.mode or promise.holds}"


def _what_becomes(each: Transition) -> str:
    why = because(each.after) if each.after is not None and each.after.kept is not True else ""
    return f"{each.turn}: {why}" if why else each.turn
