"""``eager-lantern/visit/1``, written and read again (``visit --save``, ``check --seen``)."""

from collections.abc import Sequence
from typing import Literal

from msgspec import UNSET, UnsetType

from ...core.observed.climb import Climb, Dialled, Missed, PassiveReply, RightsSeen, RungSeen
from ...core.observed.compared import Outlook
from ...core.observed.looks import BounceCheck, LoginThrottling, SshFacts, TlsFacts
from ...core.observed.range_estimate import Habit, RangeSeen
from ...core.values.outcomes import Extent
from .base import ResultPart, RungResult, rung_results
from .check import FindingResult


class Taken(ResultPart, frozen=True, kw_only=True):
    """When a visit was made, on which host, with which version of the tool."""

    time: str
    host: str
    tool: str


class PlaceResult(ResultPart, frozen=True, kw_only=True):
    """A place that visits were made from, or why it could not be had."""

    place: str
    trouble: str | None
    round_trip_ms: float | None


class RangeResult(ResultPart, frozen=True, kw_only=True):
    """The range of data ports as the server uses it, and how well it is known."""

    asked: int
    habit: Habit
    seen: str
    unseen_chance: float
    beyond: int
    good: bool
    answers: str
    refuses: str
    silent: str
    announced: tuple[str, ...]
    cut_short: str


class VisitedPromise(ResultPart, frozen=True, kw_only=True):
    """A real session, rung by rung, and what was looked at besides."""

    place: str = "here"
    client: str
    service: str
    mode: str
    holds: Literal["works", "shut"] = "works"
    target: str
    observed: Extent = "unknown"
    rungs: tuple[RungResult, ...]
    tls: TlsFacts | UnsetType = UNSET
    range: RangeResult | UnsetType = UNSET
    rights: RightsSeen | UnsetType = UNSET
    ssh: SshFacts | UnsetType = UNSET
    wrong_logins: LoginThrottling | UnsetType = UNSET
    caution: BounceCheck | UnsetType = UNSET
    not_looked_at: tuple[Missed, ...] | UnsetType = UNSET
    reply: PassiveReply | UnsetType = UNSET
    dialled: Dialled | UnsetType = UNSET


class VisitResult(ResultPart, frozen=True, kw_only=True):
    """Real sessions, from one place or several; ``surveyed`` is where a kept survey of the server parts from the
    site."""

    format: Literal["eager-lantern/visit/1"] = "eager-lantern/visit/1"
    taken: Taken
    places: tuple[PlaceResult, ...] = ()
    promises: tuple[VisitedPromise, ...]
    surveyed: tuple[FindingResult, ...] | UnsetType = UNSET


def visit_result(
    places: Sequence[Outlook], taken: Taken, surveyed: Sequence[FindingResult] | None = None
) -> VisitResult:
    """The result of visits, and where a survey parts from the site, if there is one."""
    return VisitResult(
        surveyed=UNSET if surveyed is None else tuple(surveyed),
        taken=taken,
        places=tuple(map(_place_result, places)),
        promises=tuple(_climb(climb) for each in places for climb in each.climbs),
    )


def climbs_of(result: VisitResult) -> tuple[Climb, ...]:
    """The sessions of a result that was kept, as far as a prediction can be held against them."""
    return tuple(map(_climb_of, result.promises))


def _place_result(each: Outlook) -> PlaceResult:
    trip = None if each.round_trip_seconds is None else round(each.round_trip_seconds * 1000, 1)
    return PlaceResult(place=each.name, trouble=each.trouble or None, round_trip_ms=trip)


def _climb(climb: Climb) -> VisitedPromise:
    return VisitedPromise(
        place=climb.place,
        client=climb.client,
        service=climb.service,
        mode=climb.mode,
        holds=climb.holds,
        target=climb.target,
        observed=climb.observed,
        rungs=rung_results(climb),
        tls=climb.tls or UNSET,
        range=_range_result(climb.range) if climb.range else UNSET,
        rights=climb.rights or UNSET,
        ssh=climb.ssh or UNSET,
        wrong_logins=climb.pace or UNSET,
        caution=climb.caution or UNSET,
        not_looked_at=climb.missed or UNSET,
        reply=climb.reply or UNSET,
        dialled=climb.dialled or UNSET,
    )


def _range_result(seen: RangeSeen) -> RangeResult:
    estimate = seen.estimate
    return RangeResult(
        asked=estimate.asked,
        habit=estimate.habit,
        seen=str(estimate.seen),
        unseen_chance=estimate.unseen_chance,
        beyond=estimate.beyond,
        good=estimate.good,
        answers=str(seen.answers),
        refuses=str(seen.refuses),
        silent=str(seen.silent),
        announced=tuple(seen.announced),
        cut_short=seen.cut_short,
    )


def _climb_of(visit: VisitedPromise) -> Climb:
    rungs = tuple(RungSeen(each.rung, each.outcome, each.detail, each.ms, each.advice) for each in visit.rungs)
    if all(each.rung != "list" for each in rungs):  # only the port was tried
        return Climb(
            visit.target, visit.service, visit.client, "", rungs, visit.holds, ("connect",),
            place=visit.place, dialled=visit.dialled or None,
        )  # fmt: skip
    return Climb(
        visit.target, visit.service, visit.client, visit.mode, rungs,
        place=visit.place, reply=visit.reply or None, dialled=visit.dialled or None,
    )  # fmt: skip
