"""``visit --lamp``: a lit lamp swept from here, beside the prediction."""

import asyncio
from typing import NoReturn

import typer

from ..core.forecast import Forecast
from ..core.lit import Sweep
from ..core.ports import PortSet
from ..core.session import foresee
from ..core.site import Mode, Promise
from ..core.topology import Topology
from ..files.results import as_json, sweep_result
from ..files.site_file import SiteFile
from ..live.lamp_secret import VARIABLE, given_secret
from ..live.lamp_sweep import swept
from ..views.lamp_view import sweep_view
from .named import the_transfer
from .options import Format
from .output import emit, show
from .visits import client_here

LONGEST_SECONDS = 2.0


def sweep_lamp(
    source: SiteFile, client_name: str, service_name: str, at: str, timeout: float, form: Format
) -> NoReturn:
    """Sweep control port and data range as a client of the site reaches them. Raises Exit and BadParameter."""
    secret = given_secret()
    if not secret:
        raise typer.BadParameter(f"--lamp: set {VARIABLE} to the secret that the lamp has shown")
    client = client_here(source.site, client_name)
    service = the_transfer(source.site, service_name, "ftp", "sftp")
    mode: Mode | None = "passive" if service.protocol == "ftp" else None
    promise = Promise(client=client.name, service=service.name, mode=mode)
    forecast = foresee(Topology(source.site), promise, ("promises",))
    sweeps = asyncio.run(_swept(forecast, at, secret, min(timeout, LONGEST_SECONDS)))
    predicted = _predicted(forecast)
    if form is Format.json:
        emit(as_json(sweep_result(predicted, sweeps)))
    else:
        show(sweep_view(f"{client.name} → {service.name}, lit", predicted, sweeps))
    raise typer.Exit(0 if all(port.outcome == "ok" for sweep in sweeps for port in sweep.ports) else 1)


def _predicted(forecast: Forecast) -> PortSet:
    """The ports that arrive by the prediction."""
    control = PortSet.single(forecast.service.control_port.number)
    reached = control if any(each.outcome == "ok" for each in forecast.control) else PortSet()
    return reached | forecast.data.works if forecast.data else reached


async def _swept(forecast: Forecast, at: str, secret: bytes, timeout: float) -> tuple[Sweep, ...]:
    """The control port where the client goes, and the data range where it is sent."""
    service = forecast.service
    target = at or str(forecast.target or "")
    if not target:
        raise typer.BadParameter(f"the site file tells no address for {forecast.promise.client} to reach")
    found = [await swept(target, [service.control_port.number], secret, "tcp", timeout)]
    if service.passive and service.protocol == "ftp":
        told = at or str(forecast.announced or target)
        for protocol in service.passive.protocols:
            found.append(await swept(told, list(service.passive.ports), secret, protocol, timeout))
    return tuple(found)
