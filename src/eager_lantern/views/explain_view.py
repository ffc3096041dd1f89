"""What `explain` shows: the page of one kind of finding, or the list of all."""

from collections.abc import Iterator, Mapping

from rich.console import RenderableType
from rich.text import Text

from .screen import columns
from .style import ACCENT, STRONG, UNTRIED

_HEADINGS = (("means", "What it means"), ("shows", "How it shows"), ("cure", "How to cure it"))


def page_view(kind: str, page: Mapping[str, str]) -> Iterator[RenderableType]:
    """One page."""
    yield Text(kind, style=STRONG)
    for key, heading in _HEADINGS:
        yield ""
        yield Text(heading, style=ACCENT)
        table = columns(widths=(1, None))
        table.add_row("", Text(page[key]))
        yield table


def list_view(pages: Mapping[str, Mapping[str, str]]) -> Iterator[RenderableType]:
    """Every kind with what it means."""
    table = columns(widths=(28, None))
    for kind, page in sorted(pages.items()):
        table.add_row(Text(kind, style=STRONG), Text(page["means"]))
    yield table
    yield ""
    yield Text("eager-lantern explain KIND shows one page", style=UNTRIED)
