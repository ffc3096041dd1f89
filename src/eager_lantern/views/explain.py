"""What `explain` shows: a kind of finding, a key of the site file, what shows like this, or the list of all."""

from collections.abc import Iterator, Mapping, Sequence

from rich.console import RenderableType
from rich.text import Text

from ..core.model.entries import KeyPage, Symptom
from .screen import ACCENT, STRONG, UNTRIED, columns, command, command_line

_HEADINGS = (("means", "What it means"), ("shows", "How it shows"), ("cure", "How to cure it"))


def page_view(kind: str, page: Mapping[str, str]) -> Iterator[RenderableType]:
    """One kind of finding."""
    yield Text(kind, style=STRONG)
    for key, heading in _HEADINGS:
        yield ""
        yield Text(heading, style=ACCENT)
        yield _indented_rows(page[key])


def term_view(
    asked: str, keys: Sequence[KeyPage], findings: Mapping[str, Mapping[str, str]]
) -> Iterator[RenderableType]:
    """What a word of the trade is called here: keys of the site file, and findings about it."""
    names = [*(each.path for each in keys), *findings]
    yield Text(f"{asked}: see {', '.join(names)}", style=STRONG)
    for each in keys:
        yield ""
        yield Text(each.path, style=ACCENT)
        yield _indented_rows(each.means)
    for kind, page in findings.items():
        yield ""
        yield Text(kind, style=ACCENT)
        yield _indented_rows(page["means"])
    yield ""
    yield command(f"Next: {command_line('explain', names[0])}   the whole page", ACCENT)


def symptom_view(seen: Sequence[Symptom], called: Sequence[str]) -> Iterator[RenderableType]:
    """What something that people see can be and cannot be; ``called`` is what its word is called here."""
    for symptom in seen:
        yield Text(symptom.title, style=STRONG)
        yield ""
        yield Text("It can be", style=ACCENT)
        table = columns(widths=(3, None), gap=0)
        for each in symptom.can_be:
            table.add_row(Text(" • ", style=UNTRIED), Text(each))
        yield table
        for heading, text in (("It cannot be", symptom.cannot_be), ("Look first", symptom.look)):
            yield ""
            yield Text(heading, style=ACCENT)
            yield _indented_rows(text)
        yield ""
    pages = list(dict.fromkeys((*called, *(each for symptom in seen for each in symptom.pages))))
    yield Text("Pages", style=ACCENT)
    yield _indented_rows(", ".join(pages))
    yield ""
    yield command(f"Next: {command_line('explain', pages[0])}   one of the pages", ACCENT)


def key_view(page: KeyPage) -> Iterator[RenderableType]:
    """One key of the site file."""
    yield Text(page.path, style=STRONG)
    yield _indented_rows(page.means)
    yield ""
    table = columns(widths=(10, None))
    table.add_row(Text("holds", style=ACCENT), Text(page.holds))
    table.add_row(Text("default", style=ACCENT), Text("none: it has to be written" if page.required else page.default))
    if page.example:
        table.add_row(Text("example", style=ACCENT), Text(page.example))
    yield table
    if page.below:
        yield ""
        yield Text("Keys in it", style=ACCENT)
        yield _list_table(dict(page.below), 24)
        yield ""
        yield command(f"Next: {command_line('explain', f'{page.path}.{page.below[0][0]}')}   one of them", ACCENT)


def found_view(asked: str, pages: Mapping[str, Mapping[str, str]]) -> Iterator[RenderableType]:
    """What shows like this, and how to tell it apart."""
    yield Text(f"What shows like “{asked}”", style=STRONG)
    yield _list_table({kind: page["shows"] for kind, page in pages.items()}, 30)
    yield ""
    yield command(f"Next: {command_line('explain', next(iter(pages)))}   what it is, and how to cure it", ACCENT)


def list_view(pages: Mapping[str, Mapping[str, str]], keys: Mapping[str, str]) -> Iterator[RenderableType]:
    """Every kind with what it means, and every key."""
    yield Text("Findings", style=STRONG)
    yield _list_table({kind: page["means"] for kind, page in sorted(pages.items())}, 30)
    yield ""
    yield Text("Keys of the site file", style=STRONG)
    yield _list_table(keys, 46)
    yield ""
    yield Text("eager-lantern explain KIND, KEY or SYMPTOM shows one of them", style=UNTRIED)


def _indented_rows(text: str) -> RenderableType:
    table = columns(widths=(1, None))
    table.add_row("", Text(text))
    return table


def _list_table(rows: Mapping[str, str], width: int) -> RenderableType:
    table = columns(widths=(width, None))
    for name, text in rows.items():
        table.add_row(Text(name, style=STRONG), Text(text))
    return table
