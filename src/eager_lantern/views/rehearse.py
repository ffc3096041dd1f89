"""What `rehearse` shows: each promise predicted and observed, and where they part, both stories."""

from collections.abc import Iterator, Sequence

from rich.console import RenderableType
from rich.text import Text

from ..core.network.flow import Journey
from ..core.observed.climb import Climb
from ..core.observed.rehearsed import Observed, PacketSeen, Rehearsed
from ..core.values.outcomes import Extent
from ..core.values.ports import PortSet
from .screen import ACCENT, STOPS, STRONG, UNTRIED, Share, between, columns, command, command_line, state
from .walk import LineOf, walk_steps

_SAID: dict[Extent, str] = {"works": "works", "partly": "works in part", "fails": "fails", "unknown": "unknown"}
_SHUT: dict[Extent, str] = {"works": "open", "partly": "open in part", "fails": "shut", "unknown": "unknown"}
_KEPT = {True: "kept", False: "broken", None: "unknown"}
_STATE, _AGREE = 8, 5
MOST_SETS = 3


def rehearse_view(
    results: Sequence[Rehearsed], title: str, lab: str, journeys: Sequence[Journey | None], line: LineOf, file: str
) -> Iterator[RenderableType]:
    """One row a promise; ``journeys`` are the predicted ones where prediction and lab part."""
    yield between(title, _sum(results), STRONG)
    yield from rehearse_body(results, lab, journeys, line)
    yield ""
    yield command(_next_line(results, file), ACCENT)


def rehearse_body(
    results: Sequence[Rehearsed], lab: str, journeys: Sequence[Journey | None], line: LineOf
) -> Iterator[RenderableType]:
    """The same without headline and next step."""
    yield Text(f"real sessions in {lab}", style=UNTRIED)
    yield ""
    table = columns(widths=(_STATE, Share(26), Share(22), Share(30), _AGREE), gap=2)
    table.add_row("", *(Text(each, style=UNTRIED) for each in ("promise", "predicted", "observed", "agree")))
    for result in sorted(results, key=_urgency):
        table.add_row(
            state(_KEPT[result.kept]),
            _promised(result),
            _predicted_cell(result),
            _observed_cell(result),
            _agreed(result),
        )
        if result.reason and result.observed is not None:
            table.add_row("", "", "", Text(result.reason, style=UNTRIED), "")
    yield table
    for result, journey in zip(results, journeys, strict=True):
        if result.agree is False:
            yield from _difference_rows(result, journey, line)


def _urgency(result: Rehearsed) -> tuple[bool, bool, bool]:
    """What parts from its prediction comes first, then what is broken, then what is unknown."""
    return result.agree is not False, result.kept is not False, result.kept is not None


def _agreed(result: Rehearsed) -> Text:
    return {True: Text("yes"), False: Text("◆ no", style=STOPS), None: Text("–", style=UNTRIED)}[result.agree]


def _sum(results: Sequence[Rehearsed]) -> Text:
    apart = sum(each.agree is False for each in results)
    broken = sum(each.kept is False for each in results)
    unknown = sum(each.kept is None for each in results)
    same, total = sum(each.agree is True for each in results), len(results)
    compared = "all as predicted" if same == total else f"{same} as predicted"
    counted = [compared, *([f"{apart} not as predicted"] if apart else [])]
    if broken or apart:
        counts = [f"{broken} of {total} promises broken", *([f"{unknown} unknown"] if unknown else [])]
        return Text(f"◆ {', '.join((*counts, *counted))}", style=STOPS)
    if unknown:
        return Text(f"◌ {unknown} of {total} promises are unknown, {', '.join(counted)}", style=UNTRIED)
    if not total:
        return Text("◌ nothing is promised, so nothing was tried", style=UNTRIED)
    return Text(f"● every promise kept, {', '.join(counted)}", style=STRONG)


def _promised(result: Rehearsed) -> Text:
    promise = result.forecast.promise
    manner = "shut" if promise.holds == "shut" else promise.mode
    return Text(f"{promise.client} → {promise.service}" + (f", {manner}" if manner else ""), style=STRONG)


def _predicted_cell(result: Rehearsed) -> Text:
    forecast = result.forecast
    stop = forecast.stops[0] if forecast.stops else None
    if forecast.promise.holds == "shut":
        return Text(_SHUT[forecast.predicted])
    if forecast.data is None or (stop and not stop.ports):
        return Text(_SAID[forecast.predicted] + (f": {stop.outcome} at {forecast.rung}" if stop else ""))
    parts = [_ports_words(forecast.data.works)] if forecast.data.works else []
    parts += [f"{_ports_words(each.ports)} {each.outcome}" for each in forecast.data.stops]
    return Text(f"{_SAID[forecast.predicted]}: {'; '.join(parts)}")


def _observed_cell(result: Rehearsed) -> Text:
    seen = result.observed
    if seen is None:
        return Text(f"not rehearsed: {result.reason}", style=UNTRIED)
    stopped = seen.climb.stopped_at
    if result.forecast.promise.holds == "shut":
        return Text(_SHUT[seen.extent] + (f": {stopped.outcome}, {stopped.detail}" if stopped else ""))
    if not seen.groups and not seen.untried:
        ending = f"{stopped.outcome} at {stopped.rung}" if stopped else ", ".join(_transfers_done(seen))
        return Text(f"{_SAID[seen.extent]}: {ending}" if ending else _SAID[seen.extent])
    parts = [_ports_words(seen.works)] if seen.works else []
    parts += [f"{_ports_words(each.ports)} {each.outcome}" for each in seen.groups if each.outcome != "ok"]
    parts += [f"{_ports_words(seen.untried)} not tried"] if seen.untried else []
    return Text(f"{_SAID[seen.extent]}: {'; '.join(filter(None, (*parts, _session_text(seen))))}")


def _session_text(seen: Observed) -> str:
    """What the session did, where that is not what its data ports say already."""
    stopped = seen.climb.stopped_at
    if stopped is not None:
        return "" if stopped.rung in ("data", "list") else f"{stopped.outcome} at {stopped.rung}"
    return ", ".join(_transfers_done(seen))


def _transfers_done(seen: Observed) -> list[str]:
    return [each.rung for each in seen.climb.rungs if each.rung in ("list", "send", "fetch") and each.outcome == "ok"]


def _ports_words(ports: PortSet) -> str:
    """A port set in words; one in many pieces, as a sample is, is counted."""
    if len(ports.spans) <= MOST_SETS:
        return str(ports)
    return f"{ports.lowest} to {ports.highest} ({len(ports)} tried)"


def _difference_rows(result: Rehearsed, journey: Journey | None, line: LineOf) -> Iterator[RenderableType]:
    promise = result.forecast.promise
    yield ""
    yield Text(f"Where they part: {promise.client} → {promise.service}", style=STRONG)
    for each in result.differences:
        yield Text(f"  {each}")
    if journey is not None:
        yield Text("  predicted, hop by hop", style=UNTRIED)
        yield walk_steps(journey, line)
    if result.observed is not None and result.observed.climb.stopped_at is not None:
        yield Text("  observed, rung by rung", style=UNTRIED)
        yield _rungs(result.observed.climb)
    if result.observations:
        yield Text("  observed, packet by packet", style=UNTRIED)
        yield _packets(result.observations)


def _rungs(climb: Climb) -> RenderableType:
    table = columns(widths=(1, 11, 10, None))
    for each in climb.rungs:
        if each.outcome != "untried":
            table.add_row("", state(each.outcome), Text(each.rung, style=STRONG), Text(each.detail))
    return table


_PACKET = {"opens": "asks", "answers": "accepts", "refuses": "refuses"}


def _packets(observations: Sequence[PacketSeen]) -> RenderableType:
    """Where the connection was seen, on its way there and back; after the last place it is lost."""
    table = columns(widths=(1, 20, 9, 8, None))
    for each in observations:
        sender, target = _address_and_port(each.source, each.source_port), _address_and_port(each.to, each.port)
        table.add_row("", each.node, f"{each.way} {each.wire}", _PACKET[each.what], Text(f"{sender} → {target}"))
    return table


def _address_and_port(address: str, port: int) -> str:
    return f"[{address}]:{port}" if ":" in address else f"{address}:{port}"


def _next_line(results: Sequence[Rehearsed], file: str) -> str:
    if any(each.agree is False for each in results):
        return f"Next: {command_line('rehearse', file, '--capture', 'SERVER=FILE.pcap')}   and report it: a defect"
    if any(each.kept is False for each in results):
        return f"Next: {command_line('check', file)}   names the lines to edit"
    return f"Next: {command_line('visit', file, '--client', 'NAME')}   the real server, from that client's place"
