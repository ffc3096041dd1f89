"""The page of the tests: from the server itself, from inside, from truly outside, and what each
failure means. The order is that of the ladder."""

from collections.abc import Iterator, Sequence
from shlex import quote

from ..model.site import INTERNET, Service, Site
from ..network.topology import Device, Topology
from ..predict.endpoints import typed_port, visit_command
from ..predict.forecast import Forecast
from ..values.addresses import address_or_none
from ..values.phrases import operand
from .sheet import Grid, Sheet, SheetPart


def tests_sheet(topology: Topology, forecasts: Sequence[Forecast], file: str) -> Sheet:
    """The page, for the promises of a site that ``file`` holds."""
    works = [each for each in forecasts if each.promise.holds == "works"]
    own = topology.server.network
    inside = [each for each in works if each.position.network == own != INTERNET]
    outside = [each for each in works if each not in inside]
    parts = [
        *_from_the_server(topology.site),
        *_from_inside(topology, inside, file),
        *_outside_tests(topology, outside, file),
        *_shut_part(forecasts),
        *_failures(topology, forecasts),
    ]
    about = "In this order: what fails on the server itself cannot work from inside, and that not from outside."
    return Sheet("Tests", "tests", about, tuple(parts))


def test_now(topology: Topology, device: Device | None, forecasts: Sequence[Forecast]) -> SheetPart | None:
    """The test after the page of a device of the server's side, or of the server itself: from where, by which means,
    and what each outcome is; None where nobody is promised anything that passes the device."""
    site = topology.site
    works = [each for each in forecasts if each.promise.holds == "works" and each.service.protocol != "other"]
    if device is None:
        services = [each for each in site.services if each.protocol != "other"]
        own = str(site.server.address.each[0]) if site.server.address.each else ""
        trials = [(each, own, each.control_port.number) for each in services if own]
        desk = "" if topology.server.network == INTERNET else f", then from a desk on {topology.server.network}"
        where = f"On the server itself{desk}, before any other device is touched:"
    else:
        passing = [each for each in works if any(step.at == device.name for one in each.control for step in one.steps)]
        trials = [(each.service, _typed(each), typed_port(topology, each.position, each.service)) for each in passing]
        beyond = device.spec.outside.network
        phone = "a phone off the office Wi-Fi, with any file transfer app, or a computer that uses its line"
        where = (
            f"From truly outside: {phone}:" if beyond == INTERNET else f"From a host on {beyond}, beyond this device:"
        )
    lines = [where, *_outcomes([each for each, _, _ in trials])]
    commands = dict.fromkeys(
        command for trial in trials for command in (_own_client(site, *trial), visit_command(site, *trial))
    )
    return SheetPart("Test now", tuple(lines), commands=tuple(commands)) if trials else None


def _typed(forecast: Forecast) -> str:
    reaches = forecast.position.spec.reaches
    return str(reaches.host) if reaches is not None else str(forecast.target)


def _outcomes(services: Sequence[Service]) -> Iterator[str]:
    """What each outcome states, in the words of who sees it."""
    yield "A greeting or a prompt: the way is open up to here."
    yield "A prompt and then a denial: the account, not the network."
    yield "No prompt and a long wait: a filter or forward before the server. Refused at once: nothing listens there."
    ranges = dict.fromkeys(str(each.passive.ports) for each in services if each.passive)
    if ranges:
        yield f"A login and then a listing that hangs: the data ports, {', '.join(ranges)}."


def _own_client(site: Site, service: Service, host: str, port: int) -> str:
    """The client that comes with Linux, macOS and Windows."""
    user = next((each.name for each in site.accounts if each.service == service.name), "ACCOUNT")
    if service.protocol == "sftp":
        return f"sftp -P {port} {operand(f'{user}@[{host}]' if ':' in host else f'{user}@{host}')}"
    scheme = "ftps" if service.tls.mode == "implicit" else "ftp"
    secured = " --ssl-reqd" if service.tls.mode == "explicit" else ""
    at = f"[{host}]" if ":" in host else host
    name = next((each for each in service.tls.names if address_or_none(each) is None), "")
    if name and service.tls.mode != "none" and host != name:  # its certificate is made for the name
        secured, at = f"{secured} --resolve {quote(f'{name}:{port}:{at}')}", name
    return f"curl -v{secured} --user {quote(user)} {quote(f'{scheme}://{at}:{port}/')}"


def _by_address(site: Site) -> tuple[str, ...]:
    """Every service for files, at the server's own address."""
    own = str(site.server.address.each[0])
    transfers = (each for each in site.services if each.protocol != "other")
    return tuple(visit_command(site, each, own, each.control_port.number) for each in transfers)


def _from_the_server(site: Site) -> Iterator[SheetPart]:
    success = (
        "Success: every rung is ok. What fails here is the service, an account or the certificate: no network yet."
    )
    yield SheetPart("1. From the server itself", (success,), commands=_by_address(site))


def _from_inside(topology: Topology, works: Sequence[Forecast], file: str) -> Iterator[SheetPart]:
    """Where no client stands on the server's network, any host there will do."""
    title = "2. From the server's own network"
    if works:
        yield _test_part(title, ("Success: every rung is ok.",), topology, works, file)
    elif topology.server.network != INTERNET:
        lines = (f"From any host on {topology.server.network}. Success: every rung is ok.",)
        yield SheetPart(title, lines, commands=_by_address(topology.site))


def _outside_tests(topology: Topology, works: Sequence[Forecast], file: str) -> Iterator[SheetPart]:
    lines = (
        "Success: every rung is ok.",
        "Not from inside with the outside address: that is another path, and proves nothing.",
        "A telephone's network is outside, if it is not on the office's wireless.",
    )
    if works:
        yield _test_part("3. From truly outside", lines, topology, works, file)
        yield from _by_phone(topology.site, works, file)


def _by_phone(site: Site, works: Sequence[Forecast], file: str) -> Iterator[SheetPart]:
    """Every data port from a phone, where anybody on the internet is meant."""
    several = sum(each.protocol in ("ftp", "sftp") for each in site.services) > 1
    services = dict.fromkeys(each.service for each in works if each.service.protocol == "ftp" and each.service.passive)
    commands = [
        f"eager-lantern lamp {quote(file)}{f' --service {quote(each.name)}' if several else ''} --phone"
        for each in services
    ]
    if commands:
        lines = (
            "On the server host, while the server is stopped. It shows a code: a phone with its Wi-Fi off opens it, "
            "and its browser tries every data port.",
            "Success: all of them arrive. What does not is a forward or a filter; no login plays a part.",
        )
        yield SheetPart("Every data port, from a phone", lines, commands=tuple(commands))


def _test_part(
    title: str, lines: tuple[str, ...], topology: Topology, works: Sequence[Forecast], file: str
) -> SheetPart:
    rows = tuple((_whoever(each), each.position.network, each.service.name, each.promise.mode or "-") for each in works)
    commands = tuple(_command(topology, each, file) for each in works if each.service.protocol != "other")
    return SheetPart(title, lines, Grid(("from", "standing on", "service", "mode"), rows), commands=commands)


def _whoever(forecast: Forecast) -> str:
    """Who is to try it, and who is not."""
    others = forecast.promise.except_for
    return f"{forecast.position.name}, save for {others}" if others else forecast.position.name


def _command(topology: Topology, forecast: Forecast, file: str) -> str:
    site, promise, service, spec = topology.site, forecast.promise, forecast.service, forecast.position.spec
    mode = " --mode active" if promise.mode == "active" else ""
    if service.protocol == "sftp" or spec.name not in [each.name for each in site.clients]:
        host = str(spec.reaches.host) if spec.reaches is not None else str(forecast.target)
        return visit_command(site, service, host, typed_port(topology, forecast.position, service)) + mode
    several = f" --service {quote(service.name)}" if sum(each.protocol == "ftp" for each in site.services) > 1 else ""
    return f"eager-lantern visit {quote(file)} --client {quote(promise.client)}{several}{mode}"


def _shut_part(forecasts: Sequence[Forecast]) -> Iterator[SheetPart]:
    shut = [each for each in forecasts if each.promise.holds == "shut"]
    if not shut:
        return
    rows = tuple((_whoever(each), each.service.name, str(each.service.control_port)) for each in shut)
    success = (
        "Success: no answer, or a refusal. Where something answers, a forward or a rule allows more than it should."
    )
    yield SheetPart("4. What must stay shut", (success,), Grid(("from", "service", "port"), rows, "read"))


def _failures(topology: Topology, forecasts: Sequence[Forecast]) -> Iterator[SheetPart]:
    rows = tuple(row for row in _signs(topology, forecasts) if row)
    yield SheetPart("What a failure means", grid=Grid(("you see", "it means", "look at"), rows, "read"))


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
        "no route to host, after some seconds",
        "nobody has the address that a forward leads to",
        f"{way or server}: address",
    )
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
