"""Whether the ways through a site fit together: one path between any two networks, or a word which is taken; routes
by gateways that are there; addresses inside of their networks, each of one device."""

from collections.abc import Iterator, Sequence

from ..values.addresses import Address, Addresses, AddressSet
from ..values.site_path import SitePath
from .problem import Problem, network_names, refers
from .site import INTERNET, Client, Server, Site, StaticRoute


def second_paths(site: Site) -> Iterator[Problem]:
    """Joining two networks that are joined already would give two paths (union and find)."""
    leader: dict[str, str] = {name: name for name in network_names(site)}

    def find(name: str) -> str:
        while leader.setdefault(name, name) != name:
            name = leader[name]
        return name

    for i, gateway in enumerate(site.gateways):
        outside, inside = find(gateway.outside.network), find(gateway.inside.network)
        if outside == inside and gateway.outside.network != gateway.inside.network:
            undecided = [each.name for each in _hosts(site) if each.gateway is None and _has_choice(site, each)]
            if not undecided:
                continue
            pair = f"“{gateway.outside.network}” and “{gateway.inside.network}”"
            message = f"{gateway.name} is a second path between {pair}: which one does the traffic take?"
            advice = f"say it at {', '.join(undecided)}: gateway: {gateway.name}, or the other"
            yield Problem(("gateways", i), f"{message} {advice}")
        leader[outside] = inside


def _hosts(site: Site) -> tuple[Server | Client, ...]:
    return (site.server, *(each for each in site.clients if not each.on_server))


def _has_choice(site: Site, host: Server | Client) -> bool:
    """Whether several gateways lead out of the network that a host is on."""
    return sum(each.inside.network == host.network for each in site.gateways) > 1


def route_problems(site: Site) -> Iterator[Problem]:
    """Gateways and routes of hosts and devices: each is attached where it is needed, and none is told twice."""
    hosts: list[tuple[SitePath, Server | Client]] = [(("server",), site.server)]
    hosts += [(("clients", i), each) for i, each in enumerate(site.clients)]
    for place, host in hosts:
        if host.gateway is not None:
            yield from _attached_gateway(site, host.gateway, {host.network}, (*place, "gateway"))
        defaults = [each for each in host.routes if _everywhere(each)]
        if host.gateway is not None and defaults:
            message = f"{host.name} has two defaults: gateway: {host.gateway}, and a route to {defaults[0].to}"
            yield Problem((*place, "gateway"), f"{message}; keep one")
        yield from _static_routes(site, host.routes, {host.network}, place)
    for i, gateway in enumerate(site.gateways):
        networks = {gateway.outside.network, gateway.inside.network}
        yield from _static_routes(site, gateway.routes, networks, ("gateways", i))


def _everywhere(route: StaticRoute) -> bool:
    return any(low == 0 for low, _ in route.to.of_family(4).spans) and len(route.to.of_family(4).prefixes()) == 1


def _static_routes(site: Site, routes: Sequence[StaticRoute], networks: set[str], place: SitePath) -> Iterator[Problem]:
    for j, each in enumerate(routes):
        yield from _attached_gateway(site, each.via, networks, (*place, "routes", j, "via"))
        for network in sorted(networks):
            if own := _on_own_network(site, network, each):
                message = f"{own} is on “{network}” itself, where no gateway is needed"
                yield Problem((*place, "routes", j, "to"), f"{message}; name addresses that are further on")
        if any(each.to == earlier.to for earlier in routes[:j]):
            message = f"{each.to} is told a second time; which of the two gateways does it go through? keep one"
            yield Problem((*place, "routes", j, "to"), message)


def _on_own_network(site: Site, network: str, route: StaticRoute) -> AddressSet:
    """The addresses of a route that its holder reaches without a gateway; a wider route says nothing of them."""
    subnet = next((each.subnet for each in site.networks if each.name == network), AddressSet())
    held = AddressSet.single(*(each for _, _, name, some in _attached(site) if name == network for each in some.each))
    wider = bool(subnet) and network != INTERNET and not (route.to <= subnet)
    return AddressSet() if wider else route.to & (subnet | held)


def _attached_gateway(site: Site, name: str, networks: set[str], place: SitePath) -> Iterator[Problem]:
    """A gateway that is named as the next one has to be on the same network."""
    known = [each.name for each in site.gateways]
    if name not in known:
        yield from refers("gateway", name, known, place)
        return
    gateway = site.gateways[known.index(name)]
    if not networks & {gateway.outside.network, gateway.inside.network}:
        there = f"{name} stands between “{gateway.outside.network}” and “{gateway.inside.network}”"
        near = [each.name for each in site.gateways if networks & {each.outside.network, each.inside.network}]
        yield Problem(place, f"{there}, not on “{', '.join(sorted(networks))}”; near are: {', '.join(near) or 'none'}")


def address_problems(site: Site) -> Iterator[Problem]:
    """Addresses that are not of their network, or that two devices have."""
    holders: dict[tuple[str, int], str] = {}
    for place, device, network, addresses in _attached(site):
        yield from _in_subnet(site, network, addresses, place)
        for address in addresses.each:
            if network == INTERNET and address.kind != "public":
                continue  # not reachable there, so that two places may well use the same one
            holder = holders.setdefault((network, address.number), device)
            if holder != device:
                yield Problem(place, _twice_held(site, address, holder, device))


def _twice_held(site: Site, address: Address, first: str, second: str) -> str:
    """What is wrong where two devices have one address: of a shared one, each has ports of its own."""
    shares = {each.name: each.outside.ports for each in site.gateways if address in each.outside.address}
    one, other = shares.get(first), shares.get(second)
    if one is None or other is None:
        return f"{address} belongs to {first} already; each device has its own address"
    if both := one & other:
        return f"ports {both} of {address} are {first}’s and {second}’s: shares of one address do not overlap"
    return f"{address} is shared with {first}: a site has one of its customers, so leave the neighbour {second} out"


def _attached(site: Site) -> Iterator[tuple[SitePath, str, str, Addresses]]:
    for i, gateway in enumerate(site.gateways):
        place: SitePath = ("gateways", i)
        yield (*place, "outside", "address"), gateway.name, gateway.outside.network, gateway.outside.address
        yield (*place, "inside", "address"), gateway.name, gateway.inside.network, gateway.inside.address
        for j, pair in enumerate(gateway.pairs):
            yield (*place, "pairs", j, "outside"), gateway.name, gateway.outside.network, Addresses((pair.outside,))
    yield ("server", "address"), site.server.name, site.server.network, site.server.address
    for i, client in enumerate(site.clients):
        yield ("clients", i, "address"), client.name, client.network, client.address


def _in_subnet(site: Site, network: str, addresses: Addresses, place: SitePath) -> Iterator[Problem]:
    subnet = next((each.subnet for each in site.networks if each.name == network), None)
    for address in addresses.each:
        if subnet and address.number not in subnet and subnet.of_family(address.family):
            message = f"{address} is outside network “{network}”, which is {subnet}"
            yield Problem(place, f"{message}; mend the address, the network's name or its subnet")
