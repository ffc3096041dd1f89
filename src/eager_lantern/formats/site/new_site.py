"""A first site file: from the answers to :mod:`eager_lantern.core.interview.questions`, or from kept surveys and
visits."""

import json
import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from functools import cache
from pathlib import Path

from jinja2 import Environment, StrictUndefined, Template
from msgspec import convert

from ...core.interview.learnt import NEVER_SEEN, PLACES, Learnt, VisitFacts
from ...core.interview.questions import (
    PROTOCOLS,
    Answers,
    Question,
    QuestionText,
    accounts_of,
    has_ipv6,
    has_network,
    is_administered,
    is_administered_inside,
    is_name,
    is_open,
    is_translated,
    outside_address,
    questions,
    subnet_around,
)
from ...core.model.site import ETHERNET_BYTES, default_own_ports
from ...core.observed.survey import Survey
from ...core.values.addresses import UNKNOWN_TEXT, Address, AddressSet, address_or_none
from ...core.values.ports import PortSet
from ...wire.terminal_safe import printable
from ..damage import guarded
from ..reading import BadInput
from ..results.kept import read_kept
from ..results.lamp import LampResult
from ..results.survey import SurveyResult, survey_of
from ..results.visit import VisitedPromise, VisitResult
from ..shipped import registered, shipped_text
from .site_file import SiteFile, parse_site
from .yaml_tree import YamlTree, read_text

_PLAIN = re.compile(r"[A-Za-z0-9][A-Za-z0-9 ._/-]*[A-Za-z0-9]|[A-Za-z]|/[A-Za-z0-9._/-]*")
_WORDS = re.compile(r"(true|false|null|[-+.0-9eExo_]+)", re.IGNORECASE)


def quoted_text(text: str) -> str:
    """A text as YAML: in quotes where it could be read as something else."""
    plain = _PLAIN.fullmatch(text) and not _WORDS.fullmatch(text)
    return text if plain else json.dumps(text, ensure_ascii=False)


def new_site(answers: Answers) -> str:
    """The text of a site file, with comments for whoever goes on editing it."""
    return _template().render(**_derived(answers)) + "\n"


@cache
def _template() -> Template:
    environment = Environment(trim_blocks=True, lstrip_blocks=True, undefined=StrictUndefined, autoescape=False)
    environment.filters["text"] = quoted_text
    return environment.from_string(shipped_text("new.site.yaml.j2"))


def _derived(answers: Answers) -> dict[str, object]:
    """The answers, and all that follows from them."""
    protocol, tls, _ = PROTOCOLS[answers["clients_can"]]
    ftp, opened = protocol == "ftp", is_open(answers)
    typed = answers.get("typed", "")
    seen_at = outside_address(answers) if is_translated(answers) else answers["address"]
    named = opened and is_name(typed)
    own_six = answers["ipv6"] if has_ipv6(answers) else ""
    from_where = answers.get("admin_from", "")
    single = answers.get("ranges") == "no"
    return {
        **dict.fromkeys(("ports", "subnet", "outside", "admin_port", "admin_from"), ""),
        "outside_port": answers["control_port"],
        "ranges": "yes",
        "share": "all",
        "mtu": str(ETHERNET_BYTES),
        "phones": "no",
        "category": "",
        "inside": "yes" if has_network(answers) else "no",
        **answers,
        "typed": typed or seen_at,
        "reaches": _typed_by_clients(typed or seen_at, answers),
        "outside": outside_address(answers) if "outside" in answers else "",
        "outside_unknown": answers.get("outside") == "unknown",
        "protocol": protocol,
        "ipv6": own_six,
        "subnet6": subnet_around(own_six) if own_six else "",
        "to_server": f'"{answers["address"]}, {own_six}"' if own_six else answers["address"],
        "for_category": f", categories: [{answers['category']}]" if "category" in answers else "",
        "published": f"{seen_at}, {own_six}" if own_six else seen_at,
        "accounts": list(_accounts(answers)),
        "own_ports": str(default_own_ports(answers["system"])),
        "tls": tls,
        "mode": ", mode: passive" if ftp else "",
        "has_network": has_network(answers),
        "is_open": opened,
        "is_name": named,
        "seen_at": seen_at,
        "data_entries": _range_entries(answers.get("ports", ""), single),
        "announces_own": not is_translated(answers) or not opened,
        "announce": typed if named and answers.get("outside_lease") == "dynamic" else seen_at,
        "inside_only": "" if opened else f", from: {answers.get('subnet')}",
        "administered": is_administered(answers),
        "admin_from": UNKNOWN_TEXT if from_where == "unknown" else from_where,
        "admin_address": _one_of(from_where),
        "admin_inside": is_administered_inside(answers),
        "admin_outside": is_administered(answers) and not is_administered_inside(answers),
    }


def _accounts(answers: Answers) -> Iterator[tuple[str, str, str]]:
    """Name, folder and rights of each account; rights that are stated once are those of all."""
    names, rights = accounts_of(answers), answers["rights"].split("; ")
    several = rights * len(names) if len(rights) == 1 else rights
    return zip(names, answers["folder"].split(", "), several, strict=True)


def _one_of(from_where: str) -> str:
    """An address from where the server is administered: of a network its first, which stands for all of it."""
    if from_where in ("", "unknown"):
        return UNKNOWN_TEXT if from_where else ""
    members = AddressSet.parse(from_where)
    return str(Address(members.lowest + (len(members.prefixes()) == 1 and members.lowest != members.highest)))


def _typed_by_clients(typed: str, answers: Answers) -> str:
    """What clients type, with its port where that is another than the service's own."""
    port = answers.get("outside_port", answers["control_port"])
    if port == answers["control_port"]:
        return typed
    return f"[{typed}]:{port}" if ":" in typed else f"{typed}:{port}"


def _range_entries(ports: str, single: bool) -> list[str]:
    """The data range as entries of a router's page."""
    if not ports:
        return []
    return [str(each) for each in PortSet.parse(ports)] if single else [ports]


NOT_SEEN = "? not seen"


@guarded
def read_seen_of_site(path: Path) -> tuple[Survey | None, tuple[VisitFacts, ...]]:
    """A kept survey, or what kept visits or sweeps over a lamp show. Raises BadInput for another file."""
    match read_kept(path, read_text(path), "survey", "visit", "lamp"):
        case SurveyResult() as survey:
            return survey_of(survey), ()
        case LampResult() as lamp:
            return None, tuple(_facts_of_lamp(lamp))
        case VisitResult() as visits:
            return None, tuple(_facts(each) for each in visits.promises)
        case _:
            raise AssertionError("a result that was not asked for")


def _facts_of_lamp(lamp: LampResult) -> Iterator[VisitFacts]:
    """A lamp shows which ports the devices on the way let through: the widest span of them is that of the data."""
    for each in (sweep for place in lamp.places for sweep in place.sweeps):
        if each.protocol == "tcp" and each.ok:
            spans = PortSet.parse(each.ok).spans
            widest = max(spans, key=lambda span: span[1] - span[0])
            yield VisitFacts(typed=each.target, ports=PortSet.of(widest) if widest[0] < widest[1] else PortSet())


def _facts(visit: VisitedPromise) -> VisitFacts:
    well = {each.rung for each in visit.rungs if each.outcome == "ok"}
    means = "ssh" if visit.ssh else "tls" if "secure" in well else "plain" if "login" in well else ""
    seen, sure = PortSet(), False
    if visit.range:
        with suppress(ValueError):
            seen, sure = PortSet.parse(visit.range.seen), visit.range.good
    announced = address_or_none(visit.reply.address) if visit.reply and not visit.reply.extended else None
    dialled = visit.dialled or None
    port = dialled.port if dialled and "greet" in well else None
    return VisitFacts(dialled.name if dialled else "", means, port, announced, seen, sure)


def shipped_questions() -> tuple[Question, ...]:
    """The questions of ``new`` in the words of ``data/questions.yaml``, which propose no registered ports."""
    texts = convert(YamlTree("questions.yaml", shipped_text("questions.yaml")).data, dict[str, QuestionText])
    return tuple(questions(registered(), texts))


def first_site(found: Mapping[str, Learnt]) -> tuple[dict[str, str], tuple[str, ...]]:
    """An answer to every question that applies, and the keys of those that nobody has seen."""
    answers: dict[str, str] = {}
    guessed = []
    for question in shipped_questions():
        if not question.applies(answers):
            continue
        if (seen := found.get(question.key)) is not None:
            with suppress(ValueError):
                answers[question.key] = question.taken(seen.answer, answers)
                continue
        proposal = ""
        with suppress(ValueError):
            proposal = question.propose(answers)
        answers[question.key] = proposal or question.words.unasked
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
            notes.setdefault(line, []).append(_source_note(key, guessed, found, day))
    for word, place in NEVER_SEEN.items():
        if line := source.line(place):
            notes.setdefault(line, []).append(f"{NOT_SEEN}: {word}")
    lines = plain.split("\n")
    for number, remarks in notes.items():
        lines[number - 1] += ("; " if " #" in lines[number - 1] else "   # ") + "; ".join(_merge_notes(remarks))
    text = "\n".join(lines)
    return text if _reads_the_same(source, text) else plain


def _source_note(key: str, guessed: Sequence[str], found: Mapping[str, Learnt], day: str) -> str:
    word = key.replace("_", " ")
    if key in guessed or key not in found:
        return f"{NOT_SEEN}: {word}"
    name = printable(Path(found[key].source).name, 60)
    doubt = f"? {word}: {found[key].doubt}; " if found[key].doubt else ""
    return f"{doubt}as {name}, {day}"


def _merge_notes(notes: Sequence[str]) -> list[str]:
    """Each once; all that was not seen in one."""
    unseen = [each.partition(": ")[2] for each in notes if each.startswith(NOT_SEEN)]
    remarks = list(dict.fromkeys(each for each in notes if not each.startswith(NOT_SEEN)))
    return [*remarks, *([f"{NOT_SEEN}: {', '.join(unseen)}"] if unseen else [])]


def _reads_the_same(source: SiteFile, text: str) -> bool:
    try:
        return parse_site("new", text).site == source.site
    except BadInput:
        return False
