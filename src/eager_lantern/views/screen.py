"""Results turned into text for a terminal or a file, in at most 100 columns, and the palette."""

import io
import shlex
from collections.abc import Iterable, Iterator
from itertools import groupby, zip_longest

from msgspec import Struct
from rich.console import Console, ConsoleOptions, Group, RenderableType
from rich.segment import Segment
from rich.style import Style
from rich.text import Text

from ..wire.terminal_safe import printable

INK, AMBER, SLATE, BRICK, SEA = "#1d2b36", "#e0a030", "#5b6b7a", "#a63d2f", "#2f7f86"

PASSES = Style(color=AMBER)
HOLDS = Style(color=SEA)
RISKS = Style(color=AMBER)
STOPS = Style(color=BRICK, bold=True)
UNTRIED = Style(color=SLATE)
ACCENT = Style(color=SEA)
PLAIN = Style()
STRONG = Style(bold=True)

SHAPES: dict[str, tuple[str, Style]] = {
    "kept": ("●", HOLDS),
    "works": ("●", HOLDS),
    "wanted": ("●", HOLDS),
    "unasked": ("▲", RISKS),
    "fails": ("◆", STOPS),
    "broken": ("◆", STOPS),
    "unknown": ("◌", UNTRIED),
    "bad input": ("✕", STOPS),
    "fault": ("✕", STOPS),
    "ok": ("●", HOLDS),
    "good": ("●", HOLDS),
    "poor": ("◆", STOPS),
    "refused": ("◆", STOPS),
    "silent": ("◆", STOPS),
    "wrong": ("◆", STOPS),
    "untried": ("·", UNTRIED),
    "breaks": ("◆", STOPS),
    "risks": ("▲", RISKS),
    "note": ("·", UNTRIED),
}


LEAST_WIDTH, WIDTH = 80, 100
HEIGHT = 25


class _Harmless(Console):
    """A console on which nothing foreign steers the terminal: what is not plainly visible is written out, be it a
    control character or one that turns the direction of reading."""

    def render(self, renderable: RenderableType, options: ConsoleOptions | None = None) -> Iterable[Segment]:
        found = super().render(renderable, options)
        if isinstance(renderable, Group | Columns):  # their parts come through here
            return found
        return map(_harmless, found)


def _harmless(segment: Segment) -> Segment:
    if segment.control or segment.text == "\n" or segment.text.isprintable():
        return segment
    return Segment(_visible_lines(segment.text), segment.style)


def _visible_lines(text: str) -> str:
    """The same with all that is not plainly visible written out, line by line."""
    return "\n".join(printable(line, len(line)) for line in text.split("\n"))


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


def command_line(*words: str) -> str:
    """A command of ours as a shell reads it."""
    return shlex.join(("eager-lantern", *words))


def command(text: str, style: Style) -> Text:
    """A command to copy: one line, however long."""
    return Text(text, style=style, no_wrap=True)


class Share(Struct, frozen=True):
    """A column that takes a part of what the others leave, and folds."""

    part: int


class Columns:
    """Text in columns without lines, whose widths hang on the screen alone and not on what is in them."""

    def __init__(self, widths: tuple[int | Share, ...], gap: int) -> None:
        self.widths, self.gap = widths, gap
        self.rows: list[tuple[Text | str, ...]] = []

    def add_row(self, *cells: Text | str) -> None:
        """One more row; cells that are left out at its end are empty."""
        self.rows.append(cells)

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> Iterator[Text]:
        widths = tuple(self._wide(options.max_width))
        stays = [isinstance(each, int) for each in self.widths]
        for row in self.rows:
            folded = [_cell_lines(console, *each) for each in zip(row, widths, stays, strict=False)]
            for lines in zip_longest(*folded):
                yield self._side_by_side(lines, widths)

    def _side_by_side(self, cells: tuple[Text | None, ...], widths: tuple[int, ...]) -> Text:
        """One line of a row."""
        line, room = Text(no_wrap=True), 0
        for cell, width in zip(cells, widths, strict=False):
            line.pad_right(room - line.cell_len)
            line.append_text(cell or Text())
            room += width + self.gap
        return line

    def _wide(self, room: int) -> Iterator[int]:
        """The columns of each, in this much room."""
        shares = sum(each.part for each in self.widths if isinstance(each, Share))
        left = room - sum(each for each in self.widths if isinstance(each, int)) - self.gap * (len(self.widths) - 1)
        for each in self.widths:
            if isinstance(each, int):
                yield each
            else:
                wide = left * each.part // shares
                yield wide
                left, shares = left - wide, shares - each.part


def _cell_lines(console: Console, cell: Text | str, width: int, stays: bool) -> list[Text]:
    """The lines of a cell; one that ``stays`` has a single one, cut to its width."""
    text = cell if isinstance(cell, Text) else Text(cell)
    if not text.plain.replace(
        "\n", ""
    ).isprintable():  # written out first, so that it takes its own room and no other's
        text = Text(_visible_lines(text.plain), text.style)
    if text.cell_len <= width and "\n" not in text.plain:
        return [text]
    return list(text.wrap(console, width, overflow="fold", no_wrap=stays))


def columns(*, widths: tuple[int | Share | None, ...], gap: int = 1) -> Columns:
    """A table without lines; a width of None takes what is left and folds."""
    return Columns(tuple(Share(1) if each is None else each for each in widths), gap)


def indented(text: Text, by: int) -> Columns:
    """Text that folds and of which every line begins after this many columns."""
    table = columns(widths=(by, None), gap=0)
    table.add_row("", text)
    return table


def state(word: str) -> Text:
    """``◆ broken``: shape, colour and word of a state."""
    shape, style = SHAPES[word]
    return Text.assemble((f"{shape} ", style), (word, style if style is STOPS else PLAIN))


def between(left: str, right: Text, style: Style) -> Columns:
    """A headline with something at the right edge."""
    table = columns(widths=(None, right.cell_len))
    table.add_row(Text(left, style=style), right)
    return table
