"""``visit``: a real session, rung by rung."""

import asyncio
import os
import sys
import time
from collections.abc import Awaitable, Callable, Iterator, Sequence
from dataclasses import replace
from functools import cache
from itertools import chain
from pathlib import Path
from typing import NoReturn

import typer
from rich.console import RenderableType

from ..core.findings.finding import Finding
from ..core.findings.surveyed import survey_findings
from ..core.observed.compared import Outlook
from ..core.values.addresses import UNKNOWN_TEXT, address_or_none
from ..core.values.outcomes import Rung
from ..formats.results.base import as_json
from ..formats.results.check import finding_result
from ..formats.results.kept import read_survey
from ..formats.results.visit import visit_result
from ..formats.shipped import shipped_advice
from ..formats.site.site_file import PATTERN, SiteFile, find_site_file, read_site
from ..formats.writing import write, writes
from ..live.common.secret import Secret
from ..live.common.visit_plan import Credentials, Target, VisitPlan
from ..live.vantage.base import Vantage
from ..views.screen import ACCENT, command, command_line
from ..views.survey import beside_site_view
from ..views.visit import places_view, visit_view, visits_view, ways_view
from ..wire.terminal_safe import printable
from .arguments.options import example, with_option_groups
from .arguments.visit_options import (
    Bounds,
    DataChoice,
    Keeping,
    LooksWanted,
    Protection,
    SecurityOptions,
    VisitDestination,
    only_ssh,
    typed_host,
)
from .exit_codes import of_kept
from .finish import finish
from .lamp_sweep import sweep_lamp
from .taken import taken_now
from .visits import Login, Options, WantedVisits, ready, seen_from, visits_of

app = typer.Typer(add_completion=False, rich_markup_mode=None)
FTP_PORT, IMPLICIT_PORT, SSH_PORT = 21, 990, 22


@app.command(epilog=example("eager-lantern visit tides.saltmarsh.example --user station", "--mode passive"))
@with_option_groups
def visit(
    destination: VisitDestination,
    protection: Protection,
    data: DataChoice,
    looks: LooksWanted,
    bounds: Bounds,
    keeping: Keeping,
) -> None:
    """Run a real session, rung by rung.

    Connect, greet, secure, login, list, send, fetch, tidy.

    Of a site: every promise of the client that stands here (or of --client), one after the other.
    From several places (--from here --from ssh://pilot@skerry.saltmarsh.example) all at once, a column each.
    The password comes from EAGER_LANTERN_PASSWORD, from ~/.netrc or from a prompt. What is
    sent is removed again. Exit code 0: works, 1: does not, 2: bad usage, 3: cannot tell.
    """
    source = read_site(_site_file(destination.target)) if _names_site(destination.target) else None
    if source is None:
        _fits_a_host(destination, protection, looks)
    if destination.sftp:
        _fits_ssh(source, (protection, data, looks))
    if keeping.carry is not None:
        _carry(source, destination, looks, keeping, keeping.carry)
    options: Options = {
        "target": destination.of_target(),
        "credentials": destination.of_credentials(),
        "security": protection.of_security(),
        "data": data.of_data(),
        "looks": looks.of_looks(),
        "limits": bounds.of_limits(),
    }
    if source is not None and looks.lamp:
        sweep_lamp(
            source, destination.client, destination.service, destination.at, destination.places, bounds.timeout, keeping
        )
    if keeping.save is not None:
        writes(keeping.save, keeping.force)

    async def wanted_at(place: Vantage) -> list[WantedVisits]:
        if source is None:
            return [_host_without_site(destination, protection.security, place.name)]
        wanted = await visits_of(source.site, destination.client, destination.service, data.wanted_mode, place)
        if not destination.at and any(
            UNKNOWN_TEXT in (each.plan.target.name, str(each.plan.target.address)) for each in wanted
        ):
            raise typer.BadParameter(f"{source.file} has a ? for the address to visit: put it in, or give it by --at")
        return wanted

    parts = _survey_differences(source, keeping.survey)
    places = asyncio.run(_climbed(destination.places, wanted_at, options, source is not None))
    _save_and_show(places, keeping, source, parts)
    raise typer.Exit(_visit_code(places))


async def _climbed(
    names: Sequence[str],
    wanted_at: Callable[[Vantage], Awaitable[list[WantedVisits]]],
    options: Options,
    of_site: bool,
) -> list[Outlook]:
    """The visits of all places, each account's password asked for once."""
    accounts: dict[str, Login] = {}
    noticed = cache(lambda text: print(f"eager-lantern: {text}", file=sys.stderr))

    async def prepared(place: Vantage) -> list[WantedVisits]:
        wanted = [replace(each, plan=replace(each.plan, notice=noticed)) for each in await wanted_at(place)]
        return _guessed_once([ready(each, options, place, accounts, of_site) for each in wanted])

    return await seen_from(names, prepared, _progress(len(names) > 1))


def _carry(
    source: SiteFile | None, destination: VisitDestination, looks: LooksWanted, keeping: Keeping, path: Path
) -> NoReturn:
    """A probe instead of a visit. Raises Exit, BadInput and BadParameter."""
    if source is None:
        raise typer.BadParameter(f"--carry: a probe is of a site file, and {printable(destination.target)} is none")
    beside = {"--from": destination.from_, "--lamp": looks.lamp, "--save": keeping.save, "--survey": keeping.survey}
    if names := [name for name, value in beside.items() if value]:
        raise typer.BadParameter(f"{' and '.join(names)}: of a visit from here, and --carry writes one for elsewhere")
    from .carry import carry_probe  # few visits need it

    carry_probe(source, destination.client, destination.service, destination.at, path, keeping.force, keeping.form)


def _fits_a_host(destination: VisitDestination, protection: Protection, looks: LooksWanted) -> None:
    """Raises BadParameter for what only a site file has, or only SSH."""
    host = typed_host(destination.target)
    if destination.client or destination.service:
        raise typer.BadParameter(f"--client and --service belong to a site file, and {host} is none")
    if looks.lamp:
        raise typer.BadParameter(f"--lamp sweeps the lamp of a site, and {host} is no site file")
    if protection.host_key and not destination.sftp:
        raise typer.BadParameter("--host-key is of SSH, and this visit is FTP; is --sftp meant?")


def _fits_ssh(source: SiteFile | None, groups: Sequence[Protection | DataChoice | LooksWanted]) -> None:
    """Raises BadParameter where --sftp states nothing, or beside what only FTP has."""
    if source is not None:
        raise typer.BadParameter(f"--sftp: {source.file} states the protocol of each service; leave it out")
    only_ssh(groups)


def _survey_differences(source: SiteFile | None, kept: Path | None) -> tuple[Finding, ...] | None:
    """Where a kept survey parts from the site; None without one. Raises BadInput and BadParameter."""
    if kept is None:
        return None
    if source is None:
        raise typer.BadParameter("--survey is held against a site file, and none was named")
    return survey_findings(source.site, read_survey(kept).survey)


def _save_and_show(
    places: Sequence[Outlook], keeping: Keeping, source: SiteFile | None, parts: tuple[Finding, ...] | None
) -> None:
    """Keep the result where that is wanted, and show it; ``parts`` is where a survey parts from the site."""
    file = source.file if source is not None else ""
    found = [finding_result(each, source.line, file) for each in parts] if source and parts is not None else None
    result = visit_result(places, taken_now(), found)
    if keeping.save is not None:
        write({keeping.save: as_json(result).encode()}, keeping.force)
    extras = chain([""], beside_site_view(parts, file)) if parts is not None else ()
    finish(
        lambda: result, lambda: chain(_view(places), extras, _why_it_fails_command(places, keeping, file)), keeping.form
    )


def _view(places: Sequence[Outlook]) -> Iterator[RenderableType]:
    climbs = places[0].climbs
    if len(places) > 1 or not climbs:
        return places_view(places)
    return chain(visit_view(climbs[0]) if len(climbs) == 1 else visits_view(climbs), ways_view(places))


def _why_it_fails_command(places: Sequence[Outlook], keeping: Keeping, file: str) -> Iterator[RenderableType]:
    """What to type to learn why it fails."""
    if any(climb.kept is False for place in places for climb in place.climbs):
        saved = str(keeping.save) if keeping.save is not None else "FILE"
        how = "" if keeping.save is not None else "keep this with --save FILE, then "
        yield ""
        yield command(f"Next: {how}{command_line('diagnose', *filter(None, [file]), '--seen', saved)}", ACCENT)


def _visit_code(places: Sequence[Outlook]) -> int:
    kept = {climb.kept for place in places for climb in place.climbs} | {None for place in places if place.trouble}
    return of_kept(kept)


def _guessed_once(wanted: Sequence[WantedVisits]) -> list[WantedVisits]:
    """Wrong logins for the first visit of each service only."""
    known: set[tuple[str, int]] = set()
    found = []
    for each in wanted:
        tries = (
            each.plan.looks.login_tries
            if (key := (each.plan.target.service, each.plan.target.port)) not in known
            else 0
        )
        known.add(key)
        looks = replace(each.plan.looks, login_tries=tries)
        found.append(replace(each, plan=replace(each.plan, looks=looks)))
    return found


def _site_file(target: str) -> Path:
    """The site file that is meant. Raises BadInput, and BadParameter where nothing is."""
    if not target and not any(Path().glob(PATTERN)):
        raise typer.BadParameter("name a host or a site file, as in: eager-lantern visit tides.example --user NAME")
    return find_site_file(Path(target) if target else None)


def _names_site(target: str) -> bool:
    return not target or target.endswith((".yaml", ".yml")) or os.path.isfile(target)  # noqa: PTH113


def _is_this_host(name: str) -> bool:
    """Whether a name or address stands for the machine here, whatever that is."""
    address = address_or_none(name.strip("[]"))
    return name.lower() == "localhost" or (address is not None and address.kind == "loopback")


def _host_without_site(destination: VisitDestination, security: SecurityOptions | None, place: str) -> WantedVisits:
    """A visit without a site file. Raises BadParameter."""
    implicit = not destination.sftp and security is SecurityOptions.implicit
    port = IMPLICIT_PORT if implicit else SSH_PORT if destination.sftp else FTP_PORT
    target = Target(typed_host(destination.target), port, client=place)
    advice = shipped_advice().on_server() if _is_this_host(target.name) else shipped_advice()
    plan = VisitPlan(target, Credentials("anonymous", Secret("")), advice=advice)
    return WantedVisits(plan, "ssh" if destination.sftp else "session")


def _progress(several: bool) -> Callable[[str, Rung], None]:
    """Tell on a terminal which rung is under way where, once a visit takes more than a second."""
    started = time.monotonic()

    def tell(place: str, rung: Rung) -> None:
        if sys.stderr.isatty() and time.monotonic() - started > 1:
            print(f"visiting{f' from {place}' if several else ''}: {rung} …", file=sys.stderr)

    return tell
