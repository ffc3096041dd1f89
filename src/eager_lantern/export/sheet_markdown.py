"""Pages as Markdown."""

from collections.abc import Iterator

from ..core.sheets.sheet import Grid, Sheet, SheetPart

_MARKS = str.maketrans({**{each: f"\\{each}" for each in "\\`*_{}[]#|"}, "<": "&lt;", ">": "&gt;", "&": "&amp;"})


def sheet_markdown(title: str, trouble: str, sheet: Sheet) -> str:
    """One page; ``trouble`` is what stands at its head, or nothing."""
    return "\n".join(_page(title, trouble, sheet)).rstrip() + "\n"


def _page(title: str, trouble: str, sheet: Sheet) -> Iterator[str]:
    yield f"# {plain_markdown(sheet.name)}"
    yield ""
    yield f"{plain_markdown(title)}, {plain_markdown(sheet.kind)}. {plain_markdown(sheet.about)}"
    yield ""
    if trouble:
        yield f"**◆ {plain_markdown(trouble)}**"
        yield ""
    for each in sheet.parts:
        yield from _part(each)


def _part(part: SheetPart) -> Iterator[str]:
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
    for row in grid.rows:
        yield table_row((*tick, *map(plain_markdown, row)))
    yield ""


def table_row(cells: tuple[str, ...]) -> str:
    """A row of a table; its cells are Markdown already."""
    return f"| {' | '.join(cells)} |"


def plain_markdown(text: str) -> str:
    """A text in which nothing is taken for markup."""
    return text.translate(_MARKS)
