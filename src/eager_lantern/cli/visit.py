"""``visit``: a real session, rung by rung."""

import asyncio
import os
import platform
import ssl
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from itertools import chain
from pathlib import Path

import typer
from rich.console import RenderableType

from .. import __version__
from ..core.compare.vantages import Outlook
from ..core.model.site import Mode
from ..core.values.addresses import Address
from ..core.values.outcomes import Rung
from ..core.values.ports import PortSet
from ..files.atomic_write import write, writes
from ..files.problem import BadInput, InputProblem
from ..files.regular_file import read_regular
from ..files.results.base import as_json
from ..files.results.visit import Taken, visit_result
from ..files.site_file import PATTERN, SiteFile, find_site_file, read_site
from ..live.common.secret import Secret
from ..live.common.visit_plan import Credentials, Target, VisitPlan
from ..live.vantage.address import checked_place
from ..live.vantage.base import Vantage
from ..live.vantage.local import HERE
from ..views.places_view import places_view, ways_view
from ..views.visit_view import visit_view, visits_view
from .arguments import visit_options as words
from .arguments.options import Forced, Format, SessionMode, Written, example
from .arguments.parse import parsed_or_none, set_only
from .arguments.typed_host import typed_host
from .exit_codes import of_kept
from .lamp_sweep import sweep_lamp
from .logins import Login, Options, ready
from .output import emit, show
from .places import seen_from
from .visits import Wanted, visits_of

app = typer.Typer(add_completion=False, rich_markup_mode=None)
IMPLICIT_PORT = 990
MOST_TRUSTED_BYTES = 10_000_000


@app.command(epilog=example("eager-lantern visit tides.saltmarsh.example --user station", "--mode passive"))
def visit(
    target: words.Target = "",
    client: words.ClientName = "",
    service: words.SiteService = "",
    sftp: words.OverSsh = False,
    user: words.User = "",
    mode: words.WithMode = None,
    security: words.WithSecurity = None,
    port: words.ControlPort = None,
    at: words.ConnectAt = "",
    extended: words.Extended = None,
    follow_announced: words.FollowAnnounced = False,
    active_address: words.ActiveAddress = "",
    active_ports: words.ActivePorts = "",
    trust: words.Trusted = None,
    any_certificate: words.AnyCertificate = False,
    host_key: words.HostKey = "",
    closely: words.Closely = False,
    range_connections: words.RangeConnections = 0,
    rights: words.Rights = False,
    caution: words.TriesCaution = False,
    from_: words.From = None,
    wrong_logins: words.WrongLogins = 0,
    lamp: words.SweepsLamp = False,
    list_only: words.ListOnly = False,
    timeout: words.Timeout = 10,
    save: words.Saved = None,
    force: Forced = False,
    form: Written = Format.text,
) -> None:
    """Run a real session, rung by rung.

    Connect, greet, secure, login, list, send, fetch, tidy.

    Of a site: every promise of the client that stands here (or of --client), one after the other.
    From several places (--from here --from ssh://pilot@skerry.saltmarsh.example) all at once, a column each.
    The password comes from EAGER_LANTERN_PASSWORD, from ~/.netrc or from a prompt. What is
    sent is removed again. Exit code 0: works, 1: does not, 2: bad usage, 3: cannot be told.
    """
    names = _places(from_ or [HERE.name])
    source = read_site(_site_file(target)) if _names_site(target) else None
    if source is None:
        _fits_a_host(typed_host(target), bool(client or service), lamp)
    if sftp:
        _fits_ssh(source, {
            "--mode": mode, "--security": security, "--extended": extended, "--follow-announced": follow_announced,
            "--active-address": active_address, "--active-ports": active_ports, "--trust": trust,
            "--find-range": range_connections, "--caution": caution,
        })  # fmt: skip
    elif source is None and host_key:
        raise typer.BadParameter("--host-key is of SSH, and this visit is FTP; is --sftp meant?")
    if mode is SessionMode.passive and (active_address or active_ports):
        raise typer.BadParameter("--active-address and --active-ports are of active mode, and --mode is passive")
    if source is not None and lamp:
        sweep_lamp(source, client, service, at, names, timeout, form)
    own_address = parsed_or_none(Address, "--active-address", active_address or None)
    address = parsed_or_none(Address, "--at", at or None)
    options: Options = {
        "target": set_only(port=port, address=str(address) if address else None),
        "credentials": set_only(user=user or None),
        "security": set_only(
            mode=security.value if security else None,
            trusts=_certificates(trust),
            any_certificate=any_certificate,
            host_key=host_key or None,
        ),
        "data": set_only(
            mode=_mode(mode),
            extended=extended,
            announced="follow" if follow_announced else None,
            active_address=str(own_address) if own_address else None,
            active_ports=parsed_or_none(PortSet, "--active-ports", active_ports or None),
        ),
        "looks": set_only(
            closely=closely,
            tries_rights=rights,
            tries_caution=caution,
            login_tries=wrong_logins,
            range_connections=range_connections,
        ),
        "limits": set_only(timeout=timeout, writes=not list_only),
    }
    if save is not None:
        writes(save, force)
    accounts: dict[str, Login] = {}

    async def prepared(place: Vantage) -> list[Wanted]:
        wanted = (
            await visits_of(source.site, client, service, _mode(mode), place)
            if source
            else [_host(target, sftp, security, place.name)]
        )
        return _guessed_once([ready(each, options, place, accounts, source is not None) for each in wanted])

    places = asyncio.run(seen_from(names, prepared, _progress(len(names) > 1)))
    _written(places, save, force, form)
    raise typer.Exit(_code(places))


def _fits_a_host(host: str, names_parts: bool, lamp: bool) -> None:
    """Raises BadParameter for what only a site file has."""
    if names_parts:
        raise typer.BadParameter(f"--client and --service belong to a site file, and {host} is none")
    if lamp:
        raise typer.BadParameter(f"--lamp sweeps the lamp of a site, and {host} is no site file")


def _fits_ssh(source: SiteFile | None, given: dict[str, object]) -> None:
    """Raises BadParameter where --sftp says nothing, or beside what only FTP has."""
    if source is not None:
        raise typer.BadParameter(f"--sftp: {source.file} says what its services speak; leave it out")
    if names := [name for name, value in given.items() if value]:
        raise typer.BadParameter(f"{' and '.join(names)}: of FTP, and this visit is SSH file transfer (--sftp)")


def _written(places: Sequence[Outlook], save: Path | None, force: bool, form: Format) -> None:
    """Keep the result where that is wanted, and show it."""
    result = visit_result(places, Taken(time=_now(), host=platform.node(), tool=__version__))
    if save is not None:
        write({save: as_json(result).encode()}, force)
    if form is Format.json:
        emit(as_json(result))
    else:
        show(_view(places))


def _view(places: Sequence[Outlook]) -> Iterator[RenderableType]:
    climbs = places[0].climbs
    if len(places) > 1 or not climbs:
        return places_view(places)
    return chain(visit_view(climbs[0]) if len(climbs) == 1 else visits_view(climbs), ways_view(places))


def _places(names: Sequence[str]) -> list[str]:
    """Each place once. Raises BadParameter for what is none."""
    try:
        return list(dict.fromkeys(each if each == HERE.name else checked_place(each) for each in names))
    except ValueError as error:
        raise typer.BadParameter(f"--from: {error}") from None


def _code(places: Sequence[Outlook]) -> int:
    kept = {climb.kept for place in places for climb in place.climbs} | {None for place in places if place.trouble}
    return of_kept(kept)


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="seconds")


def _mode(mode: SessionMode | None) -> Mode | None:
    return None if mode is None else "active" if mode is SessionMode.active else "passive"


def _guessed_once(wanted: Sequence[Wanted]) -> list[Wanted]:
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


def _host(typed: str, sftp: bool, security: words.Security | None, place: str) -> Wanted:
    """A visit without a site file. Raises BadParameter."""
    implicit = not sftp and security is words.Security.implicit
    port = IMPLICIT_PORT if implicit else words.SSH_PORT if sftp else words.FTP_PORT
    plan = VisitPlan(Target(typed_host(typed), port, client=place), Credentials("anonymous", Secret("")))
    return Wanted(plan, "ssh" if sftp else "session")


def _certificates(path: Path | None) -> Path | None:
    """The file to trust. Raises BadInput when it holds no certificate."""
    if path is None:
        return None
    try:
        read_regular(path, MOST_TRUSTED_BYTES)
        ssl.create_default_context(cafile=str(path))
    except OSError as error:
        raise BadInput(str(path), InputProblem(0, f"holds no certificate in PEM form: {error.strerror}")) from None
    return path


def _progress(several: bool) -> Callable[[str, Rung], None]:
    """Tell on a terminal which rung is under way where, once a visit takes more than a second."""
    started = time.monotonic()

    def tell(place: str, rung: Rung) -> None:
        if sys.stderr.isatty() and time.monotonic() - started > 1:
            print(f"visiting{f' from {place}' if several else ''}: {rung} …", file=sys.stderr)

    return tell
