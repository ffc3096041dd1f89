"""A site as network namespaces: which nodes, wires, routes, and packet filter rules to build.

Pure text, so that it can be read and tested without privileges; :mod:`.kernel_run` builds
it. Covers IPv4: forwards, filters, translation of both kinds, hairpin, provider blocks, and
what devices answer themselves. Helpers, pools and idle timeouts are not built yet, and a
site that has them is refused.
"""

from collections.abc import Iterator

from msgspec import Struct

from ..core.addresses import Address, Addresses, AddressSet
from ..core.filters import counts
from ..core.ports import EVERY_PORT, PortSet
from ..core.site import INTERNET, Client, Filter, Forward, Gateway, Rule, Server, Site
from ..core.topology import Crossing, Topology

OUT, IN = "out0", "in0"
BOTH = "meta l4proto { tcp, udp }"


class Wire(Struct, frozen=True):
    """An interface of a node on a network, with its addresses in prefix form."""

    name: str
    network: str
    addresses: tuple[str, ...]


class Route(Struct, frozen=True):
    """Where to send what: ``via`` an address, or on the wire itself."""

    to: str
    via: str | None
    wire: str


class Node(Struct, frozen=True):
    """One network namespace: a host, which listens and probes, or a gateway."""

    name: str
    is_host: bool
    wires: tuple[Wire, ...]
    routes: tuple[Route, ...]
    rules: str


class CannotBuild(ValueError):
    """The site has something that this lab does not build."""


def lab_nodes(site: Site) -> tuple[Node, ...]:
    """All nodes of a site. Raises CannotBuild with what it is that cannot be built."""
    topology = Topology(site)
    for gateway in site.gateways:
        if gateway.ftp_helper or len(gateway.outside.address.each) > 1 or gateway.idle_timeout:
            raise CannotBuild(f"{gateway.name}: helpers, pools and idle timeouts are not built yet")
    clients = (_host(topology, each) for each in site.clients)
    return (_host(topology, site.server), *clients, *(_gateway(topology, each) for each in site.gateways))


def _host(topology: Topology, spec: Server | Client) -> Node:
    wire = Wire("eth0", spec.network, tuple(f"{each}/32" for each in spec.address.each))
    rules = "\n".join(
        [
            "table inet lantern {",
            "chain incoming { type filter hook input priority 0; policy accept;",
            *_filter(spec.filter.incoming, spec.category),
            "}",
            "chain outgoing { type filter hook output priority 0; policy accept;",
            *_filter(spec.filter.outgoing, spec.category),
            "}",
            "}",
        ]
    )
    return Node(spec.name, True, (wire,), tuple(_routes(topology, {spec.network: "eth0"}, None)), rules)


def _gateway(topology: Topology, spec: Gateway) -> Node:
    outside = (*spec.outside.address.each, *(pair.outside for pair in spec.pairs))
    wires = (
        Wire(OUT, spec.outside.network, tuple(f"{each}/32" for each in dict.fromkeys(outside))),
        Wire(IN, spec.inside.network, tuple(f"{each}/32" for each in spec.inside.address.each)),
    )
    sides = {spec.outside.network: OUT, spec.inside.network: IN}
    return Node(spec.name, False, wires, tuple(_routes(topology, sides, spec)), "\n".join(_gateway_rules(spec)))


def _routes(topology: Topology, sides: dict[str, str], gateway: Gateway | None) -> Iterator[Route]:
    """On-link routes for the networks of a node, and the next device for those further on."""
    told: set[str] = set()
    for network, wire in sides.items():
        for prefix in _prefixes(topology, network):
            if prefix not in told:
                told.add(prefix)
                yield Route(prefix, None, wire)
    for network, wire in sides.items():
        for far, crossings in topology.ways(network).items():
            first = crossings[0] if crossings else None
            if first is None or (gateway is not None and first.device.spec is gateway):
                continue
            via = _address_towards(first)
            for prefix in _prefixes(topology, far) if via else ():
                # nobody on the internet has a route to private addresses
                if prefix not in told and not (network == INTERNET and _is_special(prefix)):
                    told.add(prefix)
                    yield Route(prefix, via, wire)


def _prefixes(topology: Topology, network: str) -> list[str]:
    if network == INTERNET:
        return ["0.0.0.0/0"]
    subnet = topology.subnets.get(network, AddressSet())
    return [text for text in str(subnet.of_family(4)).split(", ") if text]


def _is_special(prefix: str) -> bool:
    return Address(AddressSet.parse(prefix).lowest).kind != "public"


def _address_towards(crossing: Crossing) -> str | None:
    """The address of a device that its neighbours send to."""
    spec = crossing.device.spec
    if crossing.way == "outward":
        return next((str(each) for each in spec.inside.address.each), None)
    return next((str(each) for each in spec.outside.address.each), None)


def _filter(table: Filter, category: str | None) -> Iterator[str]:
    """The rules of a filter, then its default; answers to what was let through always pass."""
    yield "ct state established,related accept"
    for rule in table.rules:
        if counts(rule, category):
            yield from _rule(rule)
    yield from _verdict(BOTH, table.default)


def _rule(rule: Rule) -> Iterator[str]:
    match = BOTH if rule.protocol == "any" else f"meta l4proto {rule.protocol}"
    if rule.ports != EVERY_PORT:
        match += f" th dport {_set(rule.ports)}"
    if rule.from_ports is not None:
        match += f" th sport {_set(rule.from_ports)}"
    for key, addresses in (("saddr", rule.from_), ("daddr", rule.to)):
        if addresses is not None:
            match += f" ip {key} {_set(addresses)}"
    yield from _verdict(match, rule.action)


def _set(members: PortSet | AddressSet) -> str:
    return f"{{ {members} }}"


def _verdict(match: str, action: str) -> Iterator[str]:
    if action != "refuse":
        yield f"{match} {'accept' if action == 'allow' else 'drop'}"
        return
    yield f"{match} meta l4proto tcp reject with tcp reset"
    yield f"{match} reject"


FORWARDED, TURNED = 1, 2


def _gateway_rules(spec: Gateway) -> Iterator[str]:
    """A gateway's rule set. Marks of the connection tell later chains what was done to it."""
    yield "table inet lantern {"
    yield "chain provider { type filter hook prerouting priority mangle; policy accept;"
    if spec.provider_blocks.ports:
        yield f'iifname "{OUT}" ct state new {BOTH} th dport {_set(spec.provider_blocks.ports)} drop'
    yield "}"
    yield "chain rewrite { type nat hook prerouting priority dstnat; policy accept;"
    yield from _rewrites(spec)
    yield "}"
    yield "chain through { type filter hook forward priority 0; policy accept;"
    yield f"ct mark {FORWARDED} accept"
    yield f"ct mark {TURNED} accept"
    yield "ct state established,related accept"
    yield f'iifname "{OUT}" jump inward'
    yield f'iifname "{IN}" jump outward'
    yield "}"
    yield "chain unpaired { type filter hook forward priority 10; policy accept;"
    yield from _unpaired(spec)
    yield "}"
    yield "chain inward {"
    yield from _filter(spec.filter.inward, None)
    yield "}"
    yield "chain outward {"
    yield from _filter(spec.filter.outward, None)
    yield "}"
    yield "chain itself { type filter hook input priority 0; policy accept;"
    yield "ct state established,related accept"
    yield from _verdict(BOTH, "deny" if spec.unmatched == "silent" else "refuse")
    yield "}"
    yield "chain sources { type nat hook postrouting priority srcnat; policy accept;"
    yield from _sources(spec)
    yield "}"
    yield "}"


def _rewrites(spec: Gateway) -> Iterator[str]:
    """Forwards, then pairs, for what comes from outside; and for what is turned back."""
    addresses = Addresses((*spec.outside.address.each, *(pair.outside for pair in spec.pairs)))
    if not addresses:
        return
    ways = [(OUT, f"ct mark set {FORWARDED} " if spec.forwards_pass_filter else "", "")]
    if spec.hairpin:
        ways.append((IN, f"ct mark set {TURNED} ", f"ct mark set {TURNED} "))
    for wire, forward_mark, pair_mark in ways:
        if spec.forwarding:
            for _, forward in spec.entered_forwards():
                for match, to in _forward(forward):
                    yield f'iifname "{wire}" ip daddr {{ {addresses} }} {match} {forward_mark}dnat ip to {to}'
        for pair in spec.pairs:
            yield f'iifname "{wire}" ip daddr {pair.outside} {BOTH} {pair_mark}dnat ip to {pair.inside}'


def _forward(forward: Forward) -> Iterator[tuple[str, str]]:
    source = f" ip saddr {_set(forward.from_)}" if forward.from_ is not None else ""
    if not forward.offset:
        yield f"{forward.protocol} dport {_set(forward.ports)}{source}", str(forward.to)
        return
    for port in forward.ports:
        yield f"{forward.protocol} dport {port}{source}", f"{forward.to}:{port + forward.offset}"


def _sources(spec: Gateway) -> Iterator[str]:
    inside = next((str(each) for each in spec.inside.address.each), None)
    if inside is not None:
        yield f"ct mark {TURNED} snat ip to {inside}"
    if spec.translate == "none":
        return
    for pair in spec.pairs:
        yield f'oifname "{OUT}" ip saddr {pair.inside} snat ip to {pair.outside}'
    outside = next((str(each) for each in spec.outside.address.each), None)
    if outside is not None:
        yield f'oifname "{OUT}" snat ip to {outside}'


def _unpaired(spec: Gateway) -> Iterator[str]:
    """Inside hosts that have no outside address to go out with."""
    if spec.translate == "none" or spec.outside.address:
        return
    paired = Addresses(tuple(pair.inside for pair in spec.pairs))
    yield f'iifname "{IN}" oifname "{OUT}" ct state new ip saddr != {{ {paired} }} drop'
