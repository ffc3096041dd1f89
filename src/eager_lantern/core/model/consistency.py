"""Whether the parts of a site fit together: names, addresses, gateways, routes and paths."""

from collections.abc import Iterator, Mapping, Sequence

from ..values.addresses import FAMILIES, Address, Addresses, AddressSet
from ..values.text_value import SitePath
from .entries import Destination
from .problem import Problem, did_you_mean, list_of_addresses, network_names, refers
from .site import (
    ETHERNET_BYTES,
    INTERNET,
    Account,
    Client,
    CompleteClient,
    Filter,
    Forward,
    Gateway,
    HostFilter,
    Promise,
    Refusal,
    Rule,
    Server,
    Service,
    Site,
    StaticRoute,
    complete,
    parts_of,
)


def problems(site: Site) -> list[Problem]:
    """Everything that does not fit, in the order of the file's sections."""
    return [
        *_duplicates(site),
        *_references(site),
        *gateway_problems(site),
        *second_paths(site),
        *route_problems(site),
        *address_problems(site),
        *_rules(site),
        *_promise_problems(site),
    ]


def _duplicates(site: Site) -> Iterator[Problem]:
    devices: list[tuple[SitePath, str]] = [
        *((("gateways", i, "name"), each.name) for i, each in enumerate(site.gateways)),
        (("server", "name"), site.server.name),
        *((("clients", i, "name"), each.name) for i, each in enumerate(site.clients)),
    ]
    networks: list[tuple[SitePath, str]] = [
        (("networks", i, "name"), each.name) for i, each in enumerate(site.networks)
    ]
    yield from _twice("network or device", [*networks, *devices])
    yield from _twice("service", [(("services", i, "name"), each.name) for i, each in enumerate(site.services)])
    yield from _twice("set of habits", [(("habits", i, "name"), each.name) for i, each in enumerate(site.habits)])
    yield from _twice("group", [(("groups", i, "name"), each.name) for i, each in enumerate(site.groups)])
    yield from _twice("published name", [(("names", i, "name"), each.name) for i, each in enumerate(site.names)])


def _twice(what: str, named: list[tuple[SitePath, str]]) -> Iterator[Problem]:
    seen: set[str] = set()
    for place, name in named:
        if name in seen:
            yield Problem(place, f"found the name “{name}” a second time; expected another name for each {what}")
        seen.add(name)


def _references(site: Site) -> Iterator[Problem]:
    networks = network_names(site)
    services = [each.name for each in site.services]
    clients = [each.name for each in site.clients]
    for i, gateway in enumerate(site.gateways):
        yield from refers("network", gateway.outside.network, networks, ("gateways", i, "outside", "network"))
        yield from refers("network", gateway.inside.network, networks, ("gateways", i, "inside", "network"))
    yield from refers("network", site.server.network, networks, ("server", "network"))
    for i, client in enumerate(site.clients):
        yield from refers("network", client.network, networks, ("clients", i, "network"))
        yield from _destination(site, client.reaches, ("clients", i, "reaches"))
        yield from _one_service_a_port(site, client, ("clients", i, "reaches"))
        if client.habits is not None:
            yield from refers("habit", client.habits, [each.name for each in site.habits], ("clients", i, "habits"))
        yield from _on_server(site, client, ("clients", i))
    for i, service in enumerate(site.services):
        yield from _service_references(site, service, ("services", i), [*clients, *networks])
    for i, service in enumerate(site.services):
        yield from _who_may(site, service, ("services", i))
    for i, account in enumerate(site.accounts):
        yield from refers("service", account.service, services, ("accounts", i, "service"))
        yield from _folders(account, ("accounts", i))
        yield from _top_folder(site, account, ("accounts", i))
        for j, name in enumerate(account.groups):
            groups = [each.name for each in site.groups]
            yield from refers("group", name, groups, ("accounts", i, "groups", j))
        for j, name in enumerate(account.clients):
            yield from refers("client", name, clients, ("accounts", i, "clients", j))


def _top_folder(site: Site, account: Account, place: SitePath) -> Iterator[Problem]:
    """Owner and mode state already who may write, and Windows knows neither."""
    if account.home_mode is not None and account.home_writable is not None:
        found = "found home_writable beside home_mode; expected one of them, since the mode states who may write"
        yield Problem((*place, "home_writable"), found)
    for key, value in (("home_owner", account.home_owner), ("home_mode", account.home_mode)):
        if value is not None and site.server.system == "windows":
            found = f"found {key} on a Windows server; expected home_writable, since Windows knows no such modes"
            yield Problem((*place, key), found)


def _who_may(site: Site, service: Service, place: SitePath) -> Iterator[Problem]:
    """Whoever may log in is an account of the service; whoever may not can be any of the host."""
    mine = [each.name for each in site.accounts if each.service == service.name]
    for j, name in enumerate(service.allows):
        yield from refers("account", name, mine, (*place, "allows", j))
    for j, name in enumerate(service.bars):
        if name in service.allows:
            yield Problem((*place, "bars", j), f"found {name} in bars and in allows; expected it in one of them")


def _folders(account: Account, place: SitePath) -> Iterator[Problem]:
    """Names by which clients see folders are absolute, each another; a folder lies somewhere."""
    stated: set[str] = set()
    for j, folder in enumerate(account.folders):
        where: SitePath = (*place, "folders", j)
        parts = parts_of(folder.shown_as)
        if not folder.shown_as.startswith("/") or not parts or ".." in parts:
            message = (
                f"shown_as: found “{folder.shown_as}”; expected the name that clients see, from the top, such as /pub"
            )
            yield Problem((*where, "shown_as"), message)
        elif folder.shown_as.rstrip("/") in stated:
            message = (
                f"shown_as: found “{folder.shown_as}” a second time; expected a name for each folder of {account.name}"
            )
            yield Problem((*where, "shown_as"), message)
        stated.add(folder.shown_as.rstrip("/"))
        if folder.at is None and account.home is None:
            message = f"found “{folder.shown_as}”, which lies nowhere; expected at, or a home of {account.name}"
            yield Problem((*where, "shown_as"), message)
        if folder.at is not None and ".." in parts_of(folder.at):
            yield Problem((*where, "at"), f"at: found “{folder.at}”; expected a folder from the top, without ..")


def _on_server(site: Site, client: Client, place: SitePath) -> Iterator[Problem]:
    """A client on the server host has what that host has, and repeats none of it."""
    if not client.on_server:
        return
    if client.network != site.server.network:
        message = f"found “{client.network}”, and {client.name} is on the server host, which stands elsewhere"
        yield Problem((*place, "network"), f"{message}; expected network: {site.server.network}")
    stated = {"address": bool(client.address), "filter": client.filter != HostFilter(), "category": client.category}
    for key in (key for key, given in stated.items() if given):
        yield Problem(
            (*place, key),
            f"{key}: found one, and {client.name} is on the server host and has its {key}; expected no key {key} here",
        )


def _one_service_a_port(site: Site, client: Client, place: SitePath) -> Iterator[Problem]:
    promised = {each.service for each in site.promises if each.client == client.name and each.holds == "works"}
    if client.reaches is not None and client.reaches.port is not None and len(promised) > 1:
        found = f"found port {client.reaches.port} for {len(promised)} services ({', '.join(sorted(promised))})"
        yield Problem(place, f"{found}; expected one service: describe {client.name} as one client for each")


def _service_references(site: Site, service: Service, place: SitePath, clients: list[str]) -> Iterator[Problem]:
    for j, name in enumerate(service.keep_open_for):
        yield from refers("client", name, clients, (*place, "keep_open_for", j))
    if service.passive and not service.passive.protocols:
        message = "protocols: found none, and data needs one; expected [tcp], or no key protocols"
        yield Problem((*place, "passive", "protocols"), message)
    if service.passive:
        yield from _destination(site, service.passive.announce, (*place, "passive", "announce"))
        yield from _destination(site, service.passive.announce_inside, (*place, "passive", "announce_inside"))
    elif service.protocol == "ftp":
        yield Problem(
            place, f"found no passive range of service “{service.name}”; expected one: passive: {{ports: 61200-61455}}"
        )


def _destination(site: Site, destination: Destination | None, place: SitePath) -> Iterator[Problem]:
    if destination is None or not destination.name:
        return
    if destination.name == "localhost":
        if not (place[0] == "clients" and site.clients[int(place[1])].on_server):
            yield Problem(
                place, "found localhost, which is whoever types it; expected it at a client with on_server: true alone"
            )
        return
    if destination.own:
        if place[-1] == "reaches":
            yield Problem(
                place, "found “own”, which states nothing here; expected the address or the name that the client types"
            )
        return
    known = [each.name for each in site.names]
    if destination.name not in known:
        hint = did_you_mean(destination.name, known)
        message = f"found “{destination.name}”; expected an address, or a name that “names” lists ({hint})"
        yield Problem(place, f"{message}; to add it: names: [{{name: {destination.name}, addresses: …}}]")


def _rules(site: Site) -> Iterator[Problem]:
    services = [each.name for each in site.services]
    for place, rule in _all_rules(site):
        if rule.program is not None:
            yield from refers("service", rule.program, services, (*place, "program"))
        yield from _refusing(rule.action, rule.refuses_with, place, "action")
    for place, table in _all_filters(site):
        yield from _refusing(table.default, table.refuses_with, place, "default")


def _refusing(action: str, refuses_with: Refusal | None, place: SitePath, key: str) -> Iterator[Problem]:
    if refuses_with is not None and action != "refuse":
        found = f"refuses_with: found {refuses_with}, and the {key} here is {action}"
        yield Problem((*place, "refuses_with"), f"{found}; expected {key}: refuse, or no key refuses_with")


def _all_rules(site: Site) -> Iterator[tuple[SitePath, Rule]]:
    for place, table in _all_filters(site):
        yield from (((*place, "rules", j), rule) for j, rule in enumerate(table.rules))


def _all_filters(site: Site) -> Iterator[tuple[SitePath, Filter]]:
    for i, gateway in enumerate(site.gateways):
        for way, table in (("inward", gateway.filter.inward), ("outward", gateway.filter.outward)):
            yield ("gateways", i, "filter", way), table
    hosts: list[tuple[SitePath, HostFilter]] = [(("server", "filter"), site.server.filter)]
    hosts += [(("clients", i, "filter"), client.filter) for i, client in enumerate(site.clients)]
    for place, both in hosts:
        yield (*place, "incoming"), both.incoming
        yield (*place, "outgoing"), both.outgoing


def _works_against(site: Site, shut: Promise, services: Mapping[str, Service]) -> list[int]:
    """The promises to the same client that a port works which another has shut."""

    def port(name: str) -> int | None:
        return services[name].control_port.number if name in services else None

    return [
        i
        for i, each in enumerate(site.promises)
        if each.holds == "works" and each.client == shut.client and port(each.service) == port(shut.service) is not None
    ]


def _promise_problems(site: Site) -> Iterator[Problem]:
    clients = {each.name: complete(site, each) for each in site.clients}
    services = {each.name: each for each in site.services}
    for i, promise in enumerate(site.promises):
        place: SitePath = ("promises", i)
        if promise in site.promises[:i]:
            first = site.promises.index(promise) + 1
            yield Problem(
                place, f"found the same promise a second time (it is number {first} already); expected it once"
            )
        if promise.holds == "shut" and (works := _works_against(site, promise, services)):
            both = f"{promise.client} → {promise.service}"
            yield Problem(
                ("promises", works[0]), f"found {both} promised to work, and to stay shut; expected one of them"
            )
            yield Problem(place, f"found {both} promised to stay shut, and to work; expected one of them")
        places = [*clients, *network_names(site)]
        yield from refers("client", promise.client, places, (*place, "client"))
        yield from refers("service", promise.service, list(services), (*place, "service"))
        client = clients.get(promise.client)
        if promise.except_for and client is not None and client.address:
            found = f"except_for: found {promise.except_for}, and {client.name} has an address of its own"
            yield Problem((*place, "except_for"), f"{found}; expected it where many are meant, or no key except_for")
        service = services.get(promise.service)
        if service:
            yield from _mode_problems(promise, service, clients.get(promise.client), place)


def _mode_problems(
    promise: Promise, service: Service, client: CompleteClient | None, place: SitePath
) -> Iterator[Problem]:
    if service.protocol != "ftp":
        if promise.mode:
            found = (
                f"mode: found {promise.mode}, and {service.protocol} (“{service.name}”) has no passive or active mode"
            )
            yield Problem((*place, "mode"), f"{found}; expected no key mode")
    elif promise.holds == "works":
        if not promise.mode:
            yield Problem(place, "found no mode in this promise; expected mode: passive or mode: active")
        elif client and promise.mode not in client.modes:
            modes = ", ".join(client.modes)
            message = (
                f"mode: found {promise.mode}, which {client.name} does not use; expected one of its modes: {modes}"
            )
            yield Problem((*place, "mode"), message)


def gateway_problems(site: Site) -> Iterator[Problem]:
    """What does not fit of gateways, each by itself."""
    for i, gateway in enumerate(site.gateways):
        place: SitePath = ("gateways", i)
        if gateway.outside.network == gateway.inside.network:
            found = f"found “{gateway.inside.network}” outside and inside of {gateway.name}"
            yield Problem((*place, "inside", "network"), f"{found}; expected two different networks")
        yield from _translation(gateway, place)
        needs_inside = {"hairpin": gateway.hairpin and gateway.hairpin_source == "inside",
                        "forwards_hide_source": gateway.forwards_hide_source}  # fmt: skip
        for key, needs in needs_inside.items():
            if needs and not gateway.inside.address:
                needed = "expected the gateway's inside address: inside: {network: …, address: …}"
                message = f"found {key}, which needs an address; {needed}"
                yield Problem((*place, key), message)
        yield from _exposed_host_problems(gateway, place)
        yield from _sizes(gateway, place)
        if gateway.inside.ports is not None:
            message = "ports: found a share of an inside address, which has all ports; expected no key ports here"
            yield Problem((*place, "inside", "ports"), message)
        for j, forward in enumerate(gateway.forwards):
            yield from _forward(forward, (*place, "forwards", j))
            own = gateway.outside_addresses.each
            if forward.outside is not None and forward.outside not in own:
                message = (
                    f"found {forward.outside}; expected an outside address of {gateway.name}: {list_of_addresses(own)}"
                )
                yield Problem((*place, "forwards", j, "outside"), message)
            if forward.outside is not None and forward.outside.family != forward.to.family:
                message = f"found {forward.outside} and {forward.to}, of different address families"
                yield Problem((*place, "forwards", j, "outside"), f"{message}; expected two of one family")


def _sizes(gateway: Gateway, place: SitePath) -> Iterator[Problem]:
    if gateway.too_big == "dropped" and gateway.mtu >= ETHERNET_BYTES:
        found = f"too_big: found {gateway.too_big}, and both lines of {gateway.name} take {gateway.mtu} bytes"
        yield Problem((*place, "too_big"), f"{found}; expected the smaller one with its size: outside: {{mtu: 1492}}")


def _exposed_host_problems(gateway: Gateway, place: SitePath) -> Iterator[Problem]:
    """One host for each family, since all of a device's ports lead to it."""
    for family in FAMILIES:
        if gateway.exposed_host and len(found := gateway.exposed_host.of_family(family)) > 1:
            message = f"exposed_host: found {len(found)}, {gateway.exposed_host}; expected one host for each family"
            yield Problem((*place, "exposed_host"), f"{message}")


def _translation(gateway: Gateway, place: SitePath) -> Iterator[Problem]:
    stated = {"translate": (gateway.translate, FAMILIES), "translate_ipv6": (gateway.translate_ipv6, (6,))}
    for key, (kind, families) in stated.items():
        of_six = " of IPv6" if key == "translate_ipv6" else ""
        if kind == "outward" and not any(gateway.outside.address.of_family(each) for each in families):
            needed = f"expected the gateway's outside address{of_six} as well: outside: {{network: …, address: …}}"
            yield Problem((*place, key), f"found {key}: outward alone; {needed}")
        if kind == "one-to-one" and not any(each.inside.family in families for each in gateway.pairs):
            yield Problem(
                (*place, key),
                f"found {key}: one-to-one without pairs; expected pairs{of_six}: [{{outside: …, inside: …}}]",
            )
    if gateway.nat64 is not None and not gateway.outside.address.of_family(4):
        yield Problem(
            (*place, "nat64"),
            "found nat64 alone; expected an outside address of IPv4 as well: outside: {network: …, address: …}",
        )
    if gateway.nat64 is not None and gateway.ftp_helper:
        message = "found an FTP helper in a device of NAT64, which is not predicted (RFC 6384)"
        yield Problem((*place, "ftp_helper"), f"{message}; expected no key ftp_helper: EPSV needs none")
    for pair in gateway.pairs:
        if (kind := gateway.translates(pair.inside.family)) != "one-to-one":
            key = "translate" if pair.inside.family == 4 or gateway.translate_ipv6 is None else "translate_ipv6"
            yield Problem((*place, "pairs"), f"pairs: found {key}: {kind}; expected {key}: one-to-one")
            break
    for j, pair in enumerate(gateway.pairs):
        if pair.outside.family != pair.inside.family:
            message = f"found {pair.outside} and {pair.inside}, of different address families"
            yield Problem((*place, "pairs", j), f"{message}; expected two of one family")


def _forward(forward: Forward, place: SitePath) -> Iterator[Problem]:
    if not forward.to_port:
        return
    if len(forward.ports.spans) > 1:
        message = f"to_port: found several ranges before it, {forward.ports}"
        yield Problem((*place, "to_port"), f"{message}; expected one range: write one forward for each")
    elif forward.ports.highest + forward.offset > 65535:
        message = f"to_port: found {len(forward.ports)} ports from {forward.to_port} on, which run past 65535"
        yield Problem((*place, "to_port"), f"{message}; expected {65536 - len(forward.ports)} or lower")


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
            message = f"found a second path between {pair}, by {gateway.name}; expected which one the traffic takes"
            advice = f"write at {', '.join(undecided)}: gateway: {gateway.name}, or the other"
            yield Problem(("gateways", i), f"{message}: {advice}")
        leader[outside] = inside


def _hosts(site: Site) -> tuple[Server | Client, ...]:
    return (site.server, *(each for each in site.clients if not each.on_server))


def _has_choice(site: Site, host: Server | Client) -> bool:
    """Whether several gateways lead out of the network that a host is on."""
    return sum(each.inside.network == host.network for each in site.gateways) > 1


def route_problems(site: Site) -> Iterator[Problem]:
    """Gateways and routes of hosts and devices: each is attached where it is needed, and none is listed twice."""
    hosts: list[tuple[SitePath, Server | Client]] = [(("server",), site.server)]
    hosts += [(("clients", i), each) for i, each in enumerate(site.clients)]
    for place, host in hosts:
        if host.gateway is not None:
            yield from _attached_gateway(site, host.gateway, {host.network}, (*place, "gateway"))
        defaults = [each for each in host.routes if _everywhere(each)]
        if host.gateway is not None and defaults:
            message = f"found two defaults of {host.name}: gateway: {host.gateway}, and a route to {defaults[0].to}"
            yield Problem((*place, "gateway"), f"{message}; expected one of them")
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
                message = f"found {own}, which is on “{network}” itself and needs no gateway"
                yield Problem((*place, "routes", j, "to"), f"{message}; expected addresses that are further on")
        if any(each.to == earlier.to for earlier in routes[:j]):
            message = f"found {each.to} a second time; expected one route, by the gateway that it goes through"
            yield Problem((*place, "routes", j, "to"), message)


def _on_own_network(site: Site, network: str, route: StaticRoute) -> AddressSet:
    """The addresses of a route that its holder reaches without a gateway; a wider route states nothing about them."""
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
        there = f"found {name}, between “{gateway.outside.network}” and “{gateway.inside.network}”"
        near = [each.name for each in site.gateways if networks & {each.outside.network, each.inside.network}]
        yield Problem(
            place, f"{there}; expected one on “{', '.join(sorted(networks))}”: {', '.join(near) or 'there is none'}"
        )


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
        return f"found {address}, which {first} has already; expected an address of its own for each device"
    if both := one & other:
        return f"found ports {both} of {address} at {first} and at {second}; expected shares that do not overlap"
    return f"found {address}, which {first} shares; expected one of its customers: leave the neighbour {second} out"


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
            message = f"found {address}, which is not in “{network}”; expected an address of {subnet}"
            yield Problem(place, f"{message}, or another network or subnet")
