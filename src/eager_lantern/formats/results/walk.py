"""``eager-lantern/walk/1``."""

from typing import Literal

from msgspec import field

from ...core.model.site import Refusal, Transport
from ...core.network.flow import Flow, Journey, Reason, Verb
from ...core.values.outcomes import Outcome
from ...core.values.ports import PortSet
from .base import LineOf, ResultPart


class FlowResult(ResultPart, frozen=True, kw_only=True):
    """One connection as it is at a step; an address or port that is not one certain value is null."""

    protocol: Transport
    from_: str | None = field(name="from")
    from_port: int | None
    to: str
    to_port: int | None


class StepResult(ResultPart, frozen=True, kw_only=True):
    """What one device did, by which rule and line, and the connection as it left the device."""

    at: str
    does: Verb
    rule: str | None
    line: int | None
    flow: FlowResult


class WalkResult(ResultPart, frozen=True, kw_only=True):
    """One connection, hop by hop; ``answer`` is the kind of refusal that comes back, null where none does."""

    format: Literal["eager-lantern/walk/1"] = "eager-lantern/walk/1"
    outcome: Outcome
    reason: Reason | None
    answer: Refusal | None
    steps: tuple[StepResult, ...]


def walk_result(journey: Journey, line: LineOf) -> WalkResult:
    """The result of a walk."""
    steps = (
        StepResult(at=each.at, does=each.does, rule=each.rule, line=line(each.place), flow=_flow(each.flow))
        for each in journey.steps
    )
    return WalkResult(outcome=journey.outcome, reason=journey.reason, answer=journey.end.answer, steps=tuple(steps))


def _flow(flow: Flow) -> FlowResult:
    return FlowResult(
        protocol=flow.protocol,
        from_=str(flow.sources) if len(flow.sources) == 1 else None,
        from_port=_single_port(flow.from_ports) if flow.from_ports is not None else None,
        to=str(flow.to),
        to_port=_single_port(flow.ports),
    )


def _single_port(ports: PortSet) -> int | None:
    return ports.lowest if len(ports) == 1 else None
