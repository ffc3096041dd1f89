"""What `visit` shows: the ladder of one session, and after the rung that failed what to do."""

from collections.abc import Iterator, Sequence

from rich.console import RenderableType
from rich.text import Text

from ..core.observed.bounce import cautions
from ..core.observed.climb import Climb, RungSeen
from ..core.observed.login_throttling import pace_remarks
from ..core.observed.ssh_facts import ssh_remarks
from ..core.observed.tls_facts import Remark, remarks
from .screen import Share, between, columns, state
from .style import ACCENT, STOPS, STRONG, UNTRIED
from .visit_extras import facts_view, range_view, rights_view

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
        yield facts_view("The server's own caution", cautions(climb.caution))
    if climb.range is not None:
        yield range_view(climb.range, climb.planned)
    if climb.rights is not None:
        yield rights_view(climb.rights)
    if climb.pace is not None:
        yield facts_view("How it takes wrong logins", pace_remarks(climb.pace))
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
        table.add_row(state(word), Text(_promise(each)), Text(_seen(each)))
    yield table
    for each in broken:
        yield ""
        yield from visit_view(each)
    for each in climbs:
        if each.kept is True:
            yield from extras_of(_promise(each), each)


def extras_of(title: str, climb: Climb) -> Iterator[RenderableType]:
    """What was looked at beyond the ladder, under a title; nothing where nothing was."""
    parts = list(extras(climb))
    if parts:
        yield ""
        yield Text(title, style=STRONG)
    for part in parts:
        yield ""
        yield from part


def _promise(climb: Climb) -> str:
    mode = "shut" if climb.holds == "shut" else climb.mode
    return f"→ {climb.service}{f', {mode}' if mode else ''}"


def _seen(climb: Climb) -> str:
    stopped = climb.stopped_at
    if stopped is None:
        return f"{'every rung holds' if climb.proved else 'not tried to its end'}, at {climb.target}"
    return f"{stopped.rung}: {stopped.outcome}, {stopped.detail}"


def _headline(climb: Climb) -> str:
    return (
        f"{climb.client} {_promise(climb)}"
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
