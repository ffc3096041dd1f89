"""``visit``: a real session, rung by rung."""

import asyncio
import os
import ssl
import sys
import time
from collections.abc import Callable
from dataclasses import replace
from enum import StrEnum
from pathlib import Path
from typing import Annotated, Any, TypeVar

import typer

from ..core.addresses import Address
from ..core.consistency import did_you_mean
from ..core.ladder import Climb, Rung
from ..core.ports import PortSet
from ..core.session import stand_of, targets
from ..core.site import Client, Service, Site
from ..core.topology import Topology
from ..files.problem import BadInput, InputProblem
from ..files.results import as_json, visit_result
from ..files.site_file import find_site_file, read_site
from ..live.plan import Plan
from ..live.secret import NoPassword, Secret, password_for
from ..live.visit import visit as climb_once
from ..views.visit_view import visit_view
from . import completion
from .options import Format, SessionMode, example
from .output import emit, show

app = typer.Typer(add_completion=False, rich_markup_mode=None)
EXIT_CODES = {"works": 0, "partly": 1, "fails": 1, "unknown": 3}
FTP_PORT, IMPLICIT_PORT = 21, 990
Named = TypeVar("Named", Client, Service)


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
    any_certificate: Annotated[bool, typer.Option(help="Do not examine the certificate.")] = False,
    list_only: Annotated[bool, typer.Option(help="Send and fetch nothing.")] = False,
    timeout: Annotated[float, typer.Option(min=0.1, max=600, help="Seconds for each rung.")] = 10,
    form: Annotated[Format, typer.Option("--format", help="text for people, json for programs.")] = Format.text,
) -> None:
    """Run a real session, rung by rung.

    Connect, greet, secure, login, list, send, fetch, tidy.

    The password comes from EAGER_LANTERN_PASSWORD, from ~/.netrc or from a prompt. What is
    sent is removed again. Exit code 0: works, 1: does not, 2: bad usage, 3: cannot be told.
    """
    base = _plan_for_site(target, client, service) if _names_site(target) else _plan_for_host(target, client or service)
    implicit = security is Security.implicit and not base.service
    try:
        plan = replace(
            base,
            user=user or base.user,
            password=password_for(base.name, user or base.user),
            announced="follow" if follow_announced else "report",
            any_certificate=any_certificate,
            trusts=_certificates(trust),
            timeout=timeout,
            writes=not list_only,
            **_chosen(
                port=port or (IMPLICIT_PORT if implicit else None),
                address=str(Address.parse(at)) if at else None,
                security=security.value if security else None,
                mode=mode.value if mode else None,
                extended=extended,
                active_address=str(Address.parse(active_address)) if active_address else None,
                active_ports=PortSet.parse(active_ports) if active_ports else None,
            ),
        )
    except (ValueError, NoPassword) as error:
        raise typer.BadParameter(str(error)) from None
    climb = asyncio.run(climb_once(plan, _progress()))
    report(climb, form)
    raise typer.Exit(EXIT_CODES[climb.observed])


def report(climb: Climb, form: Format) -> None:
    """Write the result of a visit."""
    if form is Format.json:
        emit(as_json(visit_result([climb])))
    else:
        show(visit_view(climb))


def _chosen(**options: Any) -> dict[str, Any]:
    """The options that were given."""
    return {name: value for name, value in options.items() if value is not None}


def _names_site(target: str) -> bool:
    return not target or target.endswith((".yaml", ".yml")) or os.path.isfile(target)  # noqa: PTH113


def _plan_for_host(name: str, of_site: str) -> Plan:
    if of_site:
        raise typer.BadParameter(f"--client and --service belong to a site file, and {name} is none")
    return Plan(name=name, port=FTP_PORT, user="anonymous", password=Secret(""))


def _plan_for_site(target: str, client_name: str, service_name: str) -> Plan:
    """A session as one of the site's clients has it."""
    site = read_site(find_site_file(Path(target) if target else None)).site
    client = _named("client", client_name, site.clients)
    service = _named("service", service_name, tuple(each for each in site.services if each.protocol == "ftp"))
    topology = Topology(site)
    addresses = targets(topology, stand_of(topology, client.name))
    if not addresses:
        raise typer.BadParameter(f"the site file tells no address for {client.name} to reach")
    return Plan(
        name=client.reaches.name if client.reaches and client.reaches.name else str(addresses[0]),
        address=str(addresses[0]),
        port=service.control_port.number,
        user=_account(site, client, service),
        password=Secret(""),
        security=service.tls.mode,
        protects_data=service.tls.protects_data,
        mode=client.modes[0],
        extended=client.uses_epsv,
        active_address=str(client.active_address) if client.active_address else None,
        active_ports=client.active_ports,
        client=client.name,
        service=service.name,
    )


def _named(what: str, name: str, known: tuple[Named, ...]) -> Named:
    """The part of this name; without a name, the only one there is."""
    names = [each.name for each in known]
    if not name and len(known) == 1:
        return known[0]
    if not name:
        raise typer.BadParameter(f"--{what} is needed; this site has {', '.join(names) or 'none'}")
    if name not in names:
        raise typer.BadParameter(f"--{what}: there is no “{name}”{did_you_mean(name, names)}")
    return known[names.index(name)]


def _account(site: Site, client: Client, service: Service) -> str:
    """The first account that the site gives this client on this service."""
    fitting = (each.name for each in site.accounts if each.service == service.name and client.name in each.clients)
    return next(fitting, "anonymous")


def _certificates(path: Path | None) -> Path | None:
    """The file to trust. Raises BadInput when it holds no certificate."""
    if path is None:
        return None
    try:
        ssl.create_default_context(cafile=str(path))
    except OSError as error:
        raise BadInput(str(path), InputProblem(0, f"holds no certificate in PEM form: {error.strerror}")) from None
    return path


def _progress() -> Callable[[Rung], None]:
    """Tell on a terminal which rung is under way, once a visit takes more than a second."""
    started = time.monotonic()

    def tell(rung: Rung) -> None:
        if sys.stderr.isatty() and time.monotonic() - started > 1:
            print(f"visiting: {rung} …", file=sys.stderr)

    return tell
