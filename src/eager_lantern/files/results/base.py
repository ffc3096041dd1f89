"""What all results have in common: parts of results, and how they become text."""

from collections.abc import Callable

from msgspec import Struct

from ...core.model.site import Refusal
from ...core.network.flow import Reason
from ...core.observed.climb import Climb
from ...core.predict.forecast import Stop
from ...core.predict.ledger import Ledger
from ...core.values.outcomes import Outcome, Rung
from ...core.values.site_path import SitePath

LineOf = Callable[[SitePath | None], int | None]


class ResultPart(Struct, frozen=True, kw_only=True):
    """A mapping of a result."""


class StopResult(ResultPart, frozen=True, kw_only=True):
    """Ports that do not get through, what is to blame, and the kind of refusal that comes back, if one does."""

    ports: str
    outcome: Outcome
    at: str
    rule: str | None
    reason: Reason | None
    answer: Refusal | None
    line: int | None


class LayerResult(ResultPart, frozen=True, kw_only=True):
    """One place that must agree: what it does, where, which ports it passes, and the line that says so."""

    name: str
    at: str
    ports: str
    line: int | None


class LedgerResult(ResultPart, frozen=True, kw_only=True):
    """The layers between a client and the data ports of a service, in order of the way."""

    service: str
    client: str
    mode: str
    layers: tuple[LayerResult, ...]
    reachable: str


class RungResult(ResultPart, frozen=True, kw_only=True):
    """One rung of a real session. ``ms`` is how long it took, in milliseconds."""

    rung: Rung
    outcome: Outcome
    detail: str
    advice: str = ""
    ms: float | None = None


def stop_result(stop: Stop, line: LineOf) -> StopResult:
    """A stop, with the line of its place."""
    return StopResult(
        ports=str(stop.ports),
        outcome=stop.outcome,
        at=stop.at,
        rule=stop.rule,
        reason=stop.reason,
        answer=stop.answer,
        line=line(stop.place),
    )


def ledger_result(ledger: Ledger, line: LineOf) -> LedgerResult:
    """A ledger, with the lines of its layers."""
    return LedgerResult(
        service=ledger.service,
        client=ledger.client,
        mode=ledger.mode,
        layers=tuple(
            LayerResult(name=each.name, at=each.at, ports=str(each.ports), line=line(each.place))
            for each in ledger.layers
        ),
        reachable=str(ledger.reachable),
    )


def rung_results(climb: Climb) -> tuple[RungResult, ...]:
    """The rungs of a session."""
    return tuple(
        RungResult(
            rung=each.rung,
            outcome=each.outcome,
            detail=each.detail,
            advice=each.advice,
            ms=None if each.milliseconds is None else round(each.milliseconds, 1),
        )
        for each in climb.rungs
    )
