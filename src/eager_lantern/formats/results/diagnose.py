"""``eager-lantern/diagnose/1``."""

from collections.abc import Sequence
from typing import Literal

from msgspec import UNSET, UnsetType, field

from ...core.diagnosis.diagnosis import Diagnosis, NamedCause, Page, named_causes, pages_of
from ...core.diagnosis.fault import Fault, FaultKind
from ...core.diagnosis.next_test import TestKind, Weighed
from ...core.diagnosis.wording import came_of, instruction
from ...core.findings.finding import FindingKind
from ...core.model.site import Mode, Site
from ...core.observed.observation import Observation
from ...core.values.outcomes import Outcome, Rung
from ...core.values.text_value import SitePath, dotted
from ..reading import BadInput
from .base import LineOf, ResultPart

PLACES = 3
"""Decimal places of probabilities and bits."""


class EndedResult(ResultPart, frozen=True, kw_only=True):
    """Where a session ended, and in which ways it may have."""

    rung: Rung
    outcomes: tuple[Outcome, ...]


class ObservationResult(ResultPart, frozen=True, kw_only=True):
    """Something that was seen: from where, of which service, and what came of it. ``ended`` is null where it worked
    or nothing more is known. ``words`` are the server's, ``line`` is the log's own that states how it ended where the
    server had none."""

    source: str
    client: str
    service: str
    mode: Mode | None
    holds: Literal["works", "shut"]
    message: str
    works: bool
    ended: EndedResult | None
    words: tuple[str, ...]
    line: str | None


class FactResult(ResultPart, frozen=True, kw_only=True):
    """What a file states beside what was tried."""

    source: str
    message: str


class UnreadResult(ResultPart, frozen=True, kw_only=True):
    """A file that could not be read, and why."""

    file: str
    reason: str


class WhereResult(ResultPart, frozen=True, kw_only=True):
    """Where the site file states how it is meant; without a site file, ``file`` is empty and ``line`` null."""

    file: str
    line: int | None
    path: str


class PartResult(ResultPart, frozen=True, kw_only=True):
    """A fault that has to be there as well."""

    kind: FaultKind
    at: str
    message: str
    look: str
    cure: str
    where: WhereResult


class CauseResult(ResultPart, frozen=True, kw_only=True):
    """A cause: what is wrong, at which device, server or client, what to look at there, and what cures it.
    ``with`` are faults that have to be there as well."""

    kind: FaultKind | FindingKind
    at: str
    probability: float
    message: str
    look: str
    cure: str
    where: WhereResult
    with_: tuple[PartResult, ...] | UnsetType = field(default=UNSET, name="with")


class PageResult(ResultPart, frozen=True, kw_only=True):
    """A page of settings where one look separates its causes: whose it is, its section of the site file, how likely
    the cause is there, and their kinds. ``side`` counts from 1 where two faults are
    there at once: one of side 1 and one of side 2."""

    at: str
    section: str
    probability: float
    side: int
    kinds: tuple[FaultKind | FindingKind, ...]


class GroupResult(ResultPart, frozen=True, kw_only=True):
    """Causes that no observation separates, and the pages of settings where they are looked for."""

    probability: float
    causes: tuple[CauseResult, ...]
    pages: tuple[PageResult, ...]


class MeaningResult(ResultPart, frozen=True, kw_only=True):
    """An outcome of a test, how likely it is, and which causes it would leave."""

    outcome: str
    chance: float
    leaves: tuple[str, ...]


class NextResult(ResultPart, frozen=True, kw_only=True):
    """The next best test: where to stand, what to do and to type there, how it is done with the client or a phone
    alone, and what it is expected to tell, in bits."""

    test: TestKind
    from_: str = field(name="from")
    do: str
    command: str | None
    by_hand: str | None
    information: float
    outcomes: tuple[MeaningResult, ...]


class DiagnoseResult(ResultPart, frozen=True, kw_only=True):
    """What was observed, what explains it, and what to try next. ``as_promised`` is that every session was seen to work
    to its end, so that there is no cause to name; ``inconclusive`` are observations in which nothing failed and no end
    was seen. With the verdict none and neither of both, nothing known explains it. ``parted`` are observations that
    nothing explains together, ``apart`` a few that the causes do not explain where they do all the others, ``facts``
    what files state beside tries, ``unread`` the files that could not be read, and ``something_else`` is the
    probability that the cause is of no known kind."""

    format: Literal["eager-lantern/diagnose/1"] = "eager-lantern/diagnose/1"
    site: str
    observations: tuple[ObservationResult, ...]
    as_promised: bool
    verdict: Literal["one", "several", "none"]
    groups: tuple[GroupResult, ...]
    next: NextResult | None
    parted: tuple[str, ...]
    apart: tuple[str, ...]
    inconclusive: tuple[str, ...]
    something_else: float
    facts: tuple[FactResult, ...]
    unread: tuple[UnreadResult, ...]


def diagnose_result(
    site: Site, found: Diagnosis, file: str, line: LineOf, unread: Sequence[BadInput] = ()
) -> DiagnoseResult:
    """The result of a diagnosis; ``file`` is the site file, empty where a plain site stands in."""
    return DiagnoseResult(
        site=site.site,
        observations=tuple(map(_observation, found.observations)),
        as_promised=found.as_described,
        verdict=found.verdict,
        groups=tuple(
            GroupResult(
                probability=round(group.probability, PLACES),
                causes=tuple(_cause(each, file, line) for each in named_causes(group)),
                pages=tuple(_page(each, i) for i, side in enumerate(pages_of(group), start=1) for each in side),
            )
            for group in found.groups
        ),
        next=_next_result(site, found.test, file) if found.test else None,
        parted=tuple(each.source for each in found.parted),
        apart=tuple(each.source for each in found.apart),
        inconclusive=tuple(each.source for each in found.inconclusive),
        something_else=round(found.something_else, PLACES),
        facts=tuple(FactResult(source=each.source, message=each.text) for each in found.testimonies),
        unread=tuple(UnreadResult(file=each.file, reason=_reason(each)) for each in unread),
    )


def _reason(bad: BadInput) -> str:
    return "; ".join(each.message for each in bad.problems)


def _observation(seen: Observation) -> ObservationResult:
    return ObservationResult(
        source=seen.source,
        client=seen.tried.client,
        service=seen.tried.service,
        mode=seen.tried.mode,
        holds=seen.tried.holds,
        message=came_of(seen),
        works=seen.works,
        ended=EndedResult(rung=seen.rung, outcomes=seen.outcomes) if seen.rung else None,
        words=seen.words,
        line=seen.line or None,
    )


def _cause(each: NamedCause, file: str, line: LineOf) -> CauseResult:
    return CauseResult(
        kind=each.kind,
        at=each.at,
        probability=round(each.probability, PLACES),
        message=each.message,
        look=each.look,
        cure=each.cure,
        where=_where(each.place, file, line),
        with_=tuple(_part_result(fault, file, line) for fault in each.beside) or UNSET,
    )


def _page(each: Page, side: int) -> PageResult:
    return PageResult(
        at=each.at,
        section=dotted(each.section),
        probability=round(each.probability, PLACES),
        side=side,
        kinds=tuple(dict.fromkeys(cause.kind for cause in each.causes)),
    )


def _part_result(fault: Fault, file: str, line: LineOf) -> PartResult:
    return PartResult(
        kind=fault.kind,
        at=fault.at,
        message=fault.message,
        look=fault.look,
        cure=fault.cure,
        where=_where(fault.place, file, line),
    )


def _where(place: SitePath, file: str, line: LineOf) -> WhereResult:
    return WhereResult(file=file, line=line(place) if file else None, path=dotted(place))


def _next_result(site: Site, weighed: Weighed, file: str) -> NextResult:
    how = instruction(site, weighed, file)
    return NextResult(
        test=weighed.test.kind,
        from_=how.place,
        do=how.do,
        command=how.command or None,
        by_hand=how.by_hand or None,
        information=round(weighed.bits, PLACES),
        outcomes=tuple(
            MeaningResult(outcome=each.words, chance=round(each.chance, PLACES), leaves=each.leaves)
            for each in weighed.outcomes
        ),
    )
