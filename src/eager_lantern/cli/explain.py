"""``explain``: a kind of finding, a key of the site file, or what shows like this."""

from collections.abc import Iterable
from typing import Annotated

import typer
from rich.console import RenderableType

from ..core.model.entries import KeyPage
from ..core.model.problem import did_you_mean
from ..formats.results.pages import ExplainResult, FindingPage
from ..formats.shipped import Page, finding_pages, showing_like, terms
from ..formats.site.reference import key_page, key_paths
from ..views.explain import found_view, key_view, list_view, page_view, term_view
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
    and an example. Of a word of the trade: what it is called here. Of anything else: the findings that show like this.
    Without a word: a list of all.
    """
    asked = " ".join(words or ()).strip()
    pages = finding_pages()
    kind = asked.lower()
    if not asked or kind in pages:
        chosen = {kind: pages[kind]} if asked else pages
        _emit_pages(form, chosen, [], page_view(kind, pages[kind]) if asked else list_view(pages, dict(key_paths())))
    elif key := key_page(asked):
        _emit_pages(form, {}, [key], key_view(key))
    elif meant := terms().get(kind):
        keys = [page for each in meant if (page := key_page(each))]
        findings = {each: pages[each] for each in meant if each in pages}
        _emit_pages(form, findings, keys, term_view(asked, keys, findings))
    elif found := showing_like(asked, pages):
        alike = {each: pages[each] for each in found}
        _emit_pages(form, alike, [], found_view(asked, alike))
    else:
        hint = did_you_mean(asked, [*pages, *(path for path, _ in key_paths())])
        raise typer.BadParameter(f"nothing here is called “{asked}”, and no finding shows like that; {hint}")


def _emit_pages(form: Format, findings: dict[str, Page], keys: list[KeyPage], view: Iterable[RenderableType]) -> None:
    pages = {kind: FindingPage(**page) for kind, page in findings.items()}
    finish(lambda: ExplainResult(findings=pages, keys=tuple(keys)), lambda: view, form)
