"""What ``check`` writes for programs: JSON, SARIF, JUnit XML."""

from msgspec import Struct

from ..core.verdict import Verdict
from ..formats.reading import BadInput
from ..formats.results.base import Result, as_json, plain
from ..formats.results.check import check_result
from ..formats.shipped import finding_pages
from ..formats.site.site_file import SiteFile
from .arguments.options import CheckFormat
from .ending import emit


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


def of_several(found: list[Checked]) -> Result:
    """The results of several sites, or why there is none."""
    sites = [
        {"file": each.file, "error": None if each.result else each.fault or str(each.error), "result": each.result}
        for each in found
    ]
    return {"format": "eager-lantern/check-folder/1", "sites": sites}
