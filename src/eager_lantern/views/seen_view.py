"""What `check --seen` shows: predicted beside observed, rung by rung."""

from collections.abc import Iterator, Sequence

from rich.console import RenderableType
from rich.text import Text

from ..core.compare.with_visit import Beside, Compared
from .ledger_view import LineOf
from .screen import between, columns, command, typed
from .style import ACCENT, STOPS, STRONG, UNTRIED

_HEADS = ("  rung", "predicted", "observed", "agree", "what was seen")


def seen_view(found: Sequence[Compared], taken: str, line: LineOf, file: str, seen: str) -> Iterator[RenderableType]:
    """Each promise with its rungs; ``taken`` says when and where it was ``seen``, which names the file."""
    apart = sum(each.parts_at is not None for each in found)
    word = f"◆ {apart} of {len(found)} differ" if apart else f"● {len(found)} seen as predicted"
    yield between("Predicted beside observed", Text(word, style=STOPS if apart else STRONG), STRONG)
    yield Text(f"observed {taken}", style=UNTRIED)
    for each in found:
        yield ""
        yield from _promise(each, line)
    if any(each.climb.kept is False for each in found):
        yield ""
        yield command(f"Next: {typed('diagnose', file, '--seen', seen)}", ACCENT)


def _promise(each: Compared, line: LineOf) -> Iterator[RenderableType]:
    promise = each.forecast.promise
    mode = "shut" if promise.holds == "shut" else promise.mode
    whence = "" if each.climb.place == "here" else f", seen from {each.climb.place}"
    yield Text(f"{promise.client} → {promise.service}{f', {mode}' if mode else ''}{whence}", style=STRONG)
    table = columns(widths=(11, 20, 11, 7, None))
    table.add_row(*(Text(head, style=UNTRIED) for head in _HEADS))
    for beside in each.rungs:
        if "untried" in (*beside.predicted, beside.observed) and beside.agree is not False:
            continue
        table.add_row(
            f"  {beside.rung}", " or ".join(beside.predicted), beside.observed, _word(beside), Text(beside.detail)
        )
    yield table
    if each.parts_at is not None:
        yield Text(f"  → {_advice(each, each.parts_at, line)}", style=ACCENT)


def _word(beside: Beside) -> Text:
    if beside.agree is None:
        return Text("-", style=UNTRIED)
    return Text("yes") if beside.agree else Text("◆ no", style=STOPS)


def _advice(each: Compared, parted: Beside, line: LineOf) -> str:
    if parted.predicted == ("ok",):
        return (
            f"the site file lets it pass at {parted.rung}, the real site does not: compare each device on the way with "
            "its page (eager-lantern sheets)"
        )
    stop = each.forecast.stops[0]
    where = f", line {line(stop.place)}" if isinstance(stop.place, tuple) else ""
    return f"by the site file {stop.at}{where} stops it, the real site does not: bring the file up to date"
