"""What the internet reaches, as a table: what nobody asked for first."""

from collections.abc import Callable, Iterator

from rich.console import RenderableType
from rich.text import Text

from ..core.model.site import Transport
from ..core.predict.openings import Opening
from ..core.values.ports import PortSet
from .ledger_view import LineOf
from .screen import Share, columns, state
from .style import ACCENT, STRONG

MANY_SPANS = 3


def openings_view(
    found: tuple[Opening, ...], line: LineOf, usual: Callable[[PortSet, Transport], str]
) -> Iterator[RenderableType]:
    """A row for each set of ports that one line opens to one host."""
    yield Text(f"Reached from the internet{'' if found else ': nothing'}", style=STRONG)
    if not found:
        return
    table = columns(widths=(11, 17, Share(5), Share(4), 8))
    for each in found:
        table.add_row(
            Text("  ") + state("wanted" if each.wanted else "unasked"),
            Text(f"{each.protocol} {_counted(each.ports)}"),
            Text(_leads(each)),
            Text(_listens(each, usual)),
            Text(f"line {line(each.place)}", style=ACCENT),
        )
    yield table


def _counted(ports: PortSet) -> str:
    if len(ports.spans) <= MANY_SPANS:
        return str(ports)
    return f"{ports.lowest} to {ports.highest} ({len(ports)})"


def _leads(opening: Opening) -> str:
    """Which host, by whose rule, and for whom where not for all."""
    inside = f", its port {opening.inside}" if opening.inside != opening.ports else ""
    only = f", from {opening.sources} only" if opening.sources else ""
    return f"{opening.host}{inside}, by {opening.at}{only if len(only) < 60 else ', not from everywhere'}"


def _listens(opening: Opening, usual: Callable[[PortSet, Transport], str]) -> str:
    """The site's own service there, or what usually listens on such ports."""
    if opening.service:
        return opening.service if opening.wanted else f"{opening.service}, promised to nobody outside"
    names = usual(opening.inside, opening.protocol)
    return f"no service of the site; usually {names}" if names else "no service of the site"
