"""``survey``: what this host, its network and its outside look like."""

import asyncio
from collections.abc import Sequence
from contextlib import AsyncExitStack
from pathlib import Path
from typing import Annotated

import typer

from ..core.findings.surveyed import survey_findings
from ..core.model.entries import Typed
from ..core.model.site import system_accounts
from ..core.observed.compared import Outlook
from ..core.observed.conclusions import conclusions
from ..core.observed.survey import Survey
from ..core.values.addresses import Address
from ..formats.results.base import as_json
from ..formats.results.observations import reached_at
from ..formats.results.survey import survey_result
from ..formats.site.site_file import PATTERN, SiteFile, find_site_file, read_site
from ..formats.writing import write, writes
from ..live.survey.survey import SurveyPlan, survey
from ..live.vantage.far import FarVantage
from ..live.vantage.local import HERE
from ..views.screen import command_line
from ..views.survey import survey_view
from ..wire.ftp import Endpoint
from .arguments.options import Forced, Format, SiteArgument, Written, example, parsed
from .arguments.sites import the_place
from .ending import tell
from .exit_codes import BROKEN, CANNOT_TELL, KEPT
from .finish import finish
from .taken import taken_now
from .visits import reached

app = typer.Typer(add_completion=False, rich_markup_mode=None)
STUN_PORT = 3478


@app.command(epilog=example("eager-lantern survey saltmarsh.site.yaml --save survey.json"))
def survey_command(
    site: SiteArgument = None,
    from_: Annotated[
        str, typer.Option("--from", help="Survey that host instead: ssh://USER@HOST; nothing is installed there.")
    ] = "here",
    router: Annotated[str, typer.Option(help="The router to ask; default: the default gateway.")] = "",
    name: Annotated[list[str] | None, typer.Option(help="A published name; default: those of the site file.")] = None,
    resolver: Annotated[str, typer.Option(help="The resolver to ask; default: the system's first.")] = "",
    stun: Annotated[list[str] | None, typer.Option(help="A STUN server outside, as HOST or HOST:PORT.")] = None,
    seen_by: Annotated[
        list[str] | None, typer.Option(help="A host of yours outside, ssh://USER@HOST, that sees this one.")
    ] = None,
    seen: Annotated[
        list[Path] | None,
        typer.Option(readable=False, help="A visit from outside, or its sweep over the lamp, kept with --save."),
    ] = None,
    even_private: Annotated[
        bool, typer.Option("--even-private", help="Ask servers of names at private and similar addresses as well.")
    ] = False,
    save: Annotated[Path | None, typer.Option(help="Keep the result in this file.")] = None,
    force: Forced = False,
    form: Written = Format.text,
) -> None:
    """See what is there: this host, its network, its outside.

    On the server or on a client; with a site file, what differs from it. Only the router is asked without being named,
    and nothing is changed; for PCP a mapping is made and removed, which is printed before. What is unknown is listed
    with where to look.

    Exit code 0: nothing hinders, 1: something does, 2: bad input, 3: the place cannot be reached.
    """
    if seen_by and from_ != HERE.name:
        raise typer.BadParameter("--seen-by is asked from here, and this survey is of another host")
    source = _site_here(site)
    if save is not None:
        writes(save, force)
    wanted = SurveyPlan(
        router=parsed(Address, "--router", router) if router else None,
        stun=tuple(_endpoint(each) for each in stun or ()),
        names=tuple(name or (each.name for each in (source.site.names if source else ()))),
        resolver=parsed(Address, "--resolver", resolver) if resolver else None,
        known=tuple(each for path in seen or () for each in reached_at(path)),
        even_private=even_private,
        accounts=tuple(each.name for each in system_accounts(source.site)) if source else (),
    )
    vantage, observers = the_place("--from", from_), [the_place("--seen-by", each) for each in seen_by or ()]
    found = asyncio.run(_run_survey(vantage, observers, wanted))
    result = survey_result(found, from_, taken_now())
    if save is not None:
        write({save: as_json(result).encode()}, force)
    parts = survey_findings(source.site, found) if source else ()
    file = source.file if source else ""
    finish(lambda: result, lambda: survey_view(found, parts, file, _next_command(file, save)), form)
    hinders = any(each.good is False for each in conclusions(found)) or any(each.severity == "breaks" for each in parts)
    raise typer.Exit(BROKEN if hinders else KEPT)


def _site_here(site: Path | None) -> SiteFile | None:
    """The site file that is named, or the only one that lies here."""
    alone = site is None and len(list(Path().glob(PATTERN))) == 1
    return read_site(find_site_file(site)) if site is not None or alone else None


def _endpoint(text: str) -> Endpoint:
    """A STUN server as it is typed. Raises BadParameter."""
    meant = parsed(Typed, "--stun", text)
    return Endpoint(str(meant.host), meant.port.number if meant.port is not None else STUN_PORT)


async def _run_survey(place: str, observers: Sequence[str], wanted: SurveyPlan) -> Survey:
    async with AsyncExitStack() as opened:
        vantage, *others = await reached([place, *observers], opened)
        for each in (vantage, *others):
            if isinstance(each, Outlook):
                tell([f"eager-lantern: {each.name} is {each.trouble}"])
        if isinstance(vantage, Outlook):
            raise typer.Exit(CANNOT_TELL)
        seeing = [each for each in others if isinstance(each, FarVantage)]
        return await survey(vantage, wanted, seeing, lambda line: tell([line]))


def _next_command(file: str, save: Path | None) -> str:
    """What to type with it."""
    kept = str(save) if save is not None else "FILE"
    how = "" if save is not None else "keep this with --save FILE, then "
    return how + (command_line("check", file, "--survey", kept) if file else command_line("adopt", kept))
