"""Pages as Markdown."""

from collections.abc import Iterator

from ..core.sheets.sheet import Grid, Sheet, SheetPart

_MARKS = str.maketrans({**{each: f"\\{each}" for each in "\\`*_{}[]#|"}, "<": "&lt;", ">": "&gt;", "&": "&amp;"})


def sheet_markdown(title: str, trouble: str, sheet: Sheet) -> str:
    """One page; ``trouble`` is what stands at its head, or nothing."""
    return "\n".join(_page(title, trouble, sheet)).rstrip() + "\n"


def _page(title: str, trouble: str, sheet: Sheet) -> Iterator[str]:
    yield f"# {_plain(sheet.name)}"
    yield ""
    yield f"{_plain(title)}, {_plain(sheet.kind)}. {_plain(sheet.about)}"
    yield ""
    if trouble:
        yield f"**◆ {_plain(trouble)}**"
        yield ""
    for each in sheet.parts:
        yield from _part(each)


def _part(part: SheetPart) -> Iterator[str]:
    yield f"## {_plain(part.title)}"
    yield ""
    for line in part.lines:
        yield f"{_plain(line)}  "
    if part.lines:
        yield ""
    if part.grid is not None:
        yield from _grid(part.grid)
    for number, step in enumerate(part.steps, start=1):
        yield f"{number}. {_plain(step)}"
    if part.steps:
        yield ""
    if part.commands:
        yield from ("```sh", *part.commands, "```", "")


def _grid(grid: Grid) -> Iterator[str]:
    tick = ("☐ ",) if grid.purpose == "enter" else ()
    yield _row(("",) * len(tick) + grid.heads)
    yield _row(("---",) * (len(tick) + len(grid.heads)))
    for row in grid.rows:
        yield _row((*tick, *map(_plain, row)))
    yield ""


def _row(cells: tuple[str, ...]) -> str:
    return f"| {' | '.join(cells)} |"


def _plain(text: str) -> str:
    """A text in which nothing is taken for markup."""
    return text.translate(_MARKS)
