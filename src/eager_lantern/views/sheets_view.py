"""What `sheets` shows: the pages that were written, in the order of the work."""

from collections.abc import Iterator, Sequence

from rich.console import RenderableType
from rich.text import Text

from ..core.sheets.all import Sheets
from .screen import between, columns, command
from .style import ACCENT, RISKS, STOPS, STRONG, UNTRIED


def sheets_view(sheets: Sheets, folder: str, files: Sequence[str], stale: Sequence[str]) -> Iterator[RenderableType]:
    """The list of pages, the other files, and the next step; ``stale`` are files that an earlier run left there."""
    yield between(sheets.title, Text(f"{len(sheets.pages) - 1} pages in {folder}"), STRONG)
    if sheets.trouble:
        yield ""
        yield Text(f"◆ {sheets.trouble}", style=STOPS)
    yield ""
    pages = [each for each in files if each.endswith(".md")]
    table = columns(widths=(4, 34, 17, None), gap=1)
    for number, (each, page) in enumerate(zip(sheets.pages, pages, strict=True)):
        table.add_row(f"{number or '':4}", Text(each.name, style=STRONG), Text(each.kind), Text(page, style=UNTRIED))
    yield table
    yield ""
    rules = [each for each in files if each.endswith(".nft")]
    tables = sum(each.endswith(".csv") for each in files)
    yield Text(f"  {folder}/all-pages.html   all of them, to print on A4")
    yield Text(f"  {len(sheets.pages)} pages in Markdown, {tables} tables as CSV")
    for name in rules:
        yield Text(f"  {folder}/{name}   rules to load: nft -c -f checks them")
    for name in (each for each in files if each.endswith(".conf")):
        yield Text(f"  {folder}/{name}   for that server's own file, if it is yours")
    if stale:
        yield Text(f"  ▲ left there by an earlier run, no part of these pages: {', '.join(stale)}", style=RISKS)
    yield ""
    yield command(f"Next: print {folder}/all-pages.html and start with page 1", ACCENT)
