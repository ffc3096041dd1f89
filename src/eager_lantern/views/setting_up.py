"""What the commands show that set up a site: `new`, `sheets`, `certificate`."""

from collections.abc import Collection, Iterator, Sequence
from pathlib import Path

from rich.console import RenderableType
from rich.text import Text

from ..core.interview.questions import Answers, Question, is_open
from ..core.sheets.all import Sheets
from ..core.sheets.sheet import loader_of, slug
from ..core.values.addresses import address_or_none
from ..core.values.ports import PortSet
from .screen import ACCENT, RISKS, STOPS, STRONG, UNTRIED, between, columns, command, command_line, indented


def question_lines(question: Question, answers: Answers) -> Iterator[RenderableType]:
    """What stands under a question: a line of explanation, and for a choice what each means."""
    yield indented(Text(question.words.explains, style=UNTRIED), 2)
    for key, meaning in question.choices(answers).items():
        table = columns(widths=(12, None))
        table.add_row(Text(f"  {key}", style=STRONG), Text(meaning))
        yield table


def more_lines(question: Question, can_go_back: bool) -> Iterator[RenderableType]:
    """What is told to who answers a question with one."""
    table = columns(widths=(2, None))
    table.add_row("", Text(question.words.more))
    back = "; < goes one step back" if can_go_back else ""
    table.add_row(
        "", Text(f"Enter takes what stands in brackets{back}; Ctrl-C ends it all, and writes nothing.", style=UNTRIED)
    )
    yield table


def remark_line(remark: str) -> RenderableType:
    """What is worth saying about an answer."""
    table = columns(widths=(3, None))
    table.add_row(Text("  ▲", style=RISKS), Text(remark))
    return table


def new_view(answers: Answers, file: str, first_stage: str | None) -> Iterator[RenderableType]:
    """What is open to the internet now, and the next step."""
    yield ""
    yield Text(f"Written: {file}", style=STRONG)
    yield Text(f"  {_what_opens(answers)}")
    if answers.get("outside") == "unknown":
        yield Text(
            "  ▲ The outside address is not known yet (? in the file): put in what the device shows.", style=RISKS
        )
    if answers.get("admin_from") == "unknown":
        yield Text("  ▲ From where you administer it is not known yet (? in the file): put it in.", style=RISKS)
    if first_stage is not None:
        yield Text(f"Written: {first_stage}", style=STRONG)
        yield Text("  The first stage: logins in clear, from the server's own network alone.")
        yield ""
        yield command(f"Next: {command_line('sheets', first_stage)}   what to enter first", ACCENT)
        yield command(f"Then: {command_line('compare', first_stage, file)}   the steps from there, in order", ACCENT)
        return
    yield ""
    yield command(
        f"Next: {command_line('sheets', file)}   what to enter on each device, in the order of the work", ACCENT
    )


def _what_opens(answers: Answers) -> str:
    if not is_open(answers):
        return "Nothing is open to the internet: a login in clear stays on the server's own network."
    control, data = answers.get("outside_port", answers["control_port"]), PortSet.parse(answers.get("ports", ""))
    if not data:
        return f"Open to the internet: port {control} alone."
    return f"Open to the internet: port {control}, and {data} for data: {1 + len(data)} ports."


def sheets_view(sheets: Sheets, folder: str, files: Sequence[str], stale: Sequence[str]) -> Iterator[RenderableType]:
    """The list of pages, the other files, and the next step; ``stale`` are files that an earlier run left there."""
    yield between(sheets.title, Text(f"{len(sheets.pages) - 1} pages in {folder}"), STRONG)
    if sheets.trouble:
        yield ""
        yield Text(f"◆ {sheets.trouble}", style=STOPS)
    yield ""
    pages = [each for each in files if each.endswith(".md")]
    table = columns(widths=(4, 34, 17, None), gap=1)
    for number, (each, page) in enumerate(zip(sheets.pages, pages, strict=True)):
        table.add_row(f"{number or '':4}", Text(each.name, style=STRONG), Text(each.kind), Text(page, style=UNTRIED))
    yield table
    yield ""
    rules = [each for each in files if each.endswith(".nft")]
    tables = sum(each.endswith(".csv") for each in files)
    yield Text(f"  {folder}/all-pages.html   all of them, to print on A4")
    yield Text(f"  {len(sheets.pages)} pages in Markdown, {tables} tables as CSV")
    for name in rules:
        yield Text(f"  {folder}/{name}   rules to load: nft -c -f checks them")
        yield Text(f"  {folder}/{loader_of(name)}   loads them with a way back: a lock-out heals itself")
    loaders = {loader_of(each) for each in rules}
    clouds = {slug(each.name) for each in sheets.pages if each.kind == "cloud filter"}
    for name in sorted(each for each in files if each.endswith((".sh", ".ps1")) and each not in loaders):
        yield Text(f"  {folder}/{name}   {_where(name, clouds)}")
    for name in (each for each in files if each.endswith(".conf")):
        yield Text(f"  {folder}/{name}   for that server's own file, if it is yours")
    if stale:
        yield Text(f"  ▲ left there by an earlier run, no part of these pages: {', '.join(stale)}", style=RISKS)
    yield ""
    if len(sheets.pages) == 1:
        yield Text("Nothing to enter: no page changes.", style=STRONG)
        return
    yield command(f"Next: print {folder}/all-pages.html and start with page 1", ACCENT)


def _where(script: str, clouds: Collection[str]) -> str:
    """Where a script is run."""
    if any(script.startswith(f"{each}.") for each in clouds):
        return "instead, where that provider's commands run"
    in_powershell = script.endswith(".ps1")
    return "in PowerShell, as administrator" if in_powershell else "instead, where that front end runs the filter"


def certificate_view(
    names: Sequence[str], key: Path, public: Path, digest: str | None, days: int, site: str
) -> Iterator[RenderableType]:
    """The files and the next steps; ``digest`` is that of a self-signed certificate."""
    what = "self-signed certificate" if digest else "signing request"
    yield Text(f"A private key and a {what}", style=STRONG)
    yield ""
    table = columns(widths=(14, None))
    table.add_row("  made for", Text(", ".join(names), style=STRONG))
    table.add_row("  private key", f"{key}   readable by you alone")
    table.add_row(f"  {'certificate' if digest else 'request'}", f"{public}")
    if digest:
        table.add_row("  valid", f"{days} days")
        pairs = spaced(digest)
        table.add_row("  fingerprint", Text(f"SHA-256 {pairs[:48]}\n        {pairs[48:]}"))
    yield table
    yield ""
    for number, step in enumerate(_steps(names, key, public, digest), start=1):
        line = columns(widths=(4, None))
        line.add_row(f"  {number}.", Text(step))
        yield line
    yield ""
    yield command(
        f"Next: {command_line('check', site, '--certificate', str(public) if digest else 'SIGNED.pem')}", ACCENT
    )


def spaced(digest: str) -> str:
    """A digest in pairs, as clients show it and as it can be read over the telephone."""
    upper = digest.upper()
    return ":".join(upper[i : i + 2] for i in range(0, len(upper), 2))


def _steps(names: Sequence[str], key: Path, public: Path, digest: str | None) -> Iterator[str]:
    if digest:
        yield f"On the server, enter {public.name} as certificate and {key.name} as key, and restart the service."
        yield f"Give {public.name} and its fingerprint to the users, who accept it once in their program."
    else:
        yield f"Send {public.name} to the authority that signs for your users; it holds nothing secret."
        if special := [each for each in names if (found := address_or_none(each)) and found.kind != "public"]:
            yield f"Public authorities sign no private address: for one, leave out {', '.join(special)} (--only-names)."
        yield f"On the server, enter what comes back as certificate and {key.name} as key, and restart the service."
    yield "In the site file, add certificate: and key: to the service's tls, so that check watches over them."
