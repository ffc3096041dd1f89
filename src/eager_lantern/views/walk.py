"""What `walk` shows: one connection, hop by hop, with the line that decided at each."""

from collections.abc import Callable, Iterator

from rich.console import RenderableType
from rich.text import Text

from ..core.network.flow import Flow, Journey, Step
from ..core.predict.forecast import Stop, blame, error_of
from ..core.values.ports import PortSet
from ..core.values.text_value import SitePath
from .screen import ACCENT, STOPS, STRONG, UNTRIED, between, columns, state

LineOf = Callable[[SitePath | None], int | None]

_DOES = {
    "send": "sends",
    "let-out": "allows out",
    "let-in": "allows in",
    "translate": "translates",
    "forward": "forwards",
    "hairpin": "hairpins",
    "hide": "hides source",
    "route": "passes on",
    "arrive": "receives",
    "stop": "stops",
}
_STOPPED = {
    "silent": "No answer comes back: the connection hangs until the client gives up.",
    "unknown": "The site file does not state enough: unknown.",
    "wrong": "Something answers that was not meant.",
}


def walk_view(journey: Journey, line: LineOf, file: str) -> Iterator[RenderableType]:
    """The steps of a journey; what changed at a step is what the device rewrote."""
    asked = journey.asked
    headline = f"{asked.protocol} from {_source_text(asked)} to {_to(asked)}"
    yield between(headline, state(journey.outcome), STRONG)
    yield Text(f"walked in {file}", style=UNTRIED)
    yield ""
    yield walk_steps(journey, line)
    yield ""
    yield Text(_ending_line(journey), style=STRONG)


def walk_steps(journey: Journey, line: LineOf) -> RenderableType:
    """One line a step."""
    table = columns(widths=(3, 20, 11, 8, None))
    for number, step in enumerate(journey.steps, start=1):
        table.add_row(
            Text(f"{number:2}"),
            Text(step.at),
            Text(_DOES[step.does], style=STOPS if step.does == "stop" else ""),
            Text(f"line {line(step.place)}" if step.place else "", style=ACCENT),
            _stop(journey) if step.does == "stop" else _what(step, journey.steps[number - 2] if number > 1 else None),
        )
    return table


def _stop(journey: Journey) -> Text:
    end = journey.end
    stop = Stop(journey.asked.ports, journey.outcome, end.at, end.rule, journey.reason, end.place)
    return Text(blame(stop, str(journey.flow.to)), style=STOPS)


def _what(step: Step, before: Step | None) -> Text:
    if step.does in ("let-in", "let-out"):
        if step.rule:
            return Text(f"by rule “{step.rule}”")
        return Text("by its default" if step.place and step.place[-1] == "default" else "by a rule")
    if before and (before.flow.to, before.flow.ports) != (step.flow.to, step.flow.ports):
        by = f", by forward “{step.rule}”" if step.rule and step.does == "forward" else ""
        return Text(f"to {_to(before.flow)} → {_to(step.flow)}{by}")
    if before and before.flow.sources != step.flow.sources:
        return Text(f"from {_source_text(before.flow)} → {_source_text(step.flow)}")
    return Text(f"from {_source_text(step.flow)} to {_to(step.flow)}")


def _source_text(flow: Flow) -> str:
    address = str(flow.sources) if len(flow.sources) == 1 else "any address"
    if flow.from_ports is None or len(flow.from_ports) > 1:
        return address
    return _address_and_ports(address, flow.from_ports)


def _to(flow: Flow) -> str:
    return _address_and_ports(str(flow.to), flow.ports)


def _address_and_ports(address: str, ports: PortSet) -> str:
    return f"[{address}]:{ports}" if ":" in address else f"{address}:{ports}"


def _ending_line(journey: Journey) -> str:
    if journey.outcome == "ok":
        return f"It arrives at {journey.end.at}, port {journey.flow.ports}."
    if journey.end.answer is not None:
        when = "after some seconds" if journey.reason == "nobody there" else "at once"
        error = error_of(journey.end.answer, journey.asked.to.family, journey.flow.to.family)
        return f"The client gets {when}: {error}."
    return _STOPPED[journey.outcome]
