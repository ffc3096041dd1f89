"""A site as network namespaces: which nodes, wires and routes to build.

Pure values, so that they can be read and tested without privileges; :mod:`.node_process`
builds them. Devices send to each other by link-local addresses of their own, as routers do,
so that a route never depends on what the site says of a device's addresses.
"""

from collections.abc import Iterator, Sequence

from msgspec import Struct

from ...core.model.site import ETHERNET_BYTES, INTERNET, Client, Gateway, Server, Site, StaticRoute
from ...core.network.topology import Crossing, Topology
from ...core.values.addresses import FAMILIES, Address, Addresses, AddressSet, Family, Prefix96
from ...core.values.ports import NO_PORTS
from ...formats.devices.packet_filter.nftables import (
    IN,
    OUT,
    WIRE,
    gateway_rules,
    host_rules,
    listening,
    named_wires,
    surroundings,
)

MOST_ON_A_NETWORK = 1000
"""A bridge of the kernel holds 1,023 ports (BR_MAX_PORTS)."""


class Wire(Struct, frozen=True):
    """An interface of a node on a network, with its addresses in prefix form. On a ``narrow`` line larger packets than
    so many bytes vanish both ways."""

    name: str
    network: str
    addresses: tuple[str, ...]
    narrow: int | None = None


class KernelRoute(Struct, frozen=True):
    """Where to send what: ``via`` an address, or on the wire itself."""

    to: str
    via: str | None
    wire: str


class Node(Struct, frozen=True):
    """One network namespace: a host, which listens and probes, or a gateway. On ``quiet`` wires nothing comes back
    of an address that nobody has."""

    name: str
    is_host: bool
    wires: tuple[Wire, ...]
    routes: tuple[KernelRoute, ...]
    rules: str
    quiet: tuple[str, ...] = ()
    nat64: Prefix96 | None = None


class TooLarge(ValueError):
    """The site is more than a lab on this machine can hold, with the reason."""


def lab_nodes(site: Site, strangers: Sequence[Client] = ()) -> tuple[Node, ...]:
    """All nodes of a site, and hosts for strangers on its networks, or in place of a client of that name.

    Raises TooLarge for more hosts on one network than a bridge of the kernel holds.
    """
    known = [each for each in site.clients if each.name not in {stranger.name for stranger in strangers}]
    hosts: list[Server | Client] = [site.server, *(each for each in known if not each.on_server), *strangers]
    for network in {each.network for each in hosts}:
        count = sum(each.network == network for each in hosts)
        if count > MOST_ON_A_NETWORK:
            raise TooLarge(f"{count} hosts on {network}, where the lab holds {MOST_ON_A_NETWORK} a network")
    topology = Topology(site)
    gateways = (_gateway_node(topology, each) for each in site.gateways)
    return (*(_host_node(topology, each) for each in hosts), *gateways)


def _host_node(topology: Topology, spec: Server | Client) -> Node:
    wire = Wire(WIRE, spec.network, _single(spec.address))
    reads = spec.helper_ports if isinstance(spec, Server) and spec.ftp_helper else NO_PORTS
    rules = surroundings({WIRE: spec.network}) + host_rules(spec.filter, spec.category, listening(topology.site), reads)
    routes = tuple(
        _host_routes(topology, spec) if spec.gateway else _routes(topology, {spec.network: WIRE}, spec, None)
    )
    return Node(spec.name, True, (wire,), routes, rules, (WIRE,) if spec.network == INTERNET else ())


def _single(addresses: Addresses) -> tuple[str, ...]:
    return tuple(_prefix(each) for each in addresses.each)


def _prefix(address: Address) -> str:
    return f"{address}/{32 if address.family == 4 else 128}"


def _gateway_node(topology: Topology, spec: Gateway) -> Node:
    number = topology.site.gateways.index(spec)
    wires = (
        Wire(
            OUT, spec.outside.network, (*_single(spec.outside_addresses), *_hops(number, OUT)), _narrow_mtu(spec, OUT)
        ),
        Wire(IN, spec.inside.network, (*_single(spec.inside.address), *_hops(number, IN)), _narrow_mtu(spec, IN)),
    )
    sides = {spec.outside.network: OUT, spec.inside.network: IN}
    return Node(
        spec.name,
        False,
        wires,
        tuple(_routes(topology, sides, spec, spec)),
        surroundings({wire.name: wire.network for wire in wires}, spec)
        + named_wires(OUT, IN)
        + gateway_rules(spec, listening(topology.site)),
        tuple(wire.name for wire in wires if wire.network == INTERNET or not spec.tells_of_nobody),
        spec.nat64,
    )


def _narrow_mtu(spec: Gateway, side: str) -> int | None:
    """The size of a line on which larger packets vanish; where senders are told, nothing is to be seen of it."""
    size = (spec.outside if side == OUT else spec.inside).mtu
    return size if spec.too_big == "dropped" and size < ETHERNET_BYTES else None


def _hops(number: int, side: str) -> tuple[str, str]:
    return f"{_hop(number, side, 4)}/32", f"{_hop(number, side, 6)}/128"


def _hop(number: int, side: str, family: Family) -> str:
    """The link-local address by which a gateway's neighbours send to it."""
    low = 1 + 2 * number + (side == IN)
    return f"169.254.{low // 256}.{low % 256}" if family == 4 else f"fe80::1a:{low:x}"


def _host_routes(topology: Topology, spec: Server | Client) -> Iterator[KernelRoute]:
    """What a host knows whose gateway is told: its own network, its routes, and its gateway for all else."""
    announced_routes: set[str] = set()
    for route in (*_static(topology, {spec.network: WIRE}, spec.routes), *_on_link(topology, {spec.network: WIRE})):
        if route.to not in announced_routes:
            announced_routes.add(route.to)
            yield route
    crossing = topology.crossing(spec.network, spec.gateway or "")
    for everywhere, family in _prefixes(topology, INTERNET) if crossing else ():
        if everywhere not in announced_routes and crossing:
            yield KernelRoute(everywhere, _neighbour_address(topology, crossing, family), WIRE)


def _static(topology: Topology, sides: dict[str, str], routes: Sequence[StaticRoute]) -> Iterator[KernelRoute]:
    """The routes that the site itself gives a node, each over the wire on which its gateway is."""
    for network, wire in sides.items():
        for each in routes:
            if (crossing := topology.crossing(network, each.via)) is not None:
                for family in FAMILIES:
                    for prefix in each.to.of_family(family).prefixes():
                        yield KernelRoute(prefix, _neighbour_address(topology, crossing, family), wire)


def _on_link(topology: Topology, sides: dict[str, str]) -> Iterator[KernelRoute]:
    for network, wire in sides.items():
        for prefix, _ in _prefixes(topology, network):
            yield KernelRoute(prefix, None, wire)


def _routes(
    topology: Topology, sides: dict[str, str], spec: Server | Client | Gateway, gateway: Gateway | None
) -> Iterator[KernelRoute]:
    """The routes that the site gives a node, those on its own networks, and the next device for all further on."""
    announced_routes: set[str] = set()
    inside_first = dict(reversed(sides.items()))
    for route in _static(topology, inside_first, spec.routes):
        if route.to not in announced_routes:
            announced_routes.add(route.to)
            yield route
    for network, wire in sides.items():
        for prefix, _ in _prefixes(topology, network):
            if prefix not in announced_routes:
                announced_routes.add(prefix)
                yield KernelRoute(prefix, None, wire)
    for family, network, far, first in _onward(topology, tuple(inside_first), gateway):
        for prefix, of_family in _prefixes(topology, far):
            # nobody on the internet has a route to private addresses
            lost = network == INTERNET and _is_special(prefix)
            if of_family == family and prefix not in announced_routes and not lost:
                announced_routes.add(prefix)
                yield KernelRoute(prefix, _neighbour_address(topology, first, family), sides[network])


def _onward(
    topology: Topology, networks: Sequence[str], gateway: Gateway | None
) -> Iterator[tuple[Family, str, str, Crossing]]:
    """The next device to every network further on, over each of a node's own networks, the shortest way first."""
    found = [
        (len(crossings), family, network, far, crossings[0])
        for network in networks
        for family in FAMILIES
        for far, crossings in topology.ways(network, family).items()
        if crossings and (gateway is None or crossings[0].device.spec is not gateway)
    ]
    yield from ((family, network, far, first) for _, family, network, far, first in sorted(found, key=lambda e: e[0]))


def _prefixes(topology: Topology, network: str) -> list[tuple[str, Family]]:
    if network == INTERNET:
        return [("0.0.0.0/0", 4), ("::/0", 6)]
    subnet = topology.subnets.get(network, AddressSet())
    members = subnet | AddressSet.single(*topology.held_on(network))
    return [(text, family) for family in FAMILIES for text in members.of_family(family).prefixes()]


def _is_special(prefix: str) -> bool:
    return Address(AddressSet.parse(prefix).lowest).kind != "public"


def _neighbour_address(topology: Topology, crossing: Crossing, family: Family) -> str:
    """The address of a device that its neighbours send to."""
    number = topology.site.gateways.index(crossing.device.spec)
    return _hop(number, IN if crossing.way == "outward" else OUT, family)
