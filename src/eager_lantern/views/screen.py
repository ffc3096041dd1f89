"""Results turned into text for a terminal or a file, in at most 100 columns."""

import io
import shlex
from collections.abc import Iterable
from itertools import groupby

from msgspec import Struct
from rich.box import Box
from rich.console import Console, ConsoleOptions, Group, RenderableType
from rich.padding import Padding
from rich.segment import Segment
from rich.style import Style
from rich.table import Table
from rich.text import Text

from ..wire.terminal_safe import printable
from .style import PLAIN, SHAPES, STOPS

LEAST_WIDTH, WIDTH = 80, 100
HEIGHT = 25


class _Harmless(Console):
    """A console on which nothing foreign steers the terminal: what is not plainly visible is written out, be it a
    control character or one that turns the direction of reading."""

    def render(self, renderable: RenderableType, options: ConsoleOptions | None = None) -> Iterable[Segment]:
        found = super().render(renderable, options)
        return found if isinstance(renderable, Table) else map(_harmless, found)  # a table's cells come through here


def _harmless(segment: Segment) -> Segment:
    if segment.control or segment.text == "\n" or segment.text.isprintable():
        return segment
    return Segment("\n".join(printable(line, len(line)) for line in segment.text.split("\n")), segment.style)


def rendered(parts: Iterable[RenderableType], colour: bool, width: int = WIDTH) -> str:
    """The parts one under the other, as text; with escape sequences only when colour is wanted.

    A terminal of less than 80 columns folds the lines itself, so that nothing is cut off.
    """
    out = io.StringIO()
    console = _Harmless(
        file=out,
        width=max(LEAST_WIDTH, min(width, WIDTH)),
        height=HEIGHT,
        color_system="truecolor" if colour else None,
        force_terminal=colour,
        highlight=False,
        markup=False,
        emoji=False,
        legacy_windows=False,
    )
    for in_one_line, alike in groupby(parts, lambda each: isinstance(each, Text) and bool(each.no_wrap)):
        console.print(Group(*alike), soft_wrap=in_one_line)
    return "\n".join(line.rstrip() for line in out.getvalue().split("\n"))


def typed(*words: str) -> str:
    """A command of ours as a shell reads it."""
    return shlex.join(("eager-lantern", *words))


def command(text: str, style: Style) -> Text:
    """A command to copy: one line, however long."""
    return Text(text, style=style, no_wrap=True)


class Share(Struct, frozen=True):
    """A column that takes a part of what the others leave, and folds."""

    part: int


_GAP = Box("    \n" * 8)


def columns(*, widths: tuple[int | Share | None, ...], gap: int = 1) -> Table:
    """A table without lines; a width of None takes what is left and folds."""
    table = Table(
        box=_GAP,
        show_header=False,
        show_footer=False,
        show_edge=False,
        pad_edge=False,
        collapse_padding=True,
        padding=(0, gap - 1, 0, 0),
        expand=True,
    )
    for width in widths:
        if isinstance(width, int):
            table.add_column(width=width, no_wrap=True, overflow="fold")
        else:
            table.add_column(ratio=width.part if width else 1, overflow="fold")
    return table


def indented(text: Text, by: int) -> Padding:
    """Text that folds and of which every line begins after this many columns."""
    return Padding(text, (0, 0, 0, by))


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
