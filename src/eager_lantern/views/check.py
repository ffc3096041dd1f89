"""What `check` shows: promises, the ledger, findings, exposure, kinds of clients, and what to do next; for a folder one
line a site."""

from collections.abc import Callable, Iterator, Sequence

from msgspec import Struct
from rich.console import RenderableType
from rich.text import Text

from ..core.findings.finding import Finding
from ..core.model.site import INTERNET, Site, Transport
from ..core.predict.exposure import Opening
from ..core.predict.forecast import Forecast, because
from ..core.predict.kinds import ClientKind
from ..core.predict.ledger import Ledger
from ..core.values.ports import PortSet
from ..core.verdict import Verdict
from .ledger import LineOf, ledger_view
from .screen import (
    ACCENT,
    HOLDS,
    STOPS,
    STRONG,
    UNTRIED,
    Command,
    Share,
    between,
    columns,
    command,
    command_line,
    indented,
    state,
)

MOST_LEDGERS, MOST_FINDINGS, MOST_PROMISES = 2, 5, 10
FEW_FINDINGS = 3
UsualNames = Callable[[PortSet, Transport], str]
"""What usually listens on ports, by the registry of services."""


class Shown(Struct, frozen=True):
    """How a result is shown: ``line`` states the line of a place in ``file``, ``usual`` what usually listens on
    ports, ``whole`` is for who wants everything and not one screen of it."""

    file: str
    line: LineOf
    usual: UsualNames
    whole: bool = False


def check_view(verdict: Verdict, shown: Shown) -> Iterator[RenderableType]:
    """The whole result and the next step."""
    yield from check_body(verdict, shown)
    yield ""
    yield _next_step(verdict, shown)


def check_body(verdict: Verdict, shown: Shown) -> Iterator[RenderableType]:
    """The result alone."""
    yield between(verdict.site.site, _check_headline(verdict), STRONG)
    yield Text(f"predicted from {shown.file}", style=UNTRIED)
    yield ""
    ways = [each for each in verdict.ways_in if shown.whole or each.kept is not True]
    yield from _promise_rows((*verdict.forecasts, *ways), shown)
    yield ""
    yield from openings_view(verdict.openings, shown.line, shown.usual)
    if verdict.kinds:
        yield ""
        yield from kinds_view(verdict.kinds)
    for ledger in _worth_showing(verdict, shown):
        yield ""
        yield from ledger_view(ledger, shown.line)
    yield ""
    yield from _findings(verdict.findings, shown)
    if verdict.behind:
        yield from _behind(verdict.behind, shown)


def _check_headline(verdict: Verdict) -> Text:
    total = len(verdict.forecasts)
    broken = sum(each.kept is False for each in verdict.forecasts)
    unknown = sum(each.kept is None for each in verdict.forecasts)
    shut = sum(each.kept is False for each in verdict.ways_in)
    ways = f"{shut} way{'s' if shut > 1 else ''} in shut" if shut else ""
    if broken:
        share = f"{broken} of {total} promises" if total > 1 else "the promise is"
        return Text(f"◆ {share} broken{', ' + ways if ways else ''}", style=STOPS)
    if ways:
        return Text(f"◆ {ways} that must stay open", style=STOPS)
    if verdict.belied:
        return Text("◆ observations contradict the site file", style=STOPS)
    if unknown:
        share = f"{unknown} of {total} promises {'are' if unknown > 1 else 'is'}" if total > 1 else "the promise is"
        return Text(f"◌ {share} unknown", style=UNTRIED)
    if not total:
        return Text("◌ no promises in the site file", style=UNTRIED)
    return Text.assemble(("● ", HOLDS), (f"all {total} promises kept" if total > 1 else "the promise is kept", STRONG))


def _verdict_word(forecast: Forecast) -> str:
    return {True: "kept", False: "broken", None: "unknown"}[forecast.kept]


def _promise_rows(forecasts: tuple[Forecast, ...], shown: Shown) -> Iterator[RenderableType]:
    order = {"broken": 0, "unknown": 1, "kept": 2}
    ranked = sorted(forecasts, key=lambda each: order[_verdict_word(each)])
    table = columns(widths=(9, None, None))
    room = len(ranked) if shown.whole else max(MOST_PROMISES, sum(each.kept is not True for each in ranked))
    for each in ranked[:room]:
        table.add_row(state(_verdict_word(each)), Text(_promised_to(each)), Text(because(each)))
    yield table
    if len(ranked) > room:
        yield Text(f"and {len(ranked) - room} more kept ones (--all shows them)", style=UNTRIED)


def _promised_to(forecast: Forecast) -> str:
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


_COUNTED = {
    "breaks": ("breaks a promise", "break promises"),
    "risks": ("is a risk", "are risks"),
    "note": ("note", "notes"),
}
"""Of findings of a severity: one, and several."""


def _findings(found: tuple[Finding, ...], shown: Shown) -> Iterator[RenderableType]:
    if not found:
        yield Text("Findings: none", style=STRONG)
        return
    counts = {severity: sum(each.severity == severity for each in found) for severity in ("breaks", "risks", "note")}
    listed = ", ".join(f"{count} {_COUNTED[severity][count > 1]}" for severity, count in counts.items() if count)
    yield Text(f"Findings: {listed}", style=STRONG)
    room = len(found) if shown.whole else MOST_FINDINGS
    yield from _finding_rows(found[:room], shown)
    if len(found) > room:
        yield Text(f"  and {len(found) - room} more, {found[room].severity} at most (--all shows them)", style=UNTRIED)


def _finding_rows(found: Sequence[Finding], shown: Shown) -> Iterator[RenderableType]:
    for each in found:
        yield (
            Text("  ")
            + state(each.severity)
            + Text(f" {'':{6 - len(each.severity)}} line {shown.line(each.place)}", style=ACCENT)
            + Text(f"  {each.kind}")
        )
        yield indented(Text(each.message), 12)
        yield indented(Text(f"→ {each.advice}", style=ACCENT), 12)


def _behind(found: tuple[Finding, ...], shown: Shown) -> Iterator[RenderableType]:
    """What would stop a promise next."""
    yield ""
    yield Text(f"Behind these: {len(found)} more, hidden until they are cured", style=STRONG)
    room = len(found) if shown.whole else MOST_FINDINGS
    yield from _finding_rows(found[:room], shown)
    if len(found) > room:
        yield Text(f"  and {len(found) - room} more (--all shows them)", style=UNTRIED)


def _next_step(verdict: Verdict, shown: Shown) -> Command:
    """The command that helps most now."""
    file = shown.file
    if verdict.verdict == "broken" and any(each.severity == "breaks" and each.cures for each in verdict.findings):
        return command(f"Next: {command_line('mend', file)}", ACCENT)
    for each in (*verdict.forecasts, *verdict.ways_in):
        if each.kept is False and each.promise.holds == "works":
            return command(f"Next: {command_line('walk', file, *walk_words(each))}", ACCENT)
    breaks = next((each.kind for each in verdict.findings if each.severity == "breaks"), None)
    if breaks and verdict.verdict == "broken":
        return command(f"Next: {command_line('explain', breaks)}", ACCENT)
    if not verdict.forecasts:
        return command(f"Next: add to {file} what must work: {first_promise(verdict.site)}", ACCENT)
    left = sorted({shown.line(each.place) or 0 for each in verdict.findings if each.kind == "not-filled-in"})
    if left:
        lines = f"line{'s' * (len(left) > 1)} {', '.join(map(str, left))}"
        return command(f"Next: write what has a ? now into {file}, {lines}", ACCENT)
    works = next((each for each in verdict.forecasts if each.promise.holds == "works"), None)
    if works and any(each.kind == "rule-unknown" for each in verdict.findings):
        return command(
            f"Next: {command_line('visit', file)}   the real server shows what the file does not state", ACCENT
        )
    if works:
        return command(f"Next: {command_line('rehearse', file)}   real sessions in a lab on this machine", ACCENT)
    return command("Next: add promises to the site file, one for each thing that must work", ACCENT)


def first_promise(site: Site) -> str:
    """A promise in the words of the site file, for a site that has none."""
    service = next((each for each in site.services if each.protocol != "other"), None)
    client = next((each.name for each in site.clients), INTERNET)
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


MANY_SPANS, FEW_PORTS = 12, 64
"""Of a set that is listed whole, and of one of which it helps to name what usually listens there."""


def openings_view(
    found: tuple[Opening, ...], line: LineOf, usual: Callable[[PortSet, Transport], str]
) -> Iterator[RenderableType]:
    """A row for each set of ports that one line opens to one host."""
    yield Text(f"Reached from the internet{'' if found else ': nothing'}", style=STRONG)
    if not found:
        return
    table = columns(widths=(11, 17, Share(5), Share(4), 8))
    several = len({each.door for each in found}) > 1
    for each in found:
        table.add_row(
            Text("  ") + state("wanted" if each.wanted else "unasked"),
            Text(f"{each.protocol} {_counted(each.ports)}"),
            Text(f"{_leads(each)}{f', at {each.door}' if several else ''}"),
            Text(_listening_service(each, usual)),
            Text(f"line {line(each.place)}", style=ACCENT),
        )
    yield table


def _counted(ports: PortSet) -> str:
    if len(ports.spans) <= MANY_SPANS:
        return str(ports)
    return f"{len(ports.spans)} ranges from {ports.lowest} to {ports.highest}, {len(ports)} ports"


def _leads(opening: Opening) -> str:
    """Which host, by whose rule, and for whom where not for all."""
    inside = f", its port {opening.inside}" if opening.inside != opening.ports else ""
    only = f", from {opening.sources} only" if opening.sources else ""
    return f"{opening.host}{inside}, by {opening.at}{only if len(only) < 60 else ', not from everywhere'}"


def _listening_service(opening: Opening, usual: Callable[[PortSet, Transport], str]) -> str:
    """The site's own service there, or what usually listens on such ports."""
    if opening.service:
        return opening.service if opening.wanted else f"{opening.service}, promised to nobody outside"
    names = usual(opening.inside, opening.protocol) if len(opening.inside) <= FEW_PORTS else ""
    return f"no service of the site; usually {names}" if names else "no service of the site"


def kinds_view(kinds: tuple[ClientKind, ...]) -> Iterator[RenderableType]:
    """A table for each place where users may stand; equal answers of a place are one row."""
    yield Text("The site describes no clients. By kind of client:", style=STRONG)
    for stands in dict.fromkeys((each.service, each.stands) for each in kinds):
        yield Text(f"  {stands[1]}, {stands[0]}")
        table = columns(widths=(14, Share(2), Share(5)))
        rows: dict[tuple[str, str], list[ClientKind]] = {}
        for each in kinds:
            if (each.service, each.stands) == stands:
                rows.setdefault((_word_of_kind(each), because(each.forecast)), []).append(each)
        for (word, reason), alike in rows.items():
            table.add_row(Text("    ") + state(word), Text(_kind_settings(alike, kinds)), Text(reason))
        yield table


def _word_of_kind(kind: ClientKind) -> str:
    return {True: "works", False: "fails", None: "unknown"}[kind.forecast.kept]


def _kind_settings(alike: list[ClientKind], kinds: tuple[ClientKind, ...]) -> str:
    """Their settings; with or without TLS only where that makes a difference."""
    chosen = any(each.clear for each in kinds)
    modes: dict[str, set[bool]] = {}
    for each in alike:
        modes.setdefault(_mode_words(each), set()).add(each.clear)
    words = {True: ", without TLS", False: ", with TLS" if chosen else ""}
    return "; ".join(mode if len(clear) > 1 else f"{mode}{words[min(clear)]}" for mode, clear in modes.items())


def _mode_words(kind: ClientKind) -> str:
    """The mode in the words that client programs have for it."""
    if kind.mode is None:
        return "SFTP"
    return "active" if kind.mode == "active" else "passive (EPSV)" if kind.extended else "passive (PASV)"


class FolderRow(Struct, frozen=True):
    """One site of a folder: its verdict (or ``bad input``) and what matters most about it."""

    file: str
    verdict: str
    kept: int
    promises: int
    most: str


def folder_view(rows: Sequence[FolderRow]) -> Iterator[RenderableType]:
    """A line for each site, what is wrong last, where the eye is, and the total below."""
    order = {"kept": 0, "unknown": 1, "broken": 2, "bad input": 3, "fault": 4}
    table = columns(widths=(12, 30, 8, None))
    for row in sorted(rows, key=lambda each: (order[each.verdict], each.file)):
        share = f"{row.kept} of {row.promises}" if row.verdict not in ("bad input", "fault") else ""
        table.add_row(state(row.verdict), Text(row.file), Text(share), Text(row.most))
    yield table
    yield ""
    counts = [
        f"{count} {word}" for word in order if (count := sum(each.verdict == word for each in rows)) or word != "fault"
    ]
    yield Text(f"{len(rows)} sites: {', '.join(counts)}", style=STRONG)
