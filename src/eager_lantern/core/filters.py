"""Filters: ordered rules, the first that matches decides (DESIGN 5).

A table is compiled once for the device that holds it: rules that are switched off or
written for another network category are gone, and a rule for a program has become the
ports that the program listens on.
"""

from collections.abc import Mapping
from typing import Literal

from msgspec import Struct
from msgspec.structs import replace

from .addresses import AddressSet
from .flow import Flow
from .place import Place
from .ports import PortSet
from .site import Filter, Rule

Action = Literal["allow", "deny", "refuse"]


class Match(Struct, frozen=True):
    """One rule that counts. None matches everything."""

    action: Action
    protocol: Literal["tcp", "udp", "any"]
    ports: PortSet
    sources: AddressSet | None
    targets: AddressSet | None
    from_ports: PortSet | None
    place: Place
    name: str


class Table(Struct, frozen=True):
    """The rules that count, in order, and what happens to the rest."""

    matches: tuple[Match, ...]
    default: Action
    place: Place


class Ruling(Struct, frozen=True):
    """What a table says of one part of a flow; the action is unknown where it cannot be told."""

    flow: Flow
    action: Literal[Action, "unknown"]
    place: Place
    rule: str | None


def compiled(table: Filter, place: Place, category: str | None, listening: Mapping[str, PortSet]) -> Table:
    """The rules of a filter that count for a host of this network category."""
    matches = (
        _match(rule, (*place, "rules", i), listening) for i, rule in enumerate(table.rules) if counts(rule, category)
    )
    return Table(tuple(matches), table.default, (*place, "default"))


def counts(rule: Rule, category: str | None) -> bool:
    """Whether a rule is switched on and written for this network category."""
    return rule.enabled and (rule.categories is None or category in rule.categories)


def _match(rule: Rule, place: Place, listening: Mapping[str, PortSet]) -> Match:
    return Match(
        action=rule.action,
        protocol=rule.protocol,
        ports=rule.ports & listening.get(rule.program, PortSet()) if rule.program else rule.ports,
        sources=rule.from_,
        targets=rule.to,
        from_ports=rule.from_ports,
        place=place,
        name=rule.name,
    )


def rulings(table: Table, flow: Flow) -> list[Ruling]:
    """The flow cut into parts by the rule that decides each; together they are the flow."""
    undecided = [flow]
    decided: list[Ruling] = []
    for match in table.matches:
        if not undecided:
            break
        if match.protocol in ("any", flow.protocol) and (match.targets is None or flow.to.number in match.targets):
            undecided = [rest for each in undecided for rest in _cut(each, match, decided)]
    decided += [Ruling(each, table.default, table.place, None) for each in undecided]
    return decided


def _cut(flow: Flow, match: Match, decided: list[Ruling]) -> list[Flow]:
    """Rule on the part of the flow that the match covers, and return the parts that are left."""
    ports = flow.ports & match.ports
    sources = flow.sources & match.sources if match.sources is not None else flow.sources
    if not ports or not sources:
        return [flow]
    rest = [replace(flow, ports=flow.ports - match.ports)]
    hit = replace(flow, ports=ports)
    action: Literal[Action, "unknown"] = match.action
    if flow.pooled and sources != flow.sources:
        action = "unknown"
    else:
        rest.append(replace(hit, sources=flow.sources - sources))
        hit = replace(hit, sources=sources)
    if match.from_ports is not None:
        if flow.from_ports is None:
            action = "unknown"
        else:
            rest.append(replace(hit, from_ports=flow.from_ports - match.from_ports))
            hit = replace(hit, from_ports=flow.from_ports & match.from_ports)
    if _empty(hit):
        return [flow]
    decided.append(Ruling(hit, action, match.place, match.name or None))
    return [each for each in rest if not _empty(each)]


def _empty(flow: Flow) -> bool:
    no_source_port = flow.from_ports is not None and not flow.from_ports
    return not flow.ports or not flow.sources or no_source_port
