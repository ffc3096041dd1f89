"""What `visit` shows: the ladder of one session, and after the rung that failed what to do."""

from collections.abc import Iterable, Iterator, Sequence

from rich.console import RenderableType
from rich.text import Text

from ..core.addresses import Address
from ..core.caution import cautions
from ..core.ladder import Climb, Climbed
from ..core.ports import PortSet
from ..core.quantities import percent
from ..core.range_estimate import AgainstPlan, RangeSeen, against_plan
from ..core.rights import RightsSeen
from ..core.tls_facts import Remark, remarks
from ..core.wording import ports_named
from ..wire.harmless import harmless
from .screen import Share, between, columns, state
from .style import ACCENT, STOPS, STRONG, UNTRIED

_VERDICT = {
    "works": ("● works", STRONG),
    "partly": ("◆ works in part", STOPS),
    "fails": ("◆ fails", STOPS),
    "unknown": ("◌ cannot be told", UNTRIED),
}


def visit_view(climb: Climb) -> Iterator[RenderableType]:
    """One line a rung: outcome, name, time, what was seen."""
    word, style = _VERDICT[climb.observed]
    yield between(_headline(climb), Text(word, style=style), STRONG)
    yield Text(f"a real session with {climb.target}", style=UNTRIED)
    yield ""
    table = columns(widths=(11, 10, 10, None))
    for each in climb.rungs:
        table.add_row(state(each.outcome), Text(each.rung, style=STRONG), _time(each), Text(each.detail))
        if each.outcome not in ("ok", "untried") and each.advice:
            table.add_row("", "", "", Text(f"→ {each.advice}", style=ACCENT))
    yield table
    if climb.tls is not None:
        yield ""
        yield from _facts("TLS, looked at closely", remarks(climb.tls))
    if climb.caution is not None:
        yield ""
        yield from _facts("The server's own caution", cautions(climb.caution))
    if climb.range is not None:
        yield ""
        yield from _range(climb.range, climb.planned)
    if climb.rights is not None:
        yield ""
        yield from _rights(climb.rights)
    yield ""
    yield Text(_closing(climb), style=STRONG)


def _rights(seen: RightsSeen) -> Iterator[RenderableType]:
    """What the account may do, a line a right, and whether it stays in its folder."""
    yield Text("Rights of the account", style=STRONG)
    table = columns(widths=(11, 13, 16, 16, None))
    table.add_row("", Text("  right", style=UNTRIED), Text("the site says", style=UNTRIED), Text("seen", style=UNTRIED))
    for each in seen.rights:
        word = {True: "may", False: "may not", None: "-"}
        table.add_row(
            _fact(each.fits), each.right, word[each.expected], word[each.seen], Text(harmless(each.detail, 200))
        )
    kept = {True: "stays", False: "gets out", None: "-"}
    fits = None if None in (seen.confined, seen.confined_expected) else seen.confined == seen.confined_expected
    told = Text(harmless(seen.confined_detail, 200))
    table.add_row(_fact(fits), "its folder", kept[seen.confined_expected], kept[seen.confined], told)
    yield table
    if seen.left_behind:
        yield Text(f"◆ could not be removed again: {', '.join(seen.left_behind)}", style=STOPS)


def _range(seen: RangeSeen, planned: PortSet) -> Iterator[RenderableType]:
    """The range of data ports as it is, how sure that is, and how it fits the plan."""
    estimate = seen.estimate
    yield Text("Range of data ports, as the server uses it", style=STRONG)
    table = columns(widths=(11, 12, None))
    shown = ports_named(estimate.spanned) if len(estimate.seen.spans) > 3 else ports_named(estimate.seen)
    table.add_row(_fact(None), "seen", f"{shown}: {len(estimate.seen)} in {estimate.asked} asked, {estimate.habit}")
    table.add_row(_fact(estimate.good), "how good", _sureness(seen))
    if planned:
        held = against_plan(estimate, planned)
        fits = not held.beyond_plan and not held.never_seen
        table.add_row(_fact(fits), "the plan", _against(held, planned))
    stopped = len(seen.refuses) + len(seen.silent)
    counts = f"{len(seen.answers)} answer, {len(seen.refuses)} refuse, {len(seen.silent)} are silent"
    where = f": {ports_named(seen.refuses | seen.silent)}" if stopped else ""
    table.add_row(_fact(not stopped), "data", f"{counts}{where}")
    if seen.announced:
        table.add_row(_fact(False), "address", f"announced: {', '.join(map(_kind, seen.announced))}")
    yield table


def _fact(good: bool | None) -> Text:
    return Text("· ", style=UNTRIED) + Text("fact") if good is None else state("good" if good else "poor")


def _kind(address: str) -> str:
    found = Address.parse(address)
    return f"{address} ({found.kind})"


def _sureness(seen: RangeSeen) -> str:
    estimate = seen.estimate
    if estimate.habit == "in turn":
        told = "it has come round: this is all of it" if estimate.good else "it has not come round: there is more"
    else:
        told = f"the next one is new with a chance of {percent(estimate.unseen_chance)} (Good's estimator)"
        told += f"; {estimate.beyond} more at most beyond either end (95 % sure)"
    return f"{told}; {harmless(seen.cut_short)}" if seen.cut_short else told


def _against(held: AgainstPlan, planned: PortSet) -> str:
    parts = [f"planned is {planned}"]
    if held.beyond_plan:
        parts.append(f"{ports_named(held.beyond_plan)} handed out beyond it: set the server's range")
    if held.never_seen:
        parts.append(f"{ports_named(held.never_seen)} of it never seen")
    return "; ".join(parts) if len(parts) > 1 else f"{parts[0]}: just that"


def _facts(title: str, found: Iterable[Remark]) -> Iterator[RenderableType]:
    """A line a fact."""
    yield Text(title, style=STRONG)
    table = columns(widths=(11, 12, None))
    for each in found:
        table.add_row(_fact(each.good), Text(each.topic, style=STRONG), Text(harmless(each.text, 400)))
    yield table


def visits_view(climbs: Sequence[Climb]) -> Iterator[RenderableType]:
    """A line for each promise, then the ladders of those that are not kept."""
    broken = [each for each in climbs if each.kept is not True]
    count = f"◆ {len(broken)} of {len(climbs)} promises not kept" if broken else f"all {len(climbs)} promises kept"
    yield between(f"From here, as {climbs[0].client}", Text(count, style=STOPS if broken else STRONG), STRONG)
    yield ""
    table = columns(widths=(9, Share(2), Share(3)))
    for each in climbs:
        word = {True: "kept", False: "broken", None: "unknown"}[each.kept]
        table.add_row(state(word), Text(_promise(each)), Text(_seen(each)))
    yield table
    for each in broken:
        yield ""
        yield from visit_view(each)


def _promise(climb: Climb) -> str:
    mode = "shut" if climb.holds == "shut" else climb.mode
    return f"→ {climb.service}{f', {mode}' if mode else ''}"


def _seen(climb: Climb) -> str:
    stopped = climb.stopped_at
    if stopped is None:
        return f"every rung holds, at {climb.target}"
    return f"{stopped.rung}: {stopped.outcome}, {stopped.detail}"


def _headline(climb: Climb) -> str:
    return f"{climb.client} {_promise(climb)}" if climb.service else f"From here, {climb.mode}"


def _time(rung: Climbed) -> Text:
    if rung.milliseconds is None:
        return Text("")
    return Text(f"{rung.milliseconds:6.1f} ms" if rung.milliseconds < 1000 else f"{rung.milliseconds / 1000:6.2f} s ")


def _closing(climb: Climb) -> str:
    stopped = climb.stopped_at
    if stopped is None:
        return "Every rung holds: this session works from here."
    return f"The first rung that does not hold is {stopped.rung}: {stopped.outcome}."
