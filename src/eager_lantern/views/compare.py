"""What `compare` shows: promises, who reaches what, and the steps from the one state to the other."""

from collections.abc import Iterable, Iterator, Sequence

from rich.console import RenderableType
from rich.text import Text

from ..core.changes.moves import move_steps
from ..core.changes.order import Turn
from ..core.changes.states import Comparison, Revisited, Transition
from ..core.changes.steps import Edit, edit_action, senders
from ..core.model.site import Site
from ..core.network.topology import Topology
from ..core.predict.access import Reached
from ..core.predict.forecast import Forecast, because
from ..core.values.phrases import ports_named
from .ledger import LineOf
from .screen import (
    ACCENT,
    HOLDS,
    RISKS,
    STOPS,
    STRONG,
    UNTRIED,
    Columns,
    Share,
    between,
    columns,
    command,
    command_line,
)

MOST_SHOWN = 12
_MARKS = {
    "lost": ("◆", STOPS),
    "doubtful": ("◌", RISKS),
    "unknown": ("◌", RISKS),
    "gained": ("●", HOLDS),
    "otherwise": ("▲", RISKS),
    "same": ("·", UNTRIED),
    "new": ("+", HOLDS),
    "dropped": ("−", RISKS),
}
_WORDS: dict[Turn, str] = {
    "lost": "lost",
    "doubtful": "in doubt",
    "unknown": "not known",
    "gained": "kept now",
    "otherwise": "changed",
    "same": "the same",
    "new": "promised now",
    "dropped": "dropped",
}


def compare_view(
    found: Comparison, names: tuple[str, str], lines: tuple[LineOf, LineOf], whole: bool
) -> Iterator[RenderableType]:
    """The whole of a comparison of two files of these names."""
    yield between(found.after.site, _compare_head(found.verdict, "no promise and no way in is lost"), STRONG)
    if found.unknown or found.doors_unknown:
        yield Text("▲ of what else is reached, some is known no more: it stands below", style=RISKS)
    yield Text(f"{names[0]} → {names[1]}", style=UNTRIED)
    yield ""
    yield from compare_body(found, whole)
    yield from _steps(found, lines, whole)
    yield from _move_rows(found)
    yield from _next_rows(found, names)


def compare_body(found: Comparison, whole: bool) -> Iterator[RenderableType]:
    """Promises, ways in, and who reaches what."""
    yield from _transition_rows("Promises", found.promises, whole)
    if found.ways_in:
        yield from _transition_rows("Ways in that have to stay open", found.ways_in, whole)
    yield from _access_rows("Newly reached", found.after, found.gained, whole)
    if found.unasked:
        yield from _access_rows("▲ Of that, what no promise needs", found.after, found.unasked, whole)
    if found.unknown:
        yield from _access_rows("▲ Perhaps reached: the effect of a rule is unknown", found.after, found.unknown, whole)
    yield from _access_rows("No longer reached", found.before, found.lost, whole)
    for title, site, doors in (
        ("Outside ports that lead in now: what is behind them was reached before", found.after, found.doors_opened),
        (
            "Outside ports that lead in no longer: what is behind them is still reached",
            found.before,
            found.doors_closed,
        ),
        (
            "▲ Outside ports of which nobody knows any more whether they lead in: what is behind them is still reached",
            found.before,
            found.doors_unknown,
        ),
    ):
        if doors:
            yield from _access_rows(title, site, doors, whole)
    if found.unsure:
        yield from _access_rows("◌ Not known in either state", found.after, found.unsure, whole)


def _compare_head(verdict: str, nothing_lost: str) -> Text:
    match verdict:
        case "same":
            return Text("● the same", style=HOLDS)
        case "changed":
            return Text(f"● {nothing_lost}", style=HOLDS)
        case "lost":
            return Text("◆ something is lost", style=STOPS)
        case _:
            return Text("◌ something is unknown", style=RISKS)


def _transition_rows(title: str, turned: Sequence[Transition], whole: bool) -> Iterator[RenderableType]:
    shown = [each for each in turned if whole or each.turn != "same"]
    same = len(turned) - len(shown)
    if not turned:
        yield Text(f"{title}: the site has none", style=UNTRIED)
        yield ""
        return
    yield Text.assemble((title, STRONG), (f"  {same} as before" if same else "", UNTRIED))
    table = columns(widths=(1, 14, Share(1)))
    for each in sorted(shown, key=lambda each: list(_MARKS).index(each.turn)):
        mark, style = _MARKS[each.turn]
        table.add_row("", Text(f"{mark} {_WORDS[each.turn]}", style=style), Text(_session_name(each)))
        if why := _change_reason(each):
            table.add_row("", "", Text(why, style=UNTRIED))
    yield table
    yield ""


def _session_name(each: Transition) -> str:
    promise = each.promise
    how = "shut" if promise.holds == "shut" else promise.mode
    return f"{promise.client} → {promise.service}{f', {how}' if how else ''}"


def _change_reason(each: Transition) -> str:
    """What it was and what it is, where that is not the same."""
    if each.turn in ("lost", "doubtful", "new") and each.after is not None:
        return because(each.after) if each.after.kept is not True else ""
    if each.turn == "unknown" and each.after is not None:
        return f"in neither state: {because(each.after)}"
    if each.turn == "gained" and each.before is not None:
        return f"before: {because(each.before)}"
    if each.turn == "otherwise" and each.before is not None and each.after is not None:
        was, is_now = _state(each.before), _state(each.after)
        return f"before: {was}; now: {is_now}" if was != is_now else _data_ports(each.before, each.after)
    return ""


def _data_ports(before: Forecast, after: Forecast) -> str:
    """What has become of the data ports of a session that ends as it did."""
    was, is_now = (ports_named(each.data.asked) if each.data else "none" for each in (before, after))
    return f"data ports: {was}; now: {is_now}" if was != is_now else "as before, by other rules"


def _state(forecast: Forecast) -> str:
    why = because(forecast)
    works = f", data over {ports_named(forecast.data.works)}" if forecast.data and forecast.data.works else ""
    return why or f"{forecast.predicted}{works}"


def _access_rows(title: str, site: Site, reached: Sequence[Reached], whole: bool) -> Iterator[RenderableType]:
    yield Text(title if reached else f"{title}: nothing", style=STRONG if reached else UNTRIED)
    joined = _by_target(site, reached)
    table = columns(widths=(1, Share(2), Share(3), Share(4)))
    for (host, protocol, ports), who in joined[: None if whole else MOST_SHOWN]:
        table.add_row("", Text(host, style=STRONG), Text(f"{protocol} {ports}"), Text(who))
    if joined:
        yield table
    yield from _more_line(len(joined) - MOST_SHOWN, whole)
    yield ""


def _by_target(site: Site, reached: Sequence[Reached]) -> list[tuple[tuple[str, str, str], str]]:
    """By what is reached: who does so."""
    topology = Topology(site)
    found: dict[tuple[str, str, str], list[str]] = {}
    for each in reached:
        key = (each.host, each.protocol, ports_named(each.ports))
        found.setdefault(key, []).append(senders(topology, each))
    return [(key, "; ".join(dict.fromkeys(who))) for key, who in found.items()]


def _steps(found: Comparison, lines: tuple[LineOf, LineOf], whole: bool) -> Iterator[RenderableType]:
    steps = found.order.steps
    if not steps:
        return
    remark = "after each, all that holds in both states holds" if steps else ""
    yield Text.assemble(("Order of steps", STRONG), (f"  {remark}", UNTRIED))
    table = columns(widths=(1, 3, Share(2), Share(5)))
    shown = steps if whole else steps[:MOST_SHOWN]
    for number, step in enumerate(shown, start=1):
        edits = [found.edits[each] for each in step]
        _step(table, number, edits if whole else edits[:MOST_SHOWN], found, lines)
        if len(edits) > MOST_SHOWN and not whole:
            left = f"{len(edits) - MOST_SHOWN:,} more changes with them (--all shows them)"
            table.add_row("", Text("and", style=STRONG), "", Text(left, style=UNTRIED))
    yield table
    yield from _more_line(len(steps) - MOST_SHOWN, whole)
    if not found.order.is_safe:
        why = "no order of single ones keeps" if found.order.complete else "no order was found that keeps"
        yield Text(f"▲ Where a step has several changes, make them together: {why} everything in between.", style=RISKS)
    yield ""


def _step(table: Columns, number: int, edits: Sequence[Edit], found: Comparison, lines: tuple[LineOf, LineOf]) -> None:
    for i, edit in enumerate(edits):
        line = lines[0](edit.before) if edit.new is None else lines[1](edit.after)
        where = f"  line {line}" if line else ""
        mark = Text(f"{number}" if i == 0 else "and", style=STRONG)
        table.add_row(
            "", mark, Text(found.device(edit), style=STRONG), Text.assemble(edit_action(edit), (where, UNTRIED))
        )


def _move_rows(found: Comparison) -> Iterator[RenderableType]:
    """What an address that moves asks for besides: who remembers the old one, and for how long both have to lead in."""
    bridge = found.bridge
    if bridge is None:
        return
    yield Text("An address moves", style=STRONG)
    table = columns(widths=(1, 3, Share(1)))
    for each in found.moves:
        what = each.name or "what they type"
        table.add_row(
            "", "", Text(f"{what}: {each.old} → {each.new}  ({', '.join(each.clients) or 'nobody types it'})")
        )
    for i, step in enumerate(move_steps(found.moves, bridge), start=1):
        table.add_row("", Text(f"{i}", style=STRONG), Text(step))
    yield table
    if bridge.holds:
        yield ""
        yield Text("With both addresses", style=STRONG)
        does = columns(widths=(5, Share(2), Share(5)))
        for edit in bridge.edits:
            if device := found.device(edit):
                does.add_row("", Text(device, style=STRONG), edit_action(edit))
        yield does
    for by, forecasts in (("old", bridge.by_old), ("new", bridge.by_new)):
        for one in forecasts:
            promise = one.promise
            yield Text(f"▲ {promise.client} → {promise.service} by the {by} address: {because(one)}", style=RISKS)
    if bridge.wrong:
        yield Text(f"▲ A site with both addresses is none: {bridge.wrong}", style=RISKS)
    yield ""


def _more_line(count: int, whole: bool) -> Iterator[RenderableType]:
    if count > 0 and not whole:
        yield Text(f"  and {count:,} more (--all shows them)", style=UNTRIED)


def _next_rows(found: Comparison, names: tuple[str, str]) -> Iterator[RenderableType]:
    before, after = names
    if found.verdict == "lost":
        yield Text("Next: what breaks it, and the cure", style=STRONG)
        yield command(f"  {command_line('check', after)}", ACCENT)
        yield command(f"  {command_line('mend', after)}", ACCENT)
    elif found.verdict != "same":
        yield Text("Next: the steps as a table for a change request", style=STRONG)
        yield command(f"  {command_line('compare', before, after, '--format', 'table')}", ACCENT)


def revisits_view(
    found: Iterable[Revisited], verdict: str, names: tuple[str, str], taken: tuple[str, str]
) -> Iterator[RenderableType]:
    """Two results of visits, session by session."""
    yield between("Two visits", _compare_head(verdict, "nothing is lost"), STRONG)
    yield Text(f"{names[0]}, {taken[0]} → {names[1]}, {taken[1]}", style=UNTRIED)
    yield ""
    table = columns(widths=(14, Share(1)))
    for each in found:
        mark, style = _MARKS[each.turn]
        session = each.session
        place = "" if session.place == "here" else f", from {session.place}"
        mode = "shut" if session.holds == "shut" else session.mode
        who = " → ".join(part for part in (session.client, session.service or session.target) if part)
        table.add_row(Text(f"{mark} {_WORDS[each.turn]}", style=style), Text(f"{who}, {mode}{place}"))
        for word, rung in zip(("before", "now"), each.parts_at, strict=True):
            if rung is not None and each.before and each.after:
                table.add_row("", Text(f"{word}: {rung.rung} {rung.outcome}  {rung.detail}", style=UNTRIED))
    yield table
    if verdict == "lost":
        yield ""
        yield Text("Next: the causes of the later visit", style=STRONG)
        yield command(f"  {command_line('diagnose', '--seen', names[1])}", ACCENT)
