"""Filters that stop what they ought to let pass."""

from collections.abc import Iterator

from .cause import Cause, Role, mismatch_kind, quoted, the
from .causes_forwards import gateway_of, meant_for_data, other_port
from .filters import counts
from .layers import Layer
from .place import Place
from .ports import PortSet
from .site import Filter, HostFilter, Rule
from .topology import Topology


def filter_causes(topology: Topology, layer: Layer, role: Role) -> Iterator[Cause]:
    """The rules, or the lack of one, that keep a filter from passing what it ought to."""
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
        if each.action == "allow" and counts(each, category) and meant_for_data(topology, each.ports, layer.wanted)
    ]
    if role == "data" and near:
        i, rule = max(near, key=lambda pair: len(pair[1].ports & layer.wanted))
        text = f"{layer.at} {verb.replace('let', 'lets')} {rule.ports}, {topology.server.name} hands out {layer.wanted}"
        cure = f"set ports of {the('rule', rule.name)} to {layer.wanted}"
        yield Cause(mismatch_kind(rule.ports, layer.wanted), (*place, "rules", i, "ports"), left, text, cure)
        return
    others = [
        (i, each)
        for i, each in enumerate(table.rules)
        if each.action == "allow" and counts(each, category) and other_port(topology, each.ports)
    ]
    if role == "control" and others:
        i, rule = others[0]
        text = f"{layer.at} {verb.replace('let', 'lets')} port {rule.ports}, the control port is {left}"
        cure = f"set ports of {the('rule', rule.name)} to {left}"
        yield Cause("control-port-differs", (*place, "rules", i, "ports"), left, text, cure)
    else:
        cure = "add under rules: {action: allow, protocol: tcp, ports: {ports}}"
        text = f"{layer.at} does not {verb} {{ports}}: no rule allows it, and its default is {table.default}"
        yield Cause("filter-blocks", place, left, text, cure)


def _of_rule(layer: Layer, place: Place, rule: Rule, ports: PortSet, category: str | None) -> Cause | None:
    """A rule about the missing ports that stops them, or that would let them pass and does not count."""
    called = f"rule {quoted(rule.name)}of {layer.at}"
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
        return Cause("rule-wrong-category", (*place, "categories"), ports, text, f"add {category} to its categories")
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
        gateway = gateway_of(topology, layer.at)
        place: Place = ("gateways", site.gateways.index(gateway), "filter", layer.aspect)
        return (gateway.filter.inward if layer.aspect == "inward" else gateway.filter.outward), place, None
    if layer.at == site.server.name:
        return _way(site.server.filter, layer), ("server", "filter", layer.aspect), site.server.category
    i, client = next((i, each) for i, each in enumerate(site.clients) if each.name == layer.at)
    return _way(client.filter, layer), ("clients", i, "filter", layer.aspect), client.category


def _way(both: HostFilter, layer: Layer) -> Filter:
    return both.incoming if layer.aspect == "incoming" else both.outgoing
