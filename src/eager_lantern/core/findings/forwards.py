"""Causes at gateways: forwards that lead elsewhere or are not there, and FTP helpers.

Whether a helper makes the difference is not guessed: the promise is predicted again for the
site as it would be if the helper saw the session.
"""

from collections.abc import Iterator

from msgspec import structs
from msgspec.structs import replace

from ..model.change import change, changed
from ..model.entries import Port, Typed
from ..model.site import INTERNET, Forward, Gateway, Site, Tls
from ..network.topology import Topology
from ..network.translation import in_order
from ..predict.forecast import Forecast
from ..predict.ledger import Layer, Route, Study, next_hops
from ..predict.session import predict
from ..values.addresses import Address, Addresses, AddressSet
from ..values.phrases import article, flow_text, ports_phrase, quoted, the
from ..values.ports import UNPRIVILEGED, PortSet
from ..values.text_value import SitePath
from .cause import (
    Cause,
    Mend,
    Role,
    adds,
    by_passive,
    control_port_differs,
    is_named_for,
    is_wider,
    meant_for,
    meant_for_data,
    mismatch_kind,
    other_port,
    range_differs,
    range_not_fixed,
    serves_only,
    sets,
    switched_on,
    too_wide,
    widens,
)
from .filters import Stopped


def forward_causes(topology: Topology, route: Route, layer: Layer, role: Role, service: str) -> Iterator[Cause]:
    """The forwards, or the lack of one, that keep a gateway from serving the ports of a service."""
    gateway = topology.gateway(layer.at)
    place: SitePath = ("gateways", topology.site.gateways.index(gateway))
    reasons = {each.reason for each in layer.journeys}
    if "no way back" in reasons:
        return
    if "no path" in reasons and gateway.outside.network == INTERNET and route.goal.kind != "public":
        yield not_public(gateway, place, layer.shut)
    elif "no hairpin" in reasons:
        text = f"clients inside use the outside address {route.goal}, and {gateway.name} does not turn them back"
        cure = (
            f"let them use {route.end.addresses} (a name of its own inside), or set hairpin: true where the device can"
        )
        mends = (*going_straight(topology, route.started_by), *sets(topology.site, (*place, "hairpin"), True))
        yield Cause("hairpin-needed", (*place, "hairpin"), layer.shut, text, cure, mends=mends)
    elif "answers bypass it" in reasons:
        text = f"{gateway.name} turns clients inside back and leaves their source as it is: answers bypass it"
        cure = f"let them use {route.end.addresses} (a name of its own inside), or set hairpin_source: inside"
        where = (*place, "hairpin_source")
        mends = (*going_straight(topology, route.started_by), *sets(topology.site, where, "inside"))
        yield Cause("answers-bypass-device", where, layer.shut, text, cure, mends=mends)
    elif not gateway.forwarding and (wider := list(_wider_forwards(topology, route, layer, gateway, place, role))):
        yield from wider
    elif not gateway.forwarding:
        text = f"{gateway.name} has forwarding switched off, so none of its forwards counts"
        on = (*place, "forwarding")
        mends = sets(topology.site, on, True)
        yield Cause("forward-off", on, layer.shut, text, "set forwarding: true", mends=mends)
    elif next_hops(route, gateway) or role == "control":
        left = layer.shut
        for i, forward in in_order(gateway, list(enumerate(gateway.forwards))):
            hit = left & forward.ports
            if hit and _is_about(forward, route.goal):
                cause = _of_forward(topology, route, layer, (*place, "forwards", i), forward, hit, role)
                yield from (cause,) if cause else ()
                left = left - hit if cause or forward.protocol == "tcp" else left
                if cause and role == "data" and meant_for_data(topology, forward, layer.wanted):
                    left = PortSet()  # the rest is to be looked at once this one counts
        if left:
            yield _not_forwarded(topology, route, gateway, place, layer, left, role, service)


def going_straight(topology: Topology, name: str) -> tuple[Mend, ...]:
    """Whoever stands where the server's own address can be seen goes straight to it."""
    client = topology.client(name)
    spec = topology.site.clients[topology.client_index(name)] if client else None
    if client is None or spec is None or spec.reaches is None or client.network == INTERNET:
        return ()
    seen = tuple(each for each in topology.server.addresses.each if topology.sees(client.network, each))
    place: SitePath = ("clients", topology.client_index(name), "reaches")
    return sets(topology.site, place, Typed(Addresses(seen), port=spec.reaches.port)) if seen else ()


def _wider_forwards(
    topology: Topology, route: Route, layer: Layer, gateway: Gateway, place: SitePath, role: Role
) -> Iterator[Cause]:
    """Forwards of the data range that would open more than it once the device forwards again."""
    for i, each in enumerate(gateway.forwards if role == "data" else ()):
        ours = each.enabled and each.to in next_hops(route, gateway) and not serves_only(topology.site, each)
        if ours and each.ports & layer.wanted and is_wider(topology, each, layer.wanted):
            where, what = (*place, "forwards", i, "ports"), the("forward", each.name)
            wide = too_wide(topology.site, layer, where, what, layer.shut, each.ports)
            yield replace(wide, mends=(*wide.mends, *sets(topology.site, (*place, "forwarding"), True)))


def _is_about(forward: Forward, address: Address) -> bool:
    """Whether a forward is for connections to this outside address."""
    return forward.to.family == address.family and forward.outside in (None, address)


def not_public(gateway: Gateway, place: SitePath, ports: PortSet) -> Cause:
    """A gateway whose outside address cannot be reached from the internet."""
    address = next(each for each in gateway.outside.address.each if each.kind != "public")
    text = f"{gateway.name} has {article(address.kind)} address on the internet side, {address}: "
    text += "nobody on the internet can reach its forwards"
    cure = "get a public address from the provider, use IPv6 or a relay outside, or forward on the device in front too"
    return Cause("outside-address-not-public", (*place, "outside", "address"), ports, text, cure)


def _of_forward(
    topology: Topology, route: Route, layer: Layer, place: SitePath, forward: Forward, ports: PortSet, role: Role
) -> Cause | None:
    """A forward that names the ports and still does not serve them."""
    site = topology.site
    gateway = site.gateways[int(place[1])]
    hops = next_hops(route, gateway)
    if role == "data" and not serves_only(site, forward) and is_wider(topology, forward, layer.wanted):
        wide = too_wide(site, layer, (*place, "ports"), the("forward", forward.name), ports, forward.ports)
        others = widens(site, (*place, "from")) if forward.enabled and forward.from_ is not None else ()
        whom = Stopped.at(layer, None, "").whom if others else wide.whom
        return replace(wide, mends=(*wide.mends, *switched_on(site, place, forward), *others), whom=whom)
    held = any(each is forward for _, each in gateway.entered_forwards())
    called = f"forward {quoted(forward.name)}of {gateway.name}"
    if forward.protocol == "udp":
        if forward.to not in hops or not serves_only(site, forward, by_udp=True):
            return None
        where, text = (*place, "protocol"), f"{called} hands on {{ports}} by UDP, and not by TCP"
        return Cause("no-forward", where, ports, text, "set protocol: tcp", mends=sets(site, where, "tcp"))
    if not forward.enabled:
        text = f"{called} is written but switched off"
        on = (*place, "enabled")
        return Cause("forward-off", on, ports, text, "set enabled: true", mends=sets(site, on, True))
    if not held and not gateway.forward_ranges and len(forward.ports) > 1:
        text = f"{gateway.name} takes single ports only, so that {called} cannot be entered"
        cure = "write one forward for each port, with a range as small as the load allows (forward_limit)"
        mends = _singly(site, place, forward)
        return Cause("range-not-forwardable", (*place, "ports"), ports, text, cure, mends=mends)
    if not held:
        text = f"{gateway.name} holds {gateway.forward_limit} forwards, and {called} is beyond that"
        cure = "join neighbouring ports into ranges, or take out what nobody needs"
        return Cause("forward-table-full", (*place[:2], "forward_limit"), ports, text, cure)
    if not hops:
        text = f"{called} leads to {forward.to}, and {route.end.name} has no IPv{forward.to.family} address"
        cure = f"give {route.end.name} an IPv{forward.to.family} address, or take the forward out"
        return Cause("forward-wrong-host", (*place, "to"), ports, text, cure)
    if forward.to not in hops:
        meant = f"{route.end.name} has {hops}" if hops == route.end.addresses else f"the way leads on through {hops}"
        text = f"{called} leads to {forward.to}, but {meant}"
        if not _is_ours(topology, forward, layer.wanted):
            cure = "use other ports for one of the two: each outside port leads to one host"
            return Cause("forward-wrong-host", (*place, "to"), ports, text, cure)
        mends = sets(site, (*place, "to"), hops.each[0]) if hops else ()
        return Cause("forward-wrong-host", (*place, "to"), ports, text, f"set to: {hops}", mends=mends)
    before, behind = route.moved_at(gateway.name) or (0, 0)
    if role == "control" and forward.offset != behind - before:
        text = f"{called} turns port {before} into {before + forward.offset}, where the control port is {behind}"
        first = behind - before + forward.ports.lowest
        cure = f"set to_port: {first}"
        mends = sets(site, (*place, "to_port"), Port(first)) if len(forward.ports.spans) == 1 and first > 0 else ()
        return Cause("control-port-differs", (*place, "to_port"), ports, text, cure, mends=mends)
    if role == "data" and forward.offset:
        text = f"{called} turns port {forward.ports.lowest} into {forward.to_port}, "
        text += f"but {route.end.name} listens on the port that it named"
        return Cause(
            "range-shifted",
            (*place, "to_port"),
            ports,
            text,
            f"take to_port out, or set to_port: {forward.ports.lowest}",
            mends=sets(site, (*place, "to_port"), None),
        )
    if forward.from_ is None:
        return None
    text, where = f"{called} takes connections from {forward.from_} only", (*place, "from")
    whom = Stopped.at(layer, None, "").whom
    return Cause("filter-blocks", where, ports, text, "add {whom} to its from", mends=widens(site, where), whom=whom)


MOST_SINGLY = 64
"""Ports of a range that somebody might still enter one by one."""


def _singly(site: Site, place: SitePath, forward: Forward) -> tuple[Mend, ...]:
    """A forward of a range as one of each port, where there is room for all."""
    gateway, index = site.gateways[int(place[1])], int(place[-1])
    singles = tuple(
        replace(forward, ports=PortSet.single(port), to_port=Port(port + forward.offset) if forward.offset else None)
        for port in (forward.ports if len(forward.ports) <= MOST_SINGLY else ())
    )
    whole = (*gateway.forwards[:index], *singles, *gateway.forwards[index + 1 :])
    has_room = gateway.forward_limit is None or len(whole) <= gateway.forward_limit
    return sets(site, place[:-1], whole) if singles and has_room else ()


def _is_ours(topology: Topology, forward: Forward, wanted: PortSet) -> bool:
    """Whether a forward that leads elsewhere is meant for the server: nobody of the site is there, or its name states
    what it is for."""
    elsewhere = {address for each in topology.clients for address in each.addresses.each}
    return forward.to not in elsewhere or is_named_for(topology, forward, wanted)


def _not_forwarded(
    topology: Topology,
    route: Route,
    gateway: Gateway,
    place: SitePath,
    layer: Layer,
    left: PortSet,
    role: Role,
    service: str,
) -> Cause:
    to, stopped = next_hops(route, gateway), Stopped.at(layer, None, service)
    near = [
        (i, each)
        for i, each in enumerate(gateway.forwards)
        if each.enabled
        and each.protocol == "tcp"
        and each.to in to
        and (each.from_ is None or (stopped.whom is not None and stopped.whom <= each.from_))
        and meant_for_data(topology, each, layer.wanted)
        and _is_about(each, route.goal)
    ]
    if role == "data" and near:
        i, forward = max(near, key=lambda pair: len(pair[1].ports & layer.wanted))
        if layer.wanted == UNPRIVILEGED:
            return range_not_fixed(
                topology.site, service, f"{gateway.name} forwards {forward.ports}", forward.ports, left
            )
        text = f"{gateway.name} forwards {forward.ports}, {_hands_out(topology, route)} {layer.wanted}"
        where, what = (*place, "forwards", i, "ports"), the("forward", forward.name)
        return range_differs(topology.site, where, what, layer.wanted, left, text)
    if (k := _of_other_transport(topology, gateway, to, layer.wanted if role == "data" else left)) is not None:
        forward = gateway.forwards[k]
        text = f"{the('forward', forward.name)} of {gateway.name} is for {ports_phrase(forward.ports)} by UDP, and "
        text += f"{{ports}} by TCP {'is' if len(left) == 1 else 'are'} wanted"
        where = (*place, "forwards", k, "protocol")
        cure, mends = "set protocol: tcp, and its ports", sets(topology.site, where, "tcp")
        return Cause("no-forward", where, left, text, cure, mends=mends)
    others = [
        (i, each)
        for i, each in enumerate(gateway.forwards)
        if each.enabled
        and each.protocol == "tcp"
        and each.to in to
        and not each.offset
        and other_port(topology, each.ports)
        and meant_for(topology, each, left)
    ]
    if role == "control" and others:
        i, forward = others[0]
        text = f"{gateway.name} forwards port {forward.ports}, the control port is {left}"
        where, what = (*place, "forwards", i, "ports"), the("forward", forward.name)
        return control_port_differs(topology.site, where, what, left, text)
    if role == "control" and (typed := _typed_otherwise(topology, route, gateway, left, stopped)):
        return typed
    if left == UNPRIVILEGED:
        text = f"{gateway.name} forwards nothing for {{ports}}, and {service} has no fixed passive range"
        return Cause(
            "no-forward", (*place, "forwards"), left, text, "fix a passive range first, then forward that range"
        )
    outside = route.goal if len(gateway.outside_addresses.of_family(route.goal.family)) > 1 else None
    only = f", outside: {outside}" if outside else ""
    name = flow_text(service)
    cure = f"add under forwards: {{name: {name}, protocol: tcp, ports: {{ports}}, to: {to}{{from}}{only}}}"

    def made(ports: PortSet, whom: AddressSet | None) -> Forward:
        return Forward(name=service, ports=ports, to=to.each[0], from_=whom, outside=outside)

    where, text = (*place, "forwards"), f"{gateway.name} forwards nothing for {{ports}}"
    apart = role if gateway.ftp_helper else ""  # what a helper lets in by itself needs no forward
    about = f"{stopped.about} {to} {outside or ''} {apart}".strip()
    mends = adds(topology.site, where, made) if to else ()
    return Cause("no-forward", where, left, text, cure, about=about, mends=mends, whom=stopped.whom)


def _of_other_transport(topology: Topology, gateway: Gateway, to: Addresses, wanted: PortSet) -> int | None:
    """A forward that has the name of these ports, and them with a slip or one that no service has, and is of UDP, where
    no service is meant to."""
    if any(each.passive and "udp" in each.passive.protocols for each in topology.site.services):
        return None
    for i, each in enumerate(gateway.forwards):
        slipped = mismatch_kind(each.ports, wanted) == "range-typo"
        slipped = slipped or (len(wanted) == 1 and other_port(topology, each.ports))
        ours = each.enabled and each.protocol == "udp" and each.to in to
        if ours and slipped and is_named_for(topology, each, wanted):
            return i
    return None


def _typed_otherwise(
    topology: Topology, route: Route, gateway: Gateway, left: PortSet, stopped: Stopped
) -> Cause | None:
    """A client that types another port than the one under which a device shows the service."""
    steps = route.moved_at(gateway.name)
    behind = steps[1] if steps else left.lowest
    name = route.started_by
    for i, client in enumerate(topology.site.clients):
        if client.name != name or client.reaches is None:
            continue
        for _, forward in gateway.entered_forwards():
            port = behind - forward.offset
            if forward.protocol == "tcp" and port in forward.ports and forward.to in next_hops(route, gateway):
                text = f"{name} goes to port {left}, {gateway.name} shows the service at port {port}"
                typed = Typed(client.reaches.addresses, client.reaches.name, Port(port))
                inside = Port(behind) if left != PortSet.single(behind) else None
                elsewhere = f", to_port: {inside}" if inside else ""
                cure = (
                    f"forward port {left} as well: add under forwards: {{name: {flow_text(stopped.service)}, protocol: "
                )
                cure += f"tcp, ports: {{ports}}, to: {forward.to}{elsewhere}{{from}}}}; or let {name} type {typed}"
                where: SitePath = ("clients", i, "reaches")

                new = Forward(ports=left, to=forward.to, name=stopped.service, to_port=inside)

                def door(ports: PortSet, whom: AddressSet | None, new: Forward = new) -> Forward:
                    return replace(new, ports=ports, from_=whom)

                at: SitePath = ("gateways", topology.site.gateways.index(gateway), "forwards")
                mends = (*adds(topology.site, at, door), *sets(topology.site, where, typed))
                return Cause("control-port-differs", where, left, text, cure, mends=mends, whom=stopped.whom)
    return None


def _hands_out(topology: Topology, route: Route) -> str:
    return (
        f"the passive range of {route.end.name} is" if route.end is topology.server else f"{route.end.name} listens on"
    )


def helper_cause(topology: Topology, study: Study) -> Cause | None:
    """The cause, where a helper would make the promise kept."""
    forecast = study.forecast
    if forecast.service.protocol != "ftp" or (not forecast.data and forecast.rung != "announce"):
        return None
    return _blind(topology, forecast) or _helper_needed(topology, forecast)


def _blind(topology: Topology, forecast: Forecast) -> Cause | None:
    """The helper on the way that would do it, if the session were in clear."""
    if not forecast.position.spec.secures(forecast.service.tls):
        return None
    services = tuple(
        structs.replace(each, tls=Tls()) if each is forecast.service else each for each in topology.site.services
    )
    clear = structs.replace(topology.site, services=services)
    helpers = [i for i, each in enumerate(clear.gateways) if each.ftp_helper and _on_way(topology, forecast, i)]
    if not helpers or not _is_kept(clear, forecast):
        return None
    index = next((i for i in helpers if not _is_kept(_with_helper(clear, i, False), forecast)), None)
    if index is None:
        return None
    gateway = topology.site.gateways[index]
    place: SitePath = ("gateways", index, "ftp_helper")
    if forecast.promise.mode == "active":
        text = (
            f"{forecast.position.name} uses active mode through {gateway.name}, whose helper cannot read it under TLS"
        )
        cure = f"let {forecast.position.name} use passive mode: under TLS no device follows active mode"
        return Cause("active-cannot-return", place, PortSet(), text, cure, about=forecast.position.name)
    text = f"the helper of {gateway.name} cannot read {forecast.service.name} under TLS, and the site relies on it"
    cure = "forward the whole passive range and announce the outside address; the helper is then not needed"
    return Cause("helper-blind", place, PortSet(), text, cure)


def _helper_needed(topology: Topology, forecast: Forecast) -> Cause | None:
    """Active mode in clear behind a translation whose helper is switched off."""
    if forecast.promise.mode != "active" or forecast.position.spec.secures(forecast.service.tls):
        return None
    for i, gateway in enumerate(topology.site.gateways):
        family = forecast.target.family if forecast.target else 4
        on_way = (
            gateway.translates(family) != "none"
            and not gateway.ftp_helper
            and _at_client_side(topology, forecast, gateway)
        )
        if on_way and _is_kept(_with_helper(topology.site, i, True), forecast):
            text = f"{forecast.position.name} uses active mode behind {gateway.name}, which does not follow it"
            reads = f"plain FTP on port {gateway.helper_ports} only"
            cure = f"let it use passive mode, or switch on the FTP helper there ({reads})"
            where = ("gateways", i, "ftp_helper")
            mends = (*by_passive(topology, forecast), *sets(topology.site, where, True))
            return Cause("helper-needed", where, PortSet(), text, cure, mends=mends)
    return None


def _with_helper(site: Site, index: int, reads: bool) -> Site:
    return changed(site, change(site, ("gateways", index, "ftp_helper"), reads))


def _on_way(topology: Topology, forecast: Forecast, index: int) -> bool:
    name = topology.site.gateways[index].name
    return any(step.at == name for journey in forecast.control for step in journey.steps)


def _at_client_side(topology: Topology, forecast: Forecast, gateway: Gateway) -> bool:
    chain = topology.chain(forecast.position.network, topology.server.network) or ()
    return any(each.device.spec is gateway and each.way == "outward" for each in chain)


def _is_kept(site: Site, forecast: Forecast) -> bool:
    return predict(Topology(site), forecast.promise, forecast.place).kept is True
