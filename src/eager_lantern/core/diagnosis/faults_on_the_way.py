"""Faults on the way: filters, forwards, and the gateways themselves."""

from collections.abc import Iterator

from ..model.change import Change, change
from ..model.entries import BlockedPorts, Port
from ..model.site import ETHERNET_BYTES, INTERNET, Attachment, Filter, Forward, Gateway, Network, Rule, Site
from ..network.flow import HEADERS_BYTES
from ..network.topology import Topology, free_address
from ..values.addresses import Address, Addresses, AddressSet
from ..values.phrases import ports_phrase, the
from ..values.ports import EVERY_PORT, PortSet
from ..values.quantities import Duration
from ..values.text_value import SitePath
from .fault import Fault, FaultKind, Variants, cut, digit_off, moved, variants_of


def filter_faults(topology: Topology, seen: PortSet) -> Iterator[Fault]:
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
        yield ("clients", i, "filter", "incoming"), client.name, client.filter.incoming


_LETS = {"inward": "in", "incoming": "in", "outward": "out", "outgoing": "out"}


def _shut_fault(site: Site, place: SitePath, name: str) -> Fault:
    way = _LETS[str(place[-1])]
    return Fault(
        "default-shut",
        place,
        name,
        f"{name} lets nothing {way} that no rule allows",
        f"what does {name} do with connections {way} that no rule is about?",
        f"allow at {name} what the services need {way}, or set its default to allow, as in the site file",
        variants_of(site, (*place, "default"), "deny", "refuse"),
    )


def _rule_faults(topology: Topology, place: SitePath, i: int, name: str, rule: Rule, seen: PortSet) -> Iterator[Fault]:
    site = topology.site
    at: SitePath = (*place, "rules", i)
    what = the("rule", rule.name)
    passes = _passes(rule)
    off = variants_of(site, (*at, "enabled"), False)  # what is not there does what is switched off does

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
        variants_of(site, (*at, "action"), "deny", "refuse"),  # as a rule of the same reach before it
    )
    other = "udp" if rule.protocol != "udp" else "tcp"
    yield fault(
        "rule-other-protocol",
        f"has {what} for {other} alone",
        f"does {what} on {name} say {'tcp' if rule.protocol == 'any' else rule.protocol}?",
        f"set {what} to {rule.protocol}",
        variants_of(site, (*at, "protocol"), other),
    )
    if elsewhere := _other_sources(topology, rule):
        yield fault(
            "rule-other-source",
            f"has {what} for other sources",
            f"which sources does {what} on {name} allow: {rule.from_ or 'anybody'}?",
            f"let {what} count for {rule.from_ or 'anybody'}",
            variants_of(site, (*at, "from"), *elsewhere),
        )
    if place[0] == "server" and site.server.category is not None:
        yield fault(
            "rule-other-category",
            f"has {what} for networks of another category than its own",
            f"for which category is {what}, and which has the network of {name} now?",
            f"let {what} count for {site.server.category}, or set the network of {name} to that",
            variants_of(site, (*at, "categories"), (f"not {site.server.category}",)),
        )
    if len(rule.ports) > 1 and rule.ports != EVERY_PORT:
        yield fault(
            "rule-in-part",
            f"has {what} for only a part of {rule.ports}",
            f"does {what} on {name} cover {rule.ports}, from end to end?",
            f"set {what} to {rule.ports}",
            variants_of(site, (*at, "ports"), *cut(rule.ports, seen)),
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


OTHER_INSIDE_PORTS = 1000
"""How far off the inside port of a forward is taken to be."""


def forward_faults(topology: Topology, seen: PortSet) -> Iterator[Fault]:
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
    return Fault(
        "forwarding-off",
        place,
        gateway.name,
        f"{gateway.name} has forwarding as a whole switched off",
        f"is the switch above the forwards of {gateway.name} on?",
        f"switch forwarding on at {gateway.name}",
        variants_of(site, place, False),
    )


def _forward_faults_of(
    topology: Topology, i: int, j: int, gateway: Gateway, forward: Forward, seen: PortSet
) -> Iterator[Fault]:
    site, name = topology.site, gateway.name
    place: SitePath = ("gateways", i, "forwards", j)
    what = the("forward", forward.name)
    entry = f"{forward.protocol} {forward.ports} → {forward.to}{_inside_port(forward)}"
    look = f"is there an entry {entry} on {name}"
    off = variants_of(site, (*place, "enabled"), False)  # what is not there does what is switched off does

    def fault(kind: FaultKind, message: str, look: str, cure: str, variants: Variants) -> Fault:
        return Fault(kind, place, name, f"{name} {message}", look, f"{cure} at {name}", variants)

    yield fault(
        "forward-missing",
        f"has no forward for {ports_phrase(forward.ports)}",
        f"{look}?",
        f"enter {entry}",
        off,
    )
    yield fault(
        "forward-off",
        f"has {what} switched off",
        f"{look}, and is it on?",
        f"switch {what} on",
        off,
    )
    if (nobody := free_address(topology, gateway.inside.network, forward.to.family)) is not None:
        yield fault(
            "forward-old-address",
            f"forwards {ports_phrase(forward.ports)} to another address than {forward.to}",
            f"does {what} point at {forward.to}?",
            f"let {what} point at {forward.to}",
            variants_of(site, (*place, "to"), nobody),
        )
    ports: SitePath = (*place, "ports")
    if len(forward.ports) > 1:
        yield fault(
            "forward-in-part",
            f"forwards only a part of {forward.ports}",
            f"does {what} cover {forward.ports}, from end to end?",
            f"set {what} to {forward.ports}",
            _variants_for_parts(site, place, forward, cut(forward.ports, seen)),
        )
        yield fault(
            "forward-shifted",
            f"forwards a range beside {forward.ports}",
            f"does {what} begin at {forward.ports.lowest} and end at {forward.ports.highest}?",
            f"set {what} to {forward.ports}",
            variants_of(site, ports, *moved(forward.ports)),
        )
    yield fault(
        "forward-digit-off",
        f"forwards ports that differ from {forward.ports} by a digit",
        f"does {what} list {forward.ports}, digit by digit?",
        f"set {what} to {forward.ports}",
        variants_of(site, ports, *digit_off(forward.ports)),
    )
    yield fault(
        "forward-other-inside-port",
        f"hands {ports_phrase(forward.ports)} on to other ports of {forward.to}",
        f"is the inside port of {what} {forward.ports.lowest + forward.offset}?",
        f"set the inside port of {what} to {forward.ports.lowest + forward.offset}",
        variants_of(site, (*place, "to_port"), *_wrong_inside_ports(forward)),
    )
    other = "udp" if forward.protocol == "tcp" else "tcp"
    yield fault(
        "forward-other-protocol",
        f"forwards {ports_phrase(forward.ports)} over {other} instead of {forward.protocol}",
        f"does {what} say {forward.protocol}?",
        f"set {what} to {forward.protocol}",
        variants_of(site, (*place, "protocol"), other),
    )


def _inside_port(forward: Forward) -> str:
    return f":{forward.to_port}" if forward.to_port else ""


def _wrong_inside_ports(forward: Forward) -> tuple[Port, ...]:
    """Inside ports that a forward may lead to by mistake."""
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
            written = f"port {ports}" if len(ports) == 1 else f"ports {ports}"
            yield Fault(
                "provider-blocks",
                (*place, "provider_blocks"),
                f"the provider of {gateway.name}",
                f"the provider of {gateway.name} blocks {written}",
                f"does a lamp on {written} get any light from outside, and what does the provider say of it?",
                f"use other ports than {ports}, or ask the provider to let them in",
                variants_of(topology.site, (*place, "provider_blocks"), BlockedPorts(blocked | ports)),
            )


def _outside_faults(topology: Topology, place: SitePath, gateway: Gateway) -> Iterator[Fault]:
    own = gateway.outside.address.each[0]
    shown = f"which outside address does the status page of {gateway.name} show"
    other = free_address(topology, INTERNET, own.family)
    address: SitePath = (*place, "outside", "address")
    if other is not None:
        yield Fault(
            "outside-address-changed",
            address,
            gateway.name,
            f"{gateway.name} has another outside address than {own} by now",
            f"{shown}: {own}?",
            f"write the present one in place of {own}, in the site file, at the server and into every name, or ask the "
            "provider for an address that stays",
            variants_of(topology.site, address, Addresses((other, *gateway.outside.address.each[1:]))),
        )
    if own.family == 4 and (changes := _behind_another(topology, place, gateway)):
        yield Fault(
            "second-translation",
            (*place, "outside"),
            gateway.name,
            f"another device that translates stands between {gateway.name} and the internet",
            f"{shown}: {own}, or one of a private or shared range?",
            f"forward at the device in front to {gateway.name} as well, or have it bridge; of a provider's, ask for a "
            "public address",
            (changes,),
        )


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
    name = gateway.name

    def switch(key: str, new: object) -> Variants:
        return variants_of(site, (*place, key), new)

    if gateway.hairpin:
        yield Fault(
            "hairpin-missing",
            (*place, "hairpin"),
            name,
            f"{name} does not turn connections to its outside address back inside",
            f"does {name} have hairpin (NAT loopback), and is it on?",
            f"switch it on at {name}, or let inside clients go to the server's own address",
            switch("hairpin", False),
        )
    if gateway.ftp_helper:
        yield Fault(
            "helper-off",
            (*place, "ftp_helper"),
            name,
            f"{name} does not follow FTP sessions",
            f"is the FTP helper of {name} on?",
            f"switch it on at {name}, or forward the whole passive range",
            switch("ftp_helper", False),
        )
    elif gateway.translate != "none":
        yield Fault(
            "helper-on",
            (*place, "ftp_helper"),
            name,
            f"{name} reads FTP sessions and rewrites addresses and ports in them",
            f"is an FTP helper (ALG) of {name} on?",
            f"switch it off at {name}",
            switch("ftp_helper", True),
        )
    slowest = max((each.transfer_seconds or 0 for each in site.services), default=0)
    if slowest > 1 and (gateway.idle_timeout is None or gateway.idle_timeout.amount >= slowest):
        yield Fault(
            "idle-too-short",
            (*place, "idle_timeout"),
            name,
            f"{name} forgets quiet connections before a transfer ends",
            f"after how long does {name} forget a quiet TCP connection?",
            f"raise that at {name}, or let clients keep the control connection alive",
            switch("idle_timeout", Duration(slowest / 2)),
        )


def _mtu_faults(site: Site, place: SitePath, gateway: Gateway) -> Iterator[Fault]:
    """A line that takes smaller packets than the file states, where no message reaches their senders."""
    outside: SitePath = (*place, "outside", "mtu")
    if gateway.clamps_mss or gateway.mtu < TUNNEL_BYTES:
        return
    narrow = change(site, outside, TUNNEL_BYTES), change(site, (*place, "too_big"), "dropped")
    yield Fault(
        "full-packets-lost",
        outside,
        gateway.name,
        f"full packets are lost at the outside line of {gateway.name}, and their senders are not notified",
        f"does a packet of {ETHERNET_BYTES} bytes that may not be cut pass {gateway.name}, and does one of "
        f"{TUNNEL_BYTES}?",
        f"let {gateway.name} clamp the segment size (MSS) to {TUNNEL_BYTES - HEADERS_BYTES[4]} bytes, or let ICMP that "
        "messages of type “packet too big” pass",
        (narrow,),
    )
