"""``explain``: a kind of finding, a key of the site file, or what shows like this."""

from collections.abc import Iterable, Sequence
from difflib import get_close_matches
from typing import Annotated

import typer
from rich.console import RenderableType

from ..core.model.entries import KeyPage, Symptom
from ..formats.results.pages import ExplainResult, FindingPage, SymptomPage
from ..formats.shipped import Page, finding_pages, showing_like, symptoms_like, terms
from ..formats.site.reference import key_page, key_paths
from ..views.explain import found_view, key_view, list_view, page_view, symptom_view, term_view
from .arguments import completion
from .arguments.options import Format, Written, example
from .finish import finish

app = typer.Typer(add_completion=False, rich_markup_mode=None)


@app.command(epilog=example("eager-lantern explain range-mismatch"))
def explain(
    words: Annotated[
        list[str] | None,
        typer.Argument(
            help="A finding, a key (gateways.hairpin), a word (port forwarding) or a symptom (listing hangs).",
            autocompletion=completion.kinds,
        ),
    ] = None,
    form: Written = Format.text,
) -> None:
    """Explain a finding, a key of the site file, or what shows.

    Of a finding: what it means, how it shows, how to cure it. Of a key: what it means, what it may hold, its default
    and an example. Of a word of the trade: what it is called here. Of a reply or an error: what it can be, and what it
    cannot. Of anything else: the findings that show like this. Without a word: a list of all.
    """
    asked = " ".join(words or ()).strip()
    pages = finding_pages()
    kind = asked.lower()
    if not asked or kind in pages:
        chosen = {kind: pages[kind]} if asked else pages
        _emit_pages(form, chosen, [], page_view(kind, pages[kind]) if asked else list_view(pages, dict(key_paths())))
    elif key := key_page(asked):
        _emit_pages(form, {}, [key], key_view(key))
    elif seen := symptoms_like(asked):
        _emit_symptoms(form, asked, seen, pages)
    elif meant := terms().get(kind):
        keys = [page for each in meant if (page := key_page(each))]
        findings = {each: pages[each] for each in meant if each in pages}
        _emit_pages(form, findings, keys, term_view(asked, keys, findings))
    elif found := showing_like(asked, pages):
        alike = {each: pages[each] for each in found}
        _emit_pages(form, alike, [], found_view(asked, alike))
    else:
        raise typer.BadParameter(_nothing_found(asked, [*pages, *(path for path, _ in key_paths()), *terms()]))


def _nothing_found(asked: str, known: Sequence[str]) -> str:
    """That nothing is known, the nearest that is, and where the list stands."""
    near = get_close_matches(asked.lower(), known, n=3, cutoff=0.4)
    nearest = f"; the nearest: {', '.join(near)}" if near else ""
    return (
        f"nothing here is called “{asked}”, and nothing shows like that{nearest}; for the list: eager-lantern explain"
    )


def _emit_symptoms(form: Format, asked: str, seen: dict[str, Symptom], pages: dict[str, Page]) -> None:
    """What something that people see can be, with the pages that go on from there."""
    meant = dict.fromkeys((*terms().get(asked.lower(), ()), *(each for one in seen.values() for each in one.pages)))
    keys = [page for each in meant if (page := key_page(each))]
    findings = {each: FindingPage(**pages[each]) for each in meant if each in pages}
    told = {
        name: SymptomPage(
            title=each.title, can_be=each.can_be, cannot_be=each.cannot_be, look=each.look, pages=each.pages
        )
        for name, each in seen.items()
    }
    finish(
        lambda: ExplainResult(findings=findings, keys=tuple(keys), symptoms=told),
        lambda: symptom_view(list(seen.values()), terms().get(asked.lower(), ())),
        form,
    )


def _emit_pages(form: Format, findings: dict[str, Page], keys: list[KeyPage], view: Iterable[RenderableType]) -> None:
    pages = {kind: FindingPage(**page) for kind, page in findings.items()}
    finish(lambda: ExplainResult(findings=pages, keys=tuple(keys), symptoms={}), lambda: view, form)
