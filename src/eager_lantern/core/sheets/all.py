"""All pages of a site in the order of the work, and the connection card of each client."""

from collections.abc import Iterator, Mapping, Sequence
from shlex import quote

from msgspec import Struct
from msgspec.structs import replace

from ..model.site import INTERNET, Account, Gateway, Service, Site, effective_rights, rights_in, rights_in_order
from ..model.unfilled import open_places
from ..network.topology import Topology, listens_on
from ..predict.endpoints import position_of, typed_port, visit_command
from ..predict.forecast import Forecast
from ..values.ports import PortSet
from ..values.text_value import SitePath
from ..verdict import Verdict
from .gateway import gateway_sheet
from .server import server_sheet
from .sheet import Grid, Sheet, SheetPart
from .tests import test_now, tests_sheet


class Sheets(Struct, frozen=True):
    """The pages, and what stands at the head of all of them; ``trouble`` is why nobody should enter
    them yet, or nothing."""

    title: str
    trouble: str
    pages: tuple[Sheet, ...]


def sheets_of(
    verdict: Verdict, file: str, rule_files: Mapping[str, Sequence[str]], digests: Mapping[str, str]
) -> Sheets:
    """The pages for a site that ``file`` holds. ``rule_files`` are the names of the files by which rules are entered,
    by device: one that a Linux device loads, scripts for a cloud; ``digests`` those of certificates that could be read,
    by service."""
    site, topology = verdict.site, Topology(verdict.site)
    works = [each for each in verdict.forecasts if each.promise.holds == "works" and each.service.protocol != "other"]
    used = _forwards_used(topology, verdict)
    devices = [_device_page(verdict, topology, each, rule_files.get(each.name, ()), used) for each in outward(topology)]
    names = [_name_sheet(site)] if site.names else []
    six = [_ipv6_sheet(topology)] if site.server.address.of_family(6) else []
    server = server_sheet(site, next(iter(rule_files.get(site.server.name, ())), None), _shut_out(verdict))
    pages = (
        _with_test(server, test_now(topology, None, verdict.forecasts)),
        *devices,
        *six,
        *names,
        tests_sheet(topology, verdict.forecasts, file),
        *_cards(topology, works, digests),
    )
    order = _order(topology, pages)
    return Sheets(site.site, _trouble_line(verdict, file), (order, *pages))


def _device_page(
    verdict: Verdict, topology: Topology, gateway: Gateway, files: Sequence[str], used: frozenset[SitePath]
) -> Sheet:
    """The page of a gateway; of one on the server's side with the test that follows it."""
    users = _users(topology, gateway)
    page = gateway_sheet(verdict.site, gateway, files, users, used)
    device = next(each for each in topology.devices if each.spec is gateway)
    return page if users else _with_test(page, test_now(topology, device, verdict.forecasts))


def _with_test(page: Sheet, test: SheetPart | None) -> Sheet:
    return replace(page, parts=(*page.parts, test)) if test else page


def _ipv6_sheet(topology: Topology) -> Sheet:
    """What IPv6 takes: an address that stays, rules and no forwards, and a name."""
    site = topology.site
    six = site.server.address.of_family(6)
    own = ", ".join(map(str, six))
    rows = [(site.server.name, "an address that stays, not a temporary one", own)]
    for each in topology.chain(site.server.network, INTERNET) or ():
        spec = each.device.spec
        routes = spec.translates(6) == "none"
        rows.append((spec.name, "lets it in by rules of its filter; IPv6 has no forwards here", own) if routes else
                    (spec.name, "translates IPv6 as well: forwards, as for IPv4", own))  # fmt: skip
    for name in site.names:
        found = ", ".join(map(str, name.addresses.of_family(6))) or "none"
        rows.append((f"name {name.name}", "AAAA", found))
    lines = []
    if site.server.address.of_family(4):
        lines.append(
            "Who has both families tries IPv6 first: an address that does not answer costs every client seconds."
        )
    if any(each.protocol == "ftp" for each in site.services):
        lines.append("Over IPv6 data is asked for by EPSV; the server announces no address.")
    transfers = [each for each in site.services if each.protocol != "other"]
    tests = [visit_command(site, each, str(six[0]), each.control_port.number) for each in transfers]
    tests += [f"nslookup -type=AAAA {quote(each)}" for each in _asked_for(site)]
    parts = (
        SheetPart("In each place", tuple(lines), Grid(("place", "what", "address"), tuple(rows), "read")),
        SheetPart("See that it took", ("From a host outside that has IPv6:",), commands=tuple(tests)),
    )
    return Sheet("IPv6", "IPv6", "What differs from IPv4, in one place.", parts)


def _shut_out(verdict: Verdict) -> frozenset[tuple[str, str]]:
    """The clients and services of ways in that have to stay open and are not known to, promised or not."""
    kept_open = {(name, each.name) for each in verdict.site.services for name in each.keep_open_for}
    doubtful = (each for each in (*verdict.forecasts, *verdict.ways_in) if each.promise.holds == "works")
    lost = {(each.promise.client, each.promise.service) for each in doubtful if each.kept is not True}
    return frozenset(kept_open & lost)


def _forwards_used(topology: Topology, verdict: Verdict) -> frozenset[SitePath]:
    """The forwards that sessions of the promises pass, in either direction, and those that are meant for them:
    towards the server, the next device on the way to it, or a client that waits for active data."""
    forecasts = [each for each in (*verdict.forecasts, *verdict.ways_in) if each.promise.holds == "works"]
    journeys = [journey for each in forecasts for journey in each.control]
    journeys += [journey for each in forecasts if each.data for journey in each.data.journeys]
    passed = {step.place for each in journeys for step in each.steps if step.does == "forward" and step.place}
    services = [each.service for each in forecasts]
    ours = PortSet.of(*(span for each in services for span in listens_on(each).spans))
    own = set(topology.server.addresses.each)
    meant: set[SitePath] = {
        ("gateways", i, "forwards", j)
        for i, gateway in enumerate(topology.site.gateways)
        for j, each in enumerate(gateway.forwards)
        if each.to in own and each.ports.shift(each.offset) & ours
    }
    return frozenset(passed | meant)


def outward(topology: Topology) -> list[Gateway]:
    """The gateways from the server outward; those on the clients' side come last."""
    chain = [each.device.spec for each in topology.chain(topology.server.network, INTERNET) or ()]
    return [*chain, *(each for each in topology.site.gateways if each not in chain)]


def _users(topology: Topology, gateway: Gateway) -> tuple[str, ...]:
    """The clients on whose side a gateway stands; nobody's where it is on the server's side."""
    server, site = topology.server.network, topology.site
    if any(each.device.spec is gateway for each in topology.chain(server, INTERNET) or ()):
        return ()
    passed = (
        each.name
        for each in site.clients
        if any(crossing.device.spec is gateway for crossing in topology.chain(each.network, server) or ())
    )
    return tuple(passed) or ("its own hosts",)


def _trouble_line(verdict: Verdict, file: str) -> str:
    if verdict.verdict == "kept":
        return ""
    doubtful = [each for each in (*verdict.forecasts, *verdict.ways_in) if each.kept is not True]
    left = sum(1 for _ in open_places(verdict.site))
    if left:
        asks = f"Not filled in yet: {left} address{'es' * (left > 1)} (? on these pages)"
        return f"{asks}. Write what each is into the site file first: eager-lantern check {quote(file)}"
    if not verdict.forecasts:
        return f"Nothing is promised, so nothing is known of what these pages bring: eager-lantern check {quote(file)}"
    word = "does not keep" if verdict.verdict == "broken" else "may not keep"
    promises = f"{len(doubtful)} of its {len(verdict.forecasts) + len(verdict.ways_in)} promises and ways in"
    return f"As described, this site {word} {promises}. Mend the site file first: eager-lantern check {quote(file)}"


def _cards(topology: Topology, works: list[Forecast], digests: Mapping[str, str]) -> list[Sheet]:
    clients = {each.name for each in topology.site.clients}
    return [
        card(topology.site, each, typed_port(topology, each.position, each.service), digests)
        for each in works
        if each.promise.client in clients
    ]


def _asked_for(site: Site) -> list[str]:
    """The names that a resolver can be asked for: no host's begins with a hyphen (RFC 952), which is an option."""
    return [each.name for each in site.names if not each.name.startswith("-")]


def _time_to_live(site: Site) -> Iterator[str]:
    stated = [each for each in site.names if each.ttl is not None]
    yield from (f"{each.name}: time to live {each.ttl}, for so long others remember the old answer." for each in stated)
    if len(stated) < len(site.names):
        yield "Keep the time to live short (300 s) until all tests are passed."


def _after_a_change(site: Site) -> Iterator[str]:
    """Who keeps names current, and what is to be done besides."""
    moving = [each for each in site.gateways if each.outside.lease == "dynamic" and each.outside.network == INTERNET]
    names = ", ".join(each.name for each in site.names)
    for each in moving:
        yield (
            f"{each.name} gets another address now and then. Let one place keep {names} current: {each.name} itself "
            f"(its page calls it dynamic DNS), or a program on {site.server.name}; not both."
        )
    if not moving:
        yield f"It is meant to stay. If the provider changes it all the same, change {names} by hand."
    yield "Compare what the device shows as its outside address with what the name leads to (below)."
    fixed = [
        each.name
        for each in site.services
        if each.passive and each.passive.announce.addresses and not each.passive.announce.own
    ]
    if fixed:
        yield f"Set the announced address of {', '.join(fixed)} to the new one, and restart the service."
    yield "Wait until the time to live has passed, then test from outside."


def _name_sheet(site: Site) -> Sheet:
    rows = tuple(
        (name.name, "A" if address.family == 4 else "AAAA", str(address))
        for name in site.names
        for address in name.addresses.each
    )
    took = "Ask from outside, not from the office: an inside name server may give other answers."
    parts = (
        SheetPart("Entries", tuple(_time_to_live(site)), Grid(("name", "type", "address"), rows)),
        SheetPart("When the outside address changes", steps=tuple(_after_a_change(site))),
        SheetPart(
            "See that it took",
            steps=(took, "The answer is the address above, and nothing else."),
            commands=tuple(f"nslookup {quote(each)}" for each in _asked_for(site)),
        ),
    )
    return Sheet("Names", "names", "What clients type, at the name service.", parts)


def _order(topology: Topology, pages: tuple[Sheet, ...]) -> Sheet:
    """The first page: the same numbers for every place, and the pages in their order."""
    site = topology.site
    numbers = tuple(
        (
            each.name,
            _control(topology, each),
            str(each.passive.ports) if each.passive else "none",
            _announced_to_client(each.name, site),
        )
        for each in site.services
        if each.protocol != "other"
    )
    heads = ("service", "control port", "data ports", "announced outside, inside")
    rows = tuple((str(i), each.name, each.kind, each.about) for i, each in enumerate(pages, start=1))
    parts = (
        SheetPart("The same numbers in every place", grid=Grid(heads, numbers, "read")),
        SheetPart("The order of the work", grid=Grid(("page", "name", "kind", "about"), rows)),
    )
    return Sheet("Order of the work", "order", "One page a device. Tick each line as it is entered.", parts)


def _control(topology: Topology, service: Service) -> str:
    """The control port, and those by which clients reach it where they are others."""
    positions = (position_of(topology, each.client) for each in topology.site.promises if each.service == service.name)
    typed = sorted({typed_port(topology, each, service) for each in positions} - {service.control_port.number})
    return f"{service.control_port}{'; clients type ' + ', '.join(map(str, typed)) if typed else ''}"


def _announced_to_client(service: str, site: Site) -> str:
    passive = next(each.passive for each in site.services if each.name == service)
    if passive is None:
        return "-"
    inside = f", {passive.announce_inside}" if passive.announce_inside is not None else ""
    return f"{passive.announce}{inside}"


_SECURITY = {
    "none": "none: passwords and files can be read on the way",
    "explicit": "explicit TLS (FTP over TLS, on request), also for data",
    "implicit": "implicit TLS, also for data",
}


def card(site: Site, forecast: Forecast, port: int, digests: Mapping[str, str]) -> Sheet:
    """The card of one promise; ``port`` is the one that the client types, ``digests`` are those of certificates
    that could be read, by service."""
    service, client = forecast.service, forecast.position
    parts = [SheetPart("Enter", grid=Grid(("setting", "value"), tuple(_card_entries(site, forecast, port, digests))))]
    if wants := tuple(_wants(forecast, port)):
        parts.append(SheetPart("Your own firewall", grid=Grid(("must let", "protocol", "to", "ports"), wants)))
    steps = [_trial(site, _accounts_of_client(site, forecast))]
    if service.protocol == "ftp" and forecast.promise.mode == "passive":
        steps.append(
            "If login works and the listing hangs, your firewall or ours lacks the data ports: tell us which port."
        )
    parts.append(SheetPart("Try it", steps=tuple(steps)))
    where = f"{_card_host(forecast)}, port {port}"
    several = sum(each.protocol != "other" for each in site.services) > 1
    name = f"Card of {client.name}{', ' + service.name if several else ''}, {forecast.promise.mode or 'SFTP'}"
    about = f"Host {where}. The password comes by another way."
    return Sheet(name, "connection card", about, tuple(parts))


def _card_host(forecast: Forecast) -> str:
    reaches = forecast.position.spec.reaches
    return str(reaches.host) if reaches is not None else str(forecast.target or "unknown")


def _card_entries(site: Site, forecast: Forecast, port: int, digests: Mapping[str, str]) -> Iterator[tuple[str, str]]:
    service, spec = forecast.service, forecast.position.spec
    yield "host", _card_host(forecast)
    yield "port", str(port)
    if spec.gateway:
        yield "default gateway of its host", spec.gateway
    for route in spec.routes:
        yield f"route of its host to {route.to}", f"through {route.via}"
    if service.protocol == "ftp":
        by_epsv = forecast.target is not None and spec.extends(service, forecast.target.family)
        yield "protocol", "FTP"
        yield "security", _SECURITY[service.tls.mode if spec.secures(service.tls) else "none"]
        yield (
            "mode",
            f"{forecast.promise.mode}{', with EPSV' if forecast.promise.mode == 'passive' and by_epsv else ''}",
        )
        if spec.secures(service.tls):
            yield "certificate", _certificate_text(service, digests)
    else:
        yield "protocol", "SFTP (over SSH)"
        yield "host key", service.host_key or "ask for its fingerprint by another way before you trust it"
    mine = _accounts_of_client(site, forecast)
    for each in mine:
        yield "account", each.name
        yield "folder", "/ (only its own folder is seen)" if each.confined else each.home or "/"
        yield "you may", rights_in_order(effective_rights(site, each) or frozenset()) or "ask"
        for folder in each.folders:
            yield f"folder {folder.shown_as}", rights_in_order(rights_in(site, each, folder) or frozenset()) or "ask"
    if not mine:
        yield "account", "ask"


def _accounts_of_client(site: Site, forecast: Forecast) -> list[Account]:
    """The accounts of the service that are this client's, or anybody's."""
    return [
        each
        for each in site.accounts
        if each.service == forecast.service.name and (not each.clients or forecast.promise.client in each.clients)
    ]


def _trial(site: Site, accounts: list[Account]) -> str:
    """What to try, as far as the accounts may."""
    may = {right for each in accounts for right in effective_rights(site, each) or ()}
    may = may or {"list", "write", "read", "remove"}
    acts = {"list": "look at the listing", "write": "send a small file", "read": "fetch a file", "remove": "remove it"}
    chosen = [words for right, words in acts.items() if right in may]
    return f"{', '.join(chosen) or 'log in'}.".capitalize()


def _certificate_text(service: Service, digests: Mapping[str, str]) -> str:
    made_for = f"made for {', '.join(service.tls.names)}" if service.tls.names else "made for this host"
    if digest := digests.get(service.name):
        upper = digest.upper()
        return f"{made_for}; SHA-256 fingerprint {':'.join(upper[i : i + 2] for i in range(0, len(upper), 2))}"
    return f"{made_for}; ask for its fingerprint if your program does not trust it by itself"


def _wants(forecast: Forecast, typed: int) -> Iterator[tuple[str, str, str, str]]:
    """What the client's own side has to let through."""
    service, spec = forecast.service, forecast.position.spec
    host = str(forecast.target or "the host")
    yield "out", "TCP", host, str(typed)
    if service.protocol != "ftp":
        return
    if forecast.promise.mode == "active":
        port = f" from port {service.active.from_port}" if service.active and service.active.from_port else ""
        yield "in", "TCP", f"you, from {host}{port}", str(spec.active_ports)
    elif service.passive:
        yield "out", "TCP", str(forecast.announced or host), str(service.passive.ports)
