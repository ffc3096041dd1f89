"""Causes on the way of a connection: filters, forwards, FTP helpers.

Whether a helper makes the difference is not guessed: the promise is predicted again for the
site as it would be if the helper saw the session.
"""

from collections.abc import Callable, Iterator

from msgspec import structs

from ..model.change import Change, change, changed, value_at
from ..model.entries import Port, Typed
from ..model.site import INTERNET, Filter, Forward, Gateway, HostFilter, Rule, Site, Tls
from ..network.filters import counts
from ..network.topology import Topology
from ..network.translation import in_order
from ..predict.forecast import Forecast
from ..predict.ledger import Layer, Route, Study, next_hops
from ..predict.session import predict
from ..values.addresses import Address, AddressSet
from ..values.phrases import article, only_from, quoted, the
from ..values.ports import PortSet
from ..values.text_value import SitePath
from .cause import FEW, Cause, Role, adds, control_port_differs, is_slip, range_differs, sets

_INFINITIVES = {"allows in": "let in", "allows out": "let out"}


def filter_causes(topology: Topology, layer: Layer, role: Role, whom: AddressSet | None) -> Iterator[Cause]:
    """The rules, or the lack of one, that keep a filter from passing what it ought to; ``whom`` a new one is for."""
    table, place, category = _filter_of_layer(topology, layer)
    verb = "allows in" if layer.aspect in ("inward", "incoming") else "allows out"
    left = layer.shut
    for i, rule in enumerate(table.rules):
        hit = left & rule.ports
        if (
            hit
            and rule.protocol in ("tcp", "any")
            and (cause := _rule_cause(topology.site, layer, (*place, "rules", i), rule, hit, category))
        ):
            yield cause
            left = left - hit
    if not left:
        return
    near = [
        (i, each)
        for i, each in enumerate(table.rules)
        if _lets_tcp(each, category) and meant_for_data(topology, each.ports, layer.wanted)
    ]
    if role == "data" and near:
        i, rule = max(near, key=lambda pair: len(pair[1].ports & layer.wanted))
        text = f"{layer.at} {verb} {rule.ports}, the passive range of {topology.server.name} is {layer.wanted}"
        where, what = (*place, "rules", i, "ports"), the("rule", rule.name)
        yield range_differs(topology.site, where, what, layer.wanted, left, text)
        return
    others = [
        (i, each)
        for i, each in enumerate(table.rules)
        if _lets_tcp(each, category) and other_port(topology, each.ports) and meant_for(topology, each, left)
    ]
    if role == "control" and others:
        i, rule = others[0]
        text = f"{layer.at} {verb} port {rule.ports}, the control port is {left}"
        yield control_port_differs(topology.site, (*place, "rules", i, "ports"), the("rule", rule.name), left, text)
    else:
        cure = f"add under rules: {{action: allow, protocol: tcp, ports: {{ports}}{only_from(whom)}}}"
        text = (
            f"{layer.at} does not {_INFINITIVES[verb]} {{ports}}: no rule allows it, and its default is {table.default}"
        )
        mends = adds(
            topology.site,
            (*place, "rules"),
            lambda ports: Rule(action="allow", protocol="tcp", ports=ports, from_=whom),
        )
        yield Cause("filter-blocks", place, left, text, cure, mends=mends)


def _lets_tcp(rule: Rule, category: str | None) -> bool:
    return rule.action == "allow" and rule.protocol != "udp" and counts(rule, category)


def _rule_cause(
    site: Site, layer: Layer, place: SitePath, rule: Rule, ports: PortSet, category: str | None
) -> Cause | None:
    """A rule about the missing ports that stops them, or that would let them pass and does not count."""
    called = f"rule {quoted(rule.name)}of {layer.at}"
    if rule.action == "unknown":
        return None
    if rule.action != "allow":
        stops = any(each.end.place == place for each in layer.journeys)
        text, cure = (
            f"{called} shuts {{ports}} ({rule.action})",
            "take these ports out of it, or put an allow before it",
        )
        return Cause("filter-blocks", place, ports, text, cure, mends=_without(site, place, rule)) if stops else None
    if not rule.enabled:
        text = f"{called} would let {{ports}} pass, but is switched off"
        on = (*place, "enabled")
        return Cause("filter-blocks", on, ports, text, "set enabled: true", mends=sets(site, on, True))
    if not counts(rule, category):
        text = (
            f"{called} counts on a network of category {', '.join(rule.categories or ())} only, this one is {category}"
        )
        where, names = (*place, "categories"), rule.categories or ()
        mends = sets(site, where, (*names, category)) if category else ()
        return Cause("rule-wrong-category", where, ports, text, f"add {category} to its categories", mends=mends)
    if rule.from_ is not None or rule.to is not None or rule.from_ports is not None:
        key = "from" if rule.from_ is not None else "to" if rule.to is not None else "from_ports"
        only = rule.from_ or rule.to or rule.from_ports
        which = {"from": "from", "to": "to", "from_ports": "from source ports"}[key]
        text = f"{called} lets {{ports}} pass {which} {only} only"
        cure = f"widen {key}, or add a rule for these clients"
        return Cause("filter-blocks", (*place, key), ports, text, cure, mends=_widened(site, layer, place, key))
    return None


def _without(site: Site, place: SitePath, rule: Rule) -> tuple[Callable[[PortSet], Change], ...]:
    """The ports taken out of a rule that stops them, or the rule switched off where it would be left with none."""

    def mend(ports: PortSet) -> Change:
        left = rule.ports - ports
        return change(site, (*place, "ports"), left) if left else change(site, (*place, "enabled"), False)

    return (mend,)


def _widened(site: Site, layer: Layer, place: SitePath, key: str) -> tuple[Callable[[PortSet], Change], ...]:
    """A rule that lets in those who are stopped as well; anybody only where they are too many to write down."""
    own = value_at(site, (*place, key))
    if key == "from":
        for each in layer.journeys:
            own = own | each.flow.sources
        if len(own.spans) <= FEW:
            return sets(site, (*place, key), own)
    return sets(site, (*place, key), None)


def _filter_of_layer(topology: Topology, layer: Layer) -> tuple[Filter, SitePath, str | None]:
    """The filter that a layer stands for, its place, and the network category that it sees."""
    site = topology.site
    if layer.aspect in ("inward", "outward"):
        gateway = gateway_of(topology, layer.at)
        place: SitePath = ("gateways", site.gateways.index(gateway), "filter", layer.aspect)
        return (gateway.filter.inward if layer.aspect == "inward" else gateway.filter.outward), place, None
    if layer.at == site.server.name:
        return _way(site.server.filter, layer), ("server", "filter", layer.aspect), site.server.category
    i, client = next((i, each) for i, each in enumerate(site.clients) if each.name == layer.at)
    return _way(client.filter, layer), ("clients", i, "filter", layer.aspect), client.category


def _way(both: HostFilter, layer: Layer) -> Filter:
    return both.incoming if layer.aspect == "incoming" else both.outgoing


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
            return Cause("helper-needed", where, PortSet(), text, cure, mends=sets(topology.site, where, True))
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


def gateway_of(topology: Topology, name: str) -> Gateway:
    """The gateway of this name."""
    return next(each for each in topology.site.gateways if each.name == name)


def forward_causes(
    topology: Topology, route: Route, layer: Layer, role: Role, whom: AddressSet | None
) -> Iterator[Cause]:
    """The forwards, or the lack of one, that keep a gateway from serving the ports; ``whom`` a new one is for."""
    gateway = gateway_of(topology, layer.at)
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
        mends = sets(topology.site, (*place, "hairpin"), True)
        yield Cause("hairpin-needed", (*place, "hairpin"), layer.shut, text, cure, mends=mends)
    elif "answers bypass it" in reasons:
        text = f"{gateway.name} turns clients inside back and leaves their source as it is: answers bypass it"
        cure = f"let them use {route.end.addresses} (a name of its own inside), or set hairpin_source: inside"
        where = (*place, "hairpin_source")
        mends = sets(topology.site, where, "inside")
        yield Cause("answers-bypass-device", where, layer.shut, text, cure, mends=mends)
    elif not gateway.forwarding:
        text = f"{gateway.name} has forwarding switched off, so none of its forwards counts"
        on = (*place, "forwarding")
        mends = sets(topology.site, on, True)
        yield Cause("forward-off", on, layer.shut, text, "set forwarding: true", mends=mends)
    elif next_hops(route, gateway) or role == "control":
        left = layer.shut
        for i, forward in in_order(gateway, list(enumerate(gateway.forwards))):
            hit = left & forward.ports
            meant = forward.protocol == "tcp" and _is_about(forward, route.goal)
            if hit and meant:
                cause = _of_forward(topology.site, route, layer, (*place, "forwards", i), forward, hit, role)
                yield from (cause,) if cause else ()
                left = left - hit
        if left:
            yield _not_forwarded(topology, route, gateway, place, layer, left, role, whom)


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
    site: Site, route: Route, layer: Layer, place: SitePath, forward: Forward, ports: PortSet, role: Role
) -> Cause | None:
    """A forward that names the ports and still does not serve them."""
    gateway = site.gateways[int(place[1])]
    hops = next_hops(route, gateway)
    held = any(each is forward for _, each in gateway.entered_forwards())
    called = f"forward {quoted(forward.name)}of {gateway.name}"
    if not forward.enabled:
        text = f"{called} is written but switched off"
        on = (*place, "enabled")
        return Cause("forward-off", on, ports, text, "set enabled: true", mends=sets(site, on, True))
    if not held and not gateway.forward_ranges and len(forward.ports) > 1:
        text = f"{gateway.name} takes single ports only, so that {called} cannot be entered"
        cure = "write one forward for each port, with a range as small as the load allows (forward_limit)"
        return Cause("range-not-forwardable", (*place, "ports"), ports, text, cure)
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
    text = f"{called} takes connections from {forward.from_} only"
    cure = "take from out, or add the clients' addresses to it"
    own = forward.from_
    for each in layer.journeys:
        own = own | each.flow.sources
    mends = (*(sets(site, (*place, "from"), own) if len(own.spans) <= FEW else ()), *sets(site, (*place, "from"), None))
    return Cause("filter-blocks", (*place, "from"), ports, text, cure, mends=mends)


def _not_forwarded(
    topology: Topology,
    route: Route,
    gateway: Gateway,
    place: SitePath,
    layer: Layer,
    left: PortSet,
    role: Role,
    whom: AddressSet | None,
) -> Cause:
    near = [
        (i, each)
        for i, each in enumerate(gateway.forwards)
        if each.enabled
        and each.protocol == "tcp"
        and meant_for_data(topology, each.ports, layer.wanted)
        and _is_about(each, route.goal)
    ]
    if role == "data" and near:
        i, forward = max(near, key=lambda pair: len(pair[1].ports & layer.wanted))
        text = f"{gateway.name} forwards {forward.ports}, {_hands_out(topology, route)} {layer.wanted}"
        where, what = (*place, "forwards", i, "ports"), the("forward", forward.name)
        return range_differs(topology.site, where, what, layer.wanted, left, text)
    to = next_hops(route, gateway)
    others = [
        (i, each)
        for i, each in enumerate(gateway.forwards)
        if each.enabled
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
    if role == "control" and (typed := _typed_otherwise(topology, route, gateway, left)):
        return typed
    cure = f"add under forwards: {{protocol: tcp, ports: {{ports}}, to: {to}{only_from(whom)}}}"
    where = (*place, "forwards")
    mends = adds(topology.site, where, lambda ports: Forward(ports=ports, to=to.each[0], from_=whom)) if to else ()
    return Cause("no-forward", where, left, f"{gateway.name} forwards nothing for {{ports}}", cure, mends=mends)


def _typed_otherwise(topology: Topology, route: Route, gateway: Gateway, left: PortSet) -> Cause | None:
    """A client that types another port than the one under which a device shows the service."""
    steps = route.moved_at(gateway.name)
    behind = steps[1] if steps else left.lowest
    name = route.origin if isinstance(route.origin, str) else route.origin.name
    for i, client in enumerate(topology.site.clients):
        if client.name != name or client.reaches is None:
            continue
        for _, forward in gateway.entered_forwards():
            port = behind - forward.offset
            if forward.protocol == "tcp" and port in forward.ports and forward.to in next_hops(route, gateway):
                text = f"{name} goes to port {left}, {gateway.name} shows the service at port {port}"
                typed = Typed(client.reaches.addresses, client.reaches.name, Port(port))
                cure = f"let clients type port {port} (reaches: {typed}), or set ports of"
                cure += f" {the('forward', forward.name)} to {left}"
                where: SitePath = ("clients", i, "reaches")
                return Cause("control-port-differs", where, left, text, cure, mends=sets(topology.site, where, typed))
    return None


def _hands_out(topology: Topology, route: Route) -> str:
    return (
        f"the passive range of {route.end.name} is" if route.end is topology.server else f"{route.end.name} listens on"
    )


def meant_for_data(topology: Topology, ports: PortSet, wanted: PortSet) -> bool:
    """A range that shares ports with the wanted one, or that can be for nothing else."""
    control = {each.control_port.number for each in topology.site.services}
    return bool(ports & wanted) or (1 < len(ports) < 60000 and not any(each in ports for each in control))


def meant_for(topology: Topology, entry: Rule | Forward, wanted: PortSet) -> bool:
    """Whether an entry of one port is clearly meant for another: its name states a service that has this one, or the
    number is the other's with a slip. Else it serves something of its own, and is left alone."""
    here = [each for each in topology.site.services if each.control_port.number in wanted]
    names = ["control", *(each.protocol for each in here if each.protocol != "other"), *(each.name for each in here)]
    own = _words(entry.name)
    return any(words and words <= own for words in map(_words, names)) or is_slip(entry.ports, wanted)


def _words(name: str) -> set[str]:
    return set("".join(each if each.isalnum() else " " for each in name.lower()).split())


def other_port(topology: Topology, ports: PortSet) -> bool:
    """One single port that no service of the site has: meant for some control port, it seems."""
    known = {20, *(each.control_port.number for each in topology.site.services)}
    return len(ports) == 1 and ports.lowest not in known
