"""Causes in filters: the rules, or the lack of one, that keep a filter from passing what it ought to."""

from collections.abc import Iterator

from msgspec import Struct
from msgspec.structs import replace

from ..model.change import Change, change
from ..model.site import Filter, HostFilter, Rule, Site
from ..network.filters import counts
from ..network.flow import Flow, Journey
from ..network.topology import Topology
from ..predict.ledger import Layer
from ..values.addresses import AddressSet
from ..values.phrases import flow_text, quoted, the
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
    is_wider,
    meant_for,
    meant_for_data,
    other_port,
    range_differs,
    range_not_fixed,
    serves_only,
    sets,
    switched_on,
    too_wide,
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
        if hit and rule.action == "allow" and rule.program is None and not serves_only(topology.site, rule):
            if role == "data" and not stopped.is_let_by(rule) and is_wider(topology, rule, layer.wanted):
                where = (*place, "rules", i, "ports")
                wide = too_wide(topology.site, layer, where, the("rule", rule.name), hit, rule.ports)
                yield replace(wide, mends=(*wide.mends, *switched_on(topology.site, (*place, "rules", i), rule)))
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
            yield range_not_fixed(topology.site, service, f"{layer.at} {verb} {rule.ports}", rule.ports, left)
            return
        text = f"{layer.at} {verb} {rule.ports}, the passive range of {topology.server.name} is {layer.wanted}"
        where, what = (*place, "rules", i, "ports"), the("rule", rule.name)
        yield stopped.beside(range_differs(topology.site, where, what, layer.wanted, left, text), rule, beside)
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
        yield stopped.beside(control_port_differs(topology.site, where, what, left, text), rule, beside)
    elif left == UNPRIVILEGED:
        text = f"{layer.at} does not {_INFINITIVES[verb]} {{ports}}, and {service} has no fixed passive range"
        yield Cause("filter-blocks", place, left, text, "fix a passive range first, then allow that range here")
    else:
        text = (
            f"{layer.at} does not {_INFINITIVES[verb]} {{ports}}: no rule allows it, and its default is {table.default}"
        )
        cure, about = f"add under rules: {stopped.rule_text}", stopped.about
        yield Cause("filter-blocks", place, left, text, cure, about=about, mends=beside, whom=stopped.whom)


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

    def beside(self, cause: Cause, rule: Rule, new: tuple[Mend, ...]) -> Cause:
        """A rule put right, or a new one beside it: that alone where the rule is for other transports as well, which
        nobody needs for these ports."""
        if rule.protocol == "tcp":
            return replace(cause, mends=(*cause.mends, *new), whom=self.whom)
        return replace(cause, cure=f"add under rules: {self.rule_text}", mends=new, whom=self.whom)

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
        own = serves_only(site, rule, by_udp=True)
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
    if not which or not serves_only(site, rule):
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
        gateway = topology.gateway(layer.at)
        place: SitePath = ("gateways", site.gateways.index(gateway), "filter", layer.aspect)
        return (gateway.filter.inward if layer.aspect == "inward" else gateway.filter.outward), place, None
    if layer.at == site.server.name:
        return _way(site.server.filter, layer), ("server", "filter", layer.aspect), site.server.category
    i, client = next((i, each) for i, each in enumerate(site.clients) if each.name == layer.at)
    return _way(client.filter, layer), ("clients", i, "filter", layer.aspect), client.category


def _way(both: HostFilter, layer: Layer) -> Filter:
    return both.incoming if layer.aspect == "incoming" else both.outgoing
