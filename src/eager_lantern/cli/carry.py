"""``visit --carry``: a probe in one file, for a machine that has only Python."""

import secrets
from pathlib import Path
from typing import NoReturn

import typer

from ..core.model.problem import network_names
from ..core.model.site import Mode, Promise, Service
from ..core.network.topology import Topology
from ..core.predict.endpoints import position_of, typed_port
from ..core.predict.forecast import Forecast
from ..core.predict.session import predict_from
from ..core.values.addresses import UNKNOWN_TEXT
from ..core.values.ports import PortSet
from ..formats.results.carried import CarryResult
from ..formats.site.site_file import SiteFile
from ..formats.writing import write
from ..live.lamp.carry import ProbePlan, probe_source
from ..live.lamp.secret import VARIABLE, given_secret
from ..views.lamp import carried_view
from .arguments.options import Format
from .arguments.sites import known, the_transfer
from .exit_codes import KEPT
from .finish import finish


def carry_probe(
    source: SiteFile, client: str, service_name: str, at: str, path: Path, force: bool, form: Format
) -> NoReturn:
    """Write the probe, and what to do with it. Raises Exit, BadParameter and BadInput."""
    site = source.site
    names = [each.name for each in site.clients]
    client = names[0] if not client and len(names) == 1 else client
    known("--client", client, [*names, *network_names(site)])
    service = the_transfer(site, service_name, "ftp", "sftp")
    topology = Topology(site)
    position = position_of(topology, client)
    mode: Mode | None = "passive" if service.protocol == "ftp" else None
    forecast = predict_from(topology, Promise(client=client, service=service.name, mode=mode), position)
    reaches = position.spec.reaches
    host = at or (reaches.name if reaches is not None and reaches.name else "") or str(forecast.target or "")
    if not host or UNKNOWN_TEXT in (host, str(forecast.target)):
        raise typer.BadParameter(f"the site file has no address for {client} to reach: give it by --at")
    made = "" if given_secret() else secrets.token_hex(16)
    data = _data_ports(service)
    plan = ProbePlan(
        site.site,
        service.name,
        client,
        host,
        typed_port(topology, position, service),
        _data_address(forecast, at),
        data.spans,
        service.passive.protocols if data and service.passive is not None else (),
        made or given_secret().decode(errors="replace"),
    )
    write({path: probe_source(plan, path.name).encode()}, force)
    result = CarryResult(
        file=str(path), client=client, service=service.name, host=host, control_port=plan.control, ports=str(data),
        secret=made or None,
    )  # fmt: skip
    setting = f"{VARIABLE}={made}" if made else ""
    finish(lambda: result, lambda: carried_view(str(path), source.file, host, plan.control, data, setting), form)
    raise typer.Exit(KEPT)


def _data_ports(service: Service) -> PortSet:
    return service.passive.ports if service.passive is not None and service.protocol == "ftp" else PortSet()


def _data_address(forecast: Forecast, at: str) -> str:
    """Where data goes, if that is another address than the control connection's."""
    announced = forecast.announced
    return "" if at or announced in (None, forecast.target) else str(announced)
