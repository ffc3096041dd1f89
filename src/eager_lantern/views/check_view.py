"""What `check` shows: promises, the ledger, findings, and what to do next, on one screen."""

from collections.abc import Iterator

from rich.console import RenderableType
from rich.text import Text

from ..core.finding import Finding
from ..core.forecast import Forecast
from ..core.ledger import Ledger
from ..core.verdict import Verdict
from ..core.wording import because
from .ledger_view import LineOf, ledger_view
from .screen import between, columns, command, state
from .style import ACCENT, PASSES, STOPS, STRONG, UNTRIED

MOST_LEDGERS, MOST_FINDINGS, MOST_PROMISES = 2, 5, 10
FEW_FINDINGS = 3


def check_view(verdict: Verdict, line: LineOf, file: str) -> Iterator[RenderableType]:
    """The whole result and the next step. ``line`` tells the line of a place in ``file``."""
    yield from check_body(verdict, line, file)
    yield ""
    yield _next(verdict, file)


def check_body(verdict: Verdict, line: LineOf, file: str) -> Iterator[RenderableType]:
    """The result alone."""
    yield between(verdict.site.site, _headline(verdict), STRONG)
    yield Text(f"predicted from {file}", style=UNTRIED)
    yield ""
    yield from _promises(verdict.forecasts)
    for ledger in _worth_showing(verdict):
        yield ""
        yield from ledger_view(ledger, line)
    yield ""
    yield from _findings(verdict.findings, line)


def _headline(verdict: Verdict) -> Text:
    total = len(verdict.forecasts)
    broken = sum(each.kept is False for each in verdict.forecasts)
    unknown = sum(each.kept is None for each in verdict.forecasts)
    if broken:
        return Text(f"◆ {broken} of {total} promises broken", style=STOPS)
    if unknown:
        return Text(f"◌ {unknown} of {total} promises cannot be told", style=UNTRIED)
    if not total:
        return Text("◌ no promises to judge", style=UNTRIED)
    return Text.assemble(("● ", PASSES), (f"all {total} promises kept" if total > 1 else "the promise is kept", STRONG))


def _word(forecast: Forecast) -> str:
    return {True: "kept", False: "broken", None: "unknown"}[forecast.kept]


def _promises(forecasts: tuple[Forecast, ...]) -> Iterator[RenderableType]:
    order = {"broken": 0, "unknown": 1, "kept": 2}
    ranked = sorted(forecasts, key=lambda each: order[_word(each)])
    table = columns(widths=(9, None, None))
    for each in ranked[:MOST_PROMISES]:
        mode = each.promise.mode or ("shut" if each.promise.holds == "shut" else "")
        who = f"{each.promise.client} → {each.promise.service}" + (f", {mode}" if mode else "")
        table.add_row(state(_word(each)), Text(who), Text(because(each)))
    yield table
    if len(ranked) > MOST_PROMISES:
        yield Text(f"and {len(ranked) - MOST_PROMISES} more: --format json lists all", style=UNTRIED)


def _worth_showing(verdict: Verdict) -> list[Ledger]:
    """The ledgers of broken promises that differ, or else the first, which shows the agreement."""
    broken = {(each.promise.client, each.promise.service) for each in verdict.forecasts if each.kept is False}
    shown: dict[tuple[object, ...], Ledger] = {}
    for ledger in verdict.ledgers:
        if (ledger.client, ledger.service) in broken and any(each.missing for each in ledger.layers):
            faults = tuple((each.at, each.aspect, each.missing) for each in ledger.layers if each.missing)
            shown.setdefault(faults, ledger)
    room = MOST_LEDGERS if len(verdict.findings) <= FEW_FINDINGS else 1
    return list(shown.values())[:room] or list(verdict.ledgers[:1])


def _findings(found: tuple[Finding, ...], line: LineOf) -> Iterator[RenderableType]:
    if not found:
        yield Text("Findings: none", style=STRONG)
        return
    counts = {severity: sum(each.severity == severity for each in found) for severity in ("breaks", "risks", "note")}
    listed = ", ".join(f"{count} {severity}" for severity, count in counts.items() if count)
    yield Text(f"Findings: {listed}", style=STRONG)
    for each in found[:MOST_FINDINGS]:
        yield (
            Text("  ")
            + state(each.severity)
            + Text(f" {'':{6 - len(each.severity)}} line {line(each.place)}", style=ACCENT)
            + Text(f"  {each.kind}")
        )
        table = columns(widths=(11, None))
        table.add_row("", Text(each.message))
        table.add_row("", Text(f"→ {each.advice}", style=ACCENT))
        yield table
    if len(found) > MOST_FINDINGS:
        yield Text(f"  and {len(found) - MOST_FINDINGS} more: --format json lists all", style=UNTRIED)


def _next(verdict: Verdict, file: str) -> Text:
    """The command that helps most now."""
    for each in verdict.forecasts:
        if each.kept is False and each.promise.holds == "works":
            return command(f"Next: eager-lantern walk {file} {walk_words(each)}", ACCENT)
    works = next((each for each in verdict.forecasts if each.promise.holds == "works"), None)
    if works:
        return command(f"Next: eager-lantern rehearse {file}   real sessions in a lab on this machine", ACCENT)
    return Text("Next: add promises to the site file, one for each thing that must work", style=ACCENT)


def walk_words(forecast: Forecast) -> str:
    """The options of the walk that shows where a promise breaks."""
    words = f"--client {forecast.promise.client} --service {forecast.promise.service}"
    if forecast.data and forecast.data.fails:
        return f"{words} --mode {forecast.promise.mode} --rung data --port {forecast.data.fails.lowest}"
    return words
