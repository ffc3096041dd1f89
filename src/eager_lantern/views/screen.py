"""Results turned into text for a terminal or a file, in 40 to 100 columns, and the palette."""

import io
import shlex
from collections.abc import Iterable, Iterator, Sequence
from itertools import groupby, zip_longest
from typing import IO

from msgspec import Struct
from rich.console import Console, ConsoleOptions, Group, RenderableType
from rich.segment import Segment
from rich.style import Style
from rich.text import Text

from ..wire.terminal_safe import printable

INK, AMBER, SLATE, BRICK, SEA = "#1d2b36", "#e0a030", "#5b6b7a", "#a63d2f", "#2f7f86"
"""The palette on paper and in pictures."""

# On a terminal, whose background nobody knows, words have 4.5 to 1 on black as on white (WCAG 2.2, 1.4.3).
PASSES = Style(color=AMBER)
HOLDS = Style(color="#308088")
RISKS = Style(color="#9d6c17")
STOPS = Style(color="#c84d3c", bold=True)
UNTRIED = Style(color="#667788")
ACCENT = Style(color="#308088")
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


LEAST_WIDTH, WIDTH = 40, 100
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


def rendered(parts: Iterable[RenderableType], colour: bool, width: int | None = None) -> str:
    """The parts one under the other, as text; with escape sequences only when colour is wanted. Nothing is cut off:
    what is too long for its column folds inside of it. Where nobody asks for a width, for a file or another program, it
    is the widest, and commands stay in one line."""
    shown = parts if width is not None else (each.whole if isinstance(each, Command) else each for each in parts)
    out = io.StringIO()
    console = console_on(out, colour, width)
    for in_one_line, alike in groupby(shown, lambda each: isinstance(each, Text) and bool(each.no_wrap)):
        console.print(Group(*alike), soft_wrap=in_one_line)
    return "\n".join(line.rstrip() for line in out.getvalue().split("\n"))


def console_on(file: IO[str], colour: bool, width: int | None) -> Console:
    """A console of ours on a stream, as wide as is asked for within the bounds."""
    return _Harmless(
        file=file,
        width=max(LEAST_WIDTH, min(width or WIDTH, WIDTH)),
        height=HEIGHT,
        color_system="truecolor" if colour else None,
        force_terminal=colour,
        highlight=False,
        markup=False,
        emoji=False,
        legacy_windows=False,
    )


def command_line(*words: str) -> str:
    """A command of ours as a shell reads it."""
    return shlex.join(("eager-lantern", *words))


class Command:
    """A command to copy, with what it does behind it: in one line where there is room, else folded between its words as
    a shell reads it, and what it does below."""

    def __init__(self, text: str, style: Style) -> None:
        self.text, self.style = text, style

    @property
    def whole(self) -> Text:
        """All of it in one line, however long."""
        return Text(self.text, style=self.style, no_wrap=True)

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> Iterator[Text]:
        if len(self.text) <= options.max_width:
            yield self.whole
            return
        by = len(self.text) - len(self.text.lstrip())
        typed, _, does = self.text.lstrip().partition("   ")
        for line in _folded_command(typed, options.max_width - by):
            yield from Text(" " * by + line, style=self.style).wrap(console, options.max_width, overflow="fold")
        if does:
            yield from Text(does, style=self.style).wrap(console, options.max_width)


def _folded_command(typed: str, width: int) -> list[str]:
    """The lines of a command, each but the last with the backslash by which a shell goes on; a word is never broken,
    and a command with quotes in quotes stays whole."""
    words = shlex.split(typed, posix=False) if typed.count("'") % 2 == 0 and '"' not in typed else [typed]
    lines = [""]
    for word in words if " ".join(words) == typed else [typed]:
        if lines[-1].strip() and len(lines[-1]) + len(word) + 3 > width:
            lines[-1] += " \\"
            lines.append("   ")
        lines[-1] += f" {word}" if lines[-1] else word
    return lines


def command(text: str, style: Style) -> Command:
    """A command to copy, and after three spaces what it does."""
    return Command(text, style)


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
        widths = self._wide(options.max_width)
        for row in self.rows:
            folded = [_cell_lines(console, *each) for each in zip(row, widths, strict=False)]
            for lines in zip_longest(*folded):
                yield self._side_by_side(lines, widths)

    def _side_by_side(self, cells: tuple[Text | None, ...], widths: Sequence[int]) -> Text:
        """One line of a row."""
        line, room = Text(no_wrap=True), 0
        for cell, width in zip(cells, widths, strict=False):
            line.pad_right(room - line.cell_len)
            line.append_text(cell or Text())
            room += width + self.gap
        return line

    def _wide(self, room: int) -> list[int]:
        """The columns of each, in this much room: fixed ones as they are and the others by their parts; on a narrow
        screen each gives way, the widest first, down to its longest word."""
        left = room - self.gap * (len(self.widths) - 1)
        words = [self._longest_word(i, each) for i, each in enumerate(self.widths)]
        wanted = list(self._by_parts(left))
        if any(wide < word for wide, word, each in zip(wanted, words, self.widths, strict=True) if each != wide):
            wanted = [max(wide, word) for wide, word in zip(wanted, words, strict=True)]
        while sum(wanted) > left:
            over = [i for i, word in enumerate(words) if wanted[i] > word] or range(len(wanted))
            wanted[max(over, key=wanted.__getitem__)] -= 1
        return wanted

    def _by_parts(self, left: int) -> Iterator[int]:
        """The fixed widths as they are, and what they leave by parts."""
        shares = sum(each.part for each in self.widths if isinstance(each, Share))
        left -= sum(each for each in self.widths if isinstance(each, int))
        for each in self.widths:
            if isinstance(each, int):
                yield each
            else:
                wide = max(0, left * each.part // shares)
                yield wide
                left, shares = left - wide, shares - each.part

    def _longest_word(self, column: int, width: int | Share) -> int:
        """The columns of the longest word of a column; of one without end no more than a third of a narrow screen. A
        small column that is fixed is one word."""
        if isinstance(width, int) and width <= SMALL_COLUMN:
            return width
        cells = [str(row[column]) for row in self.rows if column < len(row)]
        return min(max((len(word) for each in cells for word in each.split()), default=0), LONGEST_WORD)


LONGEST_WORD, SMALL_COLUMN = 24, 12


def _cell_lines(console: Console, cell: Text | str, width: int) -> list[Text]:
    """The lines of a cell, which folds inside of its width."""
    text = cell if isinstance(cell, Text) else Text(cell)
    if not text.plain.replace(
        "\n", ""
    ).isprintable():  # written out first, so that it takes its own room and no other's
        text = Text(_visible_lines(text.plain), text.style)
    if text.cell_len <= width and "\n" not in text.plain:
        return [text]
    return list(text.wrap(console, max(1, width), overflow="fold"))


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
