"""``lamp``: lights the service's ports on the server host, to prove the path before the server runs."""

import asyncio
import contextlib
import secrets
import signal
import sys
from collections.abc import Iterator
from typing import Annotated

import typer

from ..core.addresses import Address
from ..core.lit import Unlit
from ..core.ports import PortSet
from ..core.quantities import Duration
from ..core.site import Transport
from ..files.problem import BadInput, InputProblem
from ..files.site_file import find_site_file, read_site
from ..live.lamp import Lamp
from ..live.lamp_secret import VARIABLE, given_secret
from ..views.lamp_view import burnt_view, lit_view
from .exit_codes import CANNOT_TELL
from .given import given
from .named import the_transfer
from .options import ServiceName, SitePath, example
from .output import show

app = typer.Typer(add_completion=False, rich_markup_mode=None)
LONGEST_SECONDS = 86_400
LEAST_CHARACTERS = 16


@app.command(epilog=example('eager-lantern lamp saltmarsh.site.yaml --lasts "2 s" --listen 127.0.0.1'))
def lamp(
    site: SitePath = None,
    service: ServiceName = "",
    lasts: Annotated[str, typer.Option(help="How long it burns before it ends by itself.")] = "15 min",
    ports: Annotated[str, typer.Option(help="Light only these; default: control port and data range.")] = "",
    listen: Annotated[list[str] | None, typer.Option(help="Address to listen on; default: the server's own.")] = None,
) -> None:
    """Light a service's ports in place of the server.

    Run it on the server host, and `visit --lamp` outside. It answers only to who knows the
    secret, from EAGER_LANTERN_LAMP or made up and shown here, and ends by itself.
    """
    source = read_site(find_site_file(site))
    chosen = the_transfer(source.site, service, "ftp", "sftp")
    seconds = given(Duration, "--lasts", lasts).amount
    if not 0 < seconds <= LONGEST_SECONDS:
        raise typer.BadParameter("--lasts: a lamp burns for more than 0 s and at most 24 h")
    control = PortSet.single(chosen.control_port.number)
    wanted = control | (chosen.passive.ports if chosen.passive else PortSet())
    if ports:
        wanted = given(PortSet, "--ports", ports)
    if len(wanted) > 16_384:
        message = f"{chosen.name} has {len(wanted)} ports; name some of them with --ports"
        raise BadInput(source.file, InputProblem(0, message))
    addresses = tuple(str(given(Address, "--listen", each)) for each in listen or ()) or tuple(
        map(str, source.site.server.address.each)
    )
    protocols: tuple[Transport, ...] = chosen.passive.protocols if chosen.passive else ("tcp",)
    secret = _secret()
    shown = "" if secret else secrets.token_hex(16)
    burning = Lamp(secret or shown.encode())
    unlit = asyncio.run(_burnt(burning, addresses, wanted, protocols, seconds, shown))
    if len(unlit) == len(addresses) * len(wanted) * len(protocols):
        raise typer.Exit(CANNOT_TELL)
    show(burnt_view(burning.answered, burning.turned_away, burning.crowded))


@contextlib.contextmanager
def ended_by_ctrl_c() -> Iterator[asyncio.Event]:
    """An event that Ctrl-C sets, by the means that every system has."""
    ended, loop = asyncio.Event(), asyncio.get_running_loop()
    before = signal.signal(signal.SIGINT, lambda number, frame: loop.call_soon_threadsafe(ended.set))
    try:
        yield ended
    finally:
        signal.signal(signal.SIGINT, before)


def _secret() -> bytes:
    """The secret that was given, or nothing. Raises BadParameter for one that could be guessed."""
    secret = given_secret()
    if secret and len(secret) < LEAST_CHARACTERS:
        raise typer.BadParameter(
            f"{VARIABLE} has {len(secret)} characters, and could be guessed: take at least {LEAST_CHARACTERS}, or leave"
            " it out, and one is made and shown"
        )
    return secret


async def _burnt(
    lamp: Lamp, addresses: tuple[str, ...], ports: PortSet, protocols: tuple[Transport, ...], seconds: float, shown: str
) -> list[Unlit]:
    """Light, tell, wait for the end or for Ctrl-C, put out."""
    unlit = await lamp.light(addresses, list(ports), protocols)
    show(lit_view(addresses, ports, unlit, seconds, f"{VARIABLE}={shown}" if shown else ""))
    sys.stdout.flush()
    if len(unlit) < len(addresses) * len(ports) * len(protocols):
        with ended_by_ctrl_c() as ended, contextlib.suppress(TimeoutError):
            await asyncio.wait_for(ended.wait(), seconds)
    await lamp.put_out()
    return unlit
