"""What `adopt` shows: what was read, and what it would make of the site."""

from collections.abc import Iterator, Sequence

from rich.console import RenderableType
from rich.text import Text

from ..core.adoption.told import Reading, Subject
from ..core.comparison.with_site import Comparison
from .compare_view import compare_body
from .screen import Share, between, columns, command, typed
from .style import ACCENT, HOLDS, RISKS, STOPS, STRONG, UNTRIED

MOST_LEFT, MOST_LINES = 6, 40
_CALLED: dict[Subject, str] = {"forwards": "forward", "rules": "rule", "settings": "setting", "switches": "key"}


def adopt_view(
    found: Comparison,
    device: str,
    readings: Sequence[Reading],
    patch: str,
    words: tuple[str, ...],
    written: bool,
    whole: bool,
) -> Iterator[RenderableType]:
    """The whole of an adoption; ``words`` are those that were typed, for the line that writes the file."""
    yield between(found.after.site, _head(found), STRONG)
    yield ""
    yield Text(f"Read of {device}", style=STRONG)
    yield from _readings(readings, whole)
    yield ""
    if not found.edits:
        yield Text("All of it is as the site file says.", style=HOLDS)
        return
    yield from compare_body(found, whole)
    yield Text("What it changes in the site file", style=STRONG)
    shown = patch.rstrip().splitlines()
    for each in shown if whole else shown[:MOST_LINES]:
        mark = {"+": HOLDS, "-": STOPS}.get(each[:1], UNTRIED)
        yield Text(f"  {each}", style=mark, no_wrap=True)
    if len(shown) > MOST_LINES and not whole:
        yield Text(f"  and {len(shown) - MOST_LINES:,} more lines (--all shows them)", style=UNTRIED)
    yield ""
    if written:
        yield Text(f"Written: {words[1]}", style=STRONG)
        yield command(f"Next: {typed('check', words[1])}", ACCENT)
    else:
        yield Text("The site file is as it was. To have it say what the device says:")
        yield command(f"Next: {typed(*words, '--write')}", ACCENT)


def _head(found: Comparison) -> Text:
    if not found.edits:
        return Text("● the same", style=HOLDS)
    count = len(found.edits)
    many = f"{count:,} difference{'s' * (count != 1)}"
    return (
        Text(f"◆ {many}, and something is lost", style=STOPS)
        if found.verdict == "lost"
        else Text(f"▲ {many}", style=RISKS)
    )


def _readings(readings: Sequence[Reading], whole: bool) -> Iterator[RenderableType]:
    table = columns(widths=(1, Share(1), Share(1)))
    for each in readings:
        count = len(each.told)
        way = {"in": " for what comes in", "out": " for what goes out", None: ""}[each.direction]
        table.add_row("", Text(each.file), Text(f"{count:,} {_CALLED[each.subject]}{'s' * (count != 1)}{way}"))
    yield table
    rest = columns(widths=(3, Share(1)))
    for each in readings:
        left = each.left if whole else each.left[:MOST_LEFT]
        for one in left:
            line = f"line {one.line}: " if one.line else ""
            rest.add_row("", Text.assemble((f"▲ not taken over, {line}", RISKS), f"{one.text}: {one.why}"))
        if len(each.left) > len(left):
            rest.add_row("", Text(f"and {len(each.left) - len(left):,} more (--all shows them)", style=UNTRIED))
    yield rest
