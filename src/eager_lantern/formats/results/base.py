"""Parts that several results share, and how results become text."""

import json
from collections.abc import Callable
from typing import Any

from msgspec import Struct, to_builtins

from ...core.model.site import Refusal
from ...core.network.flow import Reason
from ...core.observed.climb import Climb
from ...core.predict.forecast import Stop
from ...core.predict.ledger import Ledger
from ...core.values.outcomes import Outcome, Rung
from ...core.values.text_value import SitePath

Result = dict[str, Any]
"""A result as plain dictionaries, in the order of the format."""


def plain(result: Struct) -> Result:
    """A result as plain dictionaries, in the order of the format."""
    found: Result = to_builtins(result, enc_hook=str)
    return found


def as_json(result: Struct | Result) -> str:
    """The text of a result. What is not plainly visible is escaped, so that it steers no terminal either."""
    return _escape_invisible(json.dumps(_mapping(result), indent=2, ensure_ascii=False))


def as_line(result: Struct | Result) -> str:
    """The same on one line, for a command that has more than one thing to say."""
    return _escape_invisible(json.dumps(_mapping(result), ensure_ascii=False))


def _mapping(result: Struct | Result) -> Result:
    return plain(result) if isinstance(result, Struct) else result


def _escape_invisible(text: str) -> str:
    if text.replace("\n", "").isprintable():
        return text
    return "".join(each if each.isprintable() or each == "\n" else json.dumps(each)[1:-1] for each in text)


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
    """One place that must agree: what it does, where, which ports it passes, and the line that states it."""

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
