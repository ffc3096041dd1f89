"""What `mend` shows: the plan device by device, what it lets in, and the patch of the site file."""

from collections.abc import Iterator, Sequence

from rich.console import RenderableType
from rich.text import Text

from ..core.diagnosis.fault import Fault
from ..core.mending.effect import AccessChange
from ..core.mending.plan import Mending, Plan
from ..core.model.site import Promise, Site
from ..core.predict.forecast import Forecast, because
from ..core.sheets.difference import BACK
from ..core.sheets.sheet import Sheet
from ..core.values.phrases import listed, ports_named
from .check import first_promise
from .ledger import LineOf
from .screen import ACCENT, HOLDS, RISKS, STOPS, STRONG, UNTRIED, Share, between, columns, command, command_line


def mend_view(
    site: Site,
    found: Mending,
    entered: Sequence[Sheet],
    on_devices: Sequence[Fault],
    patch: str,
    written: str,
    file: str,
    line: LineOf,
) -> Iterator[RenderableType]:
    """The whole of a mending; ``entered`` are the pages of what the plan changes, ``written`` is the file that was
    written, empty where none was."""
    if on_devices:
        yield from _undone(site, on_devices, file, line)
    if on_devices and found.plan is None:
        return
    yield between(site.site, _mend_head(found), STRONG)
    if found.plan is None:
        yield from _without_plan(site, found, file, line)
        return
    yield ""
    yield from plan_view(site, found.plan, entered, patch, line)
    if not found.least:
        costs = f"at least {found.at_least:g}, this plan costs {found.plan.cost:g}"
        yield Text(f"▲ A cheaper plan may exist: {costs}; {found.tried} sets of changes tried.", style=RISKS)
    if found.wishes.others and not found.alternatives:
        yield ""
        yield Text("No other plan costs at most twice as much.")
    for number, other in enumerate(found.alternatives, start=2):
        yield ""
        more = other.cost > found.plan.cost
        cost = f"costs {other.cost:g}, where the first costs {found.plan.cost:g}" if more else "costs the same"
        yield Text(f"Plan {number} {cost}", style=STRONG)
        yield from _plan_rows(site, other, (), line)
        yield from _effect_rows(site, other)
    yield ""
    if written:
        yield Text(f"Written: {written}. Change the real devices too, from their pages:", style=STRONG)
        yield command(f"  {command_line('sheets', file)}", ACCENT)
    else:
        by_hand = "On the devices enter what stands beside “enter”, by hand." if entered else "The rest is by hand."
        yield Text(f"The next line writes the file. {by_hand}")
        yield command(f"Next: {command_line('mend', file, '--write')}", ACCENT)


def plan_view(site: Site, plan: Plan, entered: Sequence[Sheet], patch: str, line: LineOf) -> Iterator[RenderableType]:
    """A plan device by device, as it is entered there, what it brings and lets in, and the patch."""
    yield from _plan_rows(site, plan, entered, line)
    yield ""
    yield from (Text(f"● {_promise_name(each)}: kept by this plan", style=HOLDS) for each in plan.gains)
    yield from _effect_rows(site, plan)
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
            for_what = (
                f"for {', '.join(sorted(found.wishes.kinds))}" if found.wishes.kinds else "for every promise to be kept"
            )
            return Text(f"● {many} change{'s' * (many != 1)} {for_what}", style=HOLDS)
        case "impossible":
            if found.harmful:
                return Text("◆ no plan without harm", style=STOPS)
            if found.wishes.on or found.wishes.never:
                return Text("◆ no change of these devices helps", style=STOPS)
            return Text(f"◆ no change of the file helps: none found among {found.tried} tried", style=STOPS)
        case "unknown" if found.remaining:
            many = len(found.remaining)
            return Text(f"◌ cannot tell: {many} promise{'s are' if many > 1 else ' is'} unknown", style=RISKS)
        case "unknown" if not found.tried:
            return Text("◌ no promises in the site file", style=RISKS)
        case "unknown":
            return Text("◌ no plan was found", style=RISKS)


def _promise_name(promise: Promise) -> str:
    how = "shut" if promise.holds == "shut" else promise.mode
    return f"{promise.client} → {promise.service}{f', {how}' if how else ''}"


def _plan_rows(site: Site, plan: Plan, entered: Sequence[Sheet], line: LineOf) -> Iterator[RenderableType]:
    """Device by device, in the order in which its changes come first, with the page of each where there is one."""
    for device in dict.fromkeys(each.device(site) for each in plan.steps):
        yield Text(device, style=STRONG)
        table = columns(widths=(3, 10, Share(1)))
        page = [part for each in entered if _is_of(each, device) for part in each.parts]
        for each in plan.steps:
            if each.device(site) == device:
                number = Text(f"line {line(each.change.place)}", style=UNTRIED)
                table.add_row("", number, Text(each.finding.message))
                table.add_row("", "", Text(f"→ {each.advice}", style=ACCENT))
                if not page:
                    table.add_row("", "", Text(f"to undo: {each.undoing}", style=UNTRIED))
        for part in page:
            back = part.title.endswith(BACK)
            where = part.title.removesuffix(BACK)
            where = "" if where == "Enter" else f"{where}: "
            for step in part.steps:
                label = Text("take back" if back else "enter", style=UNTRIED if back else STRONG)
                table.add_row("", label, Text(f"{where}{step}", style=UNTRIED if back else ""))
        yield table


def _is_of(page: Sheet, device: str) -> bool:
    """Whether a page is the device's own, or the card of a client of this name."""
    return page.name == device or page.name.startswith(f"Card of {device},")


def _effect_rows(site: Site, plan: Plan) -> Iterator[RenderableType]:
    """What it opens and what it takes away."""
    if plan.effect.opens:
        yield Text("It opens, and the promises need all of it:")
        yield from _passing_rows(site, plan.effect.opens)
    if plan.effect.takes:
        yield Text(
            "It takes away what a mistyped entry let pass:" if not plan.effect.lost else "It takes away:", style=RISKS
        )
        yield from _passing_rows(site, plan.effect.takes)
    nothing = [word for word, found in (("opens", plan.effect.opens), ("takes away", plan.effect.takes)) if not found]
    if nothing:
        yield Text(f"It {' and '.join(nothing)} nothing{' new' if nothing == ['opens'] else ''}.")


def _passing_rows(site: Site, passing: Sequence[AccessChange]) -> Iterator[RenderableType]:
    origins: dict[tuple[str, str, str], list[str]] = {}
    for each in passing:
        limit = each.limit(site)
        origin = f"{each.origin} ({limit})" if limit else each.origin
        origins.setdefault((each.place, each.protocol, ports_named(each.ports)), []).append(origin)
    for (place, protocol, ports), names in origins.items():
        yield Text(f"  {place}: {protocol} {ports}, from {', '.join(dict.fromkeys(names))}")


def _without_plan(site: Site, found: Mending, file: str, line: LineOf) -> Iterator[RenderableType]:
    if found.verdict == "kept":
        yield Text("Nothing to change.")
        return
    yield ""
    yield from map(_remaining_line, found.remaining)
    for each in found.incurable:
        number = line(each.place)
        yield Text.assemble((f"  {each.message}", STRONG), (f"  line {number}" if number else "", UNTRIED))
        yield Text(f"  → yours to do: {each.advice}", style=ACCENT)
    if found.elsewhere is not None:
        yield ""
        names = dict.fromkeys(each.device(site) for each in found.elsewhere.steps)
        yield Text(f"What helps is on {listed(names)}:", style=STRONG)
        yield from _plan_rows(site, found.elsewhere, (), line)
    for plan in found.harmful:
        yield ""
        yield Text("This would keep every promise, and is no plan:", style=STRONG)
        yield from _plan_rows(site, plan, (), line)
        if plan.effect.needless:
            yield Text("It opens more than the promises need:", style=RISKS)
            yield from _passing_rows(site, plan.effect.needless)
        if plan.effect.lost:
            yield Text("It takes away what passes now (--allow-loss permits that):", style=RISKS)
            yield from _passing_rows(site, plan.effect.lost)
    if not site.promises:
        yield command(f"Next: add to {file} what must work: {first_promise(site)}", ACCENT)
    elif found.elsewhere is not None:
        yield command(f"Next: {command_line('mend', file)}   with all devices", ACCENT)
    else:
        yield command(f"Next: {command_line('check', file)}", ACCENT)


def _remaining_line(forecast: Forecast) -> Text:
    if forecast.kept is None:
        return Text(f"◌ {_promise_name(forecast.promise)}: {because(forecast)}", style=RISKS)
    return Text(f"◆ {_promise_name(forecast.promise)}: {because(forecast)}", style=STOPS)
