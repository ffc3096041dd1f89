"""``compare``: two states of a site, what each lets through that the other does not, and how to get there."""

from enum import StrEnum
from typing import Annotated

import typer

from ..core.changes.order import verdict_of
from ..core.changes.states import compare, revisited
from ..core.findings.surveyed import as_surveyed
from ..core.model.consistency import problems
from ..formats.reading import BadInput, InputProblem
from ..formats.results.base import as_json
from ..formats.results.compare import compare_result, compare_visits_result
from ..formats.results.kept import KeptSurvey, KeptVisits
from ..formats.site.site_file import SiteFile
from ..views.compare import compare_view, revisits_view
from .arguments.options import example
from .arguments.states import read_state
from .ending import emit
from .exit_codes import BROKEN, CANNOT_TELL, KEPT
from .finish import finish

app = typer.Typer(add_completion=False, rich_markup_mode=None)
_CODES = {"same": KEPT, "changed": KEPT, "lost": BROKEN, "unknown": CANNOT_TELL}
State = Annotated[str, typer.Argument(help="A site file, REV:FILE of a git repository, or a kept visit or survey.")]


class CompareFormat(StrEnum):
    """How a comparison is written."""

    text = "text"
    json = "json"
    sarif = "sarif"
    table = "table"


@app.command(epilog=example("eager-lantern compare saltmarsh.site.yaml planned.yaml --format table"))
def compare_command(
    before: State,
    after: State,
    form: Annotated[
        CompareFormat,
        typer.Option("--format", help="text for people; json and sarif for programs; table for a change request."),
    ] = CompareFormat.text,
    whole: Annotated[bool, typer.Option("--all", help="Show everything, however many screens it takes.")] = False,
) -> None:
    """Hold two states of a site against each other.

    Which promises change, who reaches what now and did not before, and the other way round; which of it nobody asked
    for; and in which order to make the changes, so that nothing that holds in both states breaks on the way.

    Beside a kept survey a site is held against itself as it was found. Two kept results of visits are
    held against each other session by session.

    Exit code 0: no promise and no way in that had to stay open is lost, 1: one is, 2: bad input, 3: it cannot be told.
    """
    old, new = read_state(before), read_state(after)
    if isinstance(old, KeptSurvey) and isinstance(new, SiteFile):
        old = _site_as_surveyed(before, old, new)
    if isinstance(old, SiteFile) and isinstance(new, KeptSurvey):
        new = _site_as_surveyed(after, new, old)
    if isinstance(old, SiteFile) and isinstance(new, SiteFile):
        raise typer.Exit(_CODES[_of_sites(old, new, form, whole)])
    if isinstance(old, KeptVisits) and isinstance(new, KeptVisits):
        raise typer.Exit(_CODES[_compare_visits(old, new, (before, after), form)])
    raise typer.BadParameter(f"{before} and {after} are not of one kind: two sites, a site and a survey, or two visits")


def _site_as_surveyed(name: str, kept: KeptSurvey, source: SiteFile) -> SiteFile:
    """The site as a kept survey has it, by the lines of its file. Raises BadInput where it does not fit the site."""
    found = as_surveyed(source.site, kept.survey)
    if wrong := problems(found):
        raise BadInput(name, *(InputProblem(0, f"in the site with it, {each.message}") for each in wrong))
    return SiteFile(name, found, source.tree)


def _of_sites(old: SiteFile, new: SiteFile, form: CompareFormat, whole: bool) -> str:
    found = compare(old.site, new.site)
    names, lines = (old.file, new.file), (old.line, new.line)
    match form:
        case CompareFormat.text | CompareFormat.json:
            finish(lambda: compare_result(found, names, lines), lambda: compare_view(found, names, lines, whole), form)
        case CompareFormat.sarif:
            from ..formats.results.reports import compare_sarif  # seldom asked for, and XML loads slowly

            emit(as_json(compare_sarif(found, new.file, new.line)))
        case CompareFormat.table:
            from ..views.pages import change_table

            emit(change_table(found, names, lines))
    return found.verdict


def _compare_visits(old: KeptVisits, new: KeptVisits, names: tuple[str, str], form: CompareFormat) -> str:
    found = revisited(old.climbs, new.climbs)
    verdict = verdict_of({each.turn for each in found}, alike=True)
    if form not in (CompareFormat.text, CompareFormat.json):
        raise typer.BadParameter("two visits are written as text or json")
    finish(
        lambda: compare_visits_result(found, verdict, names),
        lambda: revisits_view(found, verdict, names, (old.taken.time, new.taken.time)),
        form,
    )
    return verdict
