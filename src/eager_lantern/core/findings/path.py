"""Causes on the way of a connection: filters, forwards, FTP helpers.

Whether a helper makes the difference is not guessed: the promise is predicted again for the
site as it would be if the helper saw the session.
"""

from collections.abc import Iterator

from msgspec import Struct, structs
from msgspec.structs import replace

from ..model.change import Change, change, changed
from ..model.entries import Port, Typed
from ..model.site import INTERNET, Filter, Forward, Gateway, HostFilter, Rule, Service, Site, Tls
from ..network.filters import counts
from ..network.flow import Flow, Journey
from ..network.topology import Topology, listens_on
from ..network.translation import in_order
from ..predict.forecast import Forecast
from ..predict.ledger import Layer, Route, Study, next_hops
from ..predict.session import predict
from ..values.addresses import Address, Addresses, AddressSet
from ..values.phrases import article, flow_text, quoted, the
from ..values.ports import UNPRIVILEGED, PortSet
from ..values.text_value import SitePath
from .cause import (
    NOBODY,
    Cause,
    Mend,
    Role,
    adds,
    control_port_differs,
    either,
    inserts,
    is_slip,
    mismatch_kind,
    not_fixed,
    range_differs,
    sets,
    widens,
)

_INFINITIVES = {"allows in": "let in", "allows out": "let out"}


def filter_causes(topology: Topology, layer: Layer, role: Role, service: str) -> Iterator[Cause]:
    """The rules, or the lack of one, that keep a filter from passing what it ought to of a service."""
    table, place, category = _filter_of_layer(topology, layer)
    verb = "allows in" if layer.aspect in ("inward", "incoming") else "allows out"
    stopped, left = Stopped.at(layer, category, service), layer.shut
    for i, rule in enumerate(table.rules):
        hit = left & rule.ports
        if hit and rule.action == "allow" and rule.program is None and not _serves_only(topology.site, rule):
            if role == "data" and not stopped.is_let_by(rule) and _is_wider(topology, rule, layer.wanted):
                where = (*place, "rules", i, "ports")
                wide = _too_wide(topology.site, layer, where, the("rule", rule.name), hit, rule.ports)
                yield replace(wide, mends=(*wide.mends, *_switched_on(topology.site, (*place, "rules", i), rule)))
                left = left - hit
            elif rule.from_ is None and rule.to is None and rule.from_ports is None:
                continue
        if hit & left and (cause := _rule_cause(topology.site, layer, (*place, "rules", i), rule, hit, stopped)):
            yield replace(cause, about=stopped.about if cause.whom is None or cause.whom else cause.about)
            left = left - hit
            if rule.action == "allow" and role == "data" and meant_for_data(topology, rule, layer.wanted):
                return  # the rest is to be looked at once this one counts
    if not left:
        return
    beside = adds(topology.site, (*place, "rules"), stopped.rule)
    near = [
        (i, each)
        for i, each in enumerate(table.rules)
        if stopped.is_let_by(each) and meant_for_data(topology, each, layer.wanted)
    ]
    if role == "data" and near:
        i, rule = max(near, key=lambda pair: len(pair[1].ports & layer.wanted))
        if layer.wanted == UNPRIVILEGED:
            yield _not_fixed(topology.site, service, f"{layer.at} {verb} {rule.ports}", rule.ports, left)
            return
        text = f"{layer.at} {verb} {rule.ports}, the passive range of {topology.server.name} is {layer.wanted}"
        where, what = (*place, "rules", i, "ports"), the("rule", rule.name)
        cause = range_differs(topology.site, where, what, layer.wanted, left, text)
        yield replace(cause, mends=(*cause.mends, *beside), whom=stopped.whom)
        return
    others = [
        (i, each)
        for i, each in enumerate(table.rules)
        if stopped.is_let_by(each) and other_port(topology, each.ports) and meant_for(topology, each, left)
    ]
    if role == "control" and others:
        i, rule = others[0]
        text = f"{layer.at} {verb} port {rule.ports}, the control port is {left}"
        where, what = (*place, "rules", i, "ports"), the("rule", rule.name)
        cause = control_port_differs(topology.site, where, what, left, text)
        yield replace(cause, mends=(*cause.mends, *beside), whom=stopped.whom)
    elif left == UNPRIVILEGED:
        text = f"{layer.at} does not {_INFINITIVES[verb]} {{ports}}, and {service} has no fixed passive range"
        yield Cause("filter-blocks", place, left, text, "fix a passive range first, then allow that range here")
    else:
        text = (
            f"{layer.at} does not {_INFINITIVES[verb]} {{ports}}: no rule allows it, and its default is {table.default}"
        )
        cure, about = f"add under rules: {stopped.rule_text}", stopped.about
        yield Cause("filter-blocks", place, left, text, cure, about=about, mends=beside, whom=stopped.whom)


def _not_fixed(site: Site, name: str, passes: str, passed: PortSet, left: PortSet) -> Cause:
    """A range that an entry passes, where the service has none of its own."""
    index = next(i for i, each in enumerate(site.services) if each.name == name)
    text = f"{passes}, and {name} has no fixed passive range: the server hands out any port"
    return not_fixed(site, index, site.services[index], text, passed & UNPRIVILEGED, left)


def _is_wider(topology: Topology, entry: Rule | Forward, wanted: PortSet) -> bool:
    """Whether an entry is for a range, and names more than it."""
    return len(entry.ports.spans) == 1 and bool(entry.ports - wanted) and meant_for_data(topology, entry, wanted)


def _too_wide(site: Site, layer: Layer, where: SitePath, what: str, ports: PortSet, written: PortSet) -> Cause:
    """An entry that does not count, and would open too much if it did: first of all its ports are put right."""
    text = f"{what} of {layer.at} is for {written}, the passive range is {layer.wanted}, and it does not count"
    return range_differs(site, where, what, layer.wanted, ports, text)


def _switched_on(site: Site, place: SitePath, entry: Rule | Forward) -> tuple[Mend, ...]:
    """An entry that is off, switched on as it is: that does no harm where something else stops what it has too much."""
    return () if entry.enabled else sets(site, (*place, "enabled"), True)


class Stopped(Struct, frozen=True):
    """What a filter stops as it sees it: whose connections (None where they are too many to write down), to which
    addresses where they do not end here, and the category of the host whose own it is."""

    service: str
    whom: AddressSet | None
    to: AddressSet | None
    category: str | None

    @classmethod
    def at(cls, layer: Layer, category: str | None, service: str) -> "Stopped":
        """What a layer stops of what it ought to pass."""
        asked = layer.shut.shift(-layer.moved)
        flows = [_as_met(each, layer.at) for each in layer.journeys if each.asked.ports & asked]
        whom: AddressSet | None = NOBODY if flows else None
        for each in flows:
            whom = either(whom, each.sources)
        to = AddressSet.single(*(each.to for each in flows)) if layer.aspect != "incoming" else None
        return cls(service, whom, to or None, category)

    def rule(self, ports: PortSet, whom: AddressSet | None) -> Rule:
        """The narrowest rule that lets it pass."""
        categories = (self.category,) if self.category else None
        return Rule(
            action="allow",
            name=self.service,
            protocol="tcp",
            ports=ports,
            from_=whom,
            to=self.to,
            categories=categories,
        )

    @property
    def rule_text(self) -> str:
        """The same in the words of the file."""
        to = "" if self.to is None else f", to: {self.to}" if len(self.to.spans) == 1 else f', to: "{self.to}"'
        categories = f", categories: [{self.category}]" if self.category else ""
        name = flow_text(self.service)
        return f"{{name: {name}, action: allow, protocol: tcp, ports: {{ports}}{{from}}{to}{categories}}}"

    @property
    def about(self) -> str:
        """What keeps rules apart that are not for the same."""
        return f"{self.service if self.whom is not None else ''} {self.to or ''}".strip()

    def is_let_by(self, rule: Rule) -> bool:
        """Whether a rule would let it pass, but for the ports."""
        return (
            rule.action == "allow"
            and rule.protocol != "udp"
            and rule.program is None
            and rule.from_ports is None
            and counts(rule, self.category)
            and (rule.from_ is None or (self.whom is not None and self.whom <= rule.from_))
            and (rule.to is None or (self.to is not None and self.to <= rule.to))
        )


def _as_met(journey: Journey, at: str) -> Flow:
    """A flow as a device met it last."""
    return next((each.flow for each in reversed(journey.steps) if each.at == at), journey.flow)


def _rule_cause(
    site: Site, layer: Layer, place: SitePath, rule: Rule, ports: PortSet, stopped: Stopped
) -> Cause | None:
    """A rule about the missing ports that stops them, or that would let them pass and does not count."""
    called, whom = f"rule {quoted(rule.name)}of {layer.at}", stopped.whom
    if rule.action == "unknown":
        return None
    if rule.action != "allow":
        if not any(each.end.place == place for each in layer.journeys):
            return None
        text, cure = f"{called} shuts {{ports}} ({rule.action})", f"put before it: {stopped.rule_text}"
        if rule.from_ is not None and _are_many(whom):
            advice = f"if it is meant, state so in the promise: except_for: {rule.from_}; else take it out"
            return Cause("filter-blocks", place, ports, f"{text}: it bans {rule.from_}", advice, whom=whom)
        mends = (*inserts(place, stopped.rule), *_without(site, place, rule))
        return Cause("filter-blocks", place, ports, text, cure, mends=mends, whom=whom)
    if rule.protocol == "udp":
        where = (*place, "protocol")
        text = f"{called} lets {{ports}} pass by UDP, and not by TCP"
        own = _serves_only(site, rule, by_udp=True)
        mends = sets(site, where, "tcp")
        return Cause("filter-blocks", where, ports, text, "set protocol: tcp", mends=mends) if own else None
    if not rule.enabled:
        text = f"{called} would let {{ports}} pass, but is switched off"
        on = (*place, "enabled")
        return Cause("filter-blocks", on, ports, text, "set enabled: true", mends=sets(site, on, True))
    if not counts(rule, stopped.category):
        text = f"{called} counts on a network of category {', '.join(rule.categories or ())} only, "
        text += f"this one is {stopped.category}"
        where, names = (*place, "categories"), rule.categories or ()
        mends = sets(site, where, (*names, stopped.category)) if stopped.category else ()
        cure = f"add {stopped.category} to its categories"
        return Cause("rule-wrong-category", where, ports, text, cure, mends=mends)
    if stopped.is_let_by(rule):
        return None
    return _limited_cause(site, layer, place, rule, ports, stopped)


MOST_NAMED_CLIENTS = 256
"""Addresses of clients, and of pools, that are meant one by one; a ban of more is a ban of strangers."""


def _are_many(whom: AddressSet | None) -> bool:
    return whom is None or sum(high - low + 1 for low, high in whom.spans) > MOST_NAMED_CLIENTS


def _limited_cause(
    site: Site, layer: Layer, place: SitePath, rule: Rule, ports: PortSet, stopped: Stopped
) -> Cause | None:
    """A rule for these ports alone that lets them pass for others only: widened where that opens nothing else, else one
    stands beside it."""
    limits = {"from": rule.from_, "to": rule.to, "from source ports": rule.from_ports}
    which, only = next(((name, each) for name, each in limits.items() if each is not None), ("", None))
    if not which or not _serves_only(site, rule):
        return None
    text = f"rule {quoted(rule.name)}of {layer.at} lets {{ports}} pass {which} {only} only"
    where, whom = (*place, "from_ports" if rule.from_ports is not None and which[0] != "t" else which), stopped.whom
    alone = sum(each is not None for each in limits.values()) == 1
    alone = alone and rule.protocol == "tcp" and (stopped.to is None or rule.to is not None)
    if which == "from" and alone:
        return Cause(
            "filter-blocks", where, ports, text, "add {whom} to its from", mends=widens(site, where), whom=whom
        )
    if which == "to" and alone and stopped.to is not None:
        whole = stopped.to | (rule.to or stopped.to)
        return Cause("filter-blocks", where, ports, text, f"set to: {whole}", mends=sets(site, where, whole))
    mends = adds(site, place[:-1], stopped.rule)
    return Cause("filter-blocks", where, ports, text, f"add under rules: {stopped.rule_text}", mends=mends, whom=whom)


def _serves_only(site: Site, entry: Rule | Forward, by_udp: bool = False) -> bool:
    """Whether a rule or forward names ports of the services alone, so that nothing else can need it."""
    used = PortSet()
    for each in site.services:
        used = used | listens_on(each)
        if by_udp and each.passive and "udp" in each.passive.protocols:
            return False
    return entry.ports <= used


def _without(site: Site, place: SitePath, rule: Rule) -> tuple[Mend, ...]:
    """The ports taken out of a rule that stops them for everybody, or the rule switched off where it would be left with
    none; one that bans some addresses is meant to."""
    if rule.from_ is not None or rule.to is not None or rule.from_ports is not None:
        return ()

    def mend(ports: PortSet, whom: AddressSet | None) -> Change:
        left = rule.ports - ports
        return change(site, (*place, "ports"), left) if left else change(site, (*place, "enabled"), False)

    return (mend,)


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


def forward_causes(topology: Topology, route: Route, layer: Layer, role: Role, service: str) -> Iterator[Cause]:
    """The forwards, or the lack of one, that keep a gateway from serving the ports of a service."""
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
        ours = each.enabled and each.to in next_hops(route, gateway) and not _serves_only(topology.site, each)
        if ours and each.ports & layer.wanted and _is_wider(topology, each, layer.wanted):
            where, what = (*place, "forwards", i, "ports"), the("forward", each.name)
            wide = _too_wide(topology.site, layer, where, what, layer.shut, each.ports)
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
    if role == "data" and not _serves_only(site, forward) and _is_wider(topology, forward, layer.wanted):
        wide = _too_wide(site, layer, (*place, "ports"), the("forward", forward.name), ports, forward.ports)
        return replace(wide, mends=(*wide.mends, *_switched_on(site, place, forward)))
    held = any(each is forward for _, each in gateway.entered_forwards())
    called = f"forward {quoted(forward.name)}of {gateway.name}"
    if forward.protocol == "udp":
        if forward.to not in hops or not _serves_only(site, forward, by_udp=True):
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
            return _not_fixed(topology.site, service, f"{gateway.name} forwards {forward.ports}", forward.ports, left)
        text = f"{gateway.name} forwards {forward.ports}, {_hands_out(topology, route)} {layer.wanted}"
        where, what = (*place, "forwards", i, "ports"), the("forward", forward.name)
        return range_differs(topology.site, where, what, layer.wanted, left, text)
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
                cure = f"let clients type port {port} (reaches: {typed}), or set ports of"
                cure += f" {the('forward', forward.name)} to {left}"
                where: SitePath = ("clients", i, "reaches")

                def door(ports: PortSet, whom: AddressSet | None, to: Address = forward.to) -> Forward:
                    return Forward(name=stopped.service, ports=ports, to=to, to_port=Port(behind), from_=whom)

                at: SitePath = ("gateways", topology.site.gateways.index(gateway), "forwards")
                mends = (*sets(topology.site, where, typed), *adds(topology.site, at, door))
                return Cause("control-port-differs", where, left, text, cure, mends=mends, whom=stopped.whom)
    return None


def _hands_out(topology: Topology, route: Route) -> str:
    return (
        f"the passive range of {route.end.name} is" if route.end is topology.server else f"{route.end.name} listens on"
    )


def meant_for_data(topology: Topology, entry: Rule | Forward, wanted: PortSet) -> bool:
    """Whether an entry is clearly meant for a range: what it names lies in that, or differs from it by a slip, or
    shares ports with it and has no name that states something else; or its name states that it is for data."""
    if any(each.control_port.number in entry.ports for each in topology.site.services):
        several = len(entry.ports.spans) > 1 and bool(entry.ports & wanted)
        return several or mismatch_kind(entry.ports, wanted) == "range-typo"
    if entry.ports <= wanted or mismatch_kind(entry.ports, wanted) == "range-typo":
        return True
    shares = bool(entry.ports & wanted)
    return (shares and not entry.name) or ((shares or len(entry.ports) > 1) and is_named_for(topology, entry, wanted))


def meant_for(topology: Topology, entry: Rule | Forward, wanted: PortSet) -> bool:
    """Whether an entry of one port is clearly meant for another: its name states a service that has this one, or the
    number is the other's with a slip. Else it serves something of its own, and is left alone."""
    return is_named_for(topology, entry, wanted) or is_slip(entry.ports, wanted)


def is_foreign(site: Site, service: Service, ports: PortSet) -> bool:
    """Whether these ports of the server are another program's by the name of the entry that passes them: a range of
    another service, or of none of the site."""
    own = replace(site, services=tuple(
        replace(each, passive=replace(each.passive, ports=ports)) if each is service and each.passive else each
        for each in site.services
    ))  # fmt: skip
    topology, server = Topology(own), site.server
    entries: list[Rule | Forward] = [each for each in server.filter.incoming.rules if each.action == "allow"]
    entries += [each for gateway in site.gateways for each in gateway.forwards]
    narrow = [each for each in entries if each.name and each.ports & ports and len(each.ports) <= 2 * len(ports)]
    narrow = [each for each in narrow if service.control_port.number not in each.ports]
    others = [each for each in site.services if each is not service and ports & listens_on(each)]
    return bool(others) or not all(is_named_for(topology, each, ports) for each in narrow)


def is_named_for(topology: Topology, entry: Rule | Forward, wanted: PortSet) -> bool:
    """Whether the words of an entry's name are those of a service that listens on these ports, or of what they are."""
    here = [each for each in topology.site.services if wanted & listens_on(each)]
    control = any(each.control_port.number in wanted for each in here)
    names = ["control"] if control else ["data", "passive", "pasv"]
    names += [*(each.protocol for each in here if each.protocol != "other"), *(each.name for each in here)]
    own = _words(entry.name)
    return any(words and words <= own for words in map(_words, names))


def _words(name: str) -> set[str]:
    return set("".join(each if each.isalnum() else " " for each in name.lower()).split())


def other_port(topology: Topology, ports: PortSet) -> bool:
    """One single port that no service of the site has: meant for some control port, it seems."""
    known = {20, *(each.control_port.number for each in topology.site.services)}
    return len(ports) == 1 and ports.lowest not in known
