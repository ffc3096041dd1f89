"""``lamp``: lights the service's ports on the server host, to prove the path before the server runs."""

import asyncio
import contextlib
import gc
import secrets
import signal
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Annotated

import typer

from ..core.model.site import Service, Transport
from ..core.network.topology import listens_on
from ..core.observed.compared import Unlit
from ..core.values.addresses import Address
from ..core.values.ports import PortSet
from ..core.values.quantities import Duration
from ..formats.reading import bad_file
from ..formats.results.base import as_line
from ..formats.results.lamp import LampBurnt, lit_result
from ..formats.site.site_file import SiteFile, find_site_file, read_site
from ..live.lamp.listener import Lamp
from ..live.lamp.secret import VARIABLE, given_secret
from ..views.lamp import burnt_view, lit_view
from .arguments.options import Format, ServiceName, SiteArgument, Written, example, parsed, with_option_groups
from .arguments.sites import the_transfer
from .ending import emit, show
from .exit_codes import CANNOT_TELL
from .lamp_phone import Phones, Reception, reception_of

app = typer.Typer(add_completion=False, rich_markup_mode=None)
LONGEST_SECONDS = 86_400
LEAST_CHARACTERS = 16
MOST_PORTS = 16_384


@dataclass(frozen=True, slots=True)
class Burning:
    """What is lit, where, and for how long."""

    site: SiteArgument = None
    service: ServiceName = ""
    lasts: Annotated[str, typer.Option(help="How long it burns before it ends by itself.")] = "15 min"
    ports: Annotated[str, typer.Option(help="Light only these; default: control port and data range.")] = ""
    listen: Annotated[list[str] | None, typer.Option(help="Address to listen on; default: the server's own.")] = None
    form: Written = Format.text


@app.command(epilog=example('eager-lantern lamp saltmarsh.site.yaml --lasts "2 s" --listen 127.0.0.1'))
@with_option_groups
def lamp(burning: Burning, phones: Phones) -> None:
    """Light a service's ports in place of the server.

    Run it on the server host, and `visit --lamp` outside, or with --phone open the address that it
    shows on a phone. It answers only to who knows the secret, from EAGER_LANTERN_LAMP or made up
    and shown here, and ends by itself. JSON has a line when it is lit, one for each phone that has
    tried the ports, and one when it is out. With --phone the exit code is 0: all ports arrive, 1:
    some do not, 3: no phone has tried them from outside.
    """
    source = read_site(find_site_file(burning.site))
    chosen = the_transfer(source.site, burning.service, "ftp", "sftp")
    wanted, seconds = _wanted_ports(burning, source, chosen), _seconds(burning)
    addresses = tuple(str(parsed(Address, "--listen", each)) for each in burning.listen or ()) or tuple(
        map(str, source.site.server.address.each)
    )
    protocols: tuple[Transport, ...] = chosen.passive.protocols if chosen.passive else ("tcp",)
    reception = reception_of(phones, source, chosen, wanted, burning.form)
    secret = _secret()
    shown = "" if secret else secrets.token_hex(16)
    lit = Lamp(secret or shown.encode())

    def tell_lit(unlit: Sequence[Unlit]) -> None:
        if burning.form is Format.json:
            emit(as_line(lit_result(chosen.name, addresses, protocols, wanted, unlit, seconds, shown)))
        else:
            how = f"{VARIABLE}={shown}" if shown else ""
            show(lit_view(addresses, wanted, unlit, seconds, how, by_phone=reception is not None))

    gc.set_threshold(700, 10, 10)  # a lamp burns for hours: what is in circles goes as it comes, not by the millions
    unlit = asyncio.run(_burnt(lit, addresses, wanted, protocols, seconds, tell_lit, reception))
    if len(unlit) == len(addresses) * len(wanted) * len(protocols):
        raise typer.Exit(CANNOT_TELL)
    counts = lit.answered, lit.rejected, lit.crowded
    if burning.form is Format.json:
        emit(as_line(LampBurnt(answered=counts[0], rejected=counts[1], crowded=counts[2])))
    else:
        show(burnt_view(*counts))
    if reception is not None:
        raise typer.Exit(reception.code)


def _seconds(burning: Burning) -> float:
    """How long it is to burn. Raises BadParameter."""
    seconds = parsed(Duration, "--lasts", burning.lasts).amount
    if not 0 < seconds <= LONGEST_SECONDS:
        raise typer.BadParameter("--lasts: a lamp burns for more than 0 s and at most 24 h")
    return seconds


def _wanted_ports(burning: Burning, source: SiteFile, chosen: Service) -> PortSet:
    """The ports to light. Raises BadParameter, and BadInput for more than a lamp can have."""
    wanted = parsed(PortSet, "--ports", burning.ports) if burning.ports else listens_on(chosen)
    if len(wanted) > MOST_PORTS:
        message = f"found {len(wanted)} ports of {chosen.name}; expected fewer: name some of them with --ports"
        raise bad_file(source.file, message)
    return wanted


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
    reception: Reception | None,
) -> list[Unlit]:
    """Light, tell, receive phones where they are expected, wait for the end or for Ctrl-C, put out."""
    unlit = await lamp.light(addresses, list(ports), protocols)
    tell_lit(unlit)
    if len(unlit) < len(addresses) * len(ports) * len(protocols):
        with ended_by_ctrl_c() as ended, contextlib.suppress(TimeoutError):
            async with asyncio.timeout(seconds):
                await (reception.receive(lamp, ports, unlit, ended) if reception is not None else ended.wait())
    await lamp.put_out()
    return unlit
