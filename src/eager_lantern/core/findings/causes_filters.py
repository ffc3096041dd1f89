"""Filters that stop what they ought to let pass."""

from collections.abc import Callable, Iterator

from ..model.change import Change, change, value_at
from ..model.site import Filter, HostFilter, Rule, Site
from ..network.filters import counts
from ..network.topology import Topology
from ..predict.layers import Layer
from ..values.addresses import AddressSet
from ..values.phrases import only_from, quoted, the
from ..values.ports import PortSet
from ..values.site_path import SitePath
from .cause import FEW, Cause, Role, adds, control_port_differs, range_differs, sets
from .causes_forwards import gateway_of, meant_for_data, other_port


def filter_causes(topology: Topology, layer: Layer, role: Role, whom: AddressSet | None) -> Iterator[Cause]:
    """The rules, or the lack of one, that keep a filter from passing what it ought to; ``whom`` a new one is for."""
    table, place, category = _table(topology, layer)
    verb = "let in" if layer.aspect in ("inward", "incoming") else "let out"
    left = layer.shut
    for i, rule in enumerate(table.rules):
        hit = left & rule.ports
        if (
            hit
            and rule.protocol in ("tcp", "any")
            and (cause := _of_rule(topology.site, layer, (*place, "rules", i), rule, hit, category))
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
        text = f"{layer.at} {verb.replace('let', 'lets')} {rule.ports}, {topology.server.name} hands out {layer.wanted}"
        where, what = (*place, "rules", i, "ports"), the("rule", rule.name)
        yield range_differs(topology.site, where, what, layer.wanted, left, text)
        return
    others = [
        (i, each)
        for i, each in enumerate(table.rules)
        if _lets_tcp(each, category) and other_port(topology, each.ports)
    ]
    if role == "control" and others:
        i, rule = others[0]
        text = f"{layer.at} {verb.replace('let', 'lets')} port {rule.ports}, the control port is {left}"
        yield control_port_differs(topology.site, (*place, "rules", i, "ports"), the("rule", rule.name), left, text)
    else:
        cure = f"add under rules: {{action: allow, protocol: tcp, ports: {{ports}}{only_from(whom)}}}"
        text = f"{layer.at} does not {verb} {{ports}}: no rule allows it, and its default is {table.default}"
        mends = adds(
            topology.site,
            (*place, "rules"),
            lambda ports: Rule(action="allow", protocol="tcp", ports=ports, from_=whom),
        )
        yield Cause("filter-blocks", place, left, text, cure, mends=mends)


def _lets_tcp(rule: Rule, category: str | None) -> bool:
    return rule.action == "allow" and rule.protocol != "udp" and counts(rule, category)


def _of_rule(
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


def _table(topology: Topology, layer: Layer) -> tuple[Filter, SitePath, str | None]:
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
