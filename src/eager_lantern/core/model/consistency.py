"""Whether the parts of a site fit together: names that refer to something and are used once, gateways, paths,
addresses, rules and promises. Each problem says what was found and what would be right."""

from collections.abc import Iterator

from ..values.site_path import SitePath
from .entries import Destination
from .gateways_fit import gateway_problems
from .paths_fit import address_problems, route_problems, second_paths
from .problem import Problem, did_you_mean, network_names, refers
from .rights import parts_of
from .site import (
    Account,
    Client,
    Filter,
    HostFilter,
    Promise,
    Refusal,
    Rule,
    Service,
    Site,
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
        *_promises(site),
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
            yield Problem(place, f"the name “{name}” is used twice; give each {what} a name of its own")
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
    for i, account in enumerate(site.accounts):
        yield from refers("service", account.service, services, ("accounts", i, "service"))
        yield from _folders(account, ("accounts", i))
        for j, name in enumerate(account.groups):
            groups = [each.name for each in site.groups]
            yield from refers("group", name, groups, ("accounts", i, "groups", j))
        for j, name in enumerate(account.clients):
            yield from refers("client", name, clients, ("accounts", i, "clients", j))


def _folders(account: Account, place: SitePath) -> Iterator[Problem]:
    """Names by which clients see folders are absolute, each another; a folder lies somewhere."""
    told: set[str] = set()
    for j, folder in enumerate(account.folders):
        where: SitePath = (*place, "folders", j)
        parts = parts_of(folder.shown_as)
        if not folder.shown_as.startswith("/") or not parts or ".." in parts:
            message = f"shown_as is the name that clients see, from the top, such as /pub; found {folder.shown_as}"
            yield Problem((*where, "shown_as"), message)
        elif folder.shown_as.rstrip("/") in told:
            message = f"{account.name} sees {folder.shown_as} already; each folder has a name of its own"
            yield Problem((*where, "shown_as"), message)
        told.add(folder.shown_as.rstrip("/"))
        if folder.at is None and account.home is None:
            message = f"{folder.shown_as} lies nowhere: write at, or the home of {account.name}, below which it is then"
            yield Problem((*where, "shown_as"), message)
        if folder.at is not None and ".." in parts_of(folder.at):
            yield Problem((*where, "at"), f"at is a folder from the top, without ..; found {folder.at}")


def _on_server(site: Site, client: Client, place: SitePath) -> Iterator[Problem]:
    """A client on the server host has what that host has, and says none of it again."""
    if not client.on_server:
        return
    if client.network != site.server.network:
        message = f"{client.name} is on the server host, which stands on “{site.server.network}”"
        yield Problem((*place, "network"), f"{message}; write network: {site.server.network}")
    told = {"address": bool(client.address), "filter": client.filter != HostFilter(), "category": client.category}
    for key in (key for key, given in told.items() if given):
        yield Problem((*place, key), f"{client.name} is on the server host and has its {key}; leave {key} out")


def _one_service_a_port(site: Site, client: Client, place: SitePath) -> Iterator[Problem]:
    promised = {each.service for each in site.promises if each.client == client.name and each.holds == "works"}
    if client.reaches is not None and client.reaches.port is not None and len(promised) > 1:
        message = f"port {client.reaches.port} leads to one service, and {client.name} is promised {len(promised)}"
        yield Problem(place, f"{message} ({', '.join(sorted(promised))}); describe it as one client for each")


def _service_references(site: Site, service: Service, place: SitePath, clients: list[str]) -> Iterator[Problem]:
    for j, name in enumerate(service.keep_open_for):
        yield from refers("client", name, clients, (*place, "keep_open_for", j))
    if service.passive and not service.passive.protocols:
        message = "protocols is empty, and data needs one: write [tcp], or leave it out"
        yield Problem((*place, "passive", "protocols"), message)
    if service.passive:
        yield from _destination(site, service.passive.announce, (*place, "passive", "announce"))
        yield from _destination(site, service.passive.announce_inside, (*place, "passive", "announce_inside"))
    elif service.protocol == "ftp":
        yield Problem(place, f"service “{service.name}” has no passive range; write passive: {{ports: 61200-61455}}")


def _destination(site: Site, destination: Destination | None, place: SitePath) -> Iterator[Problem]:
    if destination is None or not destination.name:
        return
    if destination.name == "localhost":
        if not (place[0] == "clients" and site.clients[int(place[1])].on_server):
            yield Problem(place, "localhost is whoever types it; only a client with on_server: true is there")
        return
    if destination.own:
        if place[-1] == "reaches":
            yield Problem(place, "“own” says nothing here; write the address or the name that the client types")
        return
    known = [each.name for each in site.names]
    if destination.name not in known:
        hint = did_you_mean(destination.name, known)
        message = f"“{destination.name}” is no address, and “names” does not list it{hint}"
        yield Problem(place, f"{message} (to add it: names: [{{name: {destination.name}, addresses: …}}])")


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
        message = f"refuses_with is how something is refused, and {key} here is {action}"
        yield Problem((*place, "refuses_with"), f"{message}; write {key}: refuse, or leave refuses_with out")


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


def _promises(site: Site) -> Iterator[Problem]:
    clients = {each.name: each for each in site.clients}
    services = {each.name: each for each in site.services}
    for i, promise in enumerate(site.promises):
        place: SitePath = ("promises", i)
        if promise in site.promises[:i]:
            first = site.promises.index(promise) + 1
            yield Problem(place, f"the same promise stands here a second time (it is number {first} already); keep one")
        places = [*clients, *network_names(site)]
        yield from refers("client", promise.client, places, (*place, "client"))
        yield from refers("service", promise.service, list(services), (*place, "service"))
        service = services.get(promise.service)
        if service:
            yield from _mode(promise, service, clients.get(promise.client), place)


def _mode(promise: Promise, service: Service, client: Client | None, place: SitePath) -> Iterator[Problem]:
    if service.protocol != "ftp":
        if promise.mode:
            message = f"“{service.name}” has protocol {service.protocol}, which has no passive or active mode"
            yield Problem((*place, "mode"), f"{message}; leave mode out")
    elif promise.holds == "works":
        if not promise.mode:
            yield Problem(place, "which mode is promised? add mode: passive or mode: active")
        elif client and promise.mode not in client.modes:
            message = f"{client.name} does not use {promise.mode} mode (its modes: {', '.join(client.modes)})"
            yield Problem((*place, "mode"), message)
