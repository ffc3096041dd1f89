"""Forwards that do not serve the ports that they ought to."""

from collections.abc import Iterator

from .cause import Cause, Role, article, mismatch_kind, quoted, the
from .layers import Layer, Route, next_hops
from .place import Place
from .ports import PortSet
from .site import INTERNET, Forward, Gateway
from .topology import Topology


def gateway_of(topology: Topology, name: str) -> Gateway:
    """The gateway of this name."""
    return next(each for each in topology.site.gateways if each.name == name)


def forward_causes(topology: Topology, route: Route, layer: Layer, role: Role) -> Iterator[Cause]:
    """The forwards, or the lack of one, that keep a gateway from serving the ports."""
    gateway = gateway_of(topology, layer.at)
    place: Place = ("gateways", topology.site.gateways.index(gateway))
    reasons = {each.reason for each in layer.journeys}
    if "no way back" in reasons:
        return
    if "no path" in reasons and gateway.outside.network == INTERNET and route.flow.to.kind != "public":
        yield not_public(gateway, place, layer.missing)
    elif "no hairpin" in reasons:
        text = f"clients inside use the outside address {route.flow.to}, and {gateway.name} does not turn them back"
        cure = (
            f"let them use {route.end.addresses} (a name of its own inside), or set hairpin: true where the device can"
        )
        yield Cause("hairpin-needed", (*place, "hairpin"), layer.missing, text, cure)
    elif not gateway.forwarding:
        text = f"{gateway.name} has forwarding switched off, so none of its forwards counts"
        yield Cause("forward-off", (*place, "forwarding"), layer.missing, text, "set forwarding: true")
    else:
        left = layer.missing
        for i, forward in enumerate(gateway.forwards):
            hit = left & forward.ports
            if hit and forward.protocol == "tcp":
                yield _of_forward(topology, route, gateway, (*place, "forwards", i), forward, hit)
                left = left - hit
        if left:
            yield _not_forwarded(topology, route, gateway, place, layer, left, role)


def not_public(gateway: Gateway, place: Place, ports: PortSet) -> Cause:
    """A gateway whose outside address cannot be reached from the internet."""
    address = next(each for each in gateway.outside.address.each if each.kind != "public")
    text = f"{gateway.name} has {article(address.kind)} address on the internet side, {address}: "
    text += "nobody on the internet can reach its forwards"
    cure = "get a public address from the provider, use IPv6 or a relay outside, or forward on the device in front too"
    return Cause("outside-address-not-public", (*place, "outside", "address"), ports, text, cure)


def _of_forward(
    topology: Topology, route: Route, gateway: Gateway, place: Place, forward: Forward, ports: PortSet
) -> Cause:
    """A forward that names the ports and still does not serve them."""
    hops = next_hops(route, gateway)
    held = any(each is forward for _, each in gateway.entered_forwards())
    called = f"forward {quoted(forward.name)}of {gateway.name}"
    if not forward.enabled:
        text = f"{called} is written but switched off"
        return Cause("forward-off", (*place, "enabled"), ports, text, "set enabled: true")
    if not held and not gateway.forward_ranges and len(forward.ports) > 1:
        text = f"{gateway.name} takes single ports only, so that {called} cannot be entered"
        cure = "write one forward for each port, with a range as small as the load allows (forward_limit)"
        return Cause("range-not-forwardable", (*place, "ports"), ports, text, cure)
    if not held:
        text = f"{gateway.name} holds {gateway.forward_limit} forwards, and {called} is beyond that"
        cure = "join neighbouring ports into ranges, or take out what nobody needs"
        return Cause("forward-table-full", (*place[:2], "forward_limit"), ports, text, cure)
    if forward.to not in hops:
        meant = f"{route.end.name} has {hops}" if hops == route.end.addresses else f"the way leads on through {hops}"
        text = f"{called} leads to {forward.to}, but {meant}"
        return Cause("forward-wrong-host", (*place, "to"), ports, text, f"set to: {hops}")
    if forward.offset:
        text = f"{called} turns port {forward.ports.lowest} into {forward.to_port}, "
        text += f"but {route.end.name} waits on the port that it named"
        return Cause(
            "range-shifted",
            (*place, "to_port"),
            ports,
            text,
            f"take to_port out, or set to_port: {forward.ports.lowest}",
        )
    text = f"{called} takes connections from {forward.from_} only"
    return Cause("filter-blocks", (*place, "from"), ports, text, "take from out, or add the clients' addresses to it")


def _not_forwarded(
    topology: Topology, route: Route, gateway: Gateway, place: Place, layer: Layer, left: PortSet, role: Role
) -> Cause:
    near = [
        (i, each)
        for i, each in enumerate(gateway.forwards)
        if each.enabled and each.protocol == "tcp" and meant_for_data(topology, each.ports, layer.wanted)
    ]
    if role == "data" and near:
        i, forward = max(near, key=lambda pair: len(pair[1].ports & layer.wanted))
        text = f"{gateway.name} forwards {forward.ports}, {_hands_out(topology, route)} {layer.wanted}"
        cure = f"set ports of {the('forward', forward.name)} to {layer.wanted}"
        return Cause(mismatch_kind(forward.ports, layer.wanted), (*place, "forwards", i, "ports"), left, text, cure)
    to = next_hops(route, gateway)
    others = [
        (i, each)
        for i, each in enumerate(gateway.forwards)
        if each.enabled and each.to in to and not each.offset and other_port(topology, each.ports)
    ]
    if role == "control" and others:
        i, forward = others[0]
        text = f"{gateway.name} forwards port {forward.ports}, the control port is {left}"
        cure = f"set ports of {the('forward', forward.name)} to {left}"
        return Cause("control-port-differs", (*place, "forwards", i, "ports"), left, text, cure)
    cure = f"add under forwards: {{protocol: tcp, ports: {{ports}}, to: {to}}}"
    return Cause("no-forward", (*place, "forwards"), left, f"{gateway.name} forwards nothing for {{ports}}", cure)


def _hands_out(topology: Topology, route: Route) -> str:
    return f"{route.end.name} hands out" if route.end is topology.server else f"{route.end.name} waits on"


def meant_for_data(topology: Topology, ports: PortSet, wanted: PortSet) -> bool:
    """A range that shares ports with the wanted one, or that can be for nothing else."""
    control = {each.control_port.number for each in topology.site.services}
    return bool(ports & wanted) or (1 < len(ports) < 60000 and not any(each in ports for each in control))


def other_port(topology: Topology, ports: PortSet) -> bool:
    """One single port that no service of the site has: meant for some control port, it seems."""
    known = {20, *(each.control_port.number for each in topology.site.services)}
    return len(ports) == 1 and ports.lowest not in known
