"""A first site file from results that were kept: surveys and visits."""

import json
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from pathlib import Path

import msgspec

from ..core.adoption.first_site import NEVER_SEEN, PLACES, Learnt, VisitFacts
from ..core.interview.questions import questions
from ..core.observed.survey import Survey
from ..core.values.addresses import address_or_none
from ..core.values.ports import PortSet
from ..wire.terminal_safe import printable
from .guarded import guarded
from .json_line import json_line
from .new_site import new_site
from .outside_seen import LAMP, read_lamp
from .problem import BadInput, InputProblem
from .results.visit import VisitedPromise, VisitResult
from .services import registered
from .site_file import SiteFile, parse_site
from .survey_file import read_survey
from .yaml_tree import read_text

NOT_SEEN = "? not seen"


@guarded
def read_seen_of_site(path: Path) -> tuple[Survey | None, tuple[VisitFacts, ...]]:
    """A kept survey, or what kept visits or sweeps over a lamp tell. Raises BadInput for another result."""
    text = read_text(path)
    try:
        form = json.loads(text).get("format", "")
        if form == "eager-lantern/survey/1":
            return read_survey(path).survey, ()
        if form == LAMP:
            return None, tuple(_facts_of_lamp(path))
        if form != "eager-lantern/visit/1":
            message = f"has the format “{printable(str(form), 60)}”; a survey, a visit or a sweep is read here"
            raise BadInput(str(path), InputProblem(0, message))
        found = msgspec.json.decode(text, type=VisitResult)
    except (ValueError, AttributeError, RecursionError) as error:
        raise BadInput(str(path), InputProblem(json_line(text, error), f"is no kept result: {error}")) from None
    return None, tuple(_facts(each) for each in found.promises)


def _facts_of_lamp(path: Path) -> Iterator[VisitFacts]:
    """A lamp shows which ports the devices on the way let through: the widest span of them is that of the data."""
    lamp = read_lamp(path)
    for each in (sweep for place in (lamp.places if lamp else ()) for sweep in place.sweeps):
        if each.protocol == "tcp" and each.ok:
            spans = PortSet.parse(each.ok).spans
            widest = max(spans, key=lambda span: span[1] - span[0])
            yield VisitFacts(typed=each.target, ports=PortSet.of(widest) if widest[0] < widest[1] else PortSet())


def _facts(visit: VisitedPromise) -> VisitFacts:
    typed, _, shown = visit.target.partition(" (")
    host, _, port = (shown.rstrip(")") or typed).rpartition(":")
    well = {each.rung for each in visit.rungs if each.outcome == "ok"}
    means = "ssh" if visit.ssh else "tls" if "secure" in well else "plain" if "login" in well else ""
    seen, sure = PortSet(), False
    if visit.range:
        with suppress(ValueError):
            seen, sure = PortSet.parse(visit.range.seen), visit.range.good
    announced = address_or_none(visit.reply.address) if visit.reply and not visit.reply.extended else None
    number = int(port) if port.isdecimal() and len(port) < 6 else None
    named = typed if shown or not port else host.strip("[]")
    return VisitFacts(named, means, number if "greet" in well else None, announced, seen, sure)


def first_site(found: Mapping[str, Learnt]) -> tuple[dict[str, str], tuple[str, ...]]:
    """An answer to every question that applies, and the keys of those that nobody has seen."""
    answers: dict[str, str] = {}
    guessed = []
    for question in questions(registered()):
        if not question.applies(answers):
            continue
        if (seen := found.get(question.key)) is not None:
            with suppress(ValueError):
                answers[question.key] = question.taken(seen.answer, answers)
                continue
        proposal = ""
        with suppress(ValueError):
            proposal = question.propose(answers)
        answers[question.key] = proposal or question.unasked
        guessed.append(question.key)
    return answers, tuple(guessed)


def first_text(answers: Mapping[str, str], guessed: Sequence[str], found: Mapping[str, Learnt], day: str) -> str:
    """The text of the file: what was seen bears where, what was not bears a question mark."""
    plain = new_site(answers)
    source = parse_site("new", plain)
    notes: dict[int, list[str]] = {}
    for key, place in PLACES.items():
        line = source.line(place) if key in answers else None
        if line:
            notes.setdefault(line, []).append(_note(key, guessed, found, day))
    for word, place in NEVER_SEEN.items():
        if line := source.line(place):
            notes.setdefault(line, []).append(f"{NOT_SEEN}: {word}")
    lines = plain.split("\n")
    for number, told in notes.items():
        lines[number - 1] += ("; " if " #" in lines[number - 1] else "   # ") + "; ".join(_joined(told))
    text = "\n".join(lines)
    return text if _same(source, text) else plain


def _note(key: str, guessed: Sequence[str], found: Mapping[str, Learnt], day: str) -> str:
    word = key.replace("_", " ")
    if key in guessed or key not in found:
        return f"{NOT_SEEN}: {word}"
    name = printable(Path(found[key].source).name, 60)
    doubt = f"? {word}: {found[key].doubt}; " if found[key].doubt else ""
    return f"{doubt}as {name}, {day}"


def _joined(notes: Sequence[str]) -> list[str]:
    """Each once; all that was not seen in one."""
    unseen = [each.partition(": ")[2] for each in notes if each.startswith(NOT_SEEN)]
    told = list(dict.fromkeys(each for each in notes if not each.startswith(NOT_SEEN)))
    return [*told, *([f"{NOT_SEEN}: {', '.join(unseen)}"] if unseen else [])]


def _same(source: SiteFile, text: str) -> bool:
    try:
        return parse_site("new", text).site == source.site
    except BadInput:
        return False
