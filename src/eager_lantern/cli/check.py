"""``check``: promises predicted, the ledger, findings; for one site or a folder of them."""

import os
from pathlib import Path
from typing import Annotated

import typer
from msgspec.structs import replace

from ..core.verdict import Verdict
from ..formats.reading import BadInput, bad_file
from ..formats.shipped import usual_names
from ..formats.site.site_file import SiteFile, find_site_file, read_site
from ..views.check import Shown, check_view
from .arguments.options import CheckFormat, example
from .arguments.sites import judged
from .ending import show
from .exit_codes import BROKEN, KEPT, of_verdict


def _read(site: Path | None, form: CheckFormat) -> SiteFile:
    """The site that is meant. Where it cannot be read, a program gets a result as of a folder, which states the error;
    raises BadInput all the same."""
    try:
        return read_site(find_site_file(site))
    except BadInput as error:
        if form is not CheckFormat.text:
            from .check_written import Checked, of_several, written

            found = [Checked(error.file, None, error)]
            written(found, form, of_several(found))
        raise


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
        Path | None, typer.Option(readable=False, help="Compare this certificate with the names that clients type.")
    ] = None,
    seen: Annotated[
        Path | None, typer.Option(readable=False, help="Compare with a result of visit or lamp --save.")
    ] = None,
    survey: Annotated[
        list[str] | None,
        typer.Option(help="A kept survey of the server, as FILE, or of a client, as CLIENT=FILE; may be repeated."),
    ] = None,
    whole: Annotated[bool, typer.Option("--all", help="Show everything, however many screens it takes.")] = False,
) -> None:
    """Predict every promise and name what breaks it.

    Of a folder: one line for each site in it. Exit code 0: all promises kept, 1: one is
    broken, 2: bad input, 3: cannot tell for one.
    """
    if site is not None and os.path.isdir(site):  # noqa: PTH112  (Path.is_dir raises where it may not look)
        if certificate is not None or seen is not None or survey:
            raise typer.BadParameter("--certificate, --seen and --survey belong to one site; name the site file")
        from .check_folder import check_folder  # it loads what writes results

        check_folder(site, form)
    source = _read(site, form)
    try:
        verdict = judged(source, certificate)
    except Exception as error:
        error.add_note(source.file)
        raise
    for each in survey or ():
        verdict = _with_survey(source, verdict, each)
    if seen is not None:
        _emit_comparison(source, verdict, seen, form)
    if form is CheckFormat.text:
        show(check_view(verdict, Shown(source.file, source.line, usual_names, whole)))
    else:
        from .check_written import checked, written  # the parts of results load slowly, and a view needs none

        found = checked(source, verdict)
        written([found], form, found.result or {})
    raise typer.Exit(of_verdict(verdict.verdict))


def _emit_comparison(source: SiteFile, verdict: Verdict, seen: Path, form: CheckFormat) -> None:
    """Predicted beside observed, instead of the whole check. Raises BadInput, BadParameter and Exit."""
    from ..core.observed.compared import compared_visits
    from ..formats.results.check import check_result
    from ..formats.results.kept import KeptVisits, read_visits_or_lamp
    from ..formats.results.observations import lit_places
    from ..live.lamp.secret import given_secret
    from ..views.lamp import lit_seen_view
    from ..views.visit import seen_view
    from .finish import finish

    kept = read_visits_or_lamp(seen, given_secret())
    if form not in (CheckFormat.text, CheckFormat.json):
        raise typer.BadParameter("--seen: found another --format; expected text or json")
    if not isinstance(kept, KeptVisits):
        places = lit_places(seen, kept, source.site)
        if not any(each.sweeps for each in places):
            raise bad_file(seen, "found no port that was tried; expected a sweep of at least one")
        finish(
            lambda: check_result(verdict, source.line, source.file, lit=places),
            lambda: lit_seen_view(places, source.line, source.file, str(seen)),
            form,
        )
        raise typer.Exit(BROKEN if any(each.differs or not each.all_arrive for each in places) else KEPT)
    found = compared_visits(verdict.forecasts, kept.climbs)
    if not found:
        raise bad_file(seen, f"found no visit of a promise; expected one of a promise in {source.file}")
    taken = f"{kept.taken.time} from {kept.taken.host}"
    finish(
        lambda: check_result(verdict, source.line, source.file, found),
        lambda: seen_view(found, taken, source.line, source.file, str(seen)),
        form,
    )
    raise typer.Exit(BROKEN if any(each.parts_at or each.climb.kept is False for each in found) else KEPT)


def _with_survey(source: SiteFile, verdict: Verdict, given: str) -> Verdict:
    """The verdict with what a kept survey shows. Raises BadInput and BadParameter."""
    from ..core.changes.adopted import filter_differs
    from ..core.findings.surveyed import survey_findings
    from ..formats.devices.format import DeviceTarget
    from ..formats.devices.kept_survey import surveyed_configs
    from ..formats.results.kept import read_survey
    from ..views.screen import command_line
    from .arguments.sites import client_and_file, known

    client, path = client_and_file(given)
    if client:
        known("--survey", client, [each.name for each in source.site.clients])
    site, survey = source.site, read_survey(path).survey
    found = survey_findings(site, survey, client)
    if not client:
        configs = surveyed_configs(str(path), survey, DeviceTarget(site, site.server.name))
        line = command_line("adopt", source.file, str(path), "--device", site.server.name)
        differs = filter_differs(site, configs, path.name, line)
        found = (*found, differs) if differs is not None else found
    belied = verdict.belied or any(each.severity == "breaks" for each in found)
    return replace(verdict, findings=(*found, *verdict.findings), belied=belied)
