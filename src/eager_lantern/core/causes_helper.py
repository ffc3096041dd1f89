"""Promises that hang on a helper in a gateway: one that is blind, or one that is switched off.

Whether a helper makes the difference is not guessed: the promise is predicted again for the
site as it would be if the helper saw the session.
"""

from msgspec import structs

from .cause import Cause
from .forecast import Forecast
from .helper import FTP_CONTROL_PORT
from .ledger import Study
from .ports import PortSet
from .session import foresee
from .site import Gateway, Site, Tls
from .topology import Topology


def helper_cause(topology: Topology, study: Study) -> Cause | None:
    """The cause, where a helper would make the promise kept."""
    forecast = study.forecast
    if forecast.service.protocol != "ftp" or (not forecast.data and forecast.rung != "announce"):
        return None
    return _blind(topology, forecast) or _needed(topology, forecast)


def _blind(topology: Topology, forecast: Forecast) -> Cause | None:
    """A helper on the way that would do it if the session were in clear."""
    helpers = [i for i, each in enumerate(topology.site.gateways) if each.ftp_helper and _on_way(topology, forecast, i)]
    if not helpers or forecast.service.tls.mode == "none":
        return None
    services = tuple(
        structs.replace(each, tls=Tls()) if each is forecast.service else each for each in topology.site.services
    )
    if not _kept(structs.replace(topology.site, services=services), forecast):
        return None
    gateway = topology.site.gateways[helpers[0]]
    text = f"the helper of {gateway.name} cannot read {forecast.service.name} under TLS, and the site relies on it"
    cure = "forward the whole passive range and announce the outside address; the helper is then not needed"
    return Cause("helper-blind", ("gateways", helpers[0], "ftp_helper"), PortSet(), text, cure)


def _needed(topology: Topology, forecast: Forecast) -> Cause | None:
    """Active mode in clear behind a translation whose helper is switched off."""
    clear = forecast.service.tls.mode == "none" and forecast.service.control_port.number == FTP_CONTROL_PORT
    if forecast.promise.mode != "active" or not clear:
        return None
    for i, gateway in enumerate(topology.site.gateways):
        on_way = gateway.translate != "none" and not gateway.ftp_helper and _at_client_side(topology, forecast, gateway)
        if on_way and _kept(_with_helper(topology.site, i), forecast):
            text = f"{forecast.stand.name} uses active mode behind {gateway.name}, which does not follow it"
            cure = "let it use passive mode, or switch on the FTP helper there (plain FTP on port 21 only)"
            return Cause("helper-needed", ("gateways", i, "ftp_helper"), PortSet(), text, cure)
    return None


def _with_helper(site: Site, index: int) -> Site:
    changed = structs.replace(site.gateways[index], ftp_helper=True)
    return structs.replace(site, gateways=(*site.gateways[:index], changed, *site.gateways[index + 1 :]))


def _on_way(topology: Topology, forecast: Forecast, index: int) -> bool:
    name = topology.site.gateways[index].name
    return any(step.at == name for journey in forecast.control for step in journey.steps)


def _at_client_side(topology: Topology, forecast: Forecast, gateway: Gateway) -> bool:
    chain = topology.chain(forecast.stand.network, topology.server.network) or ()
    return any(each.device.spec is gateway and each.way == "outward" for each in chain)


def _kept(site: Site, forecast: Forecast) -> bool:
    return foresee(Topology(site), forecast.promise, forecast.place).kept is True
