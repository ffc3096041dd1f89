"""``mend``: the fewest and cheapest changes of the site file that keep every promise."""

from typing import Annotated, get_args

import typer

from ..core.findings.finding_kinds import FindingKind
from ..core.mending.mend import mend
from ..files.atomic_write import write
from ..files.costs_file import shipped_costs
from ..files.mended_file import mended_text, patch
from ..files.results.base import as_json
from ..files.results.mend import mend_result
from ..files.site_file import find_site_file, read_site
from ..files.yaml_tree import read_text
from ..views.mend_view import mend_view
from .arguments.options import Format, SiteArgument, Written, example
from .arguments.site_names import known
from .exit_codes import BROKEN, CANNOT_TELL, KEPT
from .output import emit, show

app = typer.Typer(add_completion=False, rich_markup_mode=None)


@app.command(epilog=example("eager-lantern mend saltmarsh.site.yaml --write"))
def mend_command(
    site: SiteArgument = None,
    cause: Annotated[
        list[str] | None,
        typer.Option(help="Only what cures findings of this kind, whatever else stays; may be repeated."),
    ] = None,
    writes: Annotated[bool, typer.Option("--write", help="Write the site file; else the patch is only shown.")] = False,
    form: Written = Format.text,
) -> None:
    """Find the cheapest changes that keep every promise.

    Those included that must stay shut; and nothing is let in that the promises do not need. What a change costs
    depends on whose device it is on.

    The file is changed in those places alone: comments, order and quotes stay. Exit code 0: all promises are kept
    (with --write: by now), 1: changes are proposed, or nothing in the file helps, 2: bad input, 3: it cannot be told.
    """
    path = find_site_file(site)
    source = read_site(path)
    text = read_text(path)
    for each in cause or ():
        known("--cause", each, get_args(FindingKind))
    found = mend(source.site, shipped_costs(), frozenset(cause or ()))
    after = mended_text(source, text, found.plan) if found.plan else text
    written = writes and found.plan is not None
    if written:
        write({path: after.encode()}, force=True)
    difference = patch(text, after, source.file)
    if form is Format.json:
        emit(as_json(mend_result(source.site, found, difference, written, source.line)))
    else:
        show(mend_view(source.site, found, difference, str(path) if written else "", source.file, source.line))
    raise typer.Exit(CANNOT_TELL if found.verdict == "unknown" else KEPT if written or found.kept else BROKEN)
