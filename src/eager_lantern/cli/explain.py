"""``explain``: one kind of finding, what it means, how it shows, how to cure it."""

from typing import Annotated

import typer

from ..core.consistency import did_you_mean
from ..files.results import as_json
from ..files.shipped import finding_pages
from ..views.explain_view import list_view, page_view
from . import completion
from .options import Format, Written, example
from .output import emit, show

app = typer.Typer(add_completion=False, rich_markup_mode=None)


@app.command(epilog=example("eager-lantern explain range-mismatch"))
def explain(
    kind: Annotated[
        str,
        typer.Argument(help="A kind, as check names it; default: list all.", autocompletion=completion.kinds),
    ] = "",
    form: Written = Format.text,
) -> None:
    """Explain one kind of finding.

    What it means, how it shows, how to cure it.
    """
    pages = finding_pages()
    kind = kind.lower()
    if kind and kind not in pages:
        raise typer.BadParameter(f"there is no finding “{kind}”{did_you_mean(kind, pages)}")
    chosen = {kind: pages[kind]} if kind else pages
    if form is Format.json:
        emit(as_json({"format": "eager-lantern/explain/1", "findings": chosen}))
    else:
        show(page_view(kind, pages[kind]) if kind else list_view(pages))
