"""A first site file from kept surveys and visits alone: ``adopt`` without a site file."""

import time
from collections.abc import Sequence
from pathlib import Path

from ..core.adoption.adopt import adopted
from ..core.adoption.first_site import Learnt, learnt_of
from ..core.adoption.told import Reading, Told
from ..core.comparison.edits import Overlay
from ..core.interview.questions import refusal
from ..core.model.consistency import problems
from ..core.surveyed.mapped import forwards_of
from ..core.verdict import judge
from ..files.adopted_file import adopted_text
from ..files.atomic_write import write, writes
from ..files.first_site import first_site, first_text, read_seen_of_site
from ..files.problem import BadInput, InputProblem
from ..files.results.adopt import FirstSiteResult, LearntResult
from ..files.results.check import check_result
from ..files.results.text import as_json
from ..files.site_file import SiteFile, parse_site
from ..files.survey_file import tidied
from ..views.first_site_view import first_site_view
from .arguments.options import Format
from .exit_codes import of_verdict
from .output import emit, show

DEFAULT = Path("adopted.site.yaml")


def write_first_site(files: Sequence[str], save: Path | None, force: bool, form: Format) -> int:
    """Write the file, tell what was seen and what was not, and give the exit code of its check. Raises BadInput."""
    path = save or DEFAULT
    writes(path, force)
    read = {each: read_seen_of_site(Path(each)) for each in files}
    surveys = [(name, survey) for name, (survey, _) in read.items() if survey is not None]
    visits = [(name, facts) for name, (_, several) in read.items() for facts in several]
    found = learnt_of(surveys, visits)
    if not found:
        raise BadInput(files[0], InputProblem(0, "tells of nothing that a site file could say"))
    answers, guessed = first_site(found)
    if trouble := refusal(answers):
        raise BadInput(files[0], InputProblem(0, f"what was seen makes no site: {trouble}"))
    day = time.strftime("%Y-%m-%d")
    source = parse_site(str(path), first_text(answers, guessed, found, day))
    readings = [
        Reading(name, "forwards", tuple(Told((), tidied(each), 0) for each in forwards_of(survey.mappings)))
        for name, survey in surveys
        if survey.mappings and source.site.gateways
    ]
    text = _with_forwards(source, first_text(answers, guessed, found, day), readings[:1], day)
    write({path: text.encode()}, force)
    _told(parse_site(str(path), text), found, guessed, sum(len(each.told) for each in readings[:1]), form)
    return of_verdict(judge(parse_site(str(path), text).site).verdict)


def _with_forwards(source: SiteFile, text: str, readings: Sequence[Reading], day: str) -> str:
    """The text with the forwards that the router lists, where they fit the rest."""
    if not readings:
        return text
    wanted = adopted(source.site, source.site.gateways[0].name, "", "in", readings)
    return text if problems(wanted) else adopted_text(source, text, Overlay(source.site, wanted), readings, day).text


def _told(source: SiteFile, found: dict[str, Learnt], guessed: Sequence[str], forwards: int, form: Format) -> None:
    verdict = judge(source.site)
    seen = {key: each for key, each in found.items() if key not in guessed}
    if form is Format.json:
        result = FirstSiteResult(
            file=source.file,
            seen=tuple(
                LearntResult(key=key, answer=each.answer, seen_in=each.source, doubt=each.doubt)
                for key, each in seen.items()
            ),
            not_seen=tuple(guessed),
            forwards=forwards,
            check=check_result(verdict, source.line, source.file),
        )
        emit(as_json(result))
    else:
        show(first_site_view(source.file, seen, guessed, forwards))
