"""What `mend` shows: the plan device by device, what it lets in, and the patch of the site file."""

from collections.abc import Iterator, Sequence

from rich.console import RenderableType
from rich.text import Text

from ..core.diagnosis.fault import Fault
from ..core.mending.mend import Mending, Plan
from ..core.model.site import Promise, Site
from ..core.predict.forecast import Forecast, because
from ..core.values.phrases import ports_named
from .ledger import LineOf
from .screen import ACCENT, HOLDS, RISKS, STOPS, STRONG, UNTRIED, Share, between, columns, command, command_line


def mend_view(
    site: Site, found: Mending, on_devices: Sequence[Fault], patch: str, written: str, file: str, line: LineOf
) -> Iterator[RenderableType]:
    """The whole of a mending; ``written`` is the file that was written, empty where none was."""
    if on_devices:
        yield from _undone(site, on_devices, file, line)
    if on_devices and found.plan is None:
        return
    yield between(site.site, _mend_head(found), STRONG)
    if found.plan is None:
        yield from _without_plan(found, file, line)
        return
    yield ""
    yield from plan_view(site, found.plan, patch, line)
    if not found.least:
        yield Text("▲ Too many ways to try all of them: a cheaper plan may exist.", style=RISKS)
    for number, other in enumerate(found.alternatives, start=2):
        yield ""
        yield Text(f"Another plan of the same cost ({number})", style=STRONG)
        yield from _plan_rows(site, other, line)
    yield ""
    if written:
        yield Text(f"Written: {written}. Change the real devices too, from their pages:", style=STRONG)
        yield command(f"  {command_line('sheets', file)}", ACCENT)
    else:
        yield Text("The next line writes the file. Change the devices by hand, from their pages (sheets).")
        yield command(f"Next: {command_line('mend', file, '--write')}", ACCENT)


def plan_view(site: Site, plan: Plan, patch: str, line: LineOf) -> Iterator[RenderableType]:
    """A plan device by device, what it brings and lets in, and the patch."""
    yield from _plan_rows(site, plan, line)
    yield ""
    yield from (Text(f"● {_promise_name(each)}: kept by this plan", style=HOLDS) for each in plan.gains)
    yield from _opens_rows(plan)
    yield ""
    for each in patch.rstrip().splitlines():
        mark = {"+": HOLDS, "-": STOPS}.get(each[:1], UNTRIED)
        yield Text(f"  {each}", style=mark, no_wrap=True)


def _undone(site: Site, faults: Sequence[Fault], file: str, line: LineOf) -> Iterator[RenderableType]:
    """What the file has right and a device may not, device by device."""
    places = f"{len(faults)} place{'s' * (len(faults) != 1)} to look at, none in the file"
    yield between(site.site, Text(f"◆ {places}", style=STOPS), STRONG)
    yield Text("The site file is the plan. Where a device differs from it, enter what the file has:")
    for device in dict.fromkeys(each.at for each in faults):
        yield Text(device, style=STRONG)
        table = columns(widths=(3, 9, Share(1)))
        for each in faults:
            if each.at == device:
                number = line(each.place)
                table.add_row("", Text(f"line {number}" if number else "", style=UNTRIED), Text(f"look: {each.look}"))
                table.add_row("", "", Text(f"→ {each.cure}", style=ACCENT))
        yield table
    yield Text("Every entry in full, a page for each device:")
    yield command(f"Next: {command_line('sheets', file)}", ACCENT)


def _mend_head(found: Mending) -> Text:
    many = len(found.plan.steps) if found.plan else 0
    match found.verdict:
        case "kept":
            return Text("● nothing to mend", style=HOLDS)
        case "mended":
            for_what = f"for {', '.join(sorted(found.only))}" if found.only else "for every promise to be kept"
            return Text(f"● {many} change{'s' * (many != 1)} {for_what}", style=HOLDS)
        case "impossible":
            return Text("◆ no change of the file helps", style=STOPS)
        case "unknown" if found.remaining:
            many = len(found.remaining)
            return Text(f"◌ cannot tell: {many} promise{'s are' if many > 1 else ' is'} unknown", style=RISKS)
        case "unknown":
            return Text("◌ no plan was found", style=RISKS)


def _promise_name(promise: Promise) -> str:
    how = "shut" if promise.holds == "shut" else promise.mode
    return f"{promise.client} → {promise.service}{f', {how}' if how else ''}"


def _plan_rows(site: Site, plan: Plan, line: LineOf) -> Iterator[RenderableType]:
    """Device by device, in the order in which its changes come first."""
    for device in dict.fromkeys(each.device(site) for each in plan.steps):
        yield Text(device, style=STRONG)
        table = columns(widths=(3, 9, Share(1)))
        for each in plan.steps:
            if each.device(site) == device:
                number = Text(f"line {line(each.change.place)}", style=UNTRIED)
                table.add_row("", number, Text(each.finding.message))
                table.add_row("", "", Text(f"→ {each.finding.advice}", style=ACCENT))
        yield table


def _opens_rows(plan: Plan) -> Iterator[RenderableType]:
    if not plan.more:
        yield Text("It opens nothing new.")
        return
    networks: dict[tuple[str, str, str], list[str]] = {}
    for each in plan.more:
        networks.setdefault((each.host, each.protocol, ports_named(each.ports)), []).append(each.network)
    yield Text("It opens, and the promises need all of it:")
    for (host, protocol, ports), names in networks.items():
        yield Text(f"  {host}: {protocol} {ports}, from {', '.join(names)}")


def _without_plan(found: Mending, file: str, line: LineOf) -> Iterator[RenderableType]:
    if found.verdict == "kept":
        yield Text("Nothing to change.")
        return
    yield ""
    yield from map(_remaining_line, found.remaining)
    for each in found.incurable:
        number = line(each.place)
        yield Text.assemble((f"  {each.message}", STRONG), (f"  line {number}" if number else "", UNTRIED))
        yield Text(f"  → outside the file: {each.advice}", style=ACCENT)
    yield command(f"Next: {command_line('check', file)}", ACCENT)


def _remaining_line(forecast: Forecast) -> Text:
    if forecast.kept is None:
        return Text(f"◌ {_promise_name(forecast.promise)}: {because(forecast)}", style=RISKS)
    return Text(f"◆ {_promise_name(forecast.promise)}: {because(forecast)}", style=STOPS)
