"""Port sets as bars on one common axis, drawn so that a difference of one port is seen.

The axis is cut wherever any set begins or ends. Each piece gets room by its size but never
less than two columns (one, where there is no room), so that bars are comparable with each other and not to scale.
"""

from itertools import pairwise

from msgspec import Struct

from ..core.values.ports import PortSet

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
