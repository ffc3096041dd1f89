"""``eager-lantern/rehearse/1``."""

from collections.abc import Sequence
from typing import Literal

from ...core.model.site import Mode
from ...core.observed.rehearsed import Observed, PacketSeen, Rehearsed
from ...core.values.outcomes import Extent, Outcome, Rung
from .base import ResultPart, RungResult, rung_results


class StoppedPorts(ResultPart, frozen=True, kw_only=True):
    """Data ports that ended at the same rung in the same way."""

    ports: str
    rung: Rung
    outcome: Outcome


class TriedPorts(ResultPart, frozen=True, kw_only=True):
    """What became of the data ports that were tried."""

    tried: str
    untried: str
    works: str
    stopped: tuple[StoppedPorts, ...]


class RehearsedPromise(ResultPart, frozen=True, kw_only=True):
    """A promise predicted and observed; ``agree`` is null where there is nothing to compare."""

    client: str
    service: str
    mode: Mode | None
    holds: Literal["works", "shut"]
    target: str | None
    predicted: Extent
    observed: Extent
    agree: bool | None
    differences: tuple[str, ...]
    reason: str | None
    data: TriedPorts | None
    rungs: tuple[RungResult, ...]
    observations: tuple[PacketSeen, ...]


class RehearseResult(ResultPart, frozen=True, kw_only=True):
    """Real sessions in a lab, beside the prediction."""

    format: Literal["eager-lantern/rehearse/1"] = "eager-lantern/rehearse/1"
    lab: Literal["kernel", "loopback"]
    promises: tuple[RehearsedPromise, ...]


def rehearse_result(results: Sequence[Rehearsed], lab: Literal["kernel", "loopback"]) -> RehearseResult:
    """The result of a rehearsal."""
    return RehearseResult(lab=lab, promises=tuple(map(_rehearsed_promise, results)))


def _rehearsed_promise(result: Rehearsed) -> RehearsedPromise:
    promise, seen = result.forecast.promise, result.observed
    return RehearsedPromise(
        client=promise.client,
        service=promise.service,
        mode=promise.mode,
        holds=promise.holds,
        target=seen.climb.target if seen else None,
        predicted=result.forecast.predicted,
        observed=seen.extent if seen else "unknown",
        agree=result.agree,
        differences=tuple(result.differences),
        reason=result.reason or None,
        data=_tried_ports(seen) if seen and (seen.groups or seen.untried) else None,
        rungs=rung_results(seen.climb) if seen else (),
        observations=result.observations,
    )


def _tried_ports(seen: Observed) -> TriedPorts:
    stopped = (each for each in seen.groups if each.outcome != "ok")
    return TriedPorts(
        tried=str(seen.tried),
        untried=str(seen.untried),
        works=str(seen.works),
        stopped=tuple(StoppedPorts(ports=str(each.ports), rung=each.rung, outcome=each.outcome) for each in stopped),
    )
