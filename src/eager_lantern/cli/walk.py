"""``walk``: one connection, hop by hop."""

from enum import StrEnum
from typing import Annotated

import typer

from ..core.model.site import Mode, Service, Transport
from ..core.network.flow import Journey
from ..core.network.topology import Topology
from ..core.predict.forecast import ClientPosition
from ..core.predict.walk import NoSuchWalk, addresses_at, position_at, walk_control, walk_data, walk_session, walk_to
from ..formats.results.walk import walk_result
from ..formats.site.site_file import find_site_file, read_site
from ..views.walk import walk_view
from .arguments import completion
from .arguments.options import Format, ServiceName, SessionMode, SiteArgument, Written, example
from .arguments.sites import the_transfer
from .exit_codes import BROKEN, CANNOT_TELL, KEPT
from .finish import finish

app = typer.Typer(add_completion=False, rich_markup_mode=None)


class WalkRung(StrEnum):
    """Which connection of a session."""

    connect = "connect"
    data = "data"


class Protocol(StrEnum):
    """The transport of a connection."""

    tcp = "tcp"
    udp = "udp"


@app.command(
    epilog=example("eager-lantern walk --client field-station --service tide-exchange", "--rung data --port 61328")
)
def walk(
    site: SiteArgument = None,
    client: Annotated[
        str,
        typer.Option(help="A client, an address, or a network for anybody on it.", autocompletion=completion.clients),
    ] = "",
    service: ServiceName = "",
    mode: Annotated[SessionMode | None, typer.Option(help="Mode of the session; default: passive.")] = None,
    rung: Annotated[
        WalkRung | None, typer.Option(help="The control connection, or a data connection; default: as --port implies.")
    ] = None,
    to: Annotated[str, typer.Option(help="Any address, host, gateway or published name, instead of a service.")] = "",
    port: Annotated[int | None, typer.Option(min=1, max=65535, help="The port; for data, one of the range.")] = None,
    protocol: Annotated[Protocol | None, typer.Option(help="The transport; default: tcp.")] = None,
    from_port: Annotated[int | None, typer.Option(min=1, max=65535, help="The source port; default: any.")] = None,
    form: Written = Format.text,
) -> None:
    """Follow one connection, hop by hop.

    With the line of the site file that decides at each device.

    Exit code 0: it arrives, 1: it does not, 2: bad usage or input, 3: cannot tell.
    """
    source = read_site(find_site_file(site))
    topology = Topology(source.site)
    transport: Transport = "udp" if protocol is Protocol.udp else "tcp"
    try:
        position = position_at(topology, _needed_client(client, topology))
        if to:
            _alone(service, mode, rung)
            if port is None:
                raise typer.BadParameter("--to needs --port as well")
            journeys = walk_to(topology, position, addresses_at(topology, to), port, transport, from_port)
        else:
            chosen = the_transfer(source.site, service, "ftp", "sftp")
            data = None if rung is None else rung is WalkRung.data
            journeys = _session_journeys(
                topology, position, chosen, _given_mode(chosen, mode), port, data, transport, from_port
            )
    except NoSuchWalk as error:
        raise typer.BadParameter(str(error)) from None
    journey = _the_one(journeys)
    finish(lambda: walk_result(journey, source.line), lambda: walk_view(journey, source.line, source.file), form)
    raise typer.Exit({"ok": KEPT, "unknown": CANNOT_TELL}.get(journey.outcome, BROKEN))


def _session_journeys(
    topology: Topology,
    position: ClientPosition,
    service: Service,
    mode: Mode | None,
    port: int | None,
    data: bool | None,
    transport: Transport,
    from_port: int | None,
) -> tuple[Journey, ...]:
    """The journeys of the connection of a session that is meant. Raises NoSuchWalk and BadParameter."""
    forecast, chosen, is_data = walk_session(topology, position, service, mode, port, data)
    carried = service.passive.protocols if is_data and service.passive and mode == "passive" else ("tcp",)
    if transport not in carried:
        which = "data" if is_data else "control"
        raise typer.BadParameter(f"--protocol: {which} of {service.name} goes over {', '.join(carried)} here")
    if is_data:
        return walk_data(topology, forecast, chosen, from_port, transport)
    return walk_control(topology, forecast, chosen, from_port)


def _needed_client(client: str, topology: Topology) -> str:
    if not client:
        names = ", ".join([each.name for each in topology.site.clients]) or "no clients; name a network or an address"
        raise typer.BadParameter(f"--client is needed; this site has {names}")
    return client


def _alone(service: str, mode: SessionMode | None, rung: WalkRung | None) -> None:
    """Raises BadParameter for what belongs to a session and not to any one connection."""
    given = {"--service": service, "--mode": mode, "--rung": rung}
    if names := [name for name, value in given.items() if value]:
        raise typer.BadParameter(
            f"--to asks about one connection, {' and '.join(names)} about a session: leave one out"
        )


def _given_mode(service: Service, mode: SessionMode | None) -> Mode | None:
    if service.protocol != "ftp":
        if mode is not None:
            raise typer.BadParameter(f"--mode: {service.name} has protocol {service.protocol}, which knows no modes")
        return None
    return "active" if mode is SessionMode.active else "passive"


def _the_one(journeys: tuple[Journey, ...]) -> Journey:
    """The one journey of a question, or a request to ask more narrowly."""
    if len({(each.outcome, each.end.at) for each in journeys}) == 1:
        return journeys[0]
    fates = "; ".join(
        f"{each.outcome} at {each.end.at} for source ports {each.asked.from_ports}" for each in journeys[:4]
    )
    raise typer.BadParameter(
        f"the answer depends on the source: {fates}; give --from-port, or a client with an address"
    )
