"""``check``: promises predicted, the ledger, findings; for one site or a folder of them."""

import os
from pathlib import Path
from typing import Annotated

import typer
from msgspec.structs import replace

from ..core.verdict import Verdict
from ..files.problem import BadInput, InputProblem
from ..files.services import usual_names
from ..files.site_file import SiteFile, find_site_file, read_site
from ..views.check_view import Shown, check_view
from .arguments.check_format import CheckFormat
from .arguments.example import example
from .exit_codes import BROKEN, KEPT, of_verdict
from .judged import judged
from .output import emit, show

app = typer.Typer(add_completion=False, rich_markup_mode=None)


@app.command(epilog=example("eager-lantern check saltmarsh.site.yaml --format json"))
def check(
    site: Annotated[
        Path | None,
        typer.Argument(readable=False, help="A site file, or a folder of them; default: the only *.site.yaml here."),
    ] = None,
    form: Annotated[
        CheckFormat, typer.Option("--format", help="text for people; json, sarif and junit for programs.")
    ] = CheckFormat.text,
    certificate: Annotated[
        Path | None, typer.Option(readable=False, help="Hold this certificate against what clients type.")
    ] = None,
    seen: Annotated[
        Path | None, typer.Option(readable=False, help="A result that visit --save has kept: put it beside.")
    ] = None,
    survey: Annotated[
        list[str] | None,
        typer.Option(help="A kept survey of the server, as FILE, or of a client, as CLIENT=FILE; may be repeated."),
    ] = None,
    whole: Annotated[bool, typer.Option("--all", help="Show everything, however many screens it takes.")] = False,
) -> None:
    """Predict every promise and name what breaks it.

    Of a folder: one line for each site in it. Exit code 0: all promises kept, 1: one is
    broken, 2: bad input, 3: one cannot be told.
    """
    if site is not None and os.path.isdir(site):  # noqa: PTH112  (Path.is_dir raises where it may not look)
        if certificate is not None or seen is not None or survey:
            raise typer.BadParameter("--certificate, --seen and --survey belong to one site; name the site file")
        from .check_folder import check_folder

        check_folder(site, form)
    source = read_site(find_site_file(site))
    try:
        verdict = judged(source, certificate)
    except Exception as error:
        error.add_note(source.file)
        raise
    for each in survey or ():
        verdict = _surveyed(source, verdict, each)
    if seen is not None:
        _beside(source, verdict, seen, form)
    if form is CheckFormat.text:
        show(check_view(verdict, Shown(source.file, source.line, usual_names, whole)))
    else:
        from .check_written import checked, written  # the parts of results load slowly, and a view needs none

        found = checked(source, verdict)
        written([found], form, found.result or {})
    raise typer.Exit(of_verdict(verdict.verdict))


def _beside(source: SiteFile, verdict: Verdict, seen: Path, form: CheckFormat) -> None:
    """Predicted beside observed, instead of the whole check. Raises BadInput, BadParameter and Exit."""
    from ..core.compare.with_visit import compared
    from ..files.results.check import check_result
    from ..files.results.text import as_json
    from ..files.seen_file import read_seen
    from ..views.seen_view import seen_view

    kept = read_seen(seen)
    found = compared(verdict.forecasts, kept.climbs)
    if not found:
        raise BadInput(str(seen), InputProblem(0, f"has no visit that stands for a promise of {source.file}"))
    if form is CheckFormat.text:
        show(seen_view(found, f"{kept.taken.time} from {kept.taken.host}", source.line, source.file, str(seen)))
    elif form is CheckFormat.json:
        emit(as_json(check_result(verdict, source.line, source.file, found)))
    else:
        raise typer.BadParameter("--seen is written as text or json")
    raise typer.Exit(BROKEN if any(each.parts_at or each.climb.kept is False for each in found) else KEPT)


def _surveyed(source: SiteFile, verdict: Verdict, given: str) -> Verdict:
    """The verdict with what a kept survey says. Raises BadInput and BadParameter."""
    from ..core.surveyed.beside_site import survey_findings
    from ..files.survey_file import read_survey
    from .arguments.site_names import client_and_file, known

    client, path = client_and_file(given)
    if client:
        known("--survey", client, [each.name for each in source.site.clients])
    found = survey_findings(source.site, read_survey(path).survey, client)
    belied = verdict.belied or any(each.severity == "breaks" for each in found)
    return replace(verdict, findings=(*found, *verdict.findings), belied=belied)
