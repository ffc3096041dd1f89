"""Results turned into text for a terminal or a file, in at most 100 columns."""

import io
import shlex
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from rich.console import Console, ConsoleOptions, RenderableType
from rich.segment import Segment
from rich.style import Style
from rich.table import Table
from rich.text import Text

from ..wire.terminal_safe import printable
from .style import PLAIN, SHAPES, STOPS

LEAST_WIDTH, WIDTH = 80, 100


class _Harmless(Console):
    """A console on which nothing foreign steers the terminal: what is not plainly visible is written out, be it a
    control character or one that turns the direction of reading."""

    def render(self, renderable: RenderableType, options: ConsoleOptions | None = None) -> Iterator[Segment]:
        for each in super().render(renderable, options):
            if each.control or each.text.isprintable():
                yield each
            else:
                shown = "\n".join(printable(line, len(line)) for line in each.text.split("\n"))
                yield Segment(shown, each.style)


def rendered(parts: Iterable[RenderableType], colour: bool, width: int = WIDTH) -> str:
    """The parts one under the other, as text; with escape sequences only when colour is wanted.

    A terminal of less than 80 columns folds the lines itself, so that nothing is cut off.
    """
    out = io.StringIO()
    console = _Harmless(
        file=out,
        width=max(LEAST_WIDTH, min(width, WIDTH)),
        color_system="truecolor" if colour else None,
        force_terminal=colour,
        highlight=False,
        markup=False,
        emoji=False,
        legacy_windows=False,
    )
    for part in parts:
        console.print(part, soft_wrap=isinstance(part, Text) and bool(part.no_wrap))
    return "\n".join(line.rstrip() for line in out.getvalue().split("\n"))


def typed(*words: str) -> str:
    """A command of ours as a shell reads it."""
    return shlex.join(("eager-lantern", *words))


def command(text: str, style: Style) -> Text:
    """A command to copy: one line, however long."""
    return Text(text, style=style, no_wrap=True)


@dataclass(frozen=True)
class Share:
    """A column that takes a part of what the others leave, and folds."""

    part: int


def columns(*, widths: tuple[int | Share | None, ...], gap: int = 1) -> Table:
    """A table without lines; a width of None takes what is left and folds."""
    table = Table.grid(padding=(0, gap, 0, 0), expand=True)
    for width in widths:
        if isinstance(width, int):
            table.add_column(width=width, no_wrap=True, overflow="fold")
        else:
            table.add_column(ratio=width.part if width else 1, overflow="fold")
    return table


def state(word: str) -> Text:
    """``◆ broken``: shape, colour and word of a state."""
    shape, style = SHAPES[word]
    return Text.assemble((f"{shape} ", style), (word, style if style is STOPS else PLAIN))


def between(left: str, right: Text, style: Style) -> Table:
    """A headline with something at the right edge."""
    table = Table.grid(expand=True)
    table.add_column(ratio=1)
    table.add_column(justify="right", no_wrap=True)
    table.add_row(Text(left, style=style), right)
    return table
