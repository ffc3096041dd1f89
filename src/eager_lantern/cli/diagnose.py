"""``diagnose``: from what was seen to its causes, their cures and the next best test."""

import sys
from collections.abc import Iterator, Sequence
from functools import partial
from pathlib import Path
from typing import Annotated

import typer
from msgspec.structs import replace
from rich.text import Text

from ..core.diagnosis.diagnosis import Diagnosis, Knowledge, diagnose
from ..core.diagnosis.next_test import AnsweredTest
from ..core.diagnosis.questions import UNKNOWN, next_question, told_by
from ..core.diagnosis.wording import instruction
from ..core.diagnosis.words import Testimony
from ..core.interview.learnt import facts_of, learnt_of
from ..core.model.site import Site
from ..core.observed.observation import Observation
from ..formats.evidence.all import places_of, read_evidence
from ..formats.results.diagnose import diagnose_result
from ..formats.results.observations import clients_of, read_observations
from ..formats.shipped import shipped_text
from ..formats.site.site_file import PATTERN, SiteFile, find_site_file, parse_site, read_site
from ..formats.weights import knowledge_without_file, shipped_knowledge
from ..live.lamp.secret import given_secret
from ..views.diagnose import diagnose_view
from ..views.screen import ACCENT, STRONG, command, command_line
from .arguments.options import Format, SiteArgument, Written, example
from .arguments.sites import client_and_file, known
from .ending import tell
from .exit_codes import BROKEN, CANNOT_TELL, KEPT
from .finish import finish

app = typer.Typer(add_completion=False, rich_markup_mode=None)
PLAIN = "plain.site.yaml"
MOST_PORTS = 3


@app.command(epilog=example("eager-lantern diagnose saltmarsh.site.yaml --log field-station=session.log"))
def diagnose_command(
    site: SiteArgument = None,
    seen: Annotated[
        list[str] | None,
        typer.Option(help="A kept result of visit, visit --lamp or rehearse, as FILE or CLIENT=FILE; may be repeated."),
    ] = None,
    log: Annotated[
        list[str] | None,
        typer.Option(
            help="A log or capture, as PLACE=FILE: a client's session log, or what was written at the server or a "
            "gateway (a daemon's log, a packet capture, ss -tanp, conntrack -L, nft list ruleset); may be repeated."
        ),
    ] = None,
    ask: Annotated[
        bool, typer.Option("--ask", help="Ask for symptoms, then propose one test after the other.")
    ] = False,
    whole: Annotated[bool, typer.Option("--all", help="Show everything, however many screens it takes.")] = False,
    form: Written = Format.text,
) -> None:
    """Name the causes of what was observed.

    Results of visits, session logs or answers go in; out come the causes that explain all of it, the
    likeliest first, what to look at, the cure of each, and the test that is worth most.

    Without a site file a plain router and server are assumed. Exit code 0: all is as promised, 1: causes are named,
    2: bad input, 3: inconclusive, or no known cause explains it.
    """
    source = _site_or_plain(site)
    file = "" if source.file == PLAIN else source.file
    observations = [each for given in seen or () for each in _read_observations(given, source.site)]
    evidence = read_evidence([_placed(given, source.site, file) for given in log or ()], source.site)
    if evidence.unread and not (observations or evidence.observations or evidence.testimonies or ask):
        raise evidence.unread[0]
    observations += evidence.observations
    raw = observations
    if not file:
        observations = [_anywhere(source.site, each) for each in observations]
    nothing = not observations and not evidence.testimonies
    asks = ask or (nothing and sys.stdin.isatty() and sys.stderr.isatty())
    if nothing and not asks:
        raise typer.BadParameter("nothing was seen: give results with --seen, logs with --log, or answer with --ask")
    found = (
        _ask_until_settled(source, file, observations, evidence.testimonies, _knowledge(file, raw))
        if asks
        else diagnose(source.site, observations, _knowledge(file, raw), testimonies=evidence.testimonies)
    )
    first = "" if file else _first_file(source.site, raw or found.observations)
    how_to_test = instruction(source.site, found.test, file) if found.test else None
    finish(
        lambda: diagnose_result(source.site, found, file, source.line, evidence.unread),
        lambda: diagnose_view(
            source.site, found, how_to_test, file, source.line, whole, first, [str(each) for each in evidence.unread]
        ),
        form,
    )
    raise typer.Exit(KEPT if found.as_described else CANNOT_TELL if found.verdict == "none" else BROKEN)


def _first_file(site: Site, observations: Sequence[Observation]) -> str:
    """The command that writes a site file from what was seen; what it would not take, it will ask."""
    from ..formats.site.new_site import shipped_questions  # seldom needed, and the list of services is long

    words = []
    found = learnt_of([], [("", facts_of(site, observations))])
    for question in shipped_questions():
        try:
            if question.key in found:
                words += [f"--{question.key.replace('_', '-')}", question.taken(found[question.key].answer, {})]
        except ValueError:
            continue
    return command_line("new", *words)


def _knowledge(file: str, seen: Sequence[Observation]) -> Knowledge:
    """What is known of faults; without a file, a data range that nobody has stated is named by the ports seen of it."""
    ports = dict.fromkeys(fate.ports for each in seen for fate in each.fates if len(fate.ports) == 1)
    return shipped_knowledge() if file else knowledge_without_file(", ".join(map(str, list(ports)[:MOST_PORTS])))


def _site_or_plain(site: Path | None) -> SiteFile:
    """The site file that is meant, else the plain site that stands in."""
    if site is None and not any(Path().glob(PATTERN)):
        return parse_site(PLAIN, shipped_text(PLAIN))
    return read_site(find_site_file(site))


def _anywhere(plain: Site, seen: Observation) -> Observation:
    """What was seen of a site whose ports and addresses are unknown: a private address that a server names is taken
    for its own, the one that the client connected to for the outside one; of another it is not known whose it is."""
    private = seen.announced is not None and seen.announced.kind == "private"
    outside = plain.gateways[0].outside.address.each[0] if seen.announced == seen.tried.dialled is not None else None
    own = plain.server.address.each[0] if private else outside
    return replace(seen, tried=replace(seen.tried, dialled=None, names=None), announced=own, fates=(), more=0)


def _read_observations(text: str, site: Site) -> Iterator[Observation]:
    client, path = client_and_file(text)
    if client:
        known("--seen", client, clients_of(site))
    yield from read_observations(path, site, client, given_secret())


def _placed(text: str, site: Site, file: str) -> tuple[str, Path]:
    """A place and its file. A log does not name its author: without a site file, whose places are nobody's, it is taken
    to be of a client outside. Raises BadParameter where none is named, and there are several."""
    place, path = client_and_file(text)
    clients, places = clients_of(site), places_of(site)
    if not place and (not file or len(clients) == 1):
        place = clients[0]
    if not place:
        raise typer.BadParameter(f"--log: where was {path} written? Give PLACE={path}, with one of {', '.join(places)}")
    known("--log", place, places)
    return place, path


def _ask_until_settled(
    source: SiteFile,
    file: str,
    observations: Sequence[Observation],
    testimonies: tuple[Testimony, ...],
    knowledge: Knowledge,
) -> Diagnosis:
    """Symptoms where nothing was given, then test after test, until no cause can be separated from another or nobody
    answers."""
    seen = [*observations, *(() if observations or testimonies else _symptoms(source.site))]
    answers: list[AnsweredTest] = []
    diagnosed = partial(diagnose, source.site, seen, knowledge, testimonies=testimonies)
    if not seen and not testimonies:
        raise typer.BadParameter("found no answer at all; expected at least one")
    found = diagnosed(answers)
    while found.test is not None:
        how = instruction(source.site, found.test, file)
        count = sum(each.count for each in found.groups)
        tell(["", f"{count} causes explain it. Next best test, {how.place}: {how.do}"])
        tell([command(f"  {how.command}", ACCENT)] if how.command else [])
        tell([f"or {how.by_hand}"] if how.by_hand else [])
        outcomes = [*(each.words for each in found.test.outcomes), ""]
        shown = [each or UNKNOWN for each in outcomes]
        number = _chosen("What came of it?", shown)
        if number is None:
            break
        answers.append(AnsweredTest(found.test.test, outcomes[number]))
        found = diagnosed(answers)
    return found


def _symptoms(site: Site) -> tuple[Observation, ...]:
    given: dict[str, str] = {}
    while (question := next_question(site, given)) is not None:
        if (number := _chosen(question.text, question.choices)) is None:
            break
        given[question.key] = question.choices[number]
    return told_by(site, given)


def _chosen(text: str, choices: Sequence[str]) -> int | None:
    """Which of several is chosen; None where nobody answers."""
    tell(["", Text(text, style=STRONG), *(Text(f"  {i}  {each}") for i, each in enumerate(choices, start=1))])
    while True:
        tell(["› "], end="")
        line = sys.stdin.readline()
        if not line:
            return None
        if line.strip().isdigit() and 1 <= int(line.strip()) <= len(choices):
            return int(line.strip()) - 1
        tell([f"a number from 1 to {len(choices)} is meant"])
