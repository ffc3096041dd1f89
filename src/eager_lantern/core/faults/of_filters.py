"""What goes wrong with the rules of a filter: of a device, of the server, of a client."""

from collections.abc import Iterator

from ..model.site import Filter, Rule, Site
from ..network.free_address import free_address
from ..network.topology import Topology
from ..values.addresses import AddressSet
from ..values.phrases import ports_phrase, the
from ..values.ports import EVERY_PORT, PortSet
from ..values.site_path import SitePath
from .fault import Fault, FaultKind, Variants, setting
from .slips import cut


def filter_faults(topology: Topology, seen: PortSet) -> Iterator[Fault]:
    """Of every filter of the site: its rules that let something through, and what it does by default."""
    for place, name, table in _tables(topology.site):
        for i, rule in enumerate(table.rules):
            if rule.enabled and rule.action == "allow":
                yield from _of_rule(topology, place, i, name, rule, seen)
        if table.default == "allow":
            yield _shut(topology.site, place, name)


def _tables(site: Site) -> Iterator[tuple[SitePath, str, Filter]]:
    for i, gateway in enumerate(site.gateways):
        yield ("gateways", i, "filter", "inward"), gateway.name, gateway.filter.inward
        yield ("gateways", i, "filter", "outward"), gateway.name, gateway.filter.outward
    yield ("server", "filter", "incoming"), site.server.name, site.server.filter.incoming
    yield ("server", "filter", "outgoing"), site.server.name, site.server.filter.outgoing
    for i, client in enumerate(site.clients):
        yield ("clients", i, "filter", "incoming"), client.name, client.filter.incoming


_LETS = {"inward": "in", "incoming": "in", "outward": "out", "outgoing": "out"}


def _shut(site: Site, place: SitePath, name: str) -> Fault:
    way = _LETS[str(place[-1])]
    return Fault(
        "default-shut",
        place,
        name,
        f"{name} lets nothing {way} that no rule allows",
        f"what does {name} do with connections {way} that no rule is about?",
        f"allow at {name} what the services need {way}, or set its default to allow as the site file has it",
        setting(site, (*place, "default"), "deny", "refuse"),
    )


def _of_rule(topology: Topology, place: SitePath, i: int, name: str, rule: Rule, seen: PortSet) -> Iterator[Fault]:
    site = topology.site
    at: SitePath = (*place, "rules", i)
    what = the("rule", rule.name)
    passes = _passes(rule)
    off = setting(site, (*at, "enabled"), False)  # what is not there does what is switched off does

    def fault(kind: FaultKind, message: str, look: str, cure: str, variants: Variants) -> Fault:
        return Fault(kind, at, name, f"{name} {message}", look, f"{cure} at {name}", variants)

    yield fault(
        "rule-missing",
        f"has no rule that lets {passes} {_LETS[str(place[-1])]}",
        f"is there a rule for {passes} on {name}?",
        f"add the rule for {passes}",
        off,
    )
    yield fault(
        "rule-off",
        f"has {what} switched off",
        f"is {what} on {name} switched on?",
        f"switch {what} on",
        off,
    )
    yield fault(
        "rule-shadowed",
        f"has a rule before {what} that turns {passes} away",
        f"does {what} stand above every rule of {name} that denies?",
        f"move {what} to the top",
        setting(site, (*at, "action"), "deny", "refuse"),  # as a rule of the same reach before it
    )
    other = "udp" if rule.protocol != "udp" else "tcp"
    yield fault(
        "rule-other-protocol",
        f"has {what} for {other} alone",
        f"does {what} on {name} say {'tcp' if rule.protocol == 'any' else rule.protocol}?",
        f"set {what} to {rule.protocol}",
        setting(site, (*at, "protocol"), other),
    )
    if elsewhere := _other_sources(topology, rule):
        yield fault(
            "rule-other-source",
            f"has {what} for other sources",
            f"whom does {what} on {name} let through: {rule.from_ or 'anybody'}?",
            f"let {what} count for {rule.from_ or 'anybody'}",
            setting(site, (*at, "from"), *elsewhere),
        )
    if place[0] == "server" and site.server.category is not None:
        yield fault(
            "rule-other-category",
            f"has {what} for networks of another category than its own",
            f"for which category is {what}, and which has the network of {name} now?",
            f"let {what} count for {site.server.category}, or set the network of {name} to that",
            setting(site, (*at, "categories"), (f"not {site.server.category}",)),
        )
    if len(rule.ports) > 1 and rule.ports != EVERY_PORT:
        yield fault(
            "rule-in-part",
            f"has {what} for only a part of {rule.ports}",
            f"does {what} on {name} cover {rule.ports}, from end to end?",
            f"set {what} to {rule.ports}",
            setting(site, (*at, "ports"), *cut(rule.ports, seen)),
        )


def _passes(rule: Rule) -> str:
    if rule.program is not None:
        return f"what “{rule.program}” listens on"
    return "everything" if rule.ports == EVERY_PORT else ports_phrase(rule.ports)


def _other_sources(topology: Topology, rule: Rule) -> tuple[AddressSet, ...]:
    """The server's own network alone, and addresses that no client has."""
    server = topology.site.server
    own = topology.subnets.get(server.network, AddressSet())
    nobody = free_address(topology, server.network, server.address.each[0].family)
    found = [own] if own else []
    found += [AddressSet.single(nobody)] if nobody is not None else []
    return tuple(each for each in found if each != rule.from_)
