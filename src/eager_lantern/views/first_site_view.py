"""What `adopt` shows of a first site file: what was seen, and what a person must look at."""

from collections.abc import Iterator, Mapping, Sequence

from rich.console import RenderableType
from rich.text import Text

from ..core.adoption.first_site import Learnt
from .screen import Share, between, columns, command, typed
from .style import ACCENT, HOLDS, RISKS, STRONG, UNTRIED


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
    yield command(f"Next: {typed('check', file)}", ACCENT)
