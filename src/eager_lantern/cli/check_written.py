"""What ``check`` writes for programs: JSON, SARIF, JUnit XML."""

from msgspec import Struct

from ..core.verdict import Verdict
from ..files.package_data import finding_pages
from ..files.problem import BadInput
from ..files.results.check import check_result
from ..files.results.text import Result, as_json, plain
from ..files.site_file import SiteFile
from .arguments.check_format import CheckFormat
from .output import emit


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
    from ..files.reports import junit, sarif  # seldom asked for, and XML loads slowly

    results = [(each.file, each.result) for each in found if each.result is not None]
    unread = [each.error for each in found if each.error is not None]
    if form is CheckFormat.json:
        emit(as_json(whole))
    elif form is CheckFormat.sarif:
        emit(as_json(sarif((result for _, result in results), unread, finding_pages())))
    else:
        emit(junit(results, unread))
