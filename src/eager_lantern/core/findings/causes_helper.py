"""Promises that hang on a helper in a gateway: one that is blind, or one that is switched off.

Whether a helper makes the difference is not guessed: the promise is predicted again for the
site as it would be if the helper saw the session.
"""

from msgspec import structs

from ..model.change import change, changed
from ..model.site import Gateway, Site, Tls
from ..network.topology import Topology
from ..predict.forecast import Forecast
from ..predict.ledger import Study
from ..predict.session import predict
from ..values.ports import PortSet
from ..values.site_path import SitePath
from .cause import Cause, sets


def helper_cause(topology: Topology, study: Study) -> Cause | None:
    """The cause, where a helper would make the promise kept."""
    forecast = study.forecast
    if forecast.service.protocol != "ftp" or (not forecast.data and forecast.rung != "announce"):
        return None
    return _blind(topology, forecast) or _needed(topology, forecast)


def _blind(topology: Topology, forecast: Forecast) -> Cause | None:
    """The helper on the way that would do it, if the session were in clear."""
    if not forecast.stand.spec.secures(forecast.service.tls):
        return None
    services = tuple(
        structs.replace(each, tls=Tls()) if each is forecast.service else each for each in topology.site.services
    )
    clear = structs.replace(topology.site, services=services)
    helpers = [i for i, each in enumerate(clear.gateways) if each.ftp_helper and _on_way(topology, forecast, i)]
    if not helpers or not _kept(clear, forecast):
        return None
    index = next((i for i in helpers if not _kept(_with_helper(clear, i, False), forecast)), None)
    if index is None:
        return None
    gateway = topology.site.gateways[index]
    place: SitePath = ("gateways", index, "ftp_helper")
    if forecast.promise.mode == "active":
        text = f"{forecast.stand.name} uses active mode through {gateway.name}, whose helper cannot read it under TLS"
        cure = f"let {forecast.stand.name} use passive mode: under TLS no device follows active mode"
        return Cause("active-cannot-return", place, PortSet(), text, cure, about=forecast.stand.name)
    text = f"the helper of {gateway.name} cannot read {forecast.service.name} under TLS, and the site relies on it"
    cure = "forward the whole passive range and announce the outside address; the helper is then not needed"
    return Cause("helper-blind", place, PortSet(), text, cure)


def _needed(topology: Topology, forecast: Forecast) -> Cause | None:
    """Active mode in clear behind a translation whose helper is switched off."""
    if forecast.promise.mode != "active" or forecast.stand.spec.secures(forecast.service.tls):
        return None
    for i, gateway in enumerate(topology.site.gateways):
        family = forecast.target.family if forecast.target else 4
        on_way = (
            gateway.translates(family) != "none"
            and not gateway.ftp_helper
            and _at_client_side(topology, forecast, gateway)
        )
        if on_way and _kept(_with_helper(topology.site, i, True), forecast):
            text = f"{forecast.stand.name} uses active mode behind {gateway.name}, which does not follow it"
            reads = f"plain FTP on port {gateway.helper_ports} only"
            cure = f"let it use passive mode, or switch on the FTP helper there ({reads})"
            where = ("gateways", i, "ftp_helper")
            return Cause("helper-needed", where, PortSet(), text, cure, mends=sets(topology.site, where, True))
    return None


def _with_helper(site: Site, index: int, reads: bool) -> Site:
    return changed(site, change(site, ("gateways", index, "ftp_helper"), reads))


def _on_way(topology: Topology, forecast: Forecast, index: int) -> bool:
    name = topology.site.gateways[index].name
    return any(step.at == name for journey in forecast.control for step in journey.steps)


def _at_client_side(topology: Topology, forecast: Forecast, gateway: Gateway) -> bool:
    chain = topology.chain(forecast.stand.network, topology.server.network) or ()
    return any(each.device.spec is gateway and each.way == "outward" for each in chain)


def _kept(site: Site, forecast: Forecast) -> bool:
    return predict(Topology(site), forecast.promise, forecast.place).kept is True
