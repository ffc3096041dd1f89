"""``visit --lamp``: a lit lamp swept from here, beside the prediction."""

import asyncio
import sys
from contextlib import AsyncExitStack
from typing import NoReturn

import typer

from ..core.forecast import Forecast
from ..core.ledger import study
from ..core.lit import Sweep
from ..core.outlook import Outlook
from ..core.ports import PortSet
from ..core.session import foresee
from ..core.site import Mode, Promise, Service
from ..core.topology import Topology
from ..files.results import as_json, sweep_result
from ..files.site_file import SiteFile
from ..live.failed import Failed
from ..live.lamp_secret import VARIABLE, given_secret
from ..live.lamp_sweep import swept
from ..live.standpoint import Standpoint
from ..views.lamp_view import sweep_view
from .named import the_transfer
from .options import Format
from .output import emit, show
from .places import standpoint
from .visits import client_at

LONGEST_SECONDS = 2.0
CANNOT_TELL = 3


class LampUnseen(Exception):
    """The place to sweep from cannot be reached."""


def sweep_lamp(
    source: SiteFile, client_name: str, service_name: str, at: str, place: str, timeout: float, form: Format
) -> NoReturn:
    """Sweep control port and data range as a client of the site reaches them. Raises Exit and BadParameter."""
    secret = given_secret()
    if not secret:
        raise typer.BadParameter(f"--lamp: set {VARIABLE} to the secret that the lamp has shown")
    service = the_transfer(source.site, service_name, "ftp", "sftp")

    async def found() -> tuple[Forecast, tuple[Sweep, ...]]:
        async with AsyncExitStack() as opened:
            stand = await standpoint(place, opened)
            if isinstance(stand, Outlook):
                raise LampUnseen(f"{place}: {stand.trouble}")
            client = await client_at(source.site, client_name, stand)
            forecast = _forecast(source, client.name, service)
            return forecast, await _swept(stand, forecast, at, secret, min(timeout, LONGEST_SECONDS))

    try:
        forecast, sweeps = asyncio.run(found())
    except (Failed, LampUnseen) as error:
        print(error, file=sys.stderr)
        raise typer.Exit(CANNOT_TELL) from None
    predicted = _predicted(forecast)
    ledger = study(Topology(source.site), forecast).ledger
    if form is Format.json:
        emit(as_json(sweep_result(predicted, sweeps, ledger, source.line)))
    else:
        show(sweep_view(f"{forecast.promise.client} → {service.name}, lit", predicted, sweeps, ledger, source.line))
    raise typer.Exit(0 if all(port.outcome == "ok" for sweep in sweeps for port in sweep.ports) else 1)


def _forecast(source: SiteFile, client: str, service: Service) -> Forecast:
    mode: Mode | None = "passive" if service.protocol == "ftp" else None
    promise = Promise(client=client, service=service.name, mode=mode)
    return foresee(Topology(source.site), promise, ("promises",))


def _predicted(forecast: Forecast) -> PortSet:
    """The ports that arrive by the prediction."""
    control = PortSet.single(forecast.service.control_port.number)
    reached = control if any(each.outcome == "ok" for each in forecast.control) else PortSet()
    return reached | forecast.data.works if forecast.data else reached


async def _swept(stand: Standpoint, forecast: Forecast, at: str, secret: bytes, timeout: float) -> tuple[Sweep, ...]:
    """The control port where the client goes, and the data range where it is sent."""
    service = forecast.service
    target = at or str(forecast.target or "")
    if not target:
        raise typer.BadParameter(f"the site file tells no address for {forecast.promise.client} to reach")
    found = [await swept(stand, target, [service.control_port.number], secret, "tcp", timeout)]
    if service.passive and service.protocol == "ftp":
        told = at or str(forecast.announced or target)
        for protocol in service.passive.protocols:
            found.append(await swept(stand, told, list(service.passive.ports), secret, protocol, timeout))
    return tuple(found)
