"""What `visit` shows of several places: one table, a column a place."""

import shlex
from collections.abc import Iterator, Sequence

from rich.console import RenderableType
from rich.text import Text

from ..core.compare.vantages import Outlook, VantageRow, parted, rows, rung_of
from ..core.observed.climb import Climb, RungSeen
from .screen import Share, between, columns, command, state
from .style import ACCENT, STOPS, STRONG, UNTRIED
from .visit_view import extras_of

MOST_IN_A_TABLE = 4
MOST_MILLISECONDS = 1000.0


def places_view(places: Sequence[Outlook]) -> Iterator[RenderableType]:
    """A line a promise where there are several; then the rungs, a column a place, and what failed where."""
    found = rows(places)
    yield between(
        f"From {len(places)} places" if len(places) > 1 else f"From {places[0].name}", _verdict(places), STRONG
    )
    for target in dict.fromkeys(climb.target for place in places for climb in place.climbs):
        yield Text(f"real sessions with {target}", style=UNTRIED)
    if len(found) > 1:
        yield ""
        yield from _side_by_side(places, [(_named(row), [_kept(each) for each in row.climbs]) for row in found])
    for row in found if len(found) == 1 else [each for each in found if not each.all_kept]:
        yield ""
        if len(found) > 1:
            yield Text(_named(row), style=STRONG)
        yield from _ladders(places, row)
    yield ""
    for place in places:
        if place.trouble:
            yield from trouble_view(place.name, place.trouble)
    yield from ways_view(places)
    for place in places:
        for climb in place.climbs:
            yield from extras_of(f"From {place.name}, {climb.service or climb.target}", climb)


def _verdict(places: Sequence[Outlook]) -> Text:
    good = sum(bool(place.climbs) and all(climb.kept is True for climb in place.climbs) for place in places)
    if good == len(places):
        return Text(f"● holds from all {good}", style=STRONG)
    broken = any(climb.kept is False for place in places for climb in place.climbs)
    return Text(f"{'◆' if broken else '◌'} holds from {good} of {len(places)}", style=STOPS if broken else UNTRIED)


def _named(row: VantageRow) -> str:
    mode = "shut" if row.holds == "shut" else row.mode
    return ", ".join(filter(None, (row.service and f"→ {row.service}", mode)))


def _side_by_side(
    places: Sequence[Outlook], lines: Sequence[tuple[str, Sequence[Text]]], first: int | Share = 30
) -> Iterator[RenderableType]:
    """A line each, a column a place; more places than fit go into tables of their own."""
    for low in range(0, len(places), MOST_IN_A_TABLE):
        numbers = range(low, min(low + MOST_IN_A_TABLE, len(places)))
        table = columns(widths=(first, *(Share(1) for _ in numbers)), gap=2)
        table.add_row("", *(Text(places[i].name, style=STRONG) for i in numbers))
        for label, cells in lines:
            table.add_row(Text(label, style=STRONG), *(cells[i] for i in numbers))
        yield table


def _ladders(places: Sequence[Outlook], row: VantageRow) -> Iterator[RenderableType]:
    lines = [(rung, [_cell(rung_of(climb, rung)) for climb in row.climbs]) for rung in row.rungs]
    yield from _side_by_side(places, lines, 10)
    told: dict[tuple[str, str], list[str]] = {}
    for place, climb in zip(places, row.climbs, strict=True):
        if climb and climb.kept is not True and (stopped := climb.stopped_at):
            key = (f"{stopped.rung} {stopped.outcome}: {stopped.detail}", stopped.advice)
            told.setdefault(key, []).append(place.name)
    table = columns(widths=(1, None))
    for (what, advice), names in told.items():
        table.add_row(Text("◆", style=STOPS), Text.assemble((", ".join(names), STRONG), f"  {what}"))
        if advice:
            table.add_row("", Text(f"→ {advice}", style=ACCENT))
    if told:
        yield ""
        yield table
    if difference := parted(row, places):
        yield ""
        yield Text(difference, style=STRONG)


def _kept(climb: Climb | None) -> Text:
    if climb is None:
        return Text("-", style=UNTRIED)
    return state({True: "kept", False: "broken", None: "unknown"}[climb.kept])


def _cell(climbed: RungSeen | None) -> Text:
    if climbed is None:
        return Text("-", style=UNTRIED)
    spent = climbed.milliseconds
    if spent is None or climbed.outcome == "untried":
        return state(climbed.outcome)
    shown = f"{spent:.0f} ms" if spent < MOST_MILLISECONDS else f"{spent / MOST_MILLISECONDS:.1f} s"
    return state(climbed.outcome) + Text(f"  {shown}", style=UNTRIED)


def trouble_view(name: str, trouble: str) -> Iterator[RenderableType]:
    """A place that cannot be seen from."""
    yield Text.assemble(("◌ ", UNTRIED), (name, STRONG), f"  {trouble}")
    by_hand = shlex.join(("ssh", f"ssh://{name}", "python3", "--version"))
    yield command(f"  → Try by hand what it needs: {by_hand}", ACCENT)


def ways_view(places: Sequence[Outlook]) -> Iterator[RenderableType]:
    """What the times of a distant place hold besides."""
    slow = [each for each in places if each.round_trip_seconds is not None]
    if slow:
        ways = ", ".join(f"{each.name} {(each.round_trip_seconds or 0) * 1000:.1f} ms" for each in slow)
        yield Text(f"Each step holds the way over SSH and back: {ways}.", style=UNTRIED)
