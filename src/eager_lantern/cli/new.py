"""``new``: asks, or takes options, and writes a first site file."""

import os
import re
import sys
from collections.abc import Iterable, Mapping
from contextlib import suppress
from itertools import chain
from pathlib import Path
from typing import Annotated

import typer
from msgspec.structs import replace
from rich.text import Text

from ..core.interview.learnt import Learnt, learnt_of
from ..core.interview.questions import Answers, Question, first_stage, refusal, remark
from ..core.verdict import judge
from ..formats.reading import BadInput
from ..formats.results.check import check_result
from ..formats.results.pages import NewResult
from ..formats.shipped import usual_names
from ..formats.site.new_site import new_site, read_seen_of_site, shipped_questions
from ..formats.site.site_file import PATTERN, SiteFile, parse_site
from ..formats.writing import write, writes
from ..views.check import Shown, check_body
from ..views.screen import ACCENT, STOPS, STRONG
from ..views.setting_up import more_lines, new_view, question_lines, remark_line
from .arguments.options import Forced, Format, Written, example
from .ending import tell
from .exit_codes import of_verdict
from .finish import finish

app = typer.Typer(add_completion=False, rich_markup_mode=None)


def _option(help_text: str) -> object:
    return typer.Option(show_default=False, help=help_text)


@app.command(
    epilog=example(
        'eager-lantern new --site "Skerry Light" --clients-can tls',
        "--address 10.61.8.20 --outside 198.51.100.88",
        "--typed skerry.saltmarsh.example --save skerry.site.yaml",
    )
)
def new(
    site: Annotated[str | None, _option("What the site is called.")] = None,
    clients_can: Annotated[str | None, _option("ssh, tls, implicit or plain: what all clients can do.")] = None,
    control_port: Annotated[str | None, _option("Default: the usual one.")] = None,
    server: Annotated[str | None, _option("What the server is called.")] = None,
    address: Annotated[str | None, _option("The server's own address.")] = None,
    lease: Annotated[str | None, _option("static, reserved or dynamic.")] = None,
    system: Annotated[str | None, _option("linux, windows or other: what the server runs.")] = None,
    category: Annotated[str | None, _option("private, domain or public: its network, for Windows.")] = None,
    client_count: Annotated[str | None, _option("How many clients there are.")] = None,
    burst: Annotated[str | None, _option("How many of them may start at the same moment.")] = None,
    ports: Annotated[
        str | None, typer.Option("--ports", "--range", show_default=False, help="The data port range.")
    ] = None,
    behind: Annotated[str | None, _option("router, firewall, cloud or nothing.")] = None,
    subnet: Annotated[str | None, _option("The server's network.")] = None,
    device: Annotated[str | None, _option("What the device in front is called.")] = None,
    device_inside: Annotated[str | None, _option("Its address inside.")] = None,
    outside: Annotated[str | None, _option("Its address outside, or unknown.")] = None,
    outside_lease: Annotated[str | None, _option("static, reserved or dynamic.")] = None,
    share: Annotated[str | None, _option("Which ports of a shared outside address are yours, or all.")] = None,
    mtu: Annotated[str | None, _option("The largest packet of the outside line, in bytes.")] = None,
    outside_port: Annotated[str | None, _option("The outside port that clients use.")] = None,
    ranges: Annotated[str | None, _option("yes or no: it takes ranges of ports.")] = None,
    ipv6: Annotated[str | None, _option("The server's IPv6 address, where clients use it too, or none.")] = None,
    typed: Annotated[str | None, _option("The name or address that clients type.")] = None,
    inside: Annotated[str | None, _option("yes or no: clients on the server's own network use it too.")] = None,
    phones: Annotated[str | None, _option("yes or no: phones with IPv6 alone use it too.")] = None,
    inside_first: Annotated[str | None, _option("yes or no: write a first stage too, in clear inside.")] = None,
    account: Annotated[str | None, _option("The accounts, with commas between.")] = None,
    folder: Annotated[str | None, _option("The folder that each sees, with commas between.")] = None,
    rights: Annotated[str | None, _option("What they may do there; for each in turn with semicolons between.")] = None,
    admin_port: Annotated[str | None, _option("By which port you administer the server, or none.")] = None,
    admin_from: Annotated[str | None, _option("From which network or address, or unknown.")] = None,
    from_survey: Annotated[
        list[Path] | None,
        typer.Option("--from-survey", help="A kept survey, visit or sweep, whose answers are proposed; repeatable."),
    ] = None,
    save: Annotated[Path | None, _option("The file to write; default: named after the site.")] = None,
    defaults: Annotated[bool, typer.Option("--defaults", help="Ask nothing: take what would be proposed.")] = False,
    force: Forced = False,
    form: Written = Format.text,
) -> None:
    """Ask, or take options, and write a first site file.

    Every question is also an option of the same name; what is given is not asked. At a question, ? explains it
    and < goes one step back. Nothing is written before the last answer.
    """
    given = {
        "site": site, "clients_can": clients_can, "control_port": control_port, "server": server, "address": address,
        "lease": lease, "system": system, "category": category, "client_count": client_count, "burst": burst,
        "ports": ports,
        "behind": behind, "subnet": subnet, "device": device, "device_inside": device_inside, "outside": outside,
        "outside_lease": outside_lease, "share": share, "mtu": mtu, "phones": phones,
        "outside_port": outside_port, "ranges": ranges, "ipv6": ipv6, "typed": typed,
        "inside": inside, "inside_first": inside_first, "account": account, "folder": folder, "rights": rights,
        "admin_port": admin_port, "admin_from": admin_from,
    }  # fmt: skip
    ask = sys.stdin.isatty() and sys.stderr.isatty() and not defaults
    if save is not None:
        writes(save, force)
    elif site is not None:
        writes(Path(f"{_slug(site)}.site.yaml"), force)
    learnt = _learnt(from_survey or ())
    answers = _answers({key: value for key, value in given.items() if value is not None}, ask, defaults, learnt)
    if trouble := refusal(answers):
        raise typer.BadParameter(trouble)
    path = save or _free(f"{_slug(answers['site'])}", ask and not force)
    text = new_site(answers)
    source = _site_of_answers(str(path), text)
    files = {path: text.encode()}
    earlier = path.with_name(f"{path.name.removesuffix(PATTERN[1:])}-inside{PATTERN[1:]}")
    if answers.get("inside_first") == "yes":
        files[earlier] = new_site(first_stage(answers)).encode()
    write(files, force)
    verdict = judge(source.site)
    stage = str(earlier) if len(files) > 1 else None
    finish(
        lambda: NewResult(
            file=str(path), first_stage=stage, answers=answers, check=check_result(verdict, source.line, str(path))
        ),
        lambda: chain(
            check_body(verdict, Shown(str(path), source.line, usual_names)), new_view(answers, str(path), stage)
        ),
        form,
    )
    raise typer.Exit(of_verdict(verdict.verdict))


def _learnt(files: Iterable[Path]) -> dict[str, Learnt]:
    """What kept surveys and visits answer. Raises BadInput."""
    read = {str(each): read_seen_of_site(each) for each in files}
    surveys = [(name, survey) for name, (survey, _) in read.items() if survey is not None]
    visits = [(name, facts) for name, (_, several) in read.items() for facts in several]
    return learnt_of(surveys, visits)


def _free(stem: str, asked: bool) -> Path:
    """A file named after the site; after many answers one that is not there yet, so that none is lost."""
    numbers = ["", *(f"-{i}" for i in range(2, 1000))] if asked else [""]
    paths = [Path(f"{stem}{number}.site.yaml") for number in numbers]
    return next((each for each in paths if not os.path.lexists(each)), paths[0])


def _slug(name: str) -> str:
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-") or "new"


def _site_of_answers(name: str, text: str) -> SiteFile:
    """The site as it will be read. Raises BadParameter where the answers contradict each other."""
    try:
        return parse_site(name, text)
    except BadInput as error:
        reasons = "; ".join(each.message for each in error.problems)
        raise typer.BadParameter(f"these answers do not fit together: {reasons}") from None


def _answers(given: Mapping[str, str], ask: bool, defaults: bool, learnt: Mapping[str, Learnt]) -> dict[str, str]:
    """An answer to every question that applies: what was given, what is typed, or what is proposed.

    One step back takes the last answer that was typed, and those that followed from it.
    """
    every = [_with_learnt(each, learnt) for each in shipped_questions()]
    answers: dict[str, str] = {}
    at, typed_at = 0, list[int]()
    while at < len(every):
        question = every[at]
        option = _option_of(question.key)
        if not question.applies(answers):
            if question.key in given:
                settled = [f"{_option_of(key)} {each}" for key, each in question.settled_by(answers).items()]
                raise typer.BadParameter(f"{option} has no meaning with {' and '.join(settled)}")
        elif question.key in given:
            answers[question.key] = _taken_answer(question, option, given[question.key], answers)
        elif ask:
            answer = _ask(question, answers, bool(typed_at))
            if answer is None:
                at = typed_at.pop()
                for later in every[at:]:
                    answers.pop(later.key, None)
                continue
            answers[question.key] = answer
            typed_at.append(at)
        else:
            answers[question.key] = _proposed(question, option, answers, defaults)
        at += 1
    return answers


def _option_of(key: str) -> str:
    return f"--{key.replace('_', '-')}"


def _with_learnt(question: Question, learnt: Mapping[str, Learnt]) -> Question:
    """The question with what was seen as its proposal, where that is an answer to it."""
    seen = learnt.get(question.key)

    def propose(answers: Answers) -> str:
        with suppress(ValueError):
            return question.taken(seen.answer, answers) if seen else question.propose(answers)
        return question.propose(answers)

    return question if seen is None else replace(question, propose=propose)


def _taken_answer(question: Question, option: str, text: str, answers: Answers) -> str:
    try:
        return question.taken(text, answers)
    except ValueError as error:
        raise typer.BadParameter(f"{option}: {error}") from None


def _proposed(question: Question, option: str, answers: Answers, defaults: bool) -> str:
    """The proposal of a question that nobody is asked; with ``defaults`` something to be replaced where there is
    none. Raises BadParameter."""
    try:
        proposal = question.propose(answers)
    except ValueError as error:
        raise typer.BadParameter(f"{option} is needed: {error}") from None
    if not proposal and defaults:
        proposal = question.words.unasked
    if not proposal:
        raise typer.BadParameter(f"{option} is needed: {question.words.text[0].lower()}{question.words.text[1:]}")
    return proposal


def _ask(question: Question, answers: Answers, can_go_back: bool) -> str | None:
    """Ask until the answer can be read; an empty one takes what is proposed. None is one step back."""
    try:
        proposal = question.propose(answers)
    except ValueError as error:
        proposal = ""
        tell([Text(f"  {error}", style=STOPS)])
    tell(["", Text(question.words.text, style=STRONG), *question_lines(question, answers)])
    while True:
        tell([Text.assemble("  ", (f"[{proposal}] " if proposal else "", ACCENT), "›")], end=" ")
        line = _read_line()
        if line == "?":
            tell([*more_lines(question, can_go_back)])
            continue
        if line == "<":
            if can_go_back:
                return None
            tell([Text("  this is the first question", style=STOPS)])
            continue
        try:
            answer = question.taken(line or proposal, answers)
        except ValueError as error:
            tell([Text(f"  {error}", style=STOPS)])
            continue
        if note := remark(question.key, answer):
            tell([remark_line(note)])
        return answer


def _read_line() -> str:
    """One line of the terminal. Raises BadParameter at its end."""
    try:
        return input().strip()
    except EOFError:
        raise typer.BadParameter("the answers ended before the last question; nothing was written") from None
