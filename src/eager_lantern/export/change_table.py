"""A comparison as a table in Markdown, as it goes into a change request."""

from collections.abc import Callable, Iterator

from ..core.comparison.edits import Edit
from ..core.comparison.with_site import Comparison, Turned
from ..core.comparison.wording import action, senders
from ..core.network.topology import Topology
from ..core.predict.wording import because
from ..core.values.site_path import SitePath
from .sheet_markdown import plain_markdown, table_row

LineOf = Callable[[SitePath | None], int | None]


def change_table(found: Comparison, names: tuple[str, str], lines: tuple[LineOf, LineOf]) -> str:
    """The steps in their order, and beneath what they bring."""
    return "\n".join(_page(found, names, lines)).rstrip() + "\n"


def _page(found: Comparison, names: tuple[str, str], lines: tuple[LineOf, LineOf]) -> Iterator[str]:
    yield f"# {plain_markdown(found.after.site)}: change"
    yield ""
    yield f"From {plain_markdown(names[0])} to {plain_markdown(names[1])}."
    yield ""
    yield table_row(("step", "device", "change", "line", "done"))
    yield table_row(("---",) * 5)
    for number, step in enumerate(found.order.steps, start=1):
        at_once = f"{number}, at once" if len(step) > 1 else str(number)
        yield from (_edit(at_once, found, found.edits[each], lines) for each in step)
    yield ""
    yield table_row(("what", "who", "becomes"))
    yield table_row(("---",) * 3)
    for kind, turned in (("promise", found.promises), ("way in", found.ways_in)):
        for each in turned:
            if each.turn != "same":
                yield table_row((kind, plain_markdown(_who(each)), plain_markdown(_becomes(each))))
    for word, site, reached in (
        ("reached now", found.after, found.gained),
        ("reached no more", found.before, found.lost),
        ("not asked for", found.after, found.unasked),
        ("perhaps reached now", found.after, found.untold),
    ):
        topology = Topology(site)
        for more in reached:
            what = f"{more.host}, {more.protocol} {more.ports}"
            yield table_row((word, plain_markdown(senders(topology, more)), plain_markdown(what)))


def _edit(number: str, found: Comparison, edit: Edit, lines: tuple[LineOf, LineOf]) -> str:
    line = lines[0](edit.before) if edit.new is None else lines[1](edit.after)
    return table_row((number, *map(plain_markdown, (found.device(edit), action(edit))), str(line or ""), "☐"))


def _who(each: Turned) -> str:
    promise = each.promise
    return f"{promise.client} → {promise.service}, {promise.mode or promise.holds}"


def _becomes(each: Turned) -> str:
    why = because(each.after) if each.after is not None and each.after.kept is not True else ""
    return f"{each.turn}: {why}" if why else each.turn
