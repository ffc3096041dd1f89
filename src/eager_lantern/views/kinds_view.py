"""The kinds of client that there are, in words to tell users: what works for whom."""

from collections.abc import Iterator

from rich.console import RenderableType
from rich.text import Text

from ..core.predict.kinds import ClientKind
from ..core.predict.wording import because
from .screen import Share, columns, state
from .style import STRONG


def kinds_view(kinds: tuple[ClientKind, ...]) -> Iterator[RenderableType]:
    """A table for each place where users may stand; equal answers of a place are one row."""
    yield Text("The site describes no clients. Of those that there are:", style=STRONG)
    for stands in dict.fromkeys((each.service, each.stands) for each in kinds):
        yield Text(f"  {stands[1]}, {stands[0]}")
        table = columns(widths=(14, Share(2), Share(5)))
        rows: dict[tuple[str, str], list[ClientKind]] = {}
        for each in kinds:
            if (each.service, each.stands) == stands:
                rows.setdefault((_word(each), because(each.forecast)), []).append(each)
        for (word, reason), alike in rows.items():
            table.add_row(Text("    ") + state(word), Text(_settings(alike, kinds)), Text(reason))
        yield table


def _word(kind: ClientKind) -> str:
    return {True: "works", False: "fails", None: "unknown"}[kind.forecast.kept]


def _settings(alike: list[ClientKind], kinds: tuple[ClientKind, ...]) -> str:
    """Their settings; with or without TLS only where that makes a difference."""
    chosen = any(each.clear for each in kinds)
    said: dict[str, set[bool]] = {}
    for each in alike:
        said.setdefault(_mode(each), set()).add(each.clear)
    words = {True: ", without TLS", False: ", with TLS" if chosen else ""}
    return "; ".join(mode if len(clear) > 1 else f"{mode}{words[min(clear)]}" for mode, clear in said.items())


def _mode(kind: ClientKind) -> str:
    """The mode in the words that client programs have for it."""
    if kind.mode is None:
        return "SFTP"
    return "active" if kind.mode == "active" else "passive (EPSV)" if kind.extended else "passive (PASV)"
