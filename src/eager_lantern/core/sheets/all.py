"""All pages of a site, in the order of the work: server, devices from the server outward, names,
tests, and a connection card for each promise."""

from collections.abc import Mapping
from shlex import quote

from msgspec import Struct

from ..model.site import INTERNET, Gateway, Service, Site
from ..network.topology import Topology, listens_on
from ..predict.endpoints import stand_of, typed_port
from ..predict.forecast import Forecast
from ..values.phrases import operand
from ..values.ports import PortSet
from ..values.site_path import SitePath
from ..verdict import Verdict
from .client import card
from .gateway import gateway_sheet
from .server import server_sheet
from .sheet import Grid, Sheet, SheetPart
from .tests import tests_sheet


class Sheets(Struct, frozen=True):
    """The pages, and what stands at the head of all of them; ``trouble`` is why nobody should enter
    them yet, or nothing."""

    title: str
    trouble: str
    pages: tuple[Sheet, ...]


def sheets_of(verdict: Verdict, file: str, rule_files: Mapping[str, str], digests: Mapping[str, str]) -> Sheets:
    """The pages for a site that ``file`` holds. ``rule_files`` are the names of the files that Linux
    devices can load, by device; ``digests`` those of certificates that could be read, by service."""
    site, topology = verdict.site, Topology(verdict.site)
    works = [each for each in verdict.forecasts if each.promise.holds == "works" and each.service.protocol != "other"]
    used = _forwards_used(topology, verdict)
    devices = [
        gateway_sheet(site, each, rule_files.get(each.name), _users(topology, each), used) for each in outward(topology)
    ]
    names = [_names(site)] if site.names else []
    pages = (
        server_sheet(site, rule_files.get(site.server.name), _shut_out(verdict)),
        *devices,
        *names,
        tests_sheet(topology, verdict.forecasts, file),
        *_cards(topology, works, digests),
    )
    order = _order(topology, pages)
    return Sheets(site.site, _trouble(verdict, file), (order, *pages))


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


def _trouble(verdict: Verdict, file: str) -> str:
    if verdict.verdict == "kept":
        return ""
    doubtful = [each for each in (*verdict.forecasts, *verdict.ways_in) if each.kept is not True]
    if not verdict.forecasts:
        return f"Nothing is promised, so nothing is known of what these pages bring: eager-lantern check {quote(file)}"
    word = "does not keep" if verdict.verdict == "broken" else "may not keep"
    promises = f"{len(doubtful)} of its {len(verdict.forecasts) + len(verdict.ways_in)} promises and ways in"
    return f"As described, this site {word} {promises}. Mend the site file first: eager-lantern check {quote(file)}"


def _cards(topology: Topology, works: list[Forecast], digests: Mapping[str, str]) -> list[Sheet]:
    clients = {each.name for each in topology.site.clients}
    return [
        card(topology.site, each, typed_port(topology, each.stand, each.service), digests)
        for each in works
        if each.promise.client in clients
    ]


def _names(site: Site) -> Sheet:
    rows = tuple(
        (name.name, "A" if address.family == 4 else "AAAA", str(address))
        for name in site.names
        for address in name.addresses.each
    )
    lines = ("Keep the time to live short (300 s) until all tests are passed.",)
    took = "Ask from outside, not from the office: an inside name server may give other answers."
    parts = (
        SheetPart("Entries", lines, Grid(("name", "type", "address"), rows)),
        SheetPart(
            "See that it took",
            steps=(took,),
            commands=tuple(f"getent ahosts {operand(each.name)}" for each in site.names),
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
            _announced(each.name, site),
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
    stands = (stand_of(topology, each.client) for each in topology.site.promises if each.service == service.name)
    typed = sorted({typed_port(topology, each, service) for each in stands} - {service.control_port.number})
    return f"{service.control_port}{'; clients type ' + ', '.join(map(str, typed)) if typed else ''}"


def _announced(service: str, site: Site) -> str:
    passive = next(each.passive for each in site.services if each.name == service)
    if passive is None:
        return "-"
    inside = f", {passive.announce_inside}" if passive.announce_inside is not None else ""
    return f"{passive.announce}{inside}"
