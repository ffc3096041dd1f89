"""From a layer that stops something to the line that is to blame.

One function a kind of layer. Each splits the missing ports by cause, so that a range that is
half switched off and half forgotten gives two causes, and nothing is blamed twice.
"""

from collections.abc import Iterator
from typing import Literal

from msgspec import Struct

from .filters import counts
from .forecast import Forecast
from .layers import Layer, Route, next_hops
from .ledger import Study
from .place import Place
from .ports import PortSet
from .session import entrances
from .site import INTERNET, Filter, Forward, Gateway, HostFilter, Rule
from .topology import Device, Topology

Role = Literal["control", "data"]


class Cause(Struct, frozen=True):
    """A kind of fault at a place. ``{ports}`` in the texts stands for the ports that it stops."""

    kind: str
    place: Place
    ports: PortSet
    text: str
    cure: str

    @property
    def message(self) -> str:
        """What is wrong, in a sentence."""
        return self.text.replace("{ports}", ports_phrase(self.ports))

    @property
    def advice(self) -> str:
        """What to do about it."""
        return self.cure.replace("{ports}", str(self.ports))


def ports_phrase(ports: PortSet) -> str:
    """``port 21``, ``ports 61200-61455``."""
    return f"port {ports}" if len(ports) == 1 else f"ports {ports}"


def causes_of(topology: Topology, study: Study) -> Iterator[Cause]:
    """Everything that stops a promise from being kept."""
    forecast = study.forecast
    if forecast.promise.holds == "shut":
        yield from _opened_against_promise(forecast)
    elif study.control_route is None:
        yield from _no_way_in(topology, forecast)
    elif forecast.promise.mode == "active" and not any(each.missing for each in study.control):
        yield from _cannot_return(topology, study)
    else:
        for layer in study.control:
            yield from _of_layer(topology, study, study.control_route, layer, "control")
        for layer in study.data if study.data_route else ():
            yield from _of_layer(topology, study, study.data_route, layer, "data")  # type: ignore[arg-type]


def _of_layer(topology: Topology, study: Study, route: Route, layer: Layer, role: Role) -> Iterator[Cause]:
    if not layer.missing or layer.aspect in ("hands-out", "control"):
        return
    if layer.aspect == "address":
        yield _announced(topology, study.forecast, layer)
    elif layer.aspect == "provider":
        gateway = _gateway(topology, layer.at)
        text = f"the provider of {gateway.name} never lets in {{ports}}"
        yield Cause("provider-blocks-port", layer.place, layer.missing, text, "use ports that the provider lets in")
    elif layer.aspect == "forwards":
        yield from _forwards(topology, route, layer, role)
    else:
        yield from _filter(topology, layer, role)


def _gateway(topology: Topology, name: str) -> Gateway:
    return next(each for each in topology.site.gateways if each.name == name)


def _announced(topology: Topology, forecast: Forecast, layer: Layer) -> Cause:
    """The client is told an address that leads nowhere from where it stands."""
    assert forecast.data is not None
    told, server, client = forecast.announced, topology.server.name, forecast.stand.name
    good = ", ".join(str(each) for each in entrances(topology, forecast.stand.network) if each.family == 4)
    text = f"{server} announces {told} to {client}"
    turning = next((each for each in topology.devices if told and told.number in each.outside_addresses), None)
    if forecast.stand.network == topology.server.network or any(s.reason == "no hairpin" for s in forecast.data.stops):
        place = (*layer.place[:-1], "announce_inside")
        text += f", which is inside{_turning_back(turning)}"
        cure = "set announce_inside: own, or hairpin: true where the device can"
        return Cause("announces-outside-to-inside", place, layer.missing, text, cure)
    if told is not None and told.kind != "public":
        text += f": {_article(told.kind)} address, which nobody outside can reach"
        return Cause("announces-private-address", layer.place, layer.missing, text, f"set announce: {good}")
    text += f", but is reached at {good}"
    return Cause("announces-stale-address", layer.place, layer.missing, text, f"set announce: {good}")


def _turning_back(device: Device | None) -> str:
    if device is None:
        return ""
    if device.spec.hairpin:
        return f": turned back by {device.name}, data comes from another address than the control connection"
    return f": {device.name} does not turn connections back"


def _article(kind: str) -> str:
    return f"an {kind}" if kind[0] in "aeiou" else f"a {kind}"


def _forwards(topology: Topology, route: Route, layer: Layer, role: Role) -> Iterator[Cause]:
    gateway = _gateway(topology, layer.at)
    place: Place = ("gateways", topology.site.gateways.index(gateway))
    reasons = {each.reason for each in layer.journeys}
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
    text = f"{gateway.name} has {_article(address.kind)} address on the internet side, {address}: "
    text += "nobody on the internet can reach its forwards"
    cure = "ask the provider for a public address, use IPv6, or forward on the device in front of it as well"
    return Cause("outside-address-not-public", (*place, "outside", "address"), ports, text, cure)


def _of_forward(
    topology: Topology, route: Route, gateway: Gateway, place: Place, forward: Forward, ports: PortSet
) -> Cause:
    """A forward that holds the ports and still does not serve them."""
    hops = next_hops(route, gateway)
    called = f"forward {_quoted(forward.name)}of {gateway.name}"
    if not forward.enabled:
        text = f"{called} is written but switched off"
        return Cause("forward-off", (*place, "enabled"), ports, text, "set enabled: true")
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


def _quoted(name: str) -> str:
    return f"“{name}” " if name else ""


def _not_forwarded(
    topology: Topology, route: Route, gateway: Gateway, place: Place, layer: Layer, left: PortSet, role: Role
) -> Cause:
    near = [
        (i, each)
        for i, each in enumerate(gateway.forwards)
        if each.enabled and each.protocol == "tcp" and _meant_for_data(topology, each.ports, layer.wanted)
    ]
    if role == "data" and near:
        i, forward = max(near, key=lambda pair: len(pair[1].ports & layer.wanted))
        text = f"{gateway.name} forwards {forward.ports}, {_hands_out(topology, route)} {layer.wanted}"
        cure = f"set ports of {_the('forward', forward.name)} to {layer.wanted}"
        return Cause("range-mismatch", (*place, "forwards", i, "ports"), left, text, cure)
    to = next_hops(route, gateway)
    cure = f"add under forwards: {{name: {role}, protocol: tcp, ports: {left}, to: {to}}}"
    return Cause("no-forward", (*place, "forwards"), left, f"{gateway.name} forwards nothing for {{ports}}", cure)


def _hands_out(topology: Topology, route: Route) -> str:
    return f"{route.end.name} hands out" if route.end is topology.server else f"{route.end.name} waits on"


def _the(what: str, name: str) -> str:
    return f"{what} “{name}”" if name else f"this {what}"


def _meant_for_data(topology: Topology, ports: PortSet, wanted: PortSet) -> bool:
    """A range that shares ports with the wanted one, or that can be for nothing else."""
    control = {each.control_port.number for each in topology.site.services}
    return bool(ports & wanted) or (1 < len(ports) < 60000 and not any(each in ports for each in control))


def _filter(topology: Topology, layer: Layer, role: Role) -> Iterator[Cause]:
    table, place, category = _table(topology, layer)
    verb = "let in" if layer.aspect in ("inward", "incoming") else "let out"
    left = layer.missing
    for i, rule in enumerate(table.rules):
        hit = left & rule.ports
        if (
            hit
            and rule.protocol in ("tcp", "any")
            and (cause := _of_rule(layer, (*place, "rules", i), rule, hit, category))
        ):
            yield cause
            left = left - hit
    if not left:
        return
    near = [
        (i, each)
        for i, each in enumerate(table.rules)
        if each.action == "allow" and counts(each, category) and _meant_for_data(topology, each.ports, layer.wanted)
    ]
    if role == "data" and near:
        i, rule = max(near, key=lambda pair: len(pair[1].ports & layer.wanted))
        text = f"{layer.at} {verb.replace('let', 'lets')} {rule.ports}, {topology.server.name} hands out {layer.wanted}"
        cure = f"set ports of {_the('rule', rule.name)} to {layer.wanted}"
        yield Cause("range-mismatch", (*place, "rules", i, "ports"), left, text, cure)
    else:
        cure = f"add under rules: {{name: {role}, action: allow, protocol: tcp, ports: {{ports}}}}"
        text = f"{layer.at} does not {verb} {{ports}}: no rule allows it, and its default is {table.default}"
        yield Cause("filter-blocks", place, left, text, cure)


def _of_rule(layer: Layer, place: Place, rule: Rule, ports: PortSet, category: str | None) -> Cause | None:
    """A rule about the missing ports that stops them, or that would let them pass and does not count."""
    called = f"rule {_quoted(rule.name)}of {layer.at}"
    if rule.action != "allow":
        stops = any(each.end.place == place for each in layer.journeys)
        text, cure = (
            f"{called} shuts {{ports}} ({rule.action})",
            "take these ports out of it, or put an allow before it",
        )
        return Cause("filter-blocks", place, ports, text, cure) if stops else None
    if not rule.enabled:
        text = f"{called} would let {{ports}} pass, but is switched off"
        return Cause("filter-blocks", (*place, "enabled"), ports, text, "set enabled: true")
    if not counts(rule, category):
        text = (
            f"{called} counts on a network of category {', '.join(rule.categories or ())} only, this one is {category}"
        )
        return Cause("filter-blocks", (*place, "categories"), ports, text, f"add {category} to its categories")
    if rule.from_ is not None or rule.to is not None or rule.from_ports is not None:
        key = "from" if rule.from_ is not None else "to" if rule.to is not None else "from_ports"
        only = rule.from_ or rule.to or rule.from_ports
        text = f"{called} lets {{ports}} pass for {key.replace('_', ' ')} {only} only"
        return Cause("filter-blocks", (*place, key), ports, text, f"widen {key}, or add a rule for these clients")
    return None


def _table(topology: Topology, layer: Layer) -> tuple[Filter, Place, str | None]:
    """The filter that a layer stands for, its place, and the network category that it sees."""
    site = topology.site
    if layer.aspect in ("inward", "outward"):
        gateway = _gateway(topology, layer.at)
        place: Place = ("gateways", site.gateways.index(gateway), "filter", layer.aspect)
        return (gateway.filter.inward if layer.aspect == "inward" else gateway.filter.outward), place, None
    if layer.at == site.server.name:
        return _way(site.server.filter, layer), ("server", "filter", layer.aspect), site.server.category
    i, client = next((i, each) for i, each in enumerate(site.clients) if each.name == layer.at)
    return _way(client.filter, layer), ("clients", i, "filter", layer.aspect), client.category


def _way(both: HostFilter, layer: Layer) -> Filter:
    return both.incoming if layer.aspect == "incoming" else both.outgoing


def _no_way_in(topology: Topology, forecast: Forecast) -> Iterator[Cause]:
    """The client goes to an address that does not lead to the server at all."""
    if forecast.target is None:
        return
    clients = topology.site.clients
    place: Place = next(
        (("clients", i, "reaches") for i, each in enumerate(clients) if each is forecast.stand.spec), forecast.place
    )
    good = ", ".join(map(str, entrances(topology, forecast.stand.network))) or "no address of the site"
    port = PortSet.single(forecast.service.control_port.number)
    text = (
        f"{forecast.stand.name} goes to {forecast.target}, but {topology.server.name} is reached from there at {good}"
    )
    yield Cause("no-way-in", place, port, text, f"let it reach {good}, and give the name that address")


def _cannot_return(topology: Topology, study: Study) -> Iterator[Cause]:
    """Active mode: the server's connection back to the client, as one cause."""
    forecast = study.forecast
    layer = next((each for each in study.data if each.missing), None)
    stop = forecast.stops[0] if forecast.stops else None
    server, client = topology.server.name, forecast.stand.name
    if stop and stop.reason == "address refused":
        text = f"{client} names {forecast.announced} for the connection back, {server} sees it elsewhere and refuses"
        place: Place = forecast.place
    elif layer:
        text = f"{server} cannot connect back to {client}: {layer.at} stops {_arriving(layer)}"
        place = layer.place
    elif stop:
        text, place = f"{server} cannot connect back to {client}: {stop.at} stops it", stop.place or forecast.place
    else:
        return
    cure = f"let {client} use passive mode; active mode needs its side to let port connections in from {server}"
    yield Cause("active-cannot-return", place, stop.ports if stop else PortSet(), text, cure)


def _arriving(layer: Layer) -> str:
    way = {"forwards": "it, having no forward", "outward": "it on the way out", "outgoing": "it on the way out"}
    return way.get(layer.aspect, "it on the way in")


def _opened_against_promise(forecast: Forecast) -> Iterator[Cause]:
    """A service that ought to be shut and is open, once for each line that opens it."""
    for journey in forecast.control:
        openers = [step for step in journey.steps if step.place and step.does in ("forward", "translate", "let-in")]
        if journey.outcome == "ok":
            step = openers[0] if openers else journey.end
            through = f"through {_quoted(step.rule or '')}of {step.at}" if openers else "with nothing in between"
            text = f"{forecast.stand.name} reaches {forecast.service.name}, which is to stay shut, {through}"
            cure = "take it out, or limit it to the addresses that need it"
            yield Cause("exposed-inside-service", step.place or forecast.place, journey.asked.ports, text, cure)
