"""What a lamp says of itself, and what a sweep over it found, beside the prediction."""

import shlex
from collections.abc import Iterator, Sequence
from pathlib import PurePath

from rich.console import RenderableType
from rich.text import Text

from ..core.observed.compared import LitFrom, LitOutcome, Sweep, Unlit, measured, ports_of, with_outcome
from ..core.values.phrases import ports_named
from ..core.values.ports import PortSet
from ..core.values.quantities import Duration
from .ledger import LineOf, axis, bar, measured_view
from .screen import ACCENT, PASSES, RISKS, STOPS, STRONG, UNTRIED, between, columns, command, command_line
from .visit import trouble_view

BAR_COLUMNS = 30
MOST_REWRITTEN = 6
_ARRIVING = ("predicted to arrive", "arrive at the lamp")
_MEASURED: dict[str, LitOutcome] = {
    "arrive at the lamp": "ok", "refused": "refused", "silent": "silent", "another answers": "wrong",
    "could not be tried": "unknown", "lamp was crowded": "crowded",
}  # fmt: skip


def lit_view(
    addresses: Sequence[str], ports: PortSet, unlit: Sequence[Unlit], seconds: float, shown: str, by_phone: bool
) -> Iterator[RenderableType]:
    """Which ports burn, which do not and why, and what to run outside, where no phone is to test; ``shown`` is the
    secret's setting."""
    dark = ports_of(each.port for each in unlit) if len(addresses) == 1 else PortSet()
    lit = ports - dark
    head = f"Lit: {ports_named(lit)}, on {', '.join(addresses)}" if lit else "Nothing could be lit"
    yield between(head, Text(f"ends by itself in {Duration(seconds)}" if lit else ""), STRONG)
    for (protocol, reason), dark_ports in _by_reason(unlit).items():
        yield Text(f"  ◆ not lit: {protocol.upper()} {ports_named(dark_ports)}: {reason}", style=STOPS)
    if lit and not by_phone:
        yield ""
        yield Text("From outside, run")
        yield command(f"  {shown + ' ' if shown else ''}eager-lantern visit SITE --client NAME --lamp", ACCENT)
        yield Text("No machine outside? End it, and start it with --phone: a phone tests from there.", style=UNTRIED)


def _by_reason(unlit: Sequence[Unlit]) -> dict[tuple[str, str], PortSet]:
    found: dict[tuple[str, str], PortSet] = {}
    for each in unlit:
        key = (each.protocol, each.reason)
        found[key] = found.get(key, PortSet()) | PortSet.single(each.port)
    return found


def burnt_view(answered: int, rejected: int, crowded: int) -> Iterator[RenderableType]:
    """How it went, once the lamp is out."""
    yield Text(f"The lamp is out: {answered} challenges answered, {rejected} others got no word.", style=STRONG)
    if crowded:
        yield Text(f"▲ It was crowded: {crowded} connections found no place.", style=RISKS)


def sweeps_view(service: str, places: Sequence[LitFrom], line: LineOf) -> Iterator[RenderableType]:
    """Each place on its own."""
    for i, seen in enumerate(places):
        if i:
            yield ""
        if seen.sweeps:
            yield from _sweep_rows(service, seen, line)
        if seen.trouble:
            yield from trouble_view(seen.place, seen.trouble)


def lit_seen_view(places: Sequence[LitFrom], line: LineOf, file: str, seen: str) -> Iterator[RenderableType]:
    """Kept sweeps beside what the site file predicts now."""
    apart = sum(each.differs for each in places)
    word = f"◆ {apart} of {len(places)} differ" if apart else f"● {len(places)} seen as predicted"
    yield between("Predicted beside observed", Text(word, style=STOPS if apart else STRONG), STRONG)
    for each in places:
        yield ""
        yield from sweeps_view(each.ledger.service if each.ledger is not None else "lamp", [each], line)
    if not all(each.all_arrive for each in places):
        yield ""
        yield command(f"Next: {command_line('diagnose', file, '--seen', seen)}", ACCENT)


def carried_view(
    probe: str, file: str, host: str, control: int, data: PortSet, setting: str
) -> Iterator[RenderableType]:
    """What to do with a probe; ``setting`` is the secret that was made up for it, as a shell sets it."""
    yield Text(f"{probe} asks {host} for port {control}{f' and {ports_named(data)}' if data else ''}.", style=STRONG)
    yield "It needs Python 3.9 or newer where it is run, no password, and no other program."
    before = f"{setting} " if setting else ""
    yield ""
    yield Text("1. On the server host, light the lamp, in place of the server:")
    yield command(f"  {before}{command_line('lamp', file)}", ACCENT)
    yield Text("2. Send the file to somebody who is outside, and have it run there (Windows: py):")
    yield command(f"  python3 {shlex.quote(PurePath(probe).name)}", ACCENT)
    yield Text("3. It writes a file probe-result-….json. Have it sent back as it is, and compare:")
    yield command(f"  {before}{command_line('check', file, '--seen', 'probe-result-….json')}", ACCENT)
    yield Text("The probe holds the secret of the lamp: who has the probe can ask the lamp, and nothing else.",
               style=UNTRIED)  # fmt: skip


def _sweep_rows(service: str, seen: LitFrom, line: LineOf) -> Iterator[RenderableType]:
    """What was measured, as the last bar of the predicted ledger; what became of each port, and where that differs
    from the prediction."""
    missing = sum(outcome != "ok" for outcome in seen.outcomes)
    count = len(seen.outcomes)
    head = f"◆ {missing} of {count} ports do not arrive" if missing else f"● all {count} ports arrive"
    yield between(f"{seen.client} → {service}, lit", Text(head, style=STOPS if missing else STRONG), STRONG)
    targets = ", ".join(dict.fromkeys(each.target for each in seen.sweeps))
    yield Text(f"swept from {seen.place}: {targets}", style=UNTRIED)
    if seen.ledger is not None:
        yield ""
        yield from measured_view(seen.ledger, line, measured(seen.ledger, seen.sweeps))
    for protocol in dict.fromkeys(each.protocol for each in seen.sweeps):
        yield ""
        yield from _transport(protocol, seen.predicted, [each for each in seen.sweeps if each.protocol == protocol])
    if places := dict.fromkeys(place for sweep in seen.sweeps for place in sweep.seen_from):
        yield Text(f"The lamp saw this place as {', '.join(places)}.", style=UNTRIED)


def _transport(protocol: str, predicted: PortSet, sweeps: Sequence[Sweep]) -> Iterator[RenderableType]:
    """The ports of one transport."""
    every = ports_of(each.port for sweep in sweeps for each in sweep.ports)
    rows = dict(zip(_ARRIVING, (predicted & every, with_outcome(sweeps, "ok")), strict=True))
    rows |= {label: ports for label, outcome in _MEASURED.items() if (ports := with_outcome(sweeps, outcome))}
    pieces = axis(list(rows.values()), every, BAR_COLUMNS)
    yield Text(protocol.upper(), style=STRONG)
    table = columns(widths=(22, BAR_COLUMNS + 2, None, 7))
    for label, ports in rows.items():
        named = str(ports) if len(ports.spans) < 4 else ports_named(ports)
        drawn = Text(bar(pieces, ports, every), style=PASSES if label in _ARRIVING else STOPS)
        table.add_row(f"  {label}", drawn, named or "none", f"{len(ports):7}")
    yield table
    yield from _notes(predicted & every, with_outcome(sweeps, "ok"), sweeps, every)


def _notes(predicted: PortSet, arrives: PortSet, sweeps: Sequence[Sweep], every: PortSet) -> Iterator[RenderableType]:
    missing, beyond = predicted - arrives, arrives - predicted
    if missing:
        yield Text(f"◆ {ports_named(missing)}: pass by the site file, and do not really: compare sheets", style=STOPS)
    if beyond:
        yield Text(f"◆ {ports_named(beyond)}: arrive, and should not by the site file: mend either", style=STOPS)
    for sweep in sweeps:
        for each in sweep.rewritten[:MOST_REWRITTEN]:
            meant = each.port in predicted
            text = f"port {each.port} arrives as {each.arrived_port}: a forward moves it"
            text_line = f"  {text}, as the site file states" if meant else f"◆ {text}"
            yield Text(text_line, style=UNTRIED if meant else STOPS)
    if not missing and not beyond:
        yield Text("Measured and predicted agree on every port.", style=STRONG)
        if every - arrives:
            yield Text("→ What blocks the rest: eager-lantern check names the line of the site file.", style=ACCENT)
