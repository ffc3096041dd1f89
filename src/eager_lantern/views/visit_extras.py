"""What a visit shows beyond the ladder: facts about TLS and caution, the range as it is, rights."""

from collections.abc import Iterable, Iterator

from rich.console import RenderableType
from rich.text import Text

from ..core.observed.range_estimate import AgainstPlan, RangeSeen, against_plan
from ..core.observed.rights import RightsSeen
from ..core.observed.tls_facts import Remark
from ..core.values.addresses import Address
from ..core.values.phrases import ports_named
from ..core.values.ports import PortSet
from ..core.values.quantities import percent
from ..wire.terminal_safe import printable
from .screen import Columns, columns, state
from .style import STOPS, STRONG, UNTRIED

MOST_CHARACTERS = 300


def facts_view(title: str, found: Iterable[Remark]) -> Iterator[RenderableType]:
    """A line a fact."""
    yield Text(title, style=STRONG)
    table = columns(widths=(11, 12, None))
    for each in found:
        _line(table, each.good, each.topic, each.text)
    yield table


def _line(table: Columns, good: bool | None, topic: str, *cells: str) -> None:
    """A row that begins with a verdict, or with the word fact where there is none."""
    verdict = Text("· ", style=UNTRIED) + Text("fact") if good is None else state("good" if good else "poor")
    table.add_row(verdict, Text(topic, style=STRONG), *(Text(printable(each, MOST_CHARACTERS)) for each in cells))


def range_view(seen: RangeSeen, planned: PortSet) -> Iterator[RenderableType]:
    """The range of data ports as it is, how sure that is, and how it fits the plan."""
    estimate = seen.estimate
    yield Text("Range of data ports, as the server uses it", style=STRONG)
    table = columns(widths=(11, 12, None))
    shown = ports_named(estimate.spanned if len(estimate.seen.spans) > 3 else estimate.seen)
    _line(table, None, "seen", f"{shown}: {len(estimate.seen)} in {estimate.asked} asked, {estimate.habit}")
    _line(table, estimate.good, "how good", _sureness(seen))
    if planned:
        held = against_plan(estimate, planned)
        _line(table, not held.beyond_plan and not held.never_seen, "the plan", _against(held, planned))
    stopped = seen.refuses | seen.silent
    counts = f"{len(seen.answers)} answer, {len(seen.refuses)} refuse, {len(seen.silent)} are silent"
    _line(table, not stopped, "data", f"{counts}: {ports_named(stopped)}" if stopped else counts)
    if seen.announced:
        told = ", ".join(f"{each} ({Address.parse(each).kind})" for each in seen.announced)
        _line(table, False, "address", f"announced: {told}")
    yield table


def _sureness(seen: RangeSeen) -> str:
    estimate = seen.estimate
    if estimate.habit == "in turn":
        told = "it has come round: this is all of it" if estimate.good else "it has not come round: there is more"
    else:
        told = f"the next one is new with a chance of {percent(estimate.unseen_chance)} (Good's estimator)"
        told += f"; {estimate.beyond} more at most beyond either end (95 % sure)"
    return f"{told}; {seen.cut_short}" if seen.cut_short else told


def _against(held: AgainstPlan, planned: PortSet) -> str:
    parts = [f"planned is {planned}"]
    if held.beyond_plan:
        parts.append(f"{ports_named(held.beyond_plan)} handed out beyond it: set the server's range")
    if held.never_seen:
        parts.append(f"{ports_named(held.never_seen)} of it never seen")
    return "; ".join(parts) if len(parts) > 1 else f"{parts[0]}: just that"


def rights_view(seen: RightsSeen) -> Iterator[RenderableType]:
    """What the account may do, a line a right, and whether it stays in its folder."""
    yield Text("Rights of the account", style=STRONG)
    table = columns(widths=(11, 12, 16, 10, None))
    table.add_row("", *(Text(head, style=UNTRIED) for head in ("right", "the site says", "seen", "")))
    may = {True: "may", False: "may not", None: "-"}
    folder = ""
    for each in seen.rights:
        if each.folder != folder:
            folder = each.folder
            yield table
            yield Text(f"In {folder}", style=STRONG)
            table = columns(widths=(11, 12, 16, 10, None))
        _line(table, each.fits, each.right, may[each.expected], may[each.seen], each.detail)
    stays = {True: "stays", False: "gets out", None: "-"}
    known = seen.confined is not None and seen.confined_expected is not None
    fits = seen.confined == seen.confined_expected if known else None
    _line(table, fits, "its folder", stays[seen.confined_expected], stays[seen.confined], seen.confined_detail)
    yield table
    if seen.left_behind:
        yield Text(f"◆ could not be removed again: {', '.join(seen.left_behind)}", style=STOPS)
