"""Rules that never match, or that change nothing, and rules that open more than they look."""

from collections.abc import Iterator
from functools import lru_cache
from typing import Literal

from msgspec.structs import replace

from ..model.site import Forward, Rule, Site, Transport
from ..network.filters import Ruling, Table, rulings
from ..network.flow import Flow
from ..network.topology import Topology, listens_on
from ..network.translation import entries
from ..predict.endpoints import service_of
from ..values.addresses import EVERY_ADDRESS, Address, AddressSet, Family
from ..values.phrases import ports_phrase, quoted
from ..values.ports import EVERY_PORT, PortSet
from ..values.text_value import SitePath
from .cause import FEW, needed
from .finding import Finding, set_to

MOST_COMPARED = 400
NARROW = 1024
"""More ports than these are reported as what they open, not for one of them."""
MOST_TARGETS = 64
MOST_WORK = 100_000


def rule_findings(topology: Topology) -> Iterator[Finding]:
    """Shadowed and redundant rules of every filter, and rules for a whole program."""
    for at, table in _named_tables(topology):
        yield from _useless(topology.site, at, table)
        yield from _unknown_rule_findings(at, table)
    yield from _port_20(topology)
    yield from _wider_than_range(topology)
    for j, rule in enumerate(topology.site.server.filter.incoming.rules):
        if rule.program is not None and rule.action == "allow" and rule.enabled:
            message = (
                f"{_rule_name(rule, topology.server.name)} opens all that {rule.program} listens on, now and later"
            )
            place: SitePath = ("server", "filter", "incoming", "rules", j, "program")
            named = replace(rule, program=None, ports=rule.ports & listens_on(service_of(topology, rule.program)))
            cures = set_to(topology.site, place[:-1], named)
            message_cure = "name the ports instead of the program"
            yield Finding("whole-program-allowed", "note", message, message_cure, place, cures)


TIMES_THE_RANGE, MOST_OF_A_RANGE = 8, 60_000
"""How much wider than a passive range an entry is by mistake; wider ones are not meant for a range at all."""


def _wider_than_range(topology: Topology) -> Iterator[Finding]:
    """Entries for a passive range with many times its ports: a digit is missing, or one is too many."""
    site, server = topology.site, topology.server
    entries: list[tuple[SitePath, str, Rule | Forward]] = [
        (("server", "filter", "incoming", "rules", i), f"rule {quoted(each.name)}of {server.name}", each)
        for i, each in enumerate(site.server.filter.incoming.rules)
        if each.action == "allow" and each.program is None
    ]
    for i, gateway in enumerate(site.gateways):
        called = f"of {gateway.name}"
        entries += [
            (("gateways", i, "forwards", j), f"forward {quoted(each.name)}{called}", each)
            for j, each in enumerate(gateway.forwards)
            if each.to in server.addresses and each.to_port is None
        ]
        entries += [
            (("gateways", i, "filter", "inward", "rules", j), f"rule {quoted(each.name)}{called}", each)
            for j, each in enumerate(gateway.filter.inward.rules)
            if each.action == "allow" and each.program is None
        ]
    for place, called, entry in entries:
        for service in site.services if entry.enabled and len(entry.ports.spans) == 1 else ():
            wanted = service.passive.ports if service.passive else PortSet()
            wide = TIMES_THE_RANGE * len(wanted) <= len(entry.ports) <= MOST_OF_A_RANGE
            if wanted and wide and wanted <= entry.ports:
                good = needed(site, entry.ports, wanted)
                message = (
                    f"{called} is for {entry.ports}, {len(entry.ports)} ports; the passive range of {service.name} "
                )
                message += f"is {wanted}, {len(wanted)} ports"
                where = (*place, "ports")
                yield Finding(
                    "wider-than-range", "risks", message, f"set ports to {good}", where, set_to(site, where, good)
                )


def _named_tables(topology: Topology) -> Iterator[tuple[str, Table]]:
    for device in topology.devices:
        yield device.name, device.inward
        yield device.name, device.outward
    for host in (topology.server, *topology.clients):
        yield host.name, host.incoming
        yield host.name, host.outgoing


def _unknown_rule_findings(at: str, table: Table) -> Iterator[Finding]:
    """Rules whose effect the site file marks as unknown."""
    for match in table.matches:
        if match.action == "unknown":
            name = f"rule “{match.name}”" if match.name else "a rule"
            whom = f" from {match.sources}" if match.sources is not None and len(match.sources.spans) <= FEW else ""
            message = f"what {name} of {at} does with {ports_phrase(match.ports)}{whom} is not known"
            cure = "look at the device: write allow, deny or refuse here, or put what ought to pass before it"
            yield Finding("rule-unknown", "risks", message, cure, (*match.place, "action"))


def _rule_name(rule: Rule, at: str) -> str:
    return f"rule “{rule.name}” of {at}" if rule.name else f"a rule of {at}"


def _useless(site: Site, at: str, table: Table) -> Iterator[Finding]:
    for i, kind in _without_effect(table) if table.matches else ():
        match = table.matches[i]
        name = f"rule “{match.name}” of {at}" if match.name else f"a rule of {at}"
        off = set_to(site, (*match.place, "enabled"), False)
        if kind == "rule-shadowed":
            message = f"{name} never matches: rules before it decide all that it is about"
            yield Finding(kind, "risks", message, "take it out, or put it before them", match.place, off)
        else:
            message = f"{name} changes nothing: without it the same happens ({match.action})"
            yield Finding(kind, "note", message, "remove it, unless people read it as a note", match.place, off)


@lru_cache(maxsize=64)
def _without_effect(table: Table) -> tuple[tuple[int, Literal["rule-shadowed", "rule-redundant"]], ...]:
    """The rules of a table that nothing depends on, by index. Cached, since each cure that is tried changes one
    table of a site and leaves the others."""
    flows = _everything(table)
    if flows is None or len(flows) * len(table.matches) > MOST_WORK:
        return ()
    known = {i: match for i, match in enumerate(table.matches) if match.action != "unknown"}
    decided: dict[int, list[Ruling]] = {i: [] for i in known}
    index = {match.place: i for i, match in known.items()}
    certain = replace(table, matches=tuple(known.values()))
    for flow in flows:
        for ruling in rulings(certain, flow):
            if ruling.place in index:
                decided[index[ruling.place]].append(ruling)
    found: dict[int, Literal["rule-shadowed", "rule-redundant"]] = {}
    for i in known:  # what a rule does of which that is not known nobody can take out for others
        if not decided[i]:
            found[i] = "rule-shadowed"
        elif len(table.matches) <= MOST_COMPARED and _changes_nothing(table, i, decided[i], set(found)):
            found[i] = "rule-redundant"
    return tuple(found.items())


def _changes_nothing(table: Table, i: int, decided: list[Ruling], gone: set[int]) -> bool:
    """Whether later rules and the default do the same with all that a rule decides; rules that
    were found useless before it do not count, so that of two alike one stays."""
    others = tuple(each for j, each in enumerate(table.matches) if j != i and j not in gone)
    rest = Table(others, table.default, table.place)
    wanted = table.matches[i].action
    return all(each.action == wanted for ruling in decided for each in rulings(rest, ruling.flow))


def _everything(table: Table) -> list[Flow] | None:
    """Flows that together are every connection that the table can tell apart; None for too many."""
    families: tuple[Family, ...] = (4, 6)
    protocols: tuple[Transport, ...] = ("tcp", "udp")
    flows: list[Flow] = []
    for family in families:
        every = EVERY_ADDRESS.of_family(family)
        classes = _target_classes(table, every)
        if classes is None:
            return None
        flows += [Flow(each, every, EVERY_PORT, target, EVERY_PORT) for target in classes for each in protocols]
    return flows


def _target_classes(table: Table, every: AddressSet) -> list[Address] | None:
    """One address of each class of destinations that the rules treat alike; None for too many."""
    classes = [every]
    for targets in {match.targets for match in table.matches if match.targets is not None}:
        classes = [part for each in classes for part in (each & targets, each - targets) if part]
        if len(classes) > MOST_TARGETS:
            return None
    return [Address(each.lowest) for each in classes]


def _port_20(topology: Topology) -> Iterator[Finding]:
    """Port 20 open inward: in active mode the server connects from 20, nobody connects to it."""
    site = topology.site
    if any(each.control_port.number == 20 for each in site.services):
        return
    for i, gateway in enumerate(site.gateways):
        for each in entries(gateway):
            if 20 in each.ports and each.protocol == "tcp" and len(each.ports) <= NARROW:
                place: SitePath = ("gateways", i, *each.place, "ports")
                yield _needless(site, gateway.name, "forwards", place, each.ports)
    for j, rule in enumerate(site.server.filter.incoming.rules):
        if rule.enabled and rule.action == "allow" and 20 in rule.ports and len(rule.ports) <= NARROW:
            place = ("server", "filter", "incoming", "rules", j, "ports")
            yield _needless(site, site.server.name, "lets in", place, rule.ports)


def _needless(site: Site, at: str, does: str, place: tuple[str | int, ...], ports: PortSet) -> Finding:
    left = ports - PortSet.single(20)
    message = f"{at} {does} port 20, which neither mode needs: in active mode the server connects out from 20"
    cures = set_to(site, place, left) if left else set_to(site, (*place[:-1], "enabled"), False)
    return Finding("port-20-needless", "risks", message, f"set ports to {left}" if left else "remove it", place, cures)
