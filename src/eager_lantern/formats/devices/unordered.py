"""A filter for systems that know no order of rules: what is let in, or what is stopped, as connections that need none.

Where blocks beat permissions whatever their places, or there are permissions alone, a list in which the first match
decides cannot be entered as it stands. With a default that stops, what each permission lets in is left of it without
everything that a rule above it stops; with a default that lets pass, the same of what is stopped. The parts that are
left mean the same in any order.
"""

from collections.abc import Mapping, Sequence
from typing import Literal, NamedTuple

from ...core.model.site import Filter
from ...core.network.filters import Match, compiled
from ...core.values.addresses import AddressSet
from ...core.values.ports import EVERY_PORT, PortSet
from .packet_filter.boxes import EVERYBODY, TRANSPORTS, Box, without


class Unordered(NamedTuple):
    """Connections that a filter lets pass though it stops the rest, or stops though it lets the rest pass; ``line`` is
    the place of their rule, from 1."""

    action: Literal["allow", "deny"]
    box: Box
    name: str
    line: int


def unordered(table: Filter, category: str | None, listening: Mapping[str, PortSet]) -> list[Unordered]:
    """The parts of a filter that differ from its default, on a network of a category. The filter has no rule whose
    effect is unknown."""
    stops = table.default != "allow"
    found: list[Unordered] = []
    above: list[Box] = []
    for number, match in enumerate(compiled(table, (), category, listening).matches, 1):
        box = box_of(match)
        if (match.action == "allow") != stops:
            above.append(box)
            continue
        left: Sequence[Box] = [box]
        for each in above:
            left = without(left, each)
        action: Literal["allow", "deny"] = "allow" if stops else "deny"
        found += [Unordered(action, each, match.name, number) for each in left if not each.is_empty]
    return found


def box_of(match: Match) -> Box:
    """All connections that a rule is about."""
    return Box(
        TRANSPORTS if match.protocol == "any" else frozenset((match.protocol,)),
        match.sources if match.sources is not None else EVERYBODY,
        match.targets if match.targets is not None else EVERYBODY,
        match.from_ports if match.from_ports is not None else EVERY_PORT,
        match.ports,
    )


def addresses_text(addresses: AddressSet) -> tuple[str, ...]:
    """Networks and addresses, one each; none where everybody is meant."""
    return () if addresses == EVERYBODY else addresses.prefixes()


def spans_text(ports: PortSet, between: str) -> tuple[str, ...]:
    """Ports and ranges, one each; none where every port is meant."""
    spans = () if ports == EVERY_PORT else ports.spans
    return tuple(str(low) if low == high else f"{low}{between}{high}" for low, high in spans)
