"""Which host and which network is where, and which way leads to an address.

Networks are nodes and gateways are edges; the site has at most one path between any two
networks (:mod:`..model.consistency` sees to it). Seen from a network, an address lies on the
nearest network that holds it and can be seen: everything outside is visible from inside,
while the inside is visible from outside only through a gateway that does not translate.
"""

from collections import deque
from collections.abc import Hashable
from functools import cached_property
from typing import Literal

from msgspec import Struct, structs

from ..model.site import (
    INTERNET,
    Client,
    CompleteClient,
    Filter,
    Gateway,
    HostFilter,
    Server,
    Service,
    Site,
    StaticRoute,
    complete,
)
from ..values.addresses import (
    FAMILIES,
    SENDER_NOT_KNOWN,
    Address,
    Addresses,
    AddressSet,
    Family,
    Prefix96,
    public_addresses,
)
from ..values.ports import PortSet
from ..values.text_value import SitePath
from .filters import Table, compiled

LOCALHOST = Address.parse("127.0.0.1")
Way = Literal["inward", "outward"]


class Host(Struct, frozen=True):
    """The server or a client, with its filters ready to ask."""

    name: str
    network: str
    addresses: Addresses
    incoming: Table
    outgoing: Table
    place: SitePath
    gateway: str | None = None
    routes: tuple[StaticRoute, ...] = ()


class Device(Struct, frozen=True):
    """A gateway with its filters ready to ask."""

    spec: Gateway
    place: SitePath
    inward: Table
    outward: Table
    outside_addresses: AddressSet
    """Every address that the device answers to on its outside."""

    @property
    def name(self) -> str:
        """The gateway's name."""
        return self.spec.name

    def addresses_on(self, network: str) -> AddressSet:
        """The addresses that the device has on a network."""
        inside = self.spec.inside
        return inside.address.as_set if inside.network == network else self.outside_addresses

    def far(self, way: Way) -> str:
        """The network that a packet crossing in this way comes out on."""
        return self.spec.inside.network if way == "inward" else self.spec.outside.network


class Side(Struct, frozen=True):
    """One side of a device, found as the holder of an address."""

    device: Device
    side: Literal["outside", "inside"]


class Crossing(Struct, frozen=True):
    """A device on the way, and the direction in which it is crossed."""

    device: Device
    way: Way


_SOMEBODY = AddressSet.single(SENDER_NOT_KNOWN)


class Topology:
    """A site made ready for questions about paths. Built once, never changed. Without ``ways_back`` answers are
    taken to find back, whatever routes say, as where each device is looked at alone. ``derived`` keeps what was made
    of it for many questions alike, by whatever separates those."""

    def __init__(self, site: Site, ways_back: bool = True) -> None:
        site = _completed(site)
        listening = {service.name: listens_on(service) for service in site.services}
        self.site = site
        self.server = _host_of(site.server, site.server.filter, ("server",), listening)
        self.clients = tuple(
            _host_of(client, client.filter, ("clients", i), listening) for i, client in enumerate(site.clients)
        )
        self.devices = tuple(_device(each, ("gateways", i), listening) for i, each in enumerate(site.gateways))
        self.subnets = {each.name: each.subnet for each in site.networks if each.name != INTERNET}
        self.derived: dict[Hashable, Topology] = {}
        self._searched: dict[tuple[str, Family | None, str], dict[str, tuple[Crossing, ...]]] = {}
        self._exits: dict[str, list[Crossing]] = {}
        self._clients = {each.name: complete(site, each) for each in site.clients}
        self._hosts = {each.name: each for each in (*self.clients, self.server)}
        self._devices = {each.name: each for each in self.devices}
        self._holders = dict(self._held())
        hosts: tuple[Server | Client, ...] = (site.server, *site.clients)
        self.forked = _forked(site)
        self.asks_ways_back = ways_back
        self.routed = (
            self.forked
            or any(each.gateway or each.routes for each in hosts)
            or any(each.routes for each in site.gateways)
        )

    @cached_property
    def open_ban(self) -> SitePath | None:
        """The place of a rule that bans somebody who is not known yet, and who may be anybody; None where none does."""
        whole: list[tuple[SitePath, Filter, str]] = [(("server",), self.site.server.filter.incoming, "incoming")]
        for i, each in enumerate(self.site.gateways):
            whole.append((("gateways", i), each.filter.inward, "inward"))
            whole.append((("gateways", i), each.filter.outward, "outward"))
        for place, table, way in whole:
            for j, rule in enumerate(table.rules):
                if rule.enabled and rule.action != "allow" and rule.from_ and rule.from_ <= _SOMEBODY:
                    return (*place, "filter", way, "rules", j, "from")
        return None

    @cached_property
    def one_way(self) -> "Topology":
        """The same, where answers are not asked for: what gets in at all."""
        return Topology(self.site, ways_back=False) if self.asks_ways_back and self.routed else self

    def host(self, name: str) -> Host:
        """The server or client of this name. Raises KeyError."""
        return self._hosts[name]

    def node(self, name: str) -> "Host | Device":
        """The host or gateway of this name. Raises KeyError."""
        return self._hosts.get(name) or self._devices[name]

    def client(self, name: str) -> CompleteClient | None:
        """The client of this name with its habits; None for a network, and where there is none."""
        return self._clients.get(name)

    def client_index(self, name: str) -> int:
        """Where the client of this name stands among the clients of the site."""
        return next(i for i, each in enumerate(self.site.clients) if each.name == name)

    def gateway(self, name: str) -> Gateway:
        """The gateway of this name, as the file has it."""
        return next(each for each in self.site.gateways if each.name == name)

    def holder(self, network: str, address: Address) -> Host | Side | None:
        """The host or the side of a gateway that has this address on this network."""
        return self._holders.get((network, address.number))

    def holds(self, network: str, address: Address) -> bool:
        """Whether the address belongs to this network: a device has it, or its subnet does."""
        return self.holder(network, address) is not None or address.number in self.subnets.get(network, ())

    def held_on(self, network: str) -> tuple[Address, ...]:
        """The addresses that hosts and gateways of the site have on this network."""
        return tuple(Address(number) for name, number in sorted(self._holders) if name == network)

    def crossings(self, network: str, address: Address) -> tuple[Crossing, ...] | None:
        """The devices from a network to the one that holds the address, nearest first.

        Empty when the address is on this very network; None when no chain leads to it. A
        public address that the site does not know is on the internet.
        """
        routes = self.ways(network, address.family)
        for far, route in routes.items():
            if self.holds(far, address):
                return route
        return routes.get(INTERNET) if address.kind == "public" else None

    def sees(self, network: str, address: Address) -> bool:
        """Whether the holder of an address is visible from a network."""
        return any(self.holds(far, address) for far in self.ways(network, address.family))

    def ways(self, network: str, family: Family) -> dict[str, tuple[Crossing, ...]]:
        """The networks whose addresses of a family can be used from a network, nearest first, with the devices
        on the way."""
        return self._search(network, family)

    def chain(self, start: str, end: str) -> tuple[Crossing, ...] | None:
        """The devices between two networks, whether or not they translate; None without one."""
        return self._search(start, None).get(end)

    def stands_for_ipv4(self, network: str) -> Prefix96 | None:
        """The prefix by which IPv4 addresses are reached from a network over IPv6: that of the first NAT64 device on
        the way to the internet."""
        chain = (each for each in self.chain(network, INTERNET) or () if each.way == "outward")
        return next((each.device.spec.nat64 for each in chain if each.device.spec.nat64 is not None), None)

    def everybody(self, network: str) -> AddressSet:
        """Every address of a network."""
        return public_addresses() if network == INTERNET else self.subnets.get(network, AddressSet())

    def strangers(self, network: str) -> AddressSet:
        """The addresses of a network that the site gives to nobody: of anybody there whom it does not name."""
        return self.everybody(network) - AddressSet.single(*self.held_on(network))

    def seen_on(self, client: Client, network: str) -> AddressSet:
        """The addresses by which a client of the site appears on a network to which it goes outward."""
        crossings = self.chain(client.network, network)
        if crossings is None or any(each.way == "inward" for each in crossings):
            return AddressSet()
        whole = AddressSet()
        for family in FAMILIES:
            found = client.address.as_set.of_family(family)
            for device in (each.device for each in crossings if each.device.spec.translates(family) != "none"):
                paired = [pair.outside for pair in device.spec.pairs if pair.inside.number in found]
                outside = device.outside_addresses.of_family(family)
                found = AddressSet.single(*paired) if paired else outside if found else found
            whole = whole | found
        if client.address.of_family(6):
            for device in (each.device for each in crossings if each.device.spec.nat64 is not None):
                whole = whole | device.outside_addresses.of_family(4)
        return whole

    def _search(self, start: str, family: Family | None, but: str = "") -> dict[str, tuple[Crossing, ...]]:
        """Breadth first from a network: every network that addresses of a family can be seen on, and the way
        there; with None every network there is, through whatever translates; never through the one that is named.
        It is asked for each connection alike, so it is remembered."""
        known = self._searched.get((start, family, but))
        if known is not None:
            return known
        found: dict[str, tuple[Crossing, ...]] = {start: ()}
        waiting = deque([start])
        while waiting:
            network = waiting.popleft()
            for crossing in self.exits(network):
                far = crossing.device.far(crossing.way)
                inward = crossing.way == "inward" and family is not None
                hidden = inward and crossing.device.spec.translates(family or 4) != "none"
                if far not in found and not hidden and far != but:
                    found[far] = (*found[network], crossing)
                    waiting.append(far)
        self._searched[start, family, but] = found
        return found

    def beyond(self, network: str, crossing: Crossing, family: Family) -> frozenset[str]:
        """The networks that are seen through one device of a network, and not by coming back to it."""
        far = crossing.device.far(crossing.way)
        hidden = crossing.way == "inward" and crossing.device.spec.translates(family) != "none"
        return frozenset() if hidden else frozenset(self._search(far, family, network))

    def crossing(self, network: str, name: str) -> Crossing | None:
        """The gateway of this name as it is crossed from a network; None where it is not attached there."""
        return next((each for each in self.exits(network) if each.device.name == name), None)

    def exits(self, network: str) -> list[Crossing]:
        """The devices of a network, each in the direction in which it is crossed from there; remembered."""
        if network in self._exits:
            return self._exits[network]
        outward = [Crossing(each, "outward") for each in self.devices if each.spec.inside.network == network]
        inward = [Crossing(each, "inward") for each in self.devices if each.spec.outside.network == network]
        self._exits[network] = [*outward, *inward]
        return self._exits[network]

    def _held(self) -> list[tuple[tuple[str, int], Host | Side]]:
        held: list[tuple[tuple[str, int], Host | Side]] = []
        for device in self.devices:
            outside, inside = Side(device, "outside"), Side(device, "inside")
            held += [((device.spec.outside.network, number), outside) for number in device.outside_addresses]
            held += [((device.spec.inside.network, each.number), inside) for each in device.spec.inside.address.each]
        apart = (host for host, spec in zip(self.clients, self.site.clients, strict=True) if not spec.on_server)
        for host in (self.server, *apart):
            held += [((host.network, each.number), host) for each in host.addresses.each]
        return held


def listens_on(service: Service) -> PortSet:
    """The control port of a service, and its passive range where it has one."""
    control = PortSet.single(service.control_port.number)
    return control | service.passive.ports if service.passive else control


def _forked(site: Site) -> bool:
    """Whether there are two ways between any networks: more gateways than it takes to join them (union and find)."""
    leader: dict[str, str] = {}

    def find(name: str) -> str:
        while leader.setdefault(name, name) != name:
            name = leader[name]
        return name

    for each in site.gateways:
        outside, inside = find(each.outside.network), find(each.inside.network)
        if outside == inside:
            return True
        leader[outside] = inside
    return False


def _completed(site: Site) -> Site:
    """The site with what a client on the server host has of that host: its addresses and its own, its filters."""
    server = site.server
    own = Addresses((*server.address.each, LOCALHOST))
    of_host = {"address": own, "filter": server.filter, "category": server.category,
               "gateway": server.gateway, "routes": server.routes}  # fmt: skip
    clients = (structs.replace(each, **of_host) if each.on_server else each for each in site.clients)
    return structs.replace(site, clients=tuple(clients))


def _host_of(spec: Client | Server, both: HostFilter, place: SitePath, listening: dict[str, PortSet]) -> Host:
    return Host(
        name=spec.name,
        network=spec.network,
        addresses=spec.address,
        incoming=compiled(both.incoming, (*place, "filter", "incoming"), spec.category, listening),
        outgoing=compiled(both.outgoing, (*place, "filter", "outgoing"), spec.category, listening),
        place=place,
        gateway=spec.gateway,
        routes=spec.routes,
    )


def _device(spec: Gateway, place: SitePath, listening: dict[str, PortSet]) -> Device:
    return Device(
        spec=spec,
        place=place,
        inward=compiled(spec.filter.inward, (*place, "filter", "inward"), None, listening),
        outward=compiled(spec.filter.outward, (*place, "filter", "outward"), None, listening),
        outside_addresses=spec.outside_addresses.as_set,
    )


def free_address(topology: Topology, network: str, family: Family) -> Address | None:
    """An address that nobody of the site has, on a network."""
    if network == INTERNET:
        prefixes = ("192.0.2.0/24", "198.51.100.0/24", "203.0.113.0/24") if family == 4 else ("2001:db8:ffff::/64",)
        spans = [AddressSet.parse(each) for each in prefixes]
    else:
        spans = [topology.subnets.get(network, AddressSet()).of_family(family)]
    held = AddressSet.single(*topology.held_on(network))
    return next((Address(_tenth(free)) for span in spans if (free := span - held)), None)


def _tenth(free: AddressSet) -> int:
    """An address that looks like a host's, not like a network's own."""
    low, high = free.spans[-1]
    return min(low + 10, high)
