"""``eager-lantern/mend/1``."""

from collections.abc import Sequence
from typing import Literal

from ...core.diagnosis.fault import Fault, FaultKind
from ...core.findings.finding import FindingKind, Owner, owner_of
from ...core.mending.effect import AccessChange
from ...core.mending.plan import DeviceChange, Mending, Plan
from ...core.model.site import Mode, Promise, Site, Transport
from ...core.predict.forecast import because
from ...core.sheets.sheet import Sheet
from .base import LineOf, ResultPart
from .check import ChangeResult, change_result


class MadeResult(ResultPart, frozen=True, kw_only=True):
    """A change of the site file, on whose device it is, what it costs, what it cures, and what takes it back."""

    device: str
    owner: Owner
    cost: float
    change: ChangeResult
    cures: FindingKind
    message: str
    advice: str
    undo: str


class PassingResult(ResultPart, frozen=True, kw_only=True):
    """Connections from a network or host to a host, or to anywhere on a network; ``sources`` is empty where anybody
    there is meant."""

    network: str
    host: str
    protocol: Transport
    ports: str
    sources: str


class MendedPromise(ResultPart, frozen=True, kw_only=True):
    """A promise of the site."""

    client: str
    service: str
    mode: Mode | None
    holds: Literal["works", "shut"]


class PlanResult(ResultPart, frozen=True, kw_only=True):
    """Changes that together keep every promise, their cost, which promises they keep, what they let in, and what
    they take away that passed before."""

    cost: float
    changes: tuple[MadeResult, ...]
    keeps: tuple[MendedPromise, ...]
    opens: tuple[PassingResult, ...]
    takes_away: tuple[PassingResult, ...]


class RemainingResult(ResultPart, frozen=True, kw_only=True):
    """A promise that no change of the file keeps, and why it is broken."""

    client: str
    service: str
    mode: Mode | None
    because: str


class IncurableResult(ResultPart, frozen=True, kw_only=True):
    """What is wrong and no change of the file cures, and what would have to be done elsewhere."""

    kind: FindingKind
    message: str
    advice: str
    line: int | None


class UndoneResult(ResultPart, frozen=True, kw_only=True):
    """What may be otherwise on a device than the file states: what to look at there, what undoes it, and the line."""

    kind: FaultKind
    at: str
    message: str
    look: str
    cure: str
    line: int | None


class MendResult(ResultPart, frozen=True, kw_only=True):
    """The cheapest changes that keep every promise. ``least`` is whether no cheaper set of cures does; where it is not
    known, none costs less than ``at_least``; ``tried`` sets of changes were looked at. ``harmful`` are plans that would
    keep every promise, and open more than is needed or take away what passed before; ``elsewhere`` is what would help
    on devices that may not be changed. ``entered`` are the pages of what the plan changes on each. ``patch`` is a
    unified diff of the site file; ``written`` whether it was written. ``on_devices`` are faults of a
    cause that was asked for, where the file is right and the device may not be."""

    format: Literal["eager-lantern/mend/1"] = "eager-lantern/mend/1"
    site: str
    verdict: Literal["kept", "mended", "impossible", "unknown"]
    least: bool
    at_least: float
    tried: int
    plan: PlanResult | None
    alternatives: tuple[PlanResult, ...]
    harmful: tuple[PlanResult, ...]
    remaining: tuple[RemainingResult, ...]
    incurable: tuple[IncurableResult, ...]
    elsewhere: PlanResult | None
    entered: tuple[Sheet, ...]
    on_devices: tuple[UndoneResult, ...]
    patch: str
    written: bool


def mend_result(
    site: Site,
    found: Mending,
    entered: Sequence[Sheet],
    on_devices: Sequence[Fault],
    patch: str,
    written: bool,
    line: LineOf,
) -> MendResult:
    """The result of a mending."""
    return MendResult(
        site=site.site,
        verdict=found.verdict,
        least=found.least,
        at_least=found.at_least,
        tried=found.tried,
        plan=_plan_result(site, found.plan, line) if found.plan else None,
        alternatives=tuple(_plan_result(site, each, line) for each in found.alternatives),
        harmful=tuple(_plan_result(site, each, line) for each in found.harmful),
        remaining=tuple(
            RemainingResult(
                client=each.promise.client, service=each.promise.service, mode=each.promise.mode, because=because(each)
            )
            for each in found.remaining
        ),
        incurable=tuple(
            IncurableResult(kind=each.kind, message=each.message, advice=each.advice, line=line(each.place))
            for each in found.incurable
        ),
        elsewhere=_plan_result(site, found.elsewhere, line) if found.elsewhere else None,
        entered=tuple(entered),
        on_devices=tuple(
            UndoneResult(
                kind=each.kind, at=each.at, message=each.message, look=each.look, cure=each.cure, line=line(each.place)
            )
            for each in on_devices
        ),
        patch=patch,
        written=written,
    )


def _plan_result(site: Site, plan: Plan, line: LineOf) -> PlanResult:
    return PlanResult(
        cost=plan.cost,
        changes=tuple(_made_result(site, each, line) for each in plan.steps),
        keeps=tuple(_mended_promise(each) for each in plan.gains),
        opens=_passing_results(site, plan.effect.opens),
        takes_away=_passing_results(site, plan.effect.takes),
    )


def _mended_promise(promise: Promise) -> MendedPromise:
    return MendedPromise(client=promise.client, service=promise.service, mode=promise.mode, holds=promise.holds)


def _made_result(site: Site, step: DeviceChange, line: LineOf) -> MadeResult:
    return MadeResult(
        device=step.device(site),
        owner=owner_of(site, step.change.place),
        cost=step.cost,
        change=change_result(step.change, line),
        cures=step.finding.kind,
        message=step.finding.message,
        advice=step.advice,
        undo=step.undoing,
    )


def _passing_results(site: Site, passing: Sequence[AccessChange]) -> tuple[PassingResult, ...]:
    return tuple(
        PassingResult(
            network=each.origin,
            host=each.place,
            protocol=each.protocol,
            ports=str(each.ports),
            sources=each.limit(site),
        )
        for each in passing
    )
