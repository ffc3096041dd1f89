"""What `diagnose` shows: what was seen, what explains it, and what to try next."""

from collections.abc import Iterator, Sequence
from typing import get_args

from msgspec.structs import replace
from rich.console import RenderableType
from rich.text import Text

from ..core.diagnosis.diagnosis import CauseGroup, Diagnosis, NamedCause, Page, pages_of
from ..core.diagnosis.fault import FaultKind
from ..core.diagnosis.next_test import Weighed
from ..core.diagnosis.wording import Instruction, came_of, whose
from ..core.model.site import Site
from ..core.values.text_value import SitePath
from .ledger import LineOf
from .screen import ACCENT, HOLDS, RISKS, STOPS, STRONG, UNTRIED, Share, between, columns, command, command_line

ON_DEVICES = ("gateways", "server", "services")
"""Sections of the site file that are entered on the administrator's own devices."""
LEAST = 0.01
"""A group that is less likely is not shown beside the first."""
MOST_IN_FULL, MOST_OF_PAGE, MOST_OTHERS, MOST_OUTCOMES, MOST_WORDS = 3, 3, 5, 5, 2


def diagnose_view(
    site: Site,
    found: Diagnosis,
    instruction: Instruction | None,
    file: str,
    line: LineOf,
    whole: bool,
    first: str = "",
    unread: Sequence[str] = (),
) -> Iterator[RenderableType]:
    """The whole of a diagnosis; ``instruction`` is how the next test is made, ``file`` empty without a site file, where
    ``first`` is the command that writes one; ``unread`` are files that could not be read."""
    yield between(site.site, _diagnose_headline(found), STRONG)
    yield ""
    yield from _observation_rows(found)
    for bad in unread:
        yield Text.assemble(("not read  ", RISKS), bad)
    yield ""
    if found.as_described:
        yield Text("No failure observed: everything works as the site file promises.", style=STRONG)
    elif found.inconclusive:
        yield from _inconclusive(found)
    elif found.verdict == "none":
        yield from _unexplained(found, file)
    else:
        for number, group in enumerate(found.groups[: _shown(found, whole)], start=1):
            yield from _group(number, group, bool(file), line, whole, 1 - found.something_else)
        yield from _left_out(found, _shown(found, whole))
        yield from _apart(found)
        yield from _to_cure(found, file)
        yield from _rest(found)
    if found.test is not None and instruction is not None:
        yield from _next_test_rows(found.test, instruction, whole)
    if not file:
        yield Text("No site file given: a plain router and server were assumed. To write one, with", style=UNTRIED)
        yield Text("these observations filled in (it asks for the rest):", style=UNTRIED)
        yield command(f"  {first}", ACCENT)


def _observation_rows(found: Diagnosis) -> Iterator[RenderableType]:
    """A line for each sighting, with its source where there is more than one."""
    sources = {each.source for each in found.observations} | {each.source for each in found.testimonies}
    from_one = f"  {next(iter(sources))}" if len(sources) == 1 else ""
    yield Text.assemble(("Seen", STRONG), (from_one, UNTRIED))
    table = columns(widths=(2, Share(2), Share(3)))
    for each in found.observations:
        shape, style = ("◆", STOPS) if each.fails else ("●", HOLDS) if each.settles else ("◌", RISKS)
        source = "" if from_one else f"  [{each.source}]"
        table.add_row(
            Text(shape, style=style), Text(whose(each.tried)), Text.assemble(came_of(each), (source, UNTRIED))
        )
        for words in each.words[:MOST_WORDS] or ((each.line,) if each.line else ()):
            table.add_row("", "", Text(f"“{words}”", style=UNTRIED))
    for fact in found.testimonies:
        source = "" if from_one else f"  [{fact.source}]"
        table.add_row(Text("·"), Text("besides"), Text.assemble(fact.text, (source, UNTRIED)))
    yield table


def _diagnose_headline(found: Diagnosis) -> Text:
    count = sum(each.count for each in found.groups)
    if found.as_described:
        return Text("● as promised", style=HOLDS)
    if found.inconclusive:
        return Text("◌ inconclusive", style=RISKS)
    if found.verdict == "none":
        return Text("◌ no known cause explains it", style=RISKS)
    return Text(f"◆ {count} possible cause{'s' * (count != 1)}", style=STOPS)


def _inconclusive(found: Diagnosis) -> Iterator[RenderableType]:
    """Where what was seen ends, and what would show more."""
    yield Text("Nothing failed in what is shown here, and it shows no transfer that came to its end:", style=STRONG)
    for each in found.inconclusive:
        yield Text(f"  {whose(each.tried)}: {came_of(each)}  [{each.source}]")
    yield Text(
        "  → Take the log again, from connecting to the end of a listing, with all the detail that the", style=ACCENT
    )
    yield Text("    program can log; or make a visit from the same place: eager-lantern visit", style=ACCENT)


def _unexplained(found: Diagnosis, file: str) -> Iterator[RenderableType]:
    if not found.parted and found.something_else:
        yield Text("All that was looked at is in order, so it is something else.", style=STRONG)
        yield Text(
            "  → Collect a capture at the server and one outside the router while it fails, and the server's",
            style=ACCENT,
        )
        yield Text("    log of that time: diagnose --log SERVER=FILE --log ROUTER=FILE", style=ACCENT)
        return
    yield Text("No known fault, and no two of them, explain all of this.", style=STRONG)
    if len(found.parted) == 2:
        yield Text("These two exclude each other: each has its own causes, and no cause explains both.")
        yield from (Text(f"  {whose(each.tried)}: {came_of(each)}  [{each.source}]") for each in found.parted)
        yield Text("  → Was something changed between them? Take both again, and give those.", style=ACCENT)
    elif found.parted:
        (each,) = found.parted
        yield Text("No cause explains this one:")
        yield Text(f"  {whose(each.tried)}: {came_of(each)}  [{each.source}]")
        where = f"is {file} as things are meant" if file else "are these the places that are meant"
        yield Text(f"  → {where}: addresses, ports, modes, places of the clients?", style=ACCENT)


def _group(
    number: int, group: CauseGroup, in_file: bool, line: LineOf, whole: bool, known_share: float
) -> Iterator[RenderableType]:
    """A group; ``known_share`` is how likely it is that the cause is one of those that are known."""
    sides = pages_of(group)
    percent = _percent(group.probability * known_share)
    how_many = "two faults at once" if len(sides) > 1 else _how_many(sides[0])
    yield Text.assemble((f"{number}. ", STRONG), (percent, STRONG), f"  {how_many}")
    for i, pages in enumerate(sides):
        if len(sides) > 1:
            certain = sum(len(each.causes) for each in pages) == 1
            yield Text("  Certain:" if certain else "  One of:" if i == 0 else "  Besides it one of:", style=STRONG)
        yield from _pages(pages, known_share, in_file, line, whole)
    yield ""


def _pages(
    pages: Sequence[Page], known_share: float, in_file: bool, line: LineOf, whole: bool
) -> Iterator[RenderableType]:
    """Where to look, the first pages with what they may have wrong."""
    full = len(pages) if whole else MOST_IN_FULL
    alone = sum(len(each.causes) for each in pages) == 1
    for page in pages[:full]:
        causes = [replace(each, probability=each.probability * known_share) for each in page.causes]
        first, *others = causes
        share = "" if alone else _percent(page.probability * known_share)
        if not others:
            yield from _in_full(first, in_file, line, share)
            continue
        where = columns(widths=(_margin(share), None))
        name = f"{page.at}: {_section_name(page.section)}"
        where.add_row(_mark("◆", share), Text.assemble((name, STRONG), ", one look shows which"))
        yield where
        yield from _in_full(first, in_file, line, _percent(first.probability), mark=" ")
        shown = others if whole else others[:MOST_OF_PAGE]
        for each in shown:
            if whole:
                yield from _in_full(each, in_file, line, _percent(each.probability), mark=" ")
            else:
                yield _one_line(each, in_file, line)
        if len(others) > len(shown):
            yield _more(len(others) - len(shown), _margin(share) + 1)
    rest = [each for page in pages[full:] for each in page.causes]
    for page in pages[full : full + MOST_OTHERS]:
        yield _one_line(replace(page.causes[0], probability=page.probability * known_share), in_file, line, "◆")
    if len(rest) > len(pages[full : full + MOST_OTHERS]):
        yield _more(len(rest) - len(pages[full : full + MOST_OTHERS]), 4)


def _more(count: int, indent: int) -> Text:
    return Text(f"{' ' * indent}and {count} more, less likely (--all shows them)", style=UNTRIED)


def _one_line(cause: NamedCause, in_file: bool, line: LineOf, mark: str = " ") -> RenderableType:
    share = _percent(cause.probability)
    table = columns(widths=(_margin(share), None))
    where = (_line_number(cause.place, in_file, line), UNTRIED)
    table.add_row(_mark(mark, share), Text.assemble(", and ".join(cause.messages), where))
    return table


_SECTIONS = {
    "incoming": "incoming filter",
    "outgoing": "outgoing filter",
    "inward": "filter, inward",
    "outward": "filter, outward",
    "outside": "outside line",
    "passive": "passive transfers",
    "active": "active transfers",
    "tls": "TLS",
    "control_port": "the service",
    "services": "accounts",
    "names": "names",
    "addresses": "addresses",
}


def _section_name(section: SitePath) -> str:
    """The last key of a place in the file, in words: forwards, incoming filter, accounts."""
    last = next((key for key in reversed(section) if isinstance(key, str)), "")
    return _SECTIONS.get(last, last.replace("_", " "))


def _how_many(pages: Sequence[Page]) -> str:
    """How many causes fit, and at how many places they are looked for."""
    count = sum(len(each.causes) for each in pages)
    if count == 1:
        return "one cause"
    at = f", at {len(pages)} places" if len(pages) > 1 else ", all at one place"
    return f"{count} causes fit{at}; the likeliest first"


def _in_full(cause: NamedCause, in_file: bool, line: LineOf, share: str, mark: str = "◆") -> Iterator[RenderableType]:
    table = columns(widths=(_margin(share), None))
    parts = [(cause.message, cause.place, cause.look, cause.cure)]
    parts += [(each.message, each.place, each.look, each.cure) for each in cause.beside]
    for i, (message, place, look, cure) in enumerate(parts):
        sign = _mark(mark, share) if i == 0 else _mark("and", "")
        where = (_line_number(place, in_file, line), UNTRIED)
        table.add_row(sign, Text.assemble((message, STRONG), where))
        table.add_row("", Text(f"look: {look}"))
        table.add_row("", Text(f"→ {cure}", style=ACCENT))
    yield table


def _margin(share: str) -> int:
    """How wide the column is that marks a cause, with its share where it has one."""
    return 15 if share else 5


def _mark(sign: str, share: str) -> Text:
    return Text.assemble((f"  {sign}", STOPS), (f" {share:>9}" if share else "", UNTRIED))


def _line_number(place: SitePath, in_file: bool, line: LineOf) -> str:
    number = line(place) if in_file else None
    return f"  line {number}" if number else ""


def _shown(found: Diagnosis, whole: bool) -> int:
    """How many groups are shown: without ``--all`` two, and none that is all but excluded beside the first."""
    return len(found.groups) if whole else 2 if len(found.groups) > 1 and found.groups[1].probability >= LEAST else 1


def _left_out(found: Diagnosis, shown: int) -> Iterator[RenderableType]:
    left = found.groups[shown:]
    if left:
        chance = _percent(sum(each.probability for each in left) * (1 - found.something_else))
        yield Text(f"{chance}  {sum(each.count for each in left)} further causes (--all shows them)", style=UNTRIED)
        yield ""


def _to_cure(found: Diagnosis, file: str) -> Iterator[RenderableType]:
    """The command that states what to enter for the likeliest cause of each side, where a device has it."""
    likeliest = [pages[0].causes[0] for pages in pages_of(found.groups[0])]
    kinds = [each.kind for each in likeliest if each.kind in get_args(FaultKind) and each.place[0] in ON_DEVICES]
    if file and kinds:
        words = [word for kind in dict.fromkeys(kinds) for word in ("--cause", kind)]
        yield Text("Once it is found, what to enter:", style=STRONG)
        yield command("  " + command_line("mend", file, *words), ACCENT)
        yield ""


def _apart(found: Diagnosis) -> Iterator[RenderableType]:
    """What the causes do not explain."""
    if found.apart:
        yield Text(
            f"Not explained by that, of {len(found.observations)} observations (a cause of its own, or a program's):",
            style=STRONG,
        )
        yield from (Text(f"  {whose(each.tried)}: {came_of(each)}  [{each.source}]") for each in found.apart)
        yield ""


def _rest(found: Diagnosis) -> Iterator[RenderableType]:
    """There is always something that nobody has thought of."""
    if found.groups and found.something_else:
        yield Text(f"{_percent(found.something_else)}  something else, of no kind that is known here", style=UNTRIED)
        yield ""


def _percent(probability: float) -> str:
    return f"{100 * probability:.0f} %" if probability >= 0.01 else "under 1 %"


def _next_test_rows(weighed: Weighed, instruction: Instruction, whole: bool) -> Iterator[RenderableType]:
    yield between("Next best test", Text(f"worth {weighed.bits:.1f} bits", style=UNTRIED), STRONG)
    where = columns(widths=(1, None))
    where.add_row("", Text(f"{instruction.place}: {instruction.do}"))
    yield where
    if instruction.command:
        yield command(f"  {instruction.command}", ACCENT)
    if instruction.by_hand:
        hand = columns(widths=(1, None))
        hand.add_row("", Text(f"or {instruction.by_hand}", style=UNTRIED))
        yield hand
    shown = weighed.outcomes if whole else weighed.outcomes[:MOST_OUTCOMES]
    table = columns(widths=(3, Share(3), 10, Share(2)))
    for each in shown:
        left = len(each.leaves)
        meaning = "that is it" if left == 1 else f"{left} causes are left"
        chance = Text(_percent(each.chance), style=UNTRIED)
        table.add_row("", Text(each.words), chance, Text(meaning))
    yield table
    if len(weighed.outcomes) > len(shown):
        yield Text(f"    and {len(weighed.outcomes) - len(shown)} less likely outcomes", style=UNTRIED)
