"""``walk``: one connection, hop by hop."""

from enum import StrEnum
from typing import Annotated

import typer

from ..core.addresses import Address
from ..core.consistency import network_names
from ..core.flow import Journey
from ..core.site import Mode, Promise
from ..core.topology import Topology
from ..core.walk import NoSuchWalk, walk_control, walk_data, walk_to
from ..exit_codes import BROKEN, CANNOT_TELL, KEPT
from ..files.results import as_json, walk_result
from ..files.site_file import find_site_file, read_site
from ..views.walk_view import walk_view
from . import completion
from .named import known, the_transfer
from .options import Format, ServiceName, SessionMode, SitePath, Written, example
from .output import emit, show

app = typer.Typer(add_completion=False, rich_markup_mode=None)


class WalkRung(StrEnum):
    """Which connection of a session."""

    connect = "connect"
    data = "data"


class Protocol(StrEnum):
    """The transport of a connection that belongs to no service."""

    tcp = "tcp"
    udp = "udp"


@app.command(
    epilog=example("eager-lantern walk --client field-station --service tide-exchange", "--rung data --port 61328")
)
def walk(
    site: SitePath = None,
    client: Annotated[
        str,
        typer.Option(help="A client, or a network for anybody on it.", autocompletion=completion.clients),
    ] = "",
    service: ServiceName = "",
    mode: Annotated[SessionMode, typer.Option(help="Mode of the session.")] = SessionMode.passive,
    rung: Annotated[WalkRung, typer.Option(help="The control connection, or a data connection.")] = WalkRung.connect,
    to: Annotated[str, typer.Option(help="Any address, instead of a service.")] = "",
    port: Annotated[int | None, typer.Option(min=1, max=65535, help="The port; for data, one of the range.")] = None,
    protocol: Annotated[Protocol, typer.Option(help="With --to.")] = Protocol.tcp,
    from_port: Annotated[int | None, typer.Option(min=1, max=65535, help="The source port; default: any.")] = None,
    form: Written = Format.text,
) -> None:
    """Follow one connection, hop by hop.

    With the line of the site file that decides at each device.

    Exit code 0: it arrives, 1: it does not, 2: bad usage or input, 3: it cannot be told.
    """
    source = read_site(find_site_file(site))
    topology = Topology(source.site)
    known("--client", client, [*(each.name for each in source.site.clients), *network_names(source.site)])
    try:
        if to:
            if port is None:
                raise typer.BadParameter("--to needs --port as well")
            journeys = walk_to(topology, client, _address(to), port, protocol.value, from_port)
        else:
            wanted = the_transfer(source.site, service, "ftp", "sftp")
            promise = Promise(client=client, service=wanted.name, mode=_mode(mode))
            if rung is WalkRung.data:
                journeys = walk_data(topology, promise, port, from_port)
            else:
                journeys = walk_control(topology, client, wanted, from_port)
    except NoSuchWalk as error:
        raise typer.BadParameter(str(error)) from None
    journey = _the_one(journeys)
    if form is Format.json:
        emit(as_json(walk_result(journey, source.line)))
    else:
        show(walk_view(journey, source.line, source.file))
    raise typer.Exit({"ok": KEPT, "unknown": CANNOT_TELL}.get(journey.outcome, BROKEN))


def _mode(mode: SessionMode) -> Mode:
    return "active" if mode is SessionMode.active else "passive"


def _address(text: str) -> Address:
    try:
        return Address.parse(text)
    except ValueError as error:
        raise typer.BadParameter(f"--to: {error}") from None


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
