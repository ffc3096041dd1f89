"""What `size` shows: the load, what each rule asks for, the chances, and the proposed range."""

from collections.abc import Iterator, Mapping

from rich.console import RenderableType
from rich.table import Table
from rich.text import Text

from ..core.sizing.demand import (
    REST_BY_LETTER_SECONDS,
    REST_OF_LINUX_SECONDS,
    Assumed,
    ConnectionKind,
    Demand,
    Sized,
    Sizing,
)
from ..core.values.quantities import percent
from .screen import ACCENT, HOLDS, STOPS, STRONG, UNTRIED, between, columns, command


def size_view(sized: Sized, following: str) -> Iterator[RenderableType]:
    """The whole result and the next step."""
    yield between(sized.title, _size_headline(sized), STRONG)
    yield ""
    yield from _load(sized.sizing.demand)
    for guess in sized.assumed:
        yield Text(f"  Assumed: {_ASSUMED[guess]}.", style=UNTRIED)
    yield ""
    yield from _rules(sized.sizing)
    yield ""
    yield from _chances(sized)
    yield ""
    yield Text("How long a port rests depends on the server. With another rest, the size is", style=STRONG)
    for seconds, size in sized.by_rest:
        yield Text(f"  {size:6} ports   {_HABITS[seconds]}")
    yield ""
    yield Text(f"Proposed: {sized.proposed.ports} ({sized.sizing.size} ports)", style=STRONG)
    for each in why(sized):
        yield Text(f"  {each}")
    yield ""
    yield command(following, ACCENT)


_ASSUMED: Mapping[Assumed, str] = {
    "one file each": "each client lists once and fetches one file in the hour; --files-per-hour states how many",
    "one second each": "a transfer takes one second; --typical-size and --rate state how long",
}


def _size_headline(sized: Sized) -> Text:
    need = sized.sizing.size
    if not sized.present:
        return Text(f"{need} data ports needed")
    if len(sized.present) < need:
        return Text(f"◆ {len(sized.present)} data ports, {need} needed", style=STOPS)
    return Text.assemble(("● ", HOLDS), f"{len(sized.present)} data ports, {need} needed")


def _load(demand: Demand) -> Iterator[RenderableType]:
    yield Text("Load", style=STRONG)
    table = columns(widths=(30, None), gap=2)
    for each in demand.kinds:
        if each.per_hour:
            table.add_row(f"  {each.per_hour:g} {each.name} an hour", _holding_time(each))
    table.add_row("  on average", f"{demand.offered:.3g} ports are taken (the offered load, in erlang)")
    burst = f"{demand.most_at_once} at a time by each that does its hour's work in one go"
    table.add_row(f"  {demand.burst} clients at once", burst)
    yield table


def _holding_time(kind: ConnectionKind) -> str:
    stands = f"each holds a port for {kind.stands_seconds:.3g} s"
    return (
        f"{stands} and lets it rest for {kind.rests_seconds:g} s: the server closes first"
        if kind.rests_seconds
        else stands
    )


def _rules(sizing: Sizing) -> Iterator[RenderableType]:
    yield Text("Needed", style=STRONG)
    burst, demand = sizing.by_burst, sizing.demand
    reasons = [
        (burst, "for the worst burst", f"{demand.burst} clients × {demand.most_at_once} ports"),
        (sizing.by_load, "for the steady load", f"one in {1 / sizing.chance:,.0f} finds none (Erlang B)"),
    ]
    table = columns(widths=(8, 24, 44, None), gap=2)
    for ports, rule, reason in reasons:
        decides = ports == sizing.size
        style = STRONG if decides else ""
        mark = Text("◀ decides", style=ACCENT) if decides else Text("")
        table.add_row(Text(f"{ports:8}", style=style), Text(rule, style=style), Text(reason, style=style), mark)
    yield table


def _chances(sized: Sized) -> Iterator[RenderableType]:
    sizing = sized.sizing
    yield Text("How likely a data connection finds no port", style=STRONG)
    table = Table.grid(padding=(0, 3, 0, 0))
    for justify in ("right", "right", "right", "left", "right", "left"):
        table.add_column(justify=justify)
    heads = ("   ports", "formula", "simulated", "95 % sure within", "worst burst", "")
    table.add_row(*(Text(each, style=UNTRIED) for each in heads))
    for each in sized.tried:
        found = each.estimate
        table.add_row(
            str(each.ports),
            percent(sizing.lost(each.ports)),
            percent(found.share),
            f"{percent(found.low)} to {percent(found.high)}"
            if found.lost
            else f"none seen; below {percent(found.high)}",
            percent(sizing.lost_in_burst(each.ports)),
            Text(_row_note(sized, each.ports), style=ACCENT),
        )
    yield table


def _row_note(sized: Sized, ports: int) -> str:
    notes = {
        sized.sizing.by_load: "◀ steady load",
        sized.sizing.by_burst: "◀ worst burst",
        len(sized.present): "◀ range now",
    }
    return "◀ size" if ports == sized.sizing.size and not sized.present else notes.get(ports, "")


_HABITS = {
    0.0: "it binds a resting port again at once",
    REST_OF_LINUX_SECONDS: "60 s, as on Linux",
    REST_BY_LETTER_SECONDS: "4 min, RFC 9293 to the letter",
}


def why(sized: Sized) -> Iterator[str]:
    """The choice of the range, explained in lines."""
    if sized.proposed.among == "dynamic":
        yield "No service is registered from port 49152 on (RFC 6335, section 6);"
    else:
        yield "The system uses the unregistered ports itself, so the range lies where IANA has registered no service;"
    yield f"it avoids {sized.local_ports}, the local ports of the system's own connections."
    if not sized.present:
        return
    if len(sized.present) < sized.sizing.size:
        yield f"The present range, {sized.present}, is too small by {sized.sizing.size - len(sized.present)}."
    elif sized.present & sized.local_ports:
        yield f"The present range, {sized.present}, is large enough, but overlaps the system's local ports."
    else:
        yield f"The present range, {sized.present}, is large enough and clear: keep it, or open fewer ports."
