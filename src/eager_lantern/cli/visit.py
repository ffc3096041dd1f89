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
from enum import StrEnum
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.console import RenderableType

from .. import __version__
from ..core.addresses import Address
from ..core.ladder import Rung
from ..core.outlook import Outlook
from ..core.ports import PortSet
from ..core.site import Mode
from ..files.problem import BadInput, InputProblem
from ..files.results import as_json, visit_result
from ..files.site_file import find_site_file, read_site
from ..files.written import write_new, write_over
from ..live.here import HERE
from ..live.login_gate import LoginGate
from ..live.place_name import checked_place
from ..live.plan import Plan
from ..live.secret import NoPassword, Secret, password_for
from ..live.standpoint import Standpoint
from ..views.places_view import places_view
from ..views.visit_view import visit_view, visits_view
from . import completion
from .lamp_sweep import sweep_lamp
from .options import Format, SessionMode, example
from .output import emit, show
from .places import seen_from
from .visits import Wanted, visits_of

app = typer.Typer(add_completion=False, rich_markup_mode=None)
CANNOT_TELL = 3
IMPLICIT_PORT = 990


Login = tuple[Secret, LoginGate]
"""The password of an account, and who may try it."""


class Transfer(StrEnum):
    """The protocol of a session with a host."""

    ftp = "ftp"
    sftp = "sftp"


PORTS = {Transfer.ftp: 21, Transfer.sftp: 22}


class Security(StrEnum):
    """How the session is protected."""

    none = "none"
    explicit = "explicit"
    implicit = "implicit"


@app.command(epilog=example("eager-lantern visit tides.saltmarsh.example --user station", "--mode passive"))
def visit(
    target: Annotated[str, typer.Argument(help="A host name or address, or a site file.")] = "",
    client: Annotated[
        str,
        typer.Option(
            help="With a site: the client whose place and habits to take.", autocompletion=completion.own_clients
        ),
    ] = "",
    service: Annotated[
        str, typer.Option(help="With a site: the service; default: the only one.", autocompletion=completion.services)
    ] = "",
    protocol: Annotated[Transfer, typer.Option(help="With a host: FTP, or file transfer over SSH.")] = Transfer.ftp,
    user: Annotated[str, typer.Option(help="The account; default: the client's in the site, else anonymous.")] = "",
    mode: Annotated[SessionMode | None, typer.Option(help="Default: the client's first mode, else passive.")] = None,
    security: Annotated[Security | None, typer.Option(help="Default: the service's, else explicit TLS.")] = None,
    port: Annotated[int | None, typer.Option(min=1, max=65535, help="The control port.")] = None,
    at: Annotated[str, typer.Option(help="Connect to this address instead of looking the name up.")] = "",
    extended: Annotated[bool | None, typer.Option(help="EPSV and EPRT instead of PASV and PORT.")] = None,
    follow_announced: Annotated[bool, typer.Option(help="Follow a passive reply to another host.")] = False,
    active_address: Annotated[str, typer.Option(help="The address to name in active mode.")] = "",
    active_ports: Annotated[str, typer.Option(help="The ports to wait on in active mode.")] = "",
    trust: Annotated[Path | None, typer.Option(readable=False, help="A certificate file (PEM) to trust.")] = None,
    any_certificate: Annotated[bool, typer.Option(help="Do not examine the certificate or host key.")] = False,
    host_key: Annotated[str, typer.Option(help="The fingerprint that SSH is to show, as SHA256:….")] = "",
    closely: Annotated[
        bool, typer.Option("--closely", help="Look closely at TLS or SSH: certificate, key, reuse, algorithms.")
    ] = False,
    range_connections: Annotated[
        int, typer.Option("--range", min=0, max=16, help="Find the range of data ports on so many connections.")
    ] = 0,
    rights: Annotated[bool, typer.Option("--rights", help="Try what the account may do, and where.")] = False,
    caution: Annotated[bool, typer.Option("--caution", help="Try whom it connects to and takes data from.")] = False,
    from_: Annotated[
        list[str] | None,
        typer.Option("--from", help="Visit from ssh://USER@HOST instead, which needs Python 3.9; may be repeated."),
    ] = None,
    wrong_logins: Annotated[
        int,
        typer.Option(min=0, max=20, help="So many wrong logins as nobody: does it slow? May bar this address."),
    ] = 0,
    lamp: Annotated[bool, typer.Option("--lamp", help="Sweep a lit lamp instead of a session.")] = False,
    list_only: Annotated[bool, typer.Option(help="Send and fetch nothing.")] = False,
    timeout: Annotated[float, typer.Option(min=0.1, max=600, help="Seconds for each rung.")] = 10,
    save: Annotated[Path | None, typer.Option(help="Keep the result (JSON) in this file, for check --seen.")] = None,
    force: Annotated[bool, typer.Option("--force", help="Replace a file that is there already.")] = False,
    form: Annotated[Format, typer.Option("--format", help="text for people, json for programs.")] = Format.text,
) -> None:
    """Run a real session, rung by rung.

    Connect, greet, secure, login, list, send, fetch, tidy.

    Of a site: every promise of the client that stands here (or of --client), one after the other.
    From several places (--from here --from ssh://pilot@skerry.saltmarsh.example) all at once, a column each.
    The password comes from EAGER_LANTERN_PASSWORD, from ~/.netrc or from a prompt. What is
    sent is removed again. Exit code 0: works, 1: does not, 2: bad usage, 3: cannot be told.
    """
    names = _places(from_ or [HERE.name])
    source = read_site(find_site_file(Path(target) if target else None)) if _names_site(target) else None
    if source is None and (client or service):
        raise typer.BadParameter(f"--client and --service belong to a site file, and {target} is none")
    if source is None and protocol is Transfer.sftp and (caution or range_connections):
        raise typer.BadParameter("--range and --caution are about data connections, which SSH file transfer has not")
    if lamp:
        if source is None or len(names) > 1:
            raise typer.BadParameter("--lamp sweeps the lamp of a site, from one place")
        sweep_lamp(source, client, service, at, names[0], timeout, form)
    ports = {"port": IMPLICIT_PORT} if security is Security.implicit and source is None else {}
    try:
        options = _chosen(
            announced="follow" if follow_announced else None,
            trusts=_certificates(trust),
            address=str(Address.parse(at)) if at else None,
            security=security.value if security else None,
            mode=_mode(mode),
            extended=extended,
            active_address=str(Address.parse(active_address)) if active_address else None,
            active_ports=PortSet.parse(active_ports) if active_ports else None,
            any_certificate=any_certificate,
            looks_closer=closely,
            tries_rights=rights,
            tries_caution=caution,
            login_tries=wrong_logins,
            host_key=host_key or None,
            range_connections=range_connections,
            timeout=timeout,
            writes=not list_only,
            user=user or None,
            **({"port": port} if port else ports),
        )
    except ValueError as error:
        raise typer.BadParameter(str(error)) from None
    accounts: dict[str, Login] = {}

    async def prepared(place: Standpoint) -> list[Wanted]:
        wanted = (
            await visits_of(source.site, client, service, _mode(mode), place)
            if source
            else [_host(target, protocol, place.name)]
        )
        return _guessed_once([_ready(each, options | {"standpoint": place}, accounts) for each in wanted])

    places = asyncio.run(seen_from(names, prepared, _progress(len(names) > 1)))
    result = visit_result(places, {"time": _now(), "host": platform.node(), "tool": __version__})
    if save is not None:
        (write_over if force else write_new)({save: as_json(result).encode()})
    if form is Format.json:
        emit(as_json(result))
    else:
        show(_view(places))
    raise typer.Exit(_code(places))


def _view(places: Sequence[Outlook]) -> Iterator[RenderableType]:
    climbs = places[0].climbs
    if len(places) > 1 or not climbs:
        return places_view(places)
    return visit_view(climbs[0]) if len(climbs) == 1 else visits_view(climbs)


def _places(names: Sequence[str]) -> list[str]:
    """Each place once. Raises BadParameter for what is none."""
    try:
        return list(dict.fromkeys(each if each == HERE.name else checked_place(each) for each in names))
    except ValueError as error:
        raise typer.BadParameter(f"--from: {error}") from None


def _code(places: Sequence[Outlook]) -> int:
    kept = {climb.kept for place in places for climb in place.climbs} | {None for place in places if place.trouble}
    return 1 if False in kept else CANNOT_TELL if None in kept else 0


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="seconds")


def _mode(mode: SessionMode | None) -> Mode | None:
    return None if mode is None else "active" if mode is SessionMode.active else "passive"


def _ready(wanted: Wanted, options: dict[str, Any], accounts: dict[str, Login]) -> Wanted:
    """A visit with the options on top, and the password, which is asked for once an account. Raises BadParameter."""
    plan = replace(wanted.plan, **options)
    if wanted.act != "knock":
        if plan.user not in accounts:
            accounts[plan.user] = _password(plan), LoginGate()
        password, gate = accounts[plan.user]
        plan = replace(plan, password=password, gate=gate)
    return replace(wanted, plan=plan)


def _password(plan: Plan) -> Secret:
    try:
        return password_for(plan.name, plan.user)
    except NoPassword as error:
        raise typer.BadParameter(str(error)) from None


def _guessed_once(wanted: Sequence[Wanted]) -> list[Wanted]:
    """Wrong logins for the first visit of each service only."""
    known: set[tuple[str, int]] = set()
    found = []
    for each in wanted:
        tries = each.plan.login_tries if (key := (each.plan.service, each.plan.port)) not in known else 0
        known.add(key)
        found.append(replace(each, plan=replace(each.plan, login_tries=tries)))
    return found


def _chosen(**options: Any) -> dict[str, Any]:
    """The options that were given."""
    return {name: value for name, value in options.items() if value is not None}


def _names_site(target: str) -> bool:
    return not target or target.endswith((".yaml", ".yml")) or os.path.isfile(target)  # noqa: PTH113


def _host(name: str, protocol: Transfer, place: str) -> Wanted:
    """A visit without a site file."""
    plan = Plan(name=name, port=PORTS[protocol], user="anonymous", password=Secret(""), client=place)
    return Wanted(plan, "ssh" if protocol is Transfer.sftp else "session")


def _certificates(path: Path | None) -> Path | None:
    """The file to trust. Raises BadInput when it holds no certificate."""
    if path is None:
        return None
    try:
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
