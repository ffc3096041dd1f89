"""``check``: promises predicted, the ledger, findings."""

from pathlib import Path
from typing import Annotated

import typer

from ..core.verdict import judge
from ..files.results import as_json, check_result
from ..files.site_file import find_site_file, read_site
from ..views.check_view import check_view
from .output import Format, emit, show

app = typer.Typer(add_completion=False, rich_markup_mode=None)
EXIT_CODES = {"kept": 0, "broken": 1, "unknown": 3}


@app.command(epilog="Example: eager-lantern check saltmarsh.site.yaml --format json")
def check(
    site: Annotated[Path | None, typer.Argument(help="The site file; default: the only *.site.yaml here.")] = None,
    form: Annotated[Format, typer.Option("--format", help="text for people, json for programs.")] = Format.text,
) -> None:
    """Predict every promise of a site and name the line that breaks it.

    Exit code 0: all promises kept, 1: one is broken, 2: bad input, 3: one cannot be told.
    """
    source = read_site(find_site_file(site))
    verdict = judge(source.site)
    if form is Format.json:
        emit(as_json(check_result(verdict, source.line, source.file)))
    else:
        show(check_view(verdict, source.line, source.file))
    raise typer.Exit(EXIT_CODES[verdict.verdict])
