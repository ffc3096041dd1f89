"""Filters: ordered rules, the first that matches decides (docs/semantics.md).

A table is compiled once for the device that holds it: rules that are switched off or
written for another network category are gone, and a rule for a program has become the
ports that the program listens on.

Theory: one sweep along the addresses
=====================================
To ask every rule about every address would cost the product of both. But addresses between two
neighbouring ends of the rules' ranges are alike: the same rules are about all of them. So the ends of
all ranges are sorted, the sweep keeps the rules that are about the present address, and each stretch
between two ends is decided once, rule by rule, until no port is left. Stretches with the same rules
are one group, however many they are.

A range ends one address behind its last, where its neighbour may begin. At one address ends are taken
before beginnings (0 before 1 in the sort), else both rules would be about a stretch that has no
address. Here two neighbouring ranges and the rest make three parts, which cover the flow:

>>> from ..values.addresses import Address
>>> def rule(action, sources):
...     return Match(action, "tcp", PortSet.parse("21"), AddressSet.parse(sources), None, None, (), action)
>>> table = Table((rule("allow", "10.0.0.4-10.0.0.7"), rule("refuse", "10.0.0.8-10.0.0.9")), "deny", ())
>>> flow = Flow("tcp", AddressSet.parse("10.0.0.0/28"), None, Address.parse("10.0.0.20"), PortSet.parse("21"))
>>> for each in rulings(table, flow):
...     print(each.action.ljust(7), each.flow.sources)
deny    10.0.0.0/30, 10.0.0.10-10.0.0.15
allow   10.0.0.4/30
refuse  10.0.0.8/31

Where a pool will draw the source (``pooled``), its addresses are candidates and no product of cases: a
rule about some of them is known for none, but for ports of which the same comes for each of them. A rule
that the site marks as ``unknown`` may let pass, stop, or be about less than it states: what it matches is
unknown.
"""

from bisect import bisect_left, insort
from collections.abc import Iterable, Iterator, Mapping
from typing import Literal

from msgspec import Struct
from msgspec.structs import replace

from ..model.site import Filter, Refusal, Rule
from ..values.addresses import AddressSet
from ..values.intervals import Span
from ..values.ports import PortSet
from ..values.text_value import SitePath
from .flow import Flow, Reason

Action = Literal["allow", "deny", "refuse"]
_Area = tuple[PortSet, PortSet | None]


class Match(Struct, frozen=True):
    """One rule that counts. None matches everything."""

    action: Literal[Action, "unknown"]
    protocol: Literal["tcp", "udp", "any"]
    ports: PortSet
    sources: AddressSet | None
    targets: AddressSet | None
    from_ports: PortSet | None
    place: SitePath
    name: str
    refuses_with: Refusal | None = None


class Table(Struct, frozen=True):
    """The rules that count, in order, and what happens to the rest."""

    matches: tuple[Match, ...]
    default: Action
    place: SitePath
    refuses_with: Refusal | None = None

    @property
    def lets_all_pass(self) -> bool:
        """Whether it has no rule and allows whatever comes."""
        return not self.matches and self.default == "allow"


class Ruling(Struct, frozen=True):
    """What a table decides about one part of a flow and why, and how it refuses where that is stated; the action is
    unknown where it is unknown."""

    flow: Flow
    action: Literal[Action, "unknown"]
    reason: Reason
    place: SitePath
    rule: str | None
    refuses_with: Refusal | None = None


def compiled(table: Filter, place: SitePath, category: str | None, listening: Mapping[str, PortSet]) -> Table:
    """The rules of a filter that count for a host of this network category."""
    matches = (
        _match(rule, (*place, "rules", i), listening) for i, rule in enumerate(table.rules) if counts(rule, category)
    )
    return Table(tuple(matches) if table.rules else (), table.default, (*place, "default"), table.refuses_with)


def counts(rule: Rule, category: str | None) -> bool:
    """Whether a rule is switched on and written for this network category."""
    return rule.enabled and (rule.categories is None or category in rule.categories)


def _match(rule: Rule, place: SitePath, listening: Mapping[str, PortSet]) -> Match:
    return Match(
        action=rule.action,
        protocol=rule.protocol,
        ports=rule.ports & listening.get(rule.program, PortSet()) if rule.program else rule.ports,
        sources=rule.from_,
        targets=rule.to,
        from_ports=rule.from_ports,
        place=place,
        name=rule.name,
        refuses_with=rule.refuses_with,
    )


def rulings(table: Table, flow: Flow) -> list[Ruling]:
    """The flow cut into parts by the rule that decides each; together they are the flow.

    Sources are cut where a rule's sources begin or end. Sources that the same rules are about
    are alike and are decided once, rule by rule, until no port is left; so the work grows with
    the rules and the cuts, not with addresses and ports. Parts that differ in their sources alone
    are one again, so that the next filter has no more to do than it must.
    """
    asked = flow.ports.spans or ((0, 0),)
    lowest, highest = asked[0][0], asked[-1][1]
    about = [
        each
        for each in table.matches
        if (spans := each.ports.spans)
        and spans[0][0] <= highest
        and lowest <= spans[-1][1]
        and each.protocol in ("any", flow.protocol)
        and (each.targets is None or flow.to.number in each.targets)
    ]
    if flow.pooled:
        return [part for each in _first_matches(table, about, flow) for part in _alike_for_all(table, about, each)]
    return _merge_rulings(
        ruling
        for matches, sources in _by_rules(about, flow.sources)
        for ruling in _first_matches(table, matches, replace(flow, sources=sources))
    )


def _alike_for_all(table: Table, about: list[Match], ruling: Ruling) -> Iterator[Ruling]:
    """What is decided alike for every address that a pool may draw, and the rest, which is unknown."""
    flow, left = ruling.flow, ruling.flow.ports
    if ruling.reason == "source address may change":
        each_drawn = [
            _first_matches(table, matches, replace(flow, sources=sources))
            for matches, sources in _by_rules(about, flow.sources)
        ]
        for first in each_drawn[0]:
            ports = first.flow.ports & left
            for others in each_drawn[1:]:
                ports = ports & _decided_as(first, others)
            if ports and first.action != "unknown" and first.flow.from_ports == flow.from_ports:
                yield replace(first, flow=replace(first.flow, sources=flow.sources, ports=ports))
                left = left - ports
    if left:
        yield replace(ruling, flow=replace(flow, ports=left))


def _decided_as(first: Ruling, others: list[Ruling]) -> PortSet:
    """The ports of which others come to the same end."""
    found = PortSet()
    for each in others:
        same = (each.action, each.refuses_with, each.flow.from_ports)
        if same == (first.action, first.refuses_with, first.flow.from_ports):
            found = found | each.flow.ports
    return found


def _merge_rulings(parts: Iterable[Ruling]) -> list[Ruling]:
    """Parts of one flow, those of one rule, ports and source ports joined."""
    found: dict[tuple[SitePath, str, Reason, PortSet, PortSet | None], list[Ruling]] = {}
    for each in parts:
        found.setdefault((each.place, each.action, each.reason, each.flow.ports, each.flow.from_ports), []).append(each)
    return [_with_sources(alike) if len(alike) > 1 else alike[0] for alike in found.values()]


def _with_sources(alike: list[Ruling]) -> Ruling:
    spans = [span for each in alike for span in each.flow.sources.spans]
    return replace(alike[0], flow=replace(alike[0].flow, sources=AddressSet.of(*spans)))


def _by_rules(matches: list[Match], sources: AddressSet) -> list[tuple[list[Match], AddressSet]]:
    """Sources grouped by the rules that are about them: a sweep along the addresses."""
    if all(each.sources is None for each in matches):
        return [(matches, sources)]
    always = [i for i, each in enumerate(matches) if each.sources is None or sources <= each.sources]
    bounded = set(range(len(matches))) - set(always)
    edges: list[tuple[int, int, int]] = []
    for i in sorted(bounded):
        clipped = matches[i].sources & sources  # type: ignore[operator]
        for low, high in clipped.spans:
            edges += [(low, 1, i), (high + 1, 0, i)]
    if not edges:
        return [([matches[i] for i in always], sources)]
    groups: dict[tuple[int, ...], list[Span]] = {}
    active = list(always)
    edges.sort()
    position = 0
    for span in sources.spans:
        start = span[0]
        while position < len(edges) and edges[position][0] <= span[1]:
            at, begins, i = edges[position]
            if at > start:
                groups.setdefault(tuple(active), []).append((start, at - 1))
                start = at
            _toggle(active, i, bool(begins))
            position += 1
        groups.setdefault(tuple(active), []).append((start, span[1]))
        while position < len(edges) and edges[position][1] == 0 and edges[position][0] == span[1] + 1:
            _toggle(active, edges[position][2], False)
            position += 1
    return [([matches[i] for i in key], AddressSet.of(*spans)) for key, spans in groups.items()]


def _toggle(active: list[int], i: int, begins: bool) -> None:
    """Keep the ascending list of the rules that are about the present address."""
    if begins:
        insort(active, i)
    else:
        del active[bisect_left(active, i)]


def _first_matches(table: Table, matches: list[Match], flow: Flow) -> list[Ruling]:
    """First match decides, for sources that every one of these rules is about."""
    left: list[_Area] = [(flow.ports, flow.from_ports)]
    found: list[Ruling] = []
    for match in matches:
        if not left:
            break
        left = [rest for area in left for rest in _cut(area, match, flow, found)]
    found += [
        Ruling(_flow_part(flow, area), table.default, "filter default", table.place, None, table.refuses_with)
        for area in left
    ]
    return found


def _flow_part(flow: Flow, area: _Area) -> Flow:
    return Flow(flow.protocol, flow.sources, area[1], flow.to, area[0], flow.pooled)


def _cut(area: _Area, match: Match, flow: Flow, found: list[Ruling]) -> list[_Area]:
    """Rule on the part of an area that the match covers, and return what is left of it."""
    ports, from_ports = area
    if match.ports.highest < ports.lowest or ports.highest < match.ports.lowest:
        return [area]
    hit = ports & match.ports
    if not hit:
        return [area]
    reason: Reason = "rule unknown" if match.action == "unknown" else "filter rule"
    if flow.pooled and match.sources is not None and not flow.sources <= match.sources:
        if not flow.sources & match.sources:
            return [area]
        reason = "source address may change"
    rest: list[_Area] = [(ports - hit, from_ports)]
    if match.from_ports is not None:
        if from_ports is None:
            reason = "source address may change" if flow.pooled else "source port may change"
        else:
            within = from_ports & match.from_ports
            if not within:
                return [area]
            rest.append((hit, from_ports - within))
            from_ports = within
    part = _flow_part(flow, (hit, from_ports))
    action = match.action if reason == "filter rule" else "unknown"
    found.append(Ruling(part, action, reason, match.place, match.name or None, match.refuses_with))
    return [each for each in rest if each[0] and (each[1] is None or each[1])]
