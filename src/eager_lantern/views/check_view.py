"""What `check` shows: promises, the ledger, findings, and what to do next, on one screen."""

from collections.abc import Callable, Iterator

from msgspec import Struct
from rich.console import RenderableType
from rich.text import Text

from ..core.findings.finding import Finding
from ..core.model.site import INTERNET, Transport
from ..core.predict.forecast import Forecast
from ..core.predict.ledger import Ledger
from ..core.predict.wording import because
from ..core.values.ports import PortSet
from ..core.verdict import Verdict
from .ledger_view import LineOf, ledger_view
from .openings_view import openings_view
from .screen import between, columns, command, indented, state, typed
from .style import ACCENT, HOLDS, STOPS, STRONG, UNTRIED

MOST_LEDGERS, MOST_FINDINGS, MOST_PROMISES = 2, 5, 10
FEW_FINDINGS = 3
UsualNames = Callable[[PortSet, Transport], str]
"""What usually listens on ports, by the registry of services."""


class Shown(Struct, frozen=True):
    """How a result is shown: ``line`` tells the line of a place in ``file``, ``usual`` what usually listens on
    ports, ``whole`` is for who wants everything and not one screen of it."""

    file: str
    line: LineOf
    usual: UsualNames
    whole: bool = False


def check_view(verdict: Verdict, shown: Shown) -> Iterator[RenderableType]:
    """The whole result and the next step."""
    yield from check_body(verdict, shown)
    yield ""
    yield _next(verdict, shown.file)


def check_body(verdict: Verdict, shown: Shown) -> Iterator[RenderableType]:
    """The result alone."""
    yield between(verdict.site.site, _headline(verdict), STRONG)
    yield Text(f"predicted from {shown.file}", style=UNTRIED)
    yield ""
    ways = [each for each in verdict.ways_in if shown.whole or each.kept is not True]
    yield from _promises((*verdict.forecasts, *ways), shown)
    yield ""
    yield from openings_view(verdict.openings, shown.line, shown.usual)
    if verdict.kinds:
        from .kinds_view import kinds_view  # few sites describe no clients

        yield ""
        yield from kinds_view(verdict.kinds)
    for ledger in _worth_showing(verdict, shown):
        yield ""
        yield from ledger_view(ledger, shown.line)
    yield ""
    yield from _findings(verdict.findings, shown)


def _headline(verdict: Verdict) -> Text:
    total = len(verdict.forecasts)
    broken = sum(each.kept is False for each in verdict.forecasts)
    unknown = sum(each.kept is None for each in verdict.forecasts)
    shut = sum(each.kept is False for each in verdict.ways_in)
    ways = f"{shut} way{'s' if shut > 1 else ''} in shut" if shut else ""
    if broken:
        return Text(f"◆ {broken} of {total} promises broken{', ' + ways if ways else ''}", style=STOPS)
    if ways:
        return Text(f"◆ {ways} that must stay open", style=STOPS)
    if verdict.belied:
        return Text("◆ the file is belied by what was seen", style=STOPS)
    if unknown:
        return Text(f"◌ {unknown} of {total} promises cannot be told", style=UNTRIED)
    if not total:
        return Text("◌ no promises to judge", style=UNTRIED)
    return Text.assemble(("● ", HOLDS), (f"all {total} promises kept" if total > 1 else "the promise is kept", STRONG))


def _word(forecast: Forecast) -> str:
    return {True: "kept", False: "broken", None: "unknown"}[forecast.kept]


def _promises(forecasts: tuple[Forecast, ...], shown: Shown) -> Iterator[RenderableType]:
    order = {"broken": 0, "unknown": 1, "kept": 2}
    ranked = sorted(forecasts, key=lambda each: order[_word(each)])
    table = columns(widths=(9, None, None))
    room = len(ranked) if shown.whole else max(MOST_PROMISES, sum(each.kept is not True for each in ranked))
    for each in ranked[:room]:
        table.add_row(state(_word(each)), Text(_who(each)), Text(because(each)))
    yield table
    if len(ranked) > room:
        yield Text(f"and {len(ranked) - room} more that are kept: --all shows them", style=UNTRIED)


def _who(forecast: Forecast) -> str:
    """Who is promised what; a way in that has to stay open is none of the promises."""
    promise = forecast.promise
    kept_open = forecast.place[:1] == ("services",)
    manner = promise.mode or ("shut" if promise.holds == "shut" else "way in" if kept_open else "")
    return f"{promise.client} → {promise.service}" + (f", {manner}" if manner else "")


def _worth_showing(verdict: Verdict, shown: Shown) -> list[Ledger]:
    """The ledgers of broken promises that differ, or else the first, which shows the agreement."""
    if shown.whole:
        return list(verdict.ledgers)
    broken = {(each.promise.client, each.promise.service) for each in verdict.forecasts if each.kept is False}
    found: dict[tuple[object, ...], Ledger] = {}
    for ledger in verdict.ledgers:
        if (ledger.client, ledger.service) in broken and any(each.missing for each in ledger.layers):
            faults = tuple((each.at, each.aspect, each.missing) for each in ledger.layers if each.missing)
            found.setdefault(faults, ledger)
    room = MOST_LEDGERS if len(verdict.findings) <= FEW_FINDINGS else 1
    return list(found.values())[:room] or list(verdict.ledgers[:1])


def _findings(found: tuple[Finding, ...], shown: Shown) -> Iterator[RenderableType]:
    if not found:
        yield Text("Findings: none", style=STRONG)
        return
    counts = {severity: sum(each.severity == severity for each in found) for severity in ("breaks", "risks", "note")}
    listed = ", ".join(f"{count} {severity}" for severity, count in counts.items() if count)
    yield Text(f"Findings: {listed}", style=STRONG)
    room = len(found) if shown.whole else MOST_FINDINGS
    for each in found[:room]:
        yield (
            Text("  ")
            + state(each.severity)
            + Text(f" {'':{6 - len(each.severity)}} line {shown.line(each.place)}", style=ACCENT)
            + Text(f"  {each.kind}")
        )
        yield indented(Text(each.message), 12)
        yield indented(Text(f"→ {each.advice}", style=ACCENT), 12)
    if len(found) > room:
        yield Text(f"  and {len(found) - room} more, {found[room].severity} at most: --all shows them", style=UNTRIED)


def _next(verdict: Verdict, file: str) -> Text:
    """The command that helps most now."""
    for each in (*verdict.forecasts, *verdict.ways_in):
        if each.kept is False and each.promise.holds == "works":
            return command(f"Next: {typed('walk', file, *walk_words(each))}", ACCENT)
    breaks = next((each.kind for each in verdict.findings if each.severity == "breaks"), None)
    if breaks and verdict.verdict == "broken":
        return command(f"Next: {typed('explain', breaks)}", ACCENT)
    if not verdict.forecasts:
        return command(f"Next: add to {file} what must work: {_first_promise(verdict)}", ACCENT)
    works = next((each for each in verdict.forecasts if each.promise.holds == "works"), None)
    if works and any(each.kind == "rule-unknown" for each in verdict.findings):
        return command(f"Next: {typed('visit', file)}   the real server tells what the file does not know", ACCENT)
    if works:
        return command(f"Next: {typed('rehearse', file)}   real sessions in a lab on this machine", ACCENT)
    return command("Next: add promises to the site file, one for each thing that must work", ACCENT)


def _first_promise(verdict: Verdict) -> str:
    """A promise in the words of the site file, for a site that has none."""
    service = next((each for each in verdict.site.services if each.protocol != "other"), None)
    client = next((each.name for each in verdict.site.clients), INTERNET)
    name = service.name if service else "SERVICE"
    mode = ", mode: passive" if service is None or service.protocol == "ftp" else ""
    return f"promises: [{{client: {client}, service: {name}{mode}}}]"


def walk_words(forecast: Forecast) -> list[str]:
    """The options of the walk that shows where a promise breaks."""
    words = ["--client", forecast.promise.client, "--service", forecast.promise.service]
    if forecast.data and forecast.data.fails:
        mode, port = forecast.promise.mode or "passive", str(forecast.data.fails.lowest)
        return [*words, "--mode", mode, "--rung", "data", "--port", port]
    return words
