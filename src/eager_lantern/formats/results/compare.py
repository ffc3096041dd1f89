"""``eager-lantern/compare/1`` and ``eager-lantern/compare-visits/1``."""

from collections.abc import Sequence
from typing import Any, Literal

from msgspec import field, to_builtins
from msgspec.structs import replace

from ...core.changes.moves import Bridge
from ...core.changes.order import Turn, Verdict
from ...core.changes.states import Comparison, Revisited, Transition
from ...core.changes.steps import Edit, edit_action
from ...core.model.site import Mode, Transport
from ...core.observed.climb import Climb, RungSeen
from ...core.predict.access import Reached
from ...core.predict.forecast import Forecast, because
from ...core.values.outcomes import Extent, Outcome, Rung
from .base import LineOf, ResultPart


class ForecastResult(ResultPart, frozen=True, kw_only=True):
    """What is predicted of a promise in one of the states, and why, where it is not kept; ``works`` are data ports."""

    predicted: Extent
    kept: bool | None
    because: str
    works: str
    line: int | None


class TransitionResult(ResultPart, frozen=True, kw_only=True):
    """A promise, or a way in that has to stay open, in both states; null where one does not have it."""

    client: str
    service: str
    mode: Mode | None
    holds: Literal["works", "shut"]
    turn: Turn
    before: ForecastResult | None
    after: ForecastResult | None


class ReachedResult(ResultPart, frozen=True, kw_only=True):
    """Ports of a host, or of a part of a network (“anywhere on internet”), that these senders reach in one state alone:
    somebody on ``network``, or the host of that name, whose own filter is asked too."""

    network: str
    host: str
    protocol: Transport
    sources: str
    ports: str


class EditResult(ResultPart, frozen=True, kw_only=True):
    """One difference of the files: where, what stood there and what stands there now; null is what is not there.
    ``device`` is where somebody makes it; empty for what the file alone says."""

    device: str
    path: str
    entry: bool
    action: str
    from_: Any = field(name="from")
    to: Any
    line_before: int | None
    line_after: int | None


class MoveResult(ResultPart, frozen=True, kw_only=True):
    """A name, or where that is null the address that these clients type, which leads elsewhere afterwards;
    ``ttl_seconds`` is how long the old answer is remembered, null where nobody stated it."""

    name: str | None
    clients: tuple[str, ...]
    from_: tuple[str, ...] = field(name="from")
    to: tuple[str, ...]
    ttl_seconds: float | None


class NotHeldResult(ResultPart, frozen=True, kw_only=True):
    """A promise that is not certain to be kept while both lead in, for those who go by the old or the new address."""

    client: str
    service: str
    mode: Mode | None
    by: Literal["old", "new"]
    because: str


class BridgeResult(ResultPart, frozen=True, kw_only=True):
    """The state in which the old addresses and the new both lead in, and the edits of the earlier file that lead to it.
    ``wrong`` is what makes it no state of a site; else null."""

    holds: bool
    edits: tuple[EditResult, ...]
    not_held: tuple[NotHeldResult, ...]
    wrong: str | None


class CompareResult(ResultPart, frozen=True, kw_only=True):
    """Two states of a site. ``unknown`` is who perhaps reaches what now, since what a rule does is not known, where it
    was known before; ``unsure`` of whom it is known in neither. ``doors_opened`` and ``doors_closed`` are ports of
    outside addresses (``host``) that lead in after or before alone, though what is behind them is reached in both;
    ``doors_unknown`` are those that did before, and perhaps do no more, since what a rule does is not known.
    ``steps`` are lists of indexes into ``edits``, in an order in which what holds in both states keeps holding after
    each step; ``safe`` is whether each has one edit, ``complete`` whether every order was looked at where that is not
    so. ``bridge`` is the state in between in which an address that moves and the new one both lead in; null where none
    moves."""

    format: Literal["eager-lantern/compare/1"] = "eager-lantern/compare/1"
    before: str
    after: str
    verdict: Verdict
    promises: tuple[TransitionResult, ...]
    ways_in: tuple[TransitionResult, ...]
    gained: tuple[ReachedResult, ...]
    lost: tuple[ReachedResult, ...]
    unasked: tuple[ReachedResult, ...]
    unknown: tuple[ReachedResult, ...]
    unsure: tuple[ReachedResult, ...]
    doors_opened: tuple[ReachedResult, ...]
    doors_closed: tuple[ReachedResult, ...]
    doors_unknown: tuple[ReachedResult, ...]
    edits: tuple[EditResult, ...]
    steps: tuple[tuple[int, ...], ...]
    safe: bool
    complete: bool
    moves: tuple[MoveResult, ...]
    bridge: BridgeResult | None


class RevisitedRung(ResultPart, frozen=True, kw_only=True):
    """A rung as it went in one of the visits."""

    rung: Rung
    outcome: Outcome
    detail: str


class RevisitedResult(ResultPart, frozen=True, kw_only=True):
    """A session of two visits; ``was`` and ``is`` are the first rung at which they went differently."""

    place: str
    client: str
    service: str
    mode: str
    holds: Literal["works", "shut"]
    target: str
    turn: Turn
    before: Extent | None
    after: Extent | None
    was: RevisitedRung | None
    is_: RevisitedRung | None = field(name="is")


class CompareVisitsResult(ResultPart, frozen=True, kw_only=True):
    """Two results of visits, session by session."""

    format: Literal["eager-lantern/compare-visits/1"] = "eager-lantern/compare-visits/1"
    before: str
    after: str
    verdict: Verdict
    sessions: tuple[RevisitedResult, ...]


def compare_result(found: Comparison, names: tuple[str, str], lines: tuple[LineOf, LineOf]) -> CompareResult:
    """The result of a comparison of two files of these names."""
    return CompareResult(
        before=names[0],
        after=names[1],
        verdict=found.verdict,
        promises=tuple(_transition_result(each, lines) for each in found.promises),
        ways_in=tuple(_transition_result(each, lines) for each in found.ways_in),
        gained=_reached_results(found.gained),
        lost=_reached_results(found.lost),
        unasked=_reached_results(found.unasked),
        unknown=_reached_results(found.unknown),
        unsure=_reached_results(found.unsure),
        doors_opened=_reached_results(found.doors_opened),
        doors_closed=_reached_results(found.doors_closed),
        doors_unknown=_reached_results(found.doors_unknown),
        edits=tuple(_edit(found, each, lines) for each in found.edits),
        steps=found.order.steps,
        safe=found.order.is_safe,
        complete=found.order.complete,
        moves=tuple(
            MoveResult(
                name=each.name or None,
                clients=each.clients,
                from_=tuple(map(str, each.old.each)),
                to=tuple(map(str, each.new.each)),
                ttl_seconds=each.ttl.amount if each.ttl else None,
            )
            for each in found.moves
        ),
        bridge=_bridge_result(found, found.bridge, lines) if found.bridge else None,
    )


def _bridge_result(found: Comparison, bridge: Bridge, lines: tuple[LineOf, LineOf]) -> BridgeResult:
    sides: list[tuple[Literal["old", "new"], Forecast]]
    sides = [("old", each) for each in bridge.by_old]
    sides += [("new", each) for each in bridge.by_new]
    return BridgeResult(
        holds=bridge.holds,
        edits=tuple(replace(_edit(found, each, lines), line_after=None) for each in bridge.edits),
        not_held=tuple(
            NotHeldResult(
                client=each.promise.client,
                service=each.promise.service,
                mode=each.promise.mode,
                by=by,
                because=because(each),
            )
            for by, each in sides
        ),
        wrong=bridge.wrong or None,
    )


def _transition_result(each: Transition, lines: tuple[LineOf, LineOf]) -> TransitionResult:
    promise = each.promise
    return TransitionResult(
        client=promise.client,
        service=promise.service,
        mode=promise.mode,
        holds=promise.holds,
        turn=each.turn,
        before=_forecast(each.before, lines[0]),
        after=_forecast(each.after, lines[1]),
    )


def _forecast(forecast: Forecast | None, line: LineOf) -> ForecastResult | None:
    if forecast is None:
        return None
    return ForecastResult(
        predicted=forecast.predicted,
        kept=forecast.kept,
        because=because(forecast) if forecast.kept is not True else "",
        works=str(forecast.data.works) if forecast.data else "",
        line=line(forecast.place),
    )


def _reached_results(found: Sequence[Reached]) -> tuple[ReachedResult, ...]:
    return tuple(
        ReachedResult(network=e.network, host=e.host, protocol=e.protocol, sources=str(e.sources), ports=str(e.ports))
        for e in found
    )


def _edit(found: Comparison, edit: Edit, lines: tuple[LineOf, LineOf]) -> EditResult:
    old, new = (to_builtins(each, enc_hook=str) for each in (edit.old, edit.new))
    return EditResult(
        device=found.device(edit),
        path=".".join(edit.path),
        entry=edit.entry,
        action=edit_action(edit),
        from_=old,
        to=new,
        line_before=lines[0](edit.before) if edit.old is not None else None,
        line_after=lines[1](edit.after) if edit.new is not None else None,
    )


def compare_visits_result(found: Sequence[Revisited], verdict: Verdict, names: tuple[str, str]) -> CompareVisitsResult:
    """The result of a comparison of two results of visits in files of these names."""
    return CompareVisitsResult(
        before=names[0], after=names[1], verdict=verdict, sessions=tuple(_revisited_result(each) for each in found)
    )


def _revisited_result(each: Revisited) -> RevisitedResult:
    session = each.session
    was, now = each.parts_at
    return RevisitedResult(
        place=session.place,
        client=session.client,
        service=session.service,
        mode=session.mode,
        holds=session.holds,
        target=session.target,
        turn=each.turn,
        before=_observed_extent(each.before),
        after=_observed_extent(each.after),
        was=_rung(was),
        is_=_rung(now),
    )


def _observed_extent(climb: Climb | None) -> Extent | None:
    return climb.observed if climb else None


def _rung(rung: RungSeen | None) -> RevisitedRung | None:
    return RevisitedRung(rung=rung.rung, outcome=rung.outcome, detail=rung.detail) if rung else None
