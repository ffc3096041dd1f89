"""What `check FOLDER` shows: one line a site, and a total."""

from collections.abc import Iterator, Sequence

from msgspec import Struct
from rich.console import RenderableType
from rich.text import Text

from .screen import columns, state
from .style import STRONG


class FolderRow(Struct, frozen=True):
    """One site of a folder: its verdict (or ``bad input``) and what matters most about it."""

    file: str
    verdict: str
    kept: int
    promises: int
    most: str


def folder_view(rows: Sequence[FolderRow]) -> Iterator[RenderableType]:
    """A line for each site, what is wrong first, and the total."""
    order = {"fault": -1, "bad input": 0, "broken": 1, "unknown": 2, "kept": 3}
    table = columns(widths=(12, 30, 8, None))
    for row in sorted(rows, key=lambda each: (order[each.verdict], each.file)):
        share = f"{row.kept} of {row.promises}" if row.verdict not in ("bad input", "fault") else ""
        table.add_row(state(row.verdict), Text(_short(row.file)), Text(share), Text(_cut(row.most)))
    yield table
    yield ""
    counts = [
        f"{count} {word}" for word in order if (count := sum(each.verdict == word for each in rows)) or word != "fault"
    ]
    yield Text(f"{len(rows)} sites: {', '.join(counts)}", style=STRONG)


def _short(file: str, most: int = 30) -> str:
    """The end of a long path, which tells more than its beginning."""
    return file if len(file) <= most else "…" + file[-(most - 1) :]


def _cut(text: str, most: int = 46) -> str:
    return text if len(text) <= most else text[: most - 1] + "…"
