"""``check``: promises predicted, the ledger, findings; for one site or a folder of them."""

import os
import sys
from collections.abc import Iterator
from fnmatch import fnmatch
from pathlib import Path
from typing import Annotated

import typer
from msgspec import Struct
from msgspec.structs import replace

from ..core.verdict import Verdict
from ..formats.reading import BadInput, InputProblem
from ..formats.results.base import Result, as_json, plain
from ..formats.results.check import check_result
from ..formats.shipped import finding_pages, usual_names
from ..formats.site.site_file import PATTERN, SiteFile, find_site_file, read_site
from ..views.check import FolderRow, Shown, check_view, folder_view
from ..wire.terminal_safe import printable
from .arguments.options import CheckFormat, example
from .arguments.sites import judged
from .ending import emit, end_quietly, show
from .exit_codes import BAD_INPUT, BROKEN, FAULT, KEPT, of_verdict, worst


class Checked(Struct, frozen=True):
    """The result of one site of several, or why there is none: bad input, or a fault of the program."""

    file: str
    result: Result | None
    error: BadInput | None
    fault: str = ""


def checked(source: SiteFile, verdict: Verdict) -> Checked:
    """The result of a site that was judged."""
    return Checked(source.file, plain(check_result(verdict, source.line, source.file)), None)


def written(found: list[Checked], form: CheckFormat, whole: Result) -> None:
    """Write what was found of each site, or as JSON the whole of it."""
    from ..formats.results.reports import junit, sarif

    results = [(each.file, each.result) for each in found if each.result is not None]
    unread = [each.error for each in found if each.error is not None]
    if form is CheckFormat.json:
        emit(as_json(whole))
    elif form is CheckFormat.sarif:
        emit(as_json(sarif((result for _, result in results), unread, finding_pages())))
    else:
        emit(junit(results, unread))


ALONE = 8


def check_folder(folder: Path, form: CheckFormat) -> None:
    """Check every site file in a folder and in those below it. Raises BadInput, and Exit with the worst code."""
    if not os.access(folder, os.R_OK | os.X_OK):
        raise BadInput(str(folder), InputProblem(0, "cannot be read: permission denied"))
    paths = sorted(_found_below(folder))
    if not paths:
        raise BadInput(str(folder), InputProblem(0, f"has no site file in it ({PATTERN})"))
    found = _all_checked(paths)
    if form is CheckFormat.text:
        show(folder_view([_row(each, folder) for each in found]))
    else:
        written(found, form, _of_several(found))
    for each in found:
        if each.fault:
            print(f"eager-lantern: a fault of the program itself ({each.file}): {each.fault}", file=sys.stderr)
    raise typer.Exit(worst(map(_folder_code, found)))


def _of_several(found: list[Checked]) -> Result:
    sites = [
        {"file": each.file, "error": None if each.result else each.fault or str(each.error), "result": each.result}
        for each in found
    ]
    return {"format": "eager-lantern/check-folder/1", "sites": sites}


def _read(site: Path | None, form: CheckFormat) -> SiteFile:
    """The site that is meant. Where it cannot be read, a program gets a result as of a folder, which states the error;
    raises BadInput all the same."""
    try:
        return read_site(find_site_file(site))
    except BadInput as error:
        if form is not CheckFormat.text:
            found = [Checked(error.file, None, error)]
            written(found, form, _of_several(found))
        raise


def _folder_code(each: Checked) -> int:
    if each.fault:
        return FAULT
    return of_verdict(each.result["verdict"]) if each.result is not None else BAD_INPUT


def _found_below(folder: Path) -> Iterator[str]:
    """The site files of a folder and of those in it; one that may not be entered is told and passed by."""

    def unreadable(error: OSError) -> None:
        name = printable(str(error.filename), 600)
        print(f"{name}: cannot be read: {(error.strerror or 'it failed').lower()}; passed by", file=sys.stderr)

    for where, _, names in os.walk(folder, onerror=unreadable):
        for name in names:
            if fnmatch(name, PATTERN) and os.path.isfile(path := os.path.join(where, name)):  # noqa: PTH113, PTH118
                yield str(Path(path))


def _all_checked(paths: list[str]) -> list[Checked]:
    """Every site, on all processors where there are enough of them to be worth it."""
    if len(paths) <= ALONE:
        return [_check_one(each) for each in paths]
    from concurrent.futures import ProcessPoolExecutor  # only a folder needs it, and it loads slowly
    from concurrent.futures.process import BrokenProcessPool

    try:
        with ProcessPoolExecutor(os.cpu_count(), initializer=end_quietly) as pool:
            return list(pool.map(_check_one, paths, chunksize=8))
    except BrokenProcessPool:  # a worker was killed, for want of memory perhaps
        return [_checked_apart(each) for each in paths]


def _checked_apart(path: str) -> Checked:
    """A site checked in a process of its own, so that only its own result is lost with it."""
    from concurrent.futures import ProcessPoolExecutor
    from concurrent.futures.process import BrokenProcessPool

    try:
        with ProcessPoolExecutor(1, initializer=end_quietly) as pool:
            return pool.submit(_check_one, path).result()
    except BrokenProcessPool:
        return Checked(path, None, None, "its process was killed, for want of memory perhaps")


def _check_one(path: str) -> Checked:
    try:
        source = read_site(Path(path))
        return checked(source, judged(source, None))
    except BadInput as error:
        return Checked(path, None, error)
    except Exception as error:  # one site that the program fails at hides no other's result
        notes = "".join(f"{note}: " for note in getattr(error, "__notes__", ()))
        return Checked(path, None, None, f"{notes}{type(error).__name__}: {error}")


def _row(each: Checked, folder: Path) -> FolderRow:
    name = os.path.relpath(each.file, folder)
    if each.fault:
        return FolderRow(name, "fault", 0, 0, each.fault)
    if each.result is None:
        return FolderRow(name, "bad input", 0, 0, str(each.error).splitlines()[0].removeprefix(each.file).lstrip(":"))
    promises, findings = [*each.result["promises"], *each.result["ways_in"]], each.result["findings"]
    kept = sum(promise["kept"] is True for promise in promises)
    most = f"{findings[0]['kind']}, line {findings[0]['where']['line']}" if findings else ""
    more = f" and {len(findings) - 1} more" if len(findings) > 1 else ""
    return FolderRow(name, each.result["verdict"], kept, len(promises), most + more)


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
    seen: Annotated[Path | None, typer.Option(readable=False, help="Compare with a result of visit --save.")] = None,
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
        found = checked(source, verdict)
        written([found], form, found.result or {})
    raise typer.Exit(of_verdict(verdict.verdict))


def _emit_comparison(source: SiteFile, verdict: Verdict, seen: Path, form: CheckFormat) -> None:
    """Predicted beside observed, instead of the whole check. Raises BadInput, BadParameter and Exit."""
    from ..core.observed.compared import compared_visits
    from ..formats.results.base import as_json
    from ..formats.results.check import check_result
    from ..formats.results.kept import read_visits
    from ..views.visit import seen_view

    kept = read_visits(seen)
    found = compared_visits(verdict.forecasts, kept.climbs)
    if not found:
        raise BadInput(str(seen), InputProblem(0, f"has no visit that stands for a promise of {source.file}"))
    if form is CheckFormat.text:
        show(seen_view(found, f"{kept.taken.time} from {kept.taken.host}", source.line, source.file, str(seen)))
    elif form is CheckFormat.json:
        emit(as_json(check_result(verdict, source.line, source.file, found)))
    else:
        raise typer.BadParameter("--seen is written as text or json")
    raise typer.Exit(BROKEN if any(each.parts_at or each.climb.kept is False for each in found) else KEPT)


def _with_survey(source: SiteFile, verdict: Verdict, given: str) -> Verdict:
    """The verdict with what a kept survey shows. Raises BadInput and BadParameter."""
    from ..core.findings.surveyed import survey_findings
    from ..formats.results.kept import read_survey
    from .arguments.sites import client_and_file, known

    client, path = client_and_file(given)
    if client:
        known("--survey", client, [each.name for each in source.site.clients])
    found = survey_findings(source.site, read_survey(path).survey, client)
    belied = verdict.belied or any(each.severity == "breaks" for each in found)
    return replace(verdict, findings=(*found, *verdict.findings), belied=belied)
