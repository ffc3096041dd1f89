"""What `visit` and `check --seen` show: the ladder of a session, closer looks, prediction beside it, several places
side by side."""

import shlex
from collections.abc import Iterable, Iterator, Sequence

from rich.console import RenderableType
from rich.text import Text

from ..core.observed.climb import Climb, RightsSeen, RungSeen
from ..core.observed.compared import Beside, Compared, Outlook, VantageRow, parted, rows, seen_rung_of
from ..core.observed.looks import Remark, bounce_checks, remarks, ssh_remarks, throttling_remarks
from ..core.observed.range_estimate import AgainstPlan, RangeEstimate, RangeSeen, against_plan
from ..core.values.addresses import Address
from ..core.values.phrases import ports_named
from ..core.values.ports import PortSet
from ..core.values.quantities import percent
from ..wire.terminal_safe import printable
from .ledger import LineOf
from .screen import ACCENT, STOPS, STRONG, UNTRIED, Columns, Share, between, columns, command, command_line, state

_VERDICT = {
    "works": ("● works", STRONG),
    "partly": ("◆ works in part", STOPS),
    "fails": ("◆ fails", STOPS),
    "unknown": ("◌ unknown", UNTRIED),
}


def visit_view(climb: Climb) -> Iterator[RenderableType]:
    """One line a rung: outcome, name, time, what was seen."""
    word, style = _VERDICT[climb.observed]
    yield between(_visit_headline(climb), Text(word, style=style), STRONG)
    yield Text(f"a real session with {climb.target}, made from {climb.place}", style=UNTRIED)
    yield ""
    table = columns(widths=(11, 10, 10, None))
    for each in climb.rungs:
        table.add_row(state(each.outcome), Text(each.rung, style=STRONG), _time(each), Text(each.detail))
        if each.outcome not in ("ok", "untried") and each.advice:
            table.add_row("", "", "", Text(f"→ {each.advice}", style=ACCENT))
    yield table
    for part in extras(climb):
        yield ""
        yield from part
    yield ""
    yield Text(_closing(climb), style=STRONG)


def extras(climb: Climb) -> Iterator[Iterator[RenderableType]]:
    """What was looked at beyond the ladder."""
    if climb.tls is not None:
        yield facts_view("TLS, looked at closely", remarks(climb.tls))
    if climb.ssh is not None:
        yield facts_view("SSH, looked at closely", ssh_remarks(climb.ssh))
    if climb.caution is not None:
        yield facts_view("The server's own caution", bounce_checks(climb.caution))
    if climb.range is not None:
        yield range_view(climb.range, climb.planned)
    if climb.rights is not None:
        yield rights_view(climb.rights)
    if climb.pace is not None:
        yield facts_view("Wrong logins", throttling_remarks(climb.pace))
    if climb.missed:
        yield facts_view("Not looked at", (Remark(each.look, None, each.reason) for each in climb.missed))


def visits_view(climbs: Sequence[Climb]) -> Iterator[RenderableType]:
    """A line for each promise, then the ladders of those that are not kept."""
    broken = [each for each in climbs if each.kept is not True]
    count = f"◆ {len(broken)} of {len(climbs)} promises not kept" if broken else f"all {len(climbs)} promises kept"
    yield between(
        f"From {climbs[0].place}, as {climbs[0].client}", Text(count, style=STOPS if broken else STRONG), STRONG
    )
    yield ""
    table = columns(widths=(9, Share(2), Share(3)))
    for each in climbs:
        word = {True: "kept", False: "broken", None: "unknown"}[each.kept]
        table.add_row(state(word), Text(_climb_name(each)), Text(_summary(each)))
    yield table
    for each in broken:
        yield ""
        yield from visit_view(each)
    for each in climbs:
        if each.kept is True:
            yield from extras_of(_climb_name(each), each)


def extras_of(title: str, climb: Climb) -> Iterator[RenderableType]:
    """What was looked at beyond the ladder, under a title; nothing where nothing was."""
    parts = list(extras(climb))
    if parts:
        yield ""
        yield Text(title, style=STRONG)
    for part in parts:
        yield ""
        yield from part


def _climb_name(climb: Climb) -> str:
    mode = "shut" if climb.holds == "shut" else climb.mode
    return f"→ {climb.service}{f', {mode}' if mode else ''}"


def _summary(climb: Climb) -> str:
    stopped = climb.stopped_at
    if stopped is None:
        return f"{'every rung holds' if climb.proved else 'not tried to its end'}, at {climb.target}"
    return f"{stopped.rung}: {stopped.outcome}, {stopped.detail}"


def _visit_headline(climb: Climb) -> str:
    return (
        f"{climb.client} {_climb_name(climb)}"
        if climb.service
        else f"From {climb.place}{f', {climb.mode}' if climb.mode else ''}"
    )


def _time(rung: RungSeen) -> Text:
    if rung.milliseconds is None:
        return Text("")
    return Text(f"{rung.milliseconds:6.1f} ms" if rung.milliseconds < 1000 else f"{rung.milliseconds / 1000:6.2f} s ")


def _closing(climb: Climb) -> str:
    stopped = climb.stopped_at
    if stopped is None:
        if not climb.proved:
            return f"The session was not tried to its end from {climb.place}: nothing shows that it works."
        return f"Every rung holds: this session works from {climb.place}."
    return f"The first rung that does not hold is {stopped.rung}: {stopped.outcome}."


MOST_CHARACTERS = 300


def facts_view(title: str, found: Iterable[Remark]) -> Iterator[RenderableType]:
    """A line a fact."""
    yield Text(title, style=STRONG)
    table = columns(widths=(11, 12, None))
    for each in found:
        _add_row(table, each.good, each.topic, each.text)
    yield table


def _add_row(table: Columns, good: bool | None, topic: str, *cells: str) -> None:
    """A row that begins with a verdict, or with the word fact where there is none."""
    verdict = Text("· ", style=UNTRIED) + Text("fact") if good is None else state("good" if good else "poor")
    table.add_row(verdict, Text(topic, style=STRONG), *(Text(printable(each, MOST_CHARACTERS)) for each in cells))


def range_view(seen: RangeSeen, planned: PortSet) -> Iterator[RenderableType]:
    """The range of data ports as it is, how sure that is, and how it fits the plan."""
    estimate = seen.estimate
    yield Text("Range of data ports, as the server uses it", style=STRONG)
    table = columns(widths=(11, 12, None))
    shown = ports_named(estimate.spanned if len(estimate.seen.spans) > 3 else estimate.seen)
    _add_row(table, None, "seen", f"{shown}: {len(estimate.seen)} in {estimate.asked} asked, {estimate.habit}")
    _add_row(table, estimate.good, "how good", _sureness(seen))
    if planned:
        held = against_plan(estimate, planned)
        _add_row(table, not held.beyond_plan and not held.never_seen, "the plan", _against(held, planned))
    stopped = seen.refuses | seen.silent
    counts = f"{len(seen.answers)} answer, {len(seen.refuses)} refuse, {len(seen.silent)} are silent"
    _add_row(table, not stopped, "data", f"{counts}: {ports_named(stopped)}" if stopped else counts)
    if seen.announced:
        wording = ", ".join(f"{each} ({Address.parse(each).kind})" for each in seen.announced)
        _add_row(table, False, "address", f"announced: {wording}")
    if where := _where_to_write(seen.estimate, planned):
        _add_row(table, None, "write it", where)
    yield table


def _where_to_write(estimate: RangeEstimate, planned: PortSet) -> str:
    """What to enter where, now that the range was seen; nothing where it is as planned."""
    whole = estimate.spanned
    if not estimate.good:
        return (
            "it is not known whole: set a fixed range on the server (eager-lantern size proposes one), then the same "
            "in each forward and filter"
        )
    if not planned:
        return f"{whole} in each forward and filter on the way; for a site file: eager-lantern new --ports {whole}"
    if estimate.seen - planned:
        return f"set the server to {planned}, or ports: {whole} in the site file and in each forward and filter"
    return ""


def _sureness(seen: RangeSeen) -> str:
    estimate = seen.estimate
    if estimate.habit == "in turn":
        wording = (
            "the range has wrapped: these are all of its ports"
            if estimate.good
            else "the range has not wrapped: more ports exist"
        )
    else:
        wording = f"the next one is new with a chance of {percent(estimate.unseen_chance)} (Good's estimator)"
        wording += f"; {estimate.beyond} more at most beyond either end (95 % sure)"
    return f"{wording}; {seen.cut_short}" if seen.cut_short else wording


def _against(held: AgainstPlan, planned: PortSet) -> str:
    parts = [f"planned is {planned}"]
    if held.beyond_plan:
        parts.append(f"{ports_named(held.beyond_plan)} handed out beyond it: set the server's range")
    if held.never_seen:
        parts.append(f"{ports_named(held.never_seen)} of it never seen")
    return "; ".join(parts) if len(parts) > 1 else f"{parts[0]}: just that"


def rights_view(seen: RightsSeen) -> Iterator[RenderableType]:
    """What the account may do, a line a right, and whether it stays in its folder."""
    yield Text("Rights of the account", style=STRONG)
    table = columns(widths=(11, 12, 16, 10, None))
    table.add_row("", *(Text(head, style=UNTRIED) for head in ("right", "the site states", "seen", "")))
    may = {True: "may", False: "may not", None: "-"}
    folder = ""
    for each in seen.rights:
        if each.folder != folder:
            folder = each.folder
            yield table
            yield Text(f"In {folder}", style=STRONG)
            table = columns(widths=(11, 12, 16, 10, None))
        _add_row(table, each.fits, each.right, may[each.expected], may[each.seen], each.detail)
    stays = {True: "stays", False: "gets out", None: "-"}
    known = seen.confined is not None and seen.confined_expected is not None
    fits = seen.confined == seen.confined_expected if known else None
    _add_row(table, fits, "its folder", stays[seen.confined_expected], stays[seen.confined], seen.confined_detail)
    yield table
    if seen.left_behind:
        yield Text(f"◆ could not be removed again: {', '.join(seen.left_behind)}", style=STOPS)


_HEADS = ("  rung", "predicted", "observed", "agree", "what was seen")


def seen_view(found: Sequence[Compared], taken: str, line: LineOf, file: str, seen: str) -> Iterator[RenderableType]:
    """Each promise with its rungs; ``taken`` says when and where it was ``seen``, which names the file."""
    apart = sum(each.parts_at is not None for each in found)
    word = f"◆ {apart} of {len(found)} differ" if apart else f"● {len(found)} seen as predicted"
    yield between("Predicted beside observed", Text(word, style=STOPS if apart else STRONG), STRONG)
    yield Text(f"observed {taken}", style=UNTRIED)
    for each in found:
        yield ""
        yield from _promise_rows(each, line)
    if any(each.climb.kept is False for each in found):
        yield ""
        yield command(f"Next: {command_line('diagnose', file, '--seen', seen)}", ACCENT)


def _promise_rows(each: Compared, line: LineOf) -> Iterator[RenderableType]:
    promise = each.forecast.promise
    mode = "shut" if promise.holds == "shut" else promise.mode
    place_note = "" if each.climb.place == "here" else f", seen from {each.climb.place}"
    yield Text(f"{promise.client} → {promise.service}{f', {mode}' if mode else ''}{place_note}", style=STRONG)
    table = columns(widths=(11, 20, 11, 7, None))
    table.add_row(*(Text(head, style=UNTRIED) for head in _HEADS))
    for beside in each.rungs:
        if "untried" in (*beside.predicted, beside.observed) and beside.agree is not False:
            continue
        table.add_row(
            f"  {beside.rung}",
            " or ".join(beside.predicted),
            beside.observed,
            _agreement_cell(beside),
            Text(beside.detail),
        )
    yield table
    if each.parts_at is not None:
        yield Text(f"  → {_advice(each, each.parts_at, line)}", style=ACCENT)


def _agreement_cell(beside: Beside) -> Text:
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
        yield from _side_by_side(places, [(_row_name(row), [_kept_cell(each) for each in row.climbs]) for row in found])
    for row in found if len(found) == 1 else [each for each in found if not each.all_kept]:
        yield ""
        if len(found) > 1:
            yield Text(_row_name(row), style=STRONG)
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


def _row_name(row: VantageRow) -> str:
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
    lines = [(rung, [_cell(seen_rung_of(climb, rung)) for climb in row.climbs]) for rung in row.rungs]
    yield from _side_by_side(places, lines, 10)
    wording: dict[tuple[str, str], list[str]] = {}
    for place, climb in zip(places, row.climbs, strict=True):
        if climb and climb.kept is not True and (stopped := climb.stopped_at):
            key = (f"{stopped.rung} {stopped.outcome}: {stopped.detail}", stopped.advice)
            wording.setdefault(key, []).append(place.name)
    table = columns(widths=(1, None))
    for (what, advice), names in wording.items():
        table.add_row(Text("◆", style=STOPS), Text.assemble((", ".join(names), STRONG), f"  {what}"))
        if advice:
            table.add_row("", Text(f"→ {advice}", style=ACCENT))
    if wording:
        yield ""
        yield table
    if difference := parted(row, places):
        yield ""
        yield Text(difference, style=STRONG)


def _kept_cell(climb: Climb | None) -> Text:
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
    namespace = name.removeprefix("namespace ")
    words = ("ssh", f"ssh://{name}") if namespace == name else ("sudo", "ip", "netns", "exec", namespace)
    by_hand = shlex.join((*words, "python3", "--version"))
    yield command(f"  → Try by hand what it needs: {by_hand}", ACCENT)


def ways_view(places: Sequence[Outlook]) -> Iterator[RenderableType]:
    """What the times of a distant place hold besides."""
    slow = [each for each in places if each.round_trip_seconds is not None]
    if slow:
        ways = ", ".join(f"{each.name} {(each.round_trip_seconds or 0) * 1000:.1f} ms" for each in slow)
        yield Text(f"Each step holds the way to the place and back: {ways}.", style=UNTRIED)
