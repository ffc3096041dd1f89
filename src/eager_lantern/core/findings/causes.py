"""From a promise that is not kept to the lines that are to blame.

Every layer that stops something is asked for its causes, then the session itself. Where a
helper in a gateway makes all the difference, that is the one cause that is told.
"""

from collections.abc import Iterator

from ..model.site import Gateway
from ..network.topology import Topology
from ..predict.layers import Layer, Route
from ..predict.ledger import Study
from ..values.addresses import AddressSet
from ..values.ports import PortSet
from ..values.site_path import SitePath
from .cause import FEW, Cause, Role
from .causes_filters import filter_causes
from .causes_forwards import forward_causes, gateway_of
from .causes_helper import helper_cause
from .causes_session import (
    announced_cause,
    cannot_return,
    no_way_in,
    on_server_side,
    opened_against_promise,
    session_causes,
    udp_causes,
)


def causes_of(topology: Topology, study: Study) -> list[Cause]:
    """Everything that keeps a promise from being kept."""
    forecast = study.forecast
    if forecast.promise.holds == "shut":
        return list(opened_against_promise(topology, forecast))
    if study.control_route is None:
        return list(no_way_in(topology, forecast))
    if helper := helper_cause(topology, study):
        return [helper]
    found = [
        cause for layer in study.control for cause in _of_layer(topology, study, study.control_route, layer, "control")
    ]
    if forecast.promise.mode == "active":
        found += cannot_return(topology, study)
        partly = [each for each in study.data if each.ports & each.wanted and not _own_side(topology, each)]
    else:
        partly = list(study.data)
        found += udp_causes(topology, forecast)
    if study.data_route:
        found += [cause for layer in partly for cause in _of_layer(topology, study, study.data_route, layer, "data")]
    turned_back = any(each.kind == "announces-outside-to-inside" for each in found)
    for cause in session_causes(topology, forecast):
        if not (turned_back and cause.kind == "peer-address-changes"):
            found.append(cause)
    return found


def _own_side(topology: Topology, layer: Layer) -> bool:
    """Whether it is told as what keeps the server from connecting out."""
    return layer.aspect in ("outgoing", "outward") and on_server_side(topology, layer.at)


def _of_layer(topology: Topology, study: Study, route: Route, layer: Layer, role: Role) -> Iterator[Cause]:
    if not layer.shut or layer.aspect in ("hands-out", "control"):
        return
    if layer.aspect == "address":
        yield announced_cause(topology, study.forecast, layer)
    elif layer.aspect == "provider":
        gateway = gateway_of(topology, layer.at)
        if (share := gateway.outside.ports) is not None and layer.shut - share:
            yield _outside_share(topology, gateway, share, layer, role)
            return
        text = f"the provider of {gateway.name} never lets in {{ports}}"
        yield Cause("provider-blocks-port", layer.place, layer.shut, text, "use ports that the provider lets in")
    elif layer.aspect == "forwards":
        yield from forward_causes(topology, route, layer, role, _for_whom(study, layer))
    else:
        yield from filter_causes(topology, layer, role, _for_whom(study, layer))


def _outside_share(topology: Topology, gateway: Gateway, share: PortSet, layer: Layer, role: Role) -> Cause:
    """Ports of an outside address that belong to other customers, and what of the own ones would do."""
    place: SitePath = ("gateways", topology.site.gateways.index(gateway), "outside", "ports")
    text = f"{gateway.name} has only ports {share} of its outside address, so {{ports}} never come to it"
    room = [(low, high) for low, high in share.spans if high - low + 1 >= len(layer.wanted)]
    if not room:
        cure = f"no range of its share holds {len(layer.wanted)} ports: ask the provider for an address of its own"
        return Cause("port-outside-share", place, layer.shut - share, text, cure)
    high = room[-1][1]
    fits = PortSet.of((high - len(layer.wanted) + 1, high))
    moved = f"let clients type port {fits}: forward it to the control port by to_port"
    cure = f"use the data range {fits}, on the server as well" if role == "data" else moved
    return Cause("port-outside-share", place, layer.shut - share, text, cure)


def _for_whom(study: Study, layer: Layer) -> AddressSet | None:
    """Whom a new rule or forward is to let in: anybody to what is there to transfer files, and to every other
    service, or one by which the server is administered, the client alone, as it appears there."""
    service = study.forecast.service
    if service.protocol != "other" and not service.keep_open_for:
        return None
    found = AddressSet()
    for each in layer.journeys:
        found = found | each.flow.sources
    return found if 0 < len(found.spans) <= FEW else None
