"""What `adopt` shows: what was read, and what becomes of the site file."""

from collections.abc import Iterator, Mapping, Sequence

from rich.console import RenderableType
from rich.text import Text

from ..core.changes.adopted import DeviceConfig, Subject
from ..core.changes.states import Comparison
from ..core.interview.learnt import Learnt
from .compare import compare_body
from .screen import ACCENT, HOLDS, RISKS, STOPS, STRONG, UNTRIED, Share, between, columns, command, command_line

MOST_LEFT, MOST_LINES = 6, 40
_CALLED: dict[Subject, str] = {
    "forwards": "forward",
    "rules": "rule",
    "settings": "setting",
    "switches": "key",
    "listeners": "listener",
}


def adopt_view(
    found: Comparison,
    device: str,
    configs: Sequence[DeviceConfig],
    patch: str,
    words: tuple[str, ...],
    written: bool,
    whole: bool,
) -> Iterator[RenderableType]:
    """The whole of an adoption; ``words`` are those that were typed, for the line that writes the file."""
    yield between(found.after.site, _adopt_head(found), STRONG)
    yield ""
    yield Text(f"Read of {device}", style=STRONG)
    yield from _config_rows(configs, whole)
    yield ""
    if not found.edits:
        if any(each.skipped for each in configs):
            yield Text("Nothing of it changes the site file; see what stands above.")
        else:
            yield Text("All of it matches the site file.", style=HOLDS)
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
        yield command(f"Next: {command_line('check', words[1])}", ACCENT)
    else:
        yield Text("The site file is unchanged. To write these values into it:")
        yield command(f"Next: {command_line(*words, '--write')}", ACCENT)


def _adopt_head(found: Comparison) -> Text:
    if not found.edits:
        return Text("● the same", style=HOLDS)
    count = len(found.edits)
    many = f"{count:,} difference{'s' * (count != 1)}"
    return (
        Text(f"◆ {many}, and something is lost", style=STOPS)
        if found.verdict == "lost"
        else Text(f"▲ {many}", style=RISKS)
    )


def _config_rows(configs: Sequence[DeviceConfig], whole: bool) -> Iterator[RenderableType]:
    table = columns(widths=(1, Share(1), Share(1)))
    for each in configs:
        count = len(each.values)
        way = {"in": " for what comes in", "out": " for what goes out", None: ""}[each.direction]
        table.add_row("", Text(each.file), Text(f"{count:,} {_CALLED[each.subject]}{'s' * (count != 1)}{way}"))
    yield table
    rest = columns(widths=(3, Share(1)))
    for each in configs:
        skipped = each.skipped if whole else each.skipped[:MOST_LEFT]
        for one in skipped:
            line = f"line {one.line}: " if one.line else ""
            kind = "differs from the file" if each.subject == "listeners" else "not taken over"
            rest.add_row("", Text.assemble((f"▲ {kind}, {line}", RISKS), f"{one.text}: {one.why}"))
        if len(each.skipped) > len(skipped):
            rest.add_row("", Text(f"and {len(each.skipped) - len(skipped):,} more (--all shows them)", style=UNTRIED))
    yield rest


def first_site_view(
    file: str, seen: Mapping[str, Learnt], guessed: Sequence[str], forwards: int
) -> Iterator[RenderableType]:
    """The whole of it; ``forwards`` is how many entries of the router were taken over."""
    yield between(f"Written: {file}", Text(f"▲ {len(guessed)} answers that nobody has seen", style=RISKS), STRONG)
    yield ""
    yield Text("Seen", style=STRONG)
    table = columns(widths=(1, Share(2), Share(3), Share(4)))
    for key, each in seen.items():
        mark = Text("▲", style=RISKS) if each.doubt else Text("●", style=HOLDS)
        doubt = f"{each.doubt} " if each.doubt else ""
        source = Text.assemble(doubt, (each.source, UNTRIED))
        table.add_row(mark, Text(key.replace("_", " ")), Text(each.answer), source)
    if forwards:
        many = f"{forwards} entr{'ies' if forwards > 1 else 'y'} of the router"
        table.add_row(Text("●", style=HOLDS), Text("forwards"), Text(many), Text("as it lists them", style=UNTRIED))
    yield table
    yield ""
    yield Text("Not seen: a proposal stands there, with ? beside it. Look at each:", style=STRONG)
    yield Text(f"  {', '.join(each.replace('_', ' ') for each in guessed)}")
    yield ""
    yield command(f"Next: {command_line('check', file)}", ACCENT)
