"""The ledger drawn: one bar for each layer, on a common axis.

The axis is cut wherever any set begins or ends. Each piece gets room by its size but never
less than two columns (one, where there is no room), so that bars are comparable with each other and not to scale.
"""

from collections.abc import Callable, Iterator, Mapping
from itertools import groupby, pairwise

from msgspec import Struct
from rich.cells import set_cell_size
from rich.console import Console, ConsoleOptions, RenderableType
from rich.style import Style
from rich.text import Text

from ..core.predict.forecast import share_that
from ..core.predict.ledger import Layer, Ledger
from ..core.values.ports import PortSet
from ..core.values.text_value import SitePath
from .screen import ACCENT, PASSES, PLAIN, STOPS, STRONG, UNTRIED

LEAST_COLUMNS = 2
HUGE = 16_384


class Piece(Struct, frozen=True):
    """A part of the axis that every set holds wholly or not at all."""

    ports: PortSet
    columns: int


def axis(sets: list[PortSet], wanted: PortSet, columns: int) -> list[Piece]:
    """Cut the axis for these sets. Sets that pass nearly everything do not stretch it."""
    drawn = [each for each in sets if len(each) <= HUGE and each] or [wanted]
    low, high = min(each.lowest for each in drawn), max(each.highest for each in drawn)
    edges = sorted({low, high + 1, *(edge for each in drawn for span in each.spans for edge in (span[0], span[1] + 1))})
    spans = [PortSet.of((start, end - 1)) for start, end in pairwise(edges)]
    least = LEAST_COLUMNS if LEAST_COLUMNS * len(spans) <= columns else 1
    most = max(1, columns // least)
    held = [span for span in spans if any(span <= each for each in drawn)]
    shown = (held if len(spans) > most else spans)[:most]
    spare = columns - least * len(shown)
    total = sum(len(span) for span in shown if span in held) or 1
    return [Piece(span, least + (spare * len(span) // total if span in held else 0)) for span in shown]


def bar(pieces: list[Piece], ports: PortSet, wanted: PortSet) -> str:
    """``▆`` passes, ``·`` is wanted and does not pass, ``▂`` passes without being wanted."""
    text = ""
    for piece in pieces:
        if piece.ports <= ports:
            text += ("▆" if piece.ports <= wanted else "▂") * piece.columns
        else:
            text += ("·" if piece.ports <= wanted else " ") * piece.columns
    return text


LABEL_COLUMNS, SAID_COLUMNS, LEAST_BAR = 27, 45, 6
Styled = tuple[str, Style]
"""Words and how they are drawn."""
LineOf = Callable[[SitePath | None], int | None]

_STYLES = {"▆": PASSES, "·": STOPS}


class _Rows:
    """What each place passes, as rows under each other: its name, a bar as wide as there is room, and the rest."""

    def __init__(self, drawn: list[PortSet], wanted: PortSet) -> None:
        self.drawn, self.wanted = drawn, wanted
        self.rows: list[tuple[Styled, PortSet, Text]] = []

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> Iterator[Text]:
        beside = options.max_width - LABEL_COLUMNS - SAID_COLUMNS - 2
        below = beside < LEAST_BAR  # what is said of a bar stands under it where there is no room beside it
        pieces = axis(self.drawn, self.wanted, options.max_width - LABEL_COLUMNS - 1 if below else beside)
        for (label, style), ports, words in self.rows:
            text = Text(no_wrap=True).append(set_cell_size(label, LABEL_COLUMNS + 1), style)
            for character, run in groupby(bar(pieces, ports, self.wanted)):
                text.append("".join(run), _STYLES.get(character, UNTRIED))
            if below:
                yield text
                yield from (Text("    ") + each for each in words.wrap(console, options.max_width - 4))
            else:
                yield text.append(" ").append_text(words)


def ledger_view(ledger: Ledger, line: LineOf) -> Iterator[RenderableType]:
    """The layers, what all of them let pass, and what that means for transfers."""
    yield Text(f"Ledger of {ledger.client} → {ledger.service}, {ledger.mode}: data ports", style=STRONG)
    yield _layer_rows(ledger, line, {"works end to end": ledger.reachable})
    yield Text("  ") + _meaning(ledger, ledger.layers[0].wanted)


def measured_view(ledger: Ledger, line: LineOf, measured: PortSet) -> Iterator[RenderableType]:
    """The layers as they are predicted, what all of them ought to let pass, and what was seen to pass."""
    yield Text(f"Ledger of {ledger.client} → {ledger.service}: predicted, and as measured", style=STRONG)
    yield _layer_rows(ledger, line, {"predicted end to end": ledger.reachable, "measured end to end": measured})


def _layer_rows(ledger: Ledger, line: LineOf, sums: Mapping[str, PortSet]) -> _Rows:
    """A row a layer, then a row for each of what all of them come to."""
    wanted = ledger.layers[0].wanted
    drawn = _Rows([*(each.ports for each in ledger.layers), *sums.values()], wanted)
    for each in ledger.layers:
        where = f"{f'line {line(each.place)}':9}", ACCENT
        words = _what_passes(_ports_cell(each, ledger), len(each.ports & wanted), where, _missing_note(each))
        drawn.rows.append(((_label(each, ledger.mode), PLAIN), each.ports, words))
    for label, ports in sums.items():
        drawn.rows.append(((f"  {label}", STRONG), ports, _what_passes((_short(ports), STRONG), len(ports))))
    return drawn


def _what_passes(ports: Styled, count: int, *more: Styled) -> Text:
    """Ports or an address, how many ports that is, and the rest."""
    return Text.assemble((f"{ports[0]:15}", ports[1]), f"{count:6} ", *more)


def _label(layer: Layer, mode: str) -> str:
    """What a layer is called; of a long name the beginning is kept."""
    words = "listens on" if layer.aspect == "hands-out" and mode == "active" else layer.name
    room = LABEL_COLUMNS - len(words) - 4
    name = layer.at if len(layer.at) <= room else layer.at[: room - 1] + "…"
    return f"  {name} {words}"


def _short(ports: PortSet) -> str:
    if not ports:
        return "none"
    return str(ports) if len(ports.spans) == 1 else f"{len(ports.spans)} ranges"


def _ports_cell(layer: Layer, ledger: Ledger) -> Styled:
    if layer.aspect == "address":
        return str(ledger.announced), STOPS
    if len(layer.ports) > HUGE:
        return "all of them" if not layer.missing else "most others", PLAIN
    return _short(layer.ports), PLAIN if layer.ports else STOPS


def _missing_note(layer: Layer) -> Styled:
    if not layer.missing:
        return "", PLAIN
    how = {"silent": "hangs", "refused": "refused", "wrong": "astray", "unknown": "unknown"}[layer.outcome]
    return f"◀ {'rest ' if layer.ports & layer.wanted else ''}{how}", STOPS


def _meaning(ledger: Ledger, wanted: PortSet) -> Text:
    unknown = len(ledger.unknown & wanted)
    fails = len(wanted) - len(ledger.reachable) - unknown
    parts = [(fails, ledger.outcome or "unknown"), (unknown, "unknown")]
    found = [share_that(part, len(wanted), outcome) for part, outcome in parts if part]
    return Text("; ".join(found), style=STOPS) if found else Text("every transfer works", style=STRONG)
