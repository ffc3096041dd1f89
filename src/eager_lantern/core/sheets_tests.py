"""The page of the tests: from the server itself, from inside, from truly outside, and what each
failure says. The order is that of the ladder: what comes first is told first."""

from collections.abc import Iterator, Sequence

from .forecast import Forecast
from .sheet import Grid, Part, Sheet
from .site import INTERNET, Service, Site
from .topology import Topology


def tests_sheet(topology: Topology, forecasts: Sequence[Forecast], file: str) -> Sheet:
    """The page, for the promises of a site that ``file`` holds."""
    parts = [*_from_the_server(topology.site), *_from(topology, forecasts, file, inside=True)]
    parts += _from(topology, forecasts, file, inside=False)
    parts += [*_shut(forecasts), *_failures(topology, forecasts)]
    about = "In this order: what fails on the server itself cannot work from inside, and that not from outside."
    return Sheet("Tests", "tests", about, tuple(parts))


def _account(site: Site, service: Service) -> str:
    """An account of the service, as an option of the visit."""
    mine = [each.name for each in site.accounts if each.service == service.name]
    return f" --user {mine[0]}" if mine else ""


def _secured(service: Service) -> str:
    return {"none": " --security none", "explicit": "", "implicit": " --security implicit"}[service.tls.mode]


def _from_the_server(site: Site) -> Iterator[Part]:
    own = site.server.address.each[0]
    commands = [
        f"eager-lantern visit {own} --port {each.control_port}{_secured(each)}{_account(site, each)}"
        for each in site.services
        if each.protocol == "ftp"
    ]
    if commands:
        success = (
            "Success: every rung is ok. What fails here is the service, an account or the certificate: no network yet."
        )
        yield Part("1. From the server itself", (success,), commands=tuple(commands))


def _from(topology: Topology, forecasts: Sequence[Forecast], file: str, inside: bool) -> Iterator[Part]:
    site = topology.site
    mine = [
        each
        for each in forecasts
        if each.promise.holds == "works" and (each.stand.network == site.server.network) is inside
    ]
    if not mine:
        return
    title = "2. From the server's own network" if inside else "3. From truly outside"
    lines = ["Success: every rung is ok."]
    if not inside:
        lines.append("Not from inside with the outside address: that is another path, and proves nothing.")
        lines.append("A telephone's network is outside, if it is not on the office's wireless.")
    rows = tuple((each.stand.name, each.stand.network, each.service.name, each.promise.mode or "-") for each in mine)
    commands = tuple(_command(site, each, file) for each in mine if each.service.protocol == "ftp")
    yield Part(title, tuple(lines), Grid(("from", "standing on", "service", "mode"), rows), commands=commands)


def _command(site: Site, forecast: Forecast, file: str) -> str:
    promise, service = forecast.promise, forecast.service
    if forecast.stand.spec.name not in {each.name for each in site.clients}:
        mode = " --mode active" if promise.mode == "active" else ""
        return f"eager-lantern visit {forecast.target} --port {service.control_port}{_secured(service)}{mode}"
    several = f" --service {service.name}" if sum(each.protocol == "ftp" for each in site.services) > 1 else ""
    mode = f" --mode {promise.mode}" if promise.mode == "active" else ""
    return f"eager-lantern visit {file} --client {promise.client}{several}{mode}"


def _shut(forecasts: Sequence[Forecast]) -> Iterator[Part]:
    shut = [each for each in forecasts if each.promise.holds == "shut"]
    if not shut:
        return
    rows = tuple((each.stand.name, each.service.name, str(each.service.control_port)) for each in shut)
    success = (
        "Success: no answer, or a refusal. Where something answers, a forward or a rule lets in more than it should."
    )
    yield Part("4. What must stay shut", (success,), Grid(("from", "service", "port"), rows, "read"))


def _failures(topology: Topology, forecasts: Sequence[Forecast]) -> Iterator[Part]:
    rows = tuple(row for row in _signs(topology, forecasts) if row)
    yield Part("What a failure says", grid=Grid(("you see", "it means", "look at"), rows, "read"))


def _signs(topology: Topology, forecasts: Sequence[Forecast]) -> Iterator[tuple[str, str, str]]:
    site = topology.site
    services = [each.service for each in forecasts if each.promise.holds == "works"]
    ftp = [each for each in services if each.protocol == "ftp"]
    server, way = f"page {site.server.name}", _pages(topology)
    yield (
        "the name leads nowhere, or elsewhere",
        "the published name",
        "page Names" if site.names else "what clients type",
    )
    yield "no answer, from the server itself", "the service does not run, or on another port", f"{server}: service"
    yield "no answer, from inside", "the server's own filter", f"{server}: filter, rule for the control port"
    if way:
        yield "no answer, only from outside", "a forward, a filter, or the provider on the way", f"{way}: control port"
    yield (
        "refused at once",
        "nothing listens there, or a device answers for itself",
        f"{server}: service; {way or 'filter'}",
    )
    if any(each.tls.mode != "none" for each in ftp):
        yield "TLS is refused, or its certificate", "TLS is off, or made for other names", "eager-lantern certificate"
    yield "login refused", "the account: name, password, or TLS demanded first", f"{server}: accounts"
    if ftp:
        yield from _data_signs(topology, ftp, server, way)


def _data_signs(topology: Topology, ftp: Sequence[Service], server: str, way: str) -> Iterator[tuple[str, str, str]]:
    ranges = ", ".join(dict.fromkeys(str(each.passive.ports) for each in ftp if each.passive))
    places = f"{server}{', ' + way if way else ''}"
    yield "another address is announced", "it is typed wrongly, or has changed", f"{server}: announced addresses"
    yield "login works, every listing hangs", "one device lets no data port through", f"{places}: {ranges}"
    yield "some listings hang, others work", "one place has another range", f"{places}: {ranges}, digit by digit"
    if any(each.spec.idle_timeout is not None for each in topology.devices):
        yield (
            "large files break at their end",
            "a device forgets the quiet control connection",
            f"{way}: quiet connections",
        )
    yield "a file cannot be sent or fetched", "rights of the account, or the disk", f"{server}: accounts"


def _pages(topology: Topology) -> str:
    """The pages of the devices between the internet and the server."""
    chain = topology.chain(INTERNET, topology.server.network) or ()
    return ", ".join(f"page {each.device.name}" for each in chain)
