"""``visit --lamp``: a lit lamp swept from here or elsewhere, beside the prediction."""

import asyncio
import sys
from collections.abc import Sequence
from contextlib import AsyncExitStack
from typing import NoReturn

import typer
from msgspec import structs

from ..core.model.site import Mode, Promise, Service, Transport
from ..core.network.topology import Topology
from ..core.observed.compared import LitFrom, Outlook
from ..core.predict.endpoints import typed_port
from ..core.predict.forecast import Forecast
from ..core.predict.ledger import measure
from ..core.predict.session import predict
from ..core.values.ports import PortSet
from ..formats.results.base import as_json
from ..formats.results.lamp import sweep_result
from ..formats.site.site_file import SiteFile
from ..formats.writing import write, writes
from ..live.lamp.secret import VARIABLE, given_secret
from ..live.lamp.sweep import swept
from ..live.vantage.base import Failed, Vantage
from ..views.lamp import sweeps_view
from .arguments.sites import known, the_transfer
from .arguments.visit_options import Keeping
from .exit_codes import BROKEN, CANNOT_TELL, KEPT
from .finish import finish
from .visits import client_at, reached

LONGEST_SECONDS = 4.0 if sys.platform == "win32" else 2.0
"""For a port; Windows asks three times, for two seconds, before it believes a refusal."""


def sweep_lamp(
    source: SiteFile,
    client_name: str,
    service_name: str,
    at: str,
    names: Sequence[str],
    timeout: float,
    keeping: Keeping,
) -> NoReturn:
    """Sweep control port and data range as the clients of the site reach them. Raises Exit and BadParameter."""
    if keeping.survey is not None:
        raise typer.BadParameter("--survey explains a failed visit, and --lamp makes no visit")
    if keeping.save is not None:
        writes(keeping.save, keeping.force)
    secret = given_secret()
    if not secret:
        raise typer.BadParameter(f"--lamp: set {VARIABLE} to the secret that the lamp has shown")
    service = the_transfer(source.site, service_name, "ftp", "sftp")
    if client_name:
        known("--client", client_name, [each.name for each in source.site.clients])

    async def seen_by(vantage: Vantage | Outlook) -> LitFrom:
        if isinstance(vantage, Outlook):
            return LitFrom(vantage.name, trouble=vantage.trouble)
        client = await client_at(source.site, client_name, vantage)
        forecast = _forecast(source, client.name, service)
        seen = LitFrom(
            vantage.name, client.name, _predicted_ports(forecast), measure(Topology(source.site), forecast).ledger
        )
        return await _sweep_from(source, seen, vantage, forecast, at, secret, min(timeout, LONGEST_SECONDS))

    async def seen() -> list[LitFrom]:
        async with AsyncExitStack() as opened:
            vantages = await reached(names, opened)
            return [await seen_by(each) for each in vantages]  # in turn: a lamp serves a bounded number of connections

    places = asyncio.run(seen())
    result = sweep_result(places, source.line)
    if keeping.save is not None:
        write({keeping.save: as_json(result).encode()}, keeping.force)
    finish(lambda: result, lambda: sweeps_view(service.name, places, source.line), keeping.form)
    raise typer.Exit(_sweep_code(places))


def _sweep_code(places: Sequence[LitFrom]) -> int:
    if any(outcome != "ok" for each in places for outcome in each.outcomes):
        return BROKEN
    return CANNOT_TELL if any(each.trouble for each in places) else KEPT


def _forecast(source: SiteFile, client: str, service: Service) -> Forecast:
    mode: Mode | None = "passive" if service.protocol == "ftp" else None
    promise = Promise(client=client, service=service.name, mode=mode)
    return predict(Topology(source.site), promise, ("promises",))


def _predicted_ports(forecast: Forecast) -> PortSet:
    """The ports that arrive by the prediction, in the numbers that are asked for."""
    reached = PortSet()
    for each in forecast.control:
        reached = reached | (each.asked.ports if each.outcome == "ok" else PortSet())
    return reached | forecast.data.works if forecast.data else reached


async def _sweep_from(
    source: SiteFile, seen: LitFrom, vantage: Vantage, forecast: Forecast, at: str, secret: bytes, timeout: float
) -> LitFrom:
    """The control port where the client goes, and the data range where it is sent, until the place is gone."""
    service = forecast.service
    target = at or str(forecast.target or "")
    if not target:
        raise typer.BadParameter(f"the site file has no address for {seen.client} to reach")
    port = typed_port(Topology(source.site), forecast.position, service)
    wanted: list[tuple[str, Sequence[int], Transport]] = [(target, [port], "tcp")]
    if service.passive and service.protocol == "ftp":
        dialled = at or str(forecast.announced or target)
        wanted += [(dialled, list(service.passive.ports), each) for each in service.passive.protocols]
    try:
        for address, ports, protocol in wanted:
            sweep = await swept(vantage, address, ports, secret, protocol, timeout)
            seen = structs.replace(seen, sweeps=(*seen.sweeps, sweep))
    except Failed as failed:
        return structs.replace(seen, trouble=failed.detail)
    return seen
