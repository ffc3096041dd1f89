"""``lamp``: lights the service's ports on the server host, to prove the path before the server runs."""

import asyncio
import contextlib
import gc
import secrets
import signal
from collections.abc import Callable, Iterator, Sequence
from typing import Annotated

import typer

from ..core.model.site import Transport
from ..core.observed.compared import Unlit
from ..core.values.addresses import Address
from ..core.values.ports import PortSet
from ..core.values.quantities import Duration
from ..formats.reading import bad_file
from ..formats.results.base import as_line
from ..formats.results.lamp import LampBurnt, lit_result
from ..formats.site.site_file import find_site_file, read_site
from ..live.lamp.listener import VARIABLE, Lamp, given_secret
from ..views.lamp import burnt_view, lit_view
from .arguments.options import Format, ServiceName, SiteArgument, Written, example, parsed
from .arguments.sites import the_transfer
from .ending import emit, show
from .exit_codes import CANNOT_TELL

app = typer.Typer(add_completion=False, rich_markup_mode=None)
LONGEST_SECONDS = 86_400
LEAST_CHARACTERS = 16


@app.command(epilog=example('eager-lantern lamp saltmarsh.site.yaml --lasts "2 s" --listen 127.0.0.1'))
def lamp(
    site: SiteArgument = None,
    service: ServiceName = "",
    lasts: Annotated[str, typer.Option(help="How long it burns before it ends by itself.")] = "15 min",
    ports: Annotated[str, typer.Option(help="Light only these; default: control port and data range.")] = "",
    listen: Annotated[list[str] | None, typer.Option(help="Address to listen on; default: the server's own.")] = None,
    form: Written = Format.text,
) -> None:
    """Light a service's ports in place of the server.

    Run it on the server host, and `visit --lamp` outside. It answers only to who knows the
    secret, from EAGER_LANTERN_LAMP or made up and shown here, and ends by itself. JSON has a
    line when it is lit, and one when it is out.
    """
    source = read_site(find_site_file(site))
    chosen = the_transfer(source.site, service, "ftp", "sftp")
    seconds = parsed(Duration, "--lasts", lasts).amount
    if not 0 < seconds <= LONGEST_SECONDS:
        raise typer.BadParameter("--lasts: a lamp burns for more than 0 s and at most 24 h")
    control = PortSet.single(chosen.control_port.number)
    wanted = control | (chosen.passive.ports if chosen.passive else PortSet())
    if ports:
        wanted = parsed(PortSet, "--ports", ports)
    if len(wanted) > 16_384:
        message = f"found {len(wanted)} ports of {chosen.name}; expected fewer: name some of them with --ports"
        raise bad_file(source.file, message)
    addresses = tuple(str(parsed(Address, "--listen", each)) for each in listen or ()) or tuple(
        map(str, source.site.server.address.each)
    )
    protocols: tuple[Transport, ...] = chosen.passive.protocols if chosen.passive else ("tcp",)
    secret = _secret()
    shown = "" if secret else secrets.token_hex(16)
    burning = Lamp(secret or shown.encode())

    def tell_lit(unlit: Sequence[Unlit]) -> None:
        if form is Format.json:
            emit(as_line(lit_result(chosen.name, addresses, protocols, wanted, unlit, seconds, shown)))
        else:
            show(lit_view(addresses, wanted, unlit, seconds, f"{VARIABLE}={shown}" if shown else ""))

    gc.set_threshold(700, 10, 10)  # a lamp burns for hours: what is in circles goes as it comes, not by the millions
    unlit = asyncio.run(_burnt(burning, addresses, wanted, protocols, seconds, tell_lit))
    if len(unlit) == len(addresses) * len(wanted) * len(protocols):
        raise typer.Exit(CANNOT_TELL)
    counts = burning.answered, burning.rejected, burning.crowded
    if form is Format.json:
        emit(as_line(LampBurnt(answered=counts[0], rejected=counts[1], crowded=counts[2])))
    else:
        show(burnt_view(*counts))


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
    lamp: Lamp,
    addresses: tuple[str, ...],
    ports: PortSet,
    protocols: tuple[Transport, ...],
    seconds: float,
    tell_lit: Callable[[Sequence[Unlit]], None],
) -> list[Unlit]:
    """Light, tell, wait for the end or for Ctrl-C, put out."""
    unlit = await lamp.light(addresses, list(ports), protocols)
    tell_lit(unlit)
    if len(unlit) < len(addresses) * len(ports) * len(protocols):
        with ended_by_ctrl_c() as ended, contextlib.suppress(TimeoutError):
            await asyncio.wait_for(ended.wait(), seconds)
    await lamp.put_out()
    return unlit
