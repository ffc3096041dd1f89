"""Faults on the way: filters, forwards, and the gateways themselves."""

from collections.abc import Iterator

from ..model.change import Change, change
from ..model.entries import BlockedPorts, Port
from ..model.site import ETHERNET_BYTES, INTERNET, Attachment, Filter, Forward, Gateway, Load, Network, Rule, Site
from ..network.flow import HEADERS_BYTES
from ..network.topology import Topology, free_address
from ..values.addresses import Address, Addresses, AddressSet
from ..values.phrases import ports_phrase, the
from ..values.ports import EVERY_PORT, PortSet
from ..values.quantities import Duration, Rate, Size
from ..values.text_value import SitePath
from .fault import Fault, FaultKind, SeenValues, Variants, cut, digit_off, moved, of, variants_of


def filter_faults(topology: Topology, seen: SeenValues) -> Iterator[Fault]:
    """Of every filter of the site: its rules that let something through, and what it does by default."""
    for place, name, table in _all_filters(topology.site):
        for i, rule in enumerate(table.rules):
            if rule.enabled and rule.action == "allow":
                yield from _rule_faults(topology, place, i, name, rule, seen)
        if table.default == "allow":
            yield _shut_fault(topology.site, place, name)


def _all_filters(site: Site) -> Iterator[tuple[SitePath, str, Filter]]:
    for i, gateway in enumerate(site.gateways):
        yield ("gateways", i, "filter", "inward"), gateway.name, gateway.filter.inward
        yield ("gateways", i, "filter", "outward"), gateway.name, gateway.filter.outward
    yield ("server", "filter", "incoming"), site.server.name, site.server.filter.incoming
    yield ("server", "filter", "outgoing"), site.server.name, site.server.filter.outgoing
    for i, client in enumerate(site.clients):
        if not client.on_server:  # one on the server has the server's filter
            yield ("clients", i, "filter", "incoming"), client.name, client.filter.incoming


_LETS = {"inward": "in", "incoming": "in", "outward": "out", "outgoing": "out"}


def _shut_fault(site: Site, place: SitePath, name: str) -> Fault:
    variants = variants_of(site, (*place, "default"), "deny", "refuse")
    return Fault("default-shut", place, name, variants, of(way=_LETS[str(place[-1])]))


def _rule_faults(
    topology: Topology, place: SitePath, i: int, name: str, rule: Rule, seen: SeenValues
) -> Iterator[Fault]:
    site, category = topology.site, topology.site.server.category
    at: SitePath = (*place, "rules", i)
    off = variants_of(site, (*at, "enabled"), False)  # what is not there does what is switched off does
    other = "udp" if rule.protocol != "udp" else "tcp"
    values = of(
        rule=the("rule", rule.name), passes=_passes(rule), way=_LETS[str(place[-1])], range=rule.ports,
        protocol=rule.protocol, asked="tcp" if rule.protocol == "any" else rule.protocol, other=other,
        sources=rule.from_ or "anybody", category=category,
    )  # fmt: skip

    def fault(kind: FaultKind, variants: Variants) -> Fault:
        return Fault(kind, at, name, variants, values)

    yield fault("rule-missing", off)
    yield fault("rule-off", off)
    # as a rule of the same reach before it
    yield fault("rule-shadowed", variants_of(site, (*at, "action"), "deny", "refuse"))
    yield fault("rule-other-protocol", variants_of(site, (*at, "protocol"), other))
    if elsewhere := _other_sources(topology, rule):
        yield fault("rule-other-source", variants_of(site, (*at, "from"), *elsewhere))
    if place[0] == "server" and category is not None:
        yield fault("rule-other-category", variants_of(site, (*at, "categories"), (f"not {category}",)))
    if len(rule.ports) > 1 and rule.ports != EVERY_PORT:
        yield fault("rule-in-part", variants_of(site, (*at, "ports"), *cut(rule.ports, seen.ports)))


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


OTHER_INSIDE_PORTS = 1000
"""How far off the inside port of a forward is taken to be."""


def forward_faults(topology: Topology, seen: SeenValues) -> Iterator[Fault]:
    """Of every forward that is switched on; ``seen`` are ports that are known to work or not, between which a range
    may end."""
    for i, gateway in enumerate(topology.site.gateways):
        for j, forward in enumerate(gateway.forwards):
            if forward.enabled:
                yield from _forward_faults_of(topology, i, j, gateway, forward, seen)
        if gateway.forwards and gateway.forwarding:
            yield _master_switch(topology.site, i, gateway)


def _master_switch(site: Site, i: int, gateway: Gateway) -> Fault:
    place: SitePath = ("gateways", i, "forwarding")
    return Fault("forwarding-off", place, gateway.name, variants_of(site, place, False))


def _forward_faults_of(
    topology: Topology, i: int, j: int, gateway: Gateway, forward: Forward, seen: SeenValues
) -> Iterator[Fault]:
    site = topology.site
    place: SitePath = ("gateways", i, "forwards", j)
    ports: SitePath = (*place, "ports")
    off = variants_of(site, (*place, "enabled"), False)  # what is not there does what is switched off does
    other = "udp" if forward.protocol == "tcp" else "tcp"
    values = of(
        forward=the("forward", forward.name), ports=ports_phrase(forward.ports), range=forward.ports, to=forward.to,
        inside=f":{forward.to_port}" if forward.to_port else "", first=forward.ports.lowest, last=forward.ports.highest,
        inside_port=forward.ports.lowest + forward.offset, protocol=forward.protocol, other=other,
    )  # fmt: skip

    def fault(kind: FaultKind, variants: Variants) -> Fault:
        return Fault(kind, place, gateway.name, variants, values)

    yield fault("forward-missing", off)
    yield fault("forward-off", off)
    if (nobody := free_address(topology, gateway.inside.network, forward.to.family)) is not None:
        yield fault("forward-old-address", variants_of(site, (*place, "to"), nobody))
    if len(forward.ports) > 1:
        yield fault("forward-in-part", _variants_for_parts(site, place, forward, cut(forward.ports, seen.ports)))
        yield fault("forward-shifted", variants_of(site, ports, *moved(forward.ports)))
    yield fault("forward-digit-off", variants_of(site, ports, *digit_off(forward.ports)))
    inside = variants_of(site, (*place, "to_port"), *_wrong_inside_ports(forward, seen))
    yield fault("forward-other-inside-port", (*inside, *_let_in(site, inside)))
    yield fault("forward-other-protocol", variants_of(site, (*place, "protocol"), other))
    if forward.from_ is None:
        yield fault("forward-other-source", variants_of(site, (*place, "from"), *_single_sources(topology, gateway)))


def _let_in(site: Site, variants: Variants) -> Variants:
    """The same where the server's own filter lets such a port in, so that the server refuses it."""
    place: SitePath = ("server", "filter", "incoming", "rules", 0)
    before = site.server.filter.incoming.rules
    open_all = Rule(action="allow", protocol="tcp")
    return tuple((*way, Change(place[:-1], before, (open_all, *before))) for way in variants)


def _single_sources(topology: Topology, gateway: Gateway) -> Iterator[AddressSet]:
    """The addresses with which each client outside comes, and one that is nobody's."""
    outside = gateway.outside.network
    own = [each for client in topology.site.clients if client.network == outside for each in client.address.each]
    own += [
        each
        for other in topology.site.gateways
        if other.outside.network == outside and other.name != gateway.name
        for each in other.outside.address.each
    ]
    nobody = free_address(topology, outside, 4)
    yield from map(AddressSet.single, dict.fromkeys([*own, *([] if nobody is None else [nobody])]))


def _wrong_inside_ports(forward: Forward, seen: SeenValues) -> tuple[Port, ...]:
    """Inside ports that a forward may lead to by mistake: of a single port those that were seen, else one some way
    off."""
    strange = [each for each in seen.landed if each != forward.ports.lowest + forward.offset]
    if strange and len(forward.ports) == 1:
        return tuple(map(Port, strange))
    first = forward.ports.lowest + forward.offset
    last = forward.ports.highest + forward.offset
    return (Port(first + OTHER_INSIDE_PORTS if last + OTHER_INSIDE_PORTS <= 65535 else first - OTHER_INSIDE_PORTS),)


def _variants_for_parts(site: Site, place: SitePath, forward: Forward, parts: tuple[PortSet, ...]) -> Variants:
    """A variant for each part of the ports; each port keeps its inside port."""
    return tuple(tuple(_narrowing_changes(site, place, forward, part)) for part in parts)


def _narrowing_changes(site: Site, place: SitePath, forward: Forward, part: PortSet) -> Iterator[Change]:
    yield change(site, (*place, "ports"), part)
    if forward.to_port is not None:
        yield change(site, (*place, "to_port"), Port(part.lowest + forward.offset))


FRONTS = tuple(map(AddressSet.parse, ("100.64.220.0/24", "192.168.222.0/24", "10.222.222.0/24")))
"""Networks that may lie between a device and a second one in front of it (RFC 6598, RFC 1918)."""
TUNNEL_BYTES = 1400
"""A packet size that many tunnels come near."""


def gateway_faults(topology: Topology) -> Iterator[Fault]:
    """Of every device."""
    for i, gateway in enumerate(topology.site.gateways):
        place: SitePath = ("gateways", i)
        if gateway.outside.network == INTERNET:
            yield from _provider(topology, place, gateway)
        if gateway.outside.network == INTERNET and gateway.translate != "none" and gateway.outside.address:
            yield from _outside_faults(topology, place, gateway)
        yield from _habits(topology.site, place, gateway)
        yield from _mtu_faults(topology.site, place, gateway)


def _provider(topology: Topology, place: SitePath, gateway: Gateway) -> Iterator[Fault]:
    """Blocks of what the services of files need."""
    blocked = gateway.provider_blocks.ports
    for each in topology.site.services:
        if each.protocol == "other":
            continue
        ranges = [each.passive.ports] if each.passive else []
        for ports in (PortSet.single(each.control_port.number), *ranges):
            yield Fault(
                "provider-blocks",
                (*place, "provider_blocks"),
                f"the provider of {gateway.name}",
                variants_of(topology.site, (*place, "provider_blocks"), BlockedPorts(blocked | ports)),
                of(ports=ports_phrase(ports), range=ports),
            )


def _outside_faults(topology: Topology, place: SitePath, gateway: Gateway) -> Iterator[Fault]:
    own = gateway.outside.address.each[0]
    other = free_address(topology, INTERNET, own.family)
    address: SitePath = (*place, "outside", "address")
    if other is not None:
        yield Fault(
            "outside-address-changed",
            address,
            gateway.name,
            variants_of(topology.site, address, Addresses((other, *gateway.outside.address.each[1:]))),
            of(address=own),
        )
    if own.family == 4 and (changes := _behind_another(topology, place, gateway)):
        yield Fault("second-translation", (*place, "outside"), gateway.name, (changes,), of(address=own))


def _behind_another(topology: Topology, place: SitePath, gateway: Gateway) -> tuple[Change, ...]:
    """The device's outside address moved to one in front of it."""
    site = topology.site
    between = next((each for each in FRONTS if not any(each & known for known in topology.subnets.values())), None)
    if between is None:
        return ()
    name = f"in front of {gateway.name}"
    front = Gateway(
        name=f"device {name}",
        outside=gateway.outside,
        inside=Attachment(network=name, address=Addresses((Address(between.lowest + 1),))),
        translate="outward",
    )
    return (
        change(site, ("networks", len(site.networks)), Network(name=name, subnet=between)),
        change(site, ("gateways", len(site.gateways)), front),
        change(site, (*place, "outside"), Attachment(network=name, address=Addresses((Address(between.lowest + 61),)))),
    )


def _habits(site: Site, place: SitePath, gateway: Gateway) -> Iterator[Fault]:
    def switched(kind: FaultKind, key: str, new: object) -> Fault:
        return Fault(kind, (*place, key), gateway.name, variants_of(site, (*place, key), new))

    if gateway.hairpin:
        yield switched("hairpin-missing", "hairpin", False)
    if gateway.ftp_helper:
        yield switched("helper-off", "ftp_helper", False)
    elif gateway.translate != "none":
        yield switched("helper-on", "ftp_helper", True)
    yield from _idle_fault(site, place, gateway)


LONG = Load(typical_size=Size(1_000_000_000), rate=Rate(8_000_000))
"""A transfer of a quarter of an hour, for services of which no load is stated."""


def _idle_fault(site: Site, place: SitePath, gateway: Gateway) -> Iterator[Fault]:
    """A device that forgets the quiet control connection of a long transfer."""
    unstated = tuple(
        change(site, ("services", i, "load"), LONG)
        for i, each in enumerate(site.services)
        if each.protocol == "ftp" and each.transfer_seconds is None
    )
    known = max((each.transfer_seconds or 0 for each in site.services), default=0)
    slowest = max(known, (LONG.transfer_seconds or 0) if unstated else 0)
    if slowest > 1 and (gateway.idle_timeout is None or gateway.idle_timeout.amount >= slowest):
        short = change(site, (*place, "idle_timeout"), Duration(slowest / 2))
        yield Fault("idle-too-short", (*place, "idle_timeout"), gateway.name, ((short, *unstated),))


def _mtu_faults(site: Site, place: SitePath, gateway: Gateway) -> Iterator[Fault]:
    """A line that takes smaller packets than the file states, where no message reaches their senders."""
    outside: SitePath = (*place, "outside", "mtu")
    if gateway.clamps_mss or gateway.mtu < TUNNEL_BYTES:
        return
    narrow = change(site, outside, TUNNEL_BYTES), change(site, (*place, "too_big"), "dropped")
    sizes = of(full=ETHERNET_BYTES, narrow=TUNNEL_BYTES, segment=TUNNEL_BYTES - HEADERS_BYTES[4])
    yield Fault("full-packets-lost", outside, gateway.name, (narrow,), sizes)
