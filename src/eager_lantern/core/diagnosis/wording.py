"""Plain sentences about what was seen, and about what to try next."""

from shlex import quote

from msgspec import Struct

from ..model.site import Client, Service, Site
from ..observed.observation import Observation, Situation, ending_phrase
from ..predict.endpoints import visit_command
from ..predict.forecast import REFUSED
from ..values.outcomes import Outcome, Rung
from ..values.phrases import ports_named
from ..values.ports import PortSet
from .next_test import ON_SERVER, OUTSIDE, Test, Weighed

_PASSED: dict[Rung, str] = {
    "name": "the name look-up", "connect": "the connection", "greet": "the greeting", "secure": "TLS",
    "host-key": "the host key", "login": "the login", "announce": "the request for data", "data": "the data connection",
    "list": "the listing", "send": "sending a file", "fetch": "fetching a file", "tidy": "removing the file",
}  # fmt: skip
_AT_SOME_STEP: dict[tuple[Outcome, ...], str] = {
    ("refused",): "the server refuses", ("wrong",): "the server hangs up", ("silent",): "no answer comes",
}  # fmt: skip
NO_ADDRESS = "SERVER-ADDRESS"
"""What stands in a command for an address that nobody has stated."""


def whose(tried: Situation) -> str:
    """``field-station → tide-exchange, passive``."""
    if tried.lit is not None:
        return f"{tried.client} → lamp at {tried.lit[0]}"
    how = "shut" if tried.holds == "shut" else tried.mode
    return f"{tried.client} → {tried.service}{f', {how}' if how else ''}"


def came_of(seen: Observation) -> str:
    """What came of it, in a clause."""
    if seen.tried.holds == "shut":
        return "it is open" if seen.works else "it stays shut"
    ports = "; ".join(dict.fromkeys(_fate(each.ports, each.rung, each.outcomes) for each in seen.fates))
    if seen.elsewhere:
        ports = f"another address is announced{'; ' + ports if ports else ''}"
    if seen.works:
        return f"it works{f' ({ports})' if ports else ''}"
    if seen.sometimes:
        return f"it works now and then, else {_ending_text(seen)}"
    if seen.rung is None and seen.outcomes:
        return "it fails"
    if seen.rung is not None:
        return f"{_ending_text(seen)}{f' ({ports})' if ports else ''}"
    return ports or (f"{_PASSED[seen.reached]} went well; what follows is unknown" if seen.reached else "unknown")


def _ending_text(seen: Observation) -> str:
    assert seen.rung is not None
    said = seen.error if seen.error and seen.error != REFUSED else ""
    if len(seen.rungs) <= 2:
        return ending_phrase(seen.rung, seen.outcomes, said)
    how = _AT_SOME_STEP.get(seen.outcomes, "it fails")
    return f"{how}{' a listing or a transfer' * (seen.rung == 'list')} (at which step is not in the log)"


def _fate(ports: PortSet, rung: Rung | None, outcomes: tuple[Outcome, ...]) -> str:
    failed = outcomes[0] if len(outcomes) == 1 else "failed"
    return f"{ports_named(ports)} {'carried data' if rung is None else failed}"


class Instruction(Struct, frozen=True):
    """Where to stand, what to do there, and the command to type; of a look there is none. ``by_hand`` is how the same
    is done with the client alone, or with a phone."""

    place: str
    do: str
    command: str
    by_hand: str = ""


def instruction(site: Site, weighed: Weighed, file: str) -> Instruction:
    """How a test is made, in the words of whoever makes it. ``file`` is the site file, empty where there is none."""
    test = weighed.test
    if test.tried is None:
        return Instruction(f"at {test.at}", f"look: {test.look}", "")
    return _to_try(site, test, test.tried, file)


_NOTE = "open the folder, and note whether it lists, is refused, or hangs, and at which step"


def _to_try(site: Site, test: Test, tried: Situation, file: str) -> Instruction:
    service = next(each for each in site.services if each.name == tried.service)
    how = f" in {tried.mode} mode" if tried.mode else ""
    if tried.stands_in is not None:
        return _as_stand_in(site, service, tried.stands_in, file)
    extended = " with EPSV" if tried.extended else ""
    place = f"at the place of {tried.client}"
    do = f"visit {tried.service}{how}{extended}"
    by_hand = f"with the program there: connect{how}{extended}, {_NOTE}"
    if not file:
        client = next(each for each in site.clients if each.name == tried.client)
        host = client.reaches.name if client.reaches else ""
        command = visit_command(site, service, host or NO_ADDRESS, service.control_port.number)
        return Instruction(place, do, command, by_hand)
    words = ["eager-lantern", "visit", file, "--client", tried.client, "--service", tried.service]
    words += ["--mode", tried.mode] if tried.mode else []
    words += ["--extended"] if tried.extended else []
    return Instruction(place, do, " ".join(map(quote, words)), by_hand)


def _as_stand_in(site: Site, service: Service, who: Client, file: str) -> Instruction:
    """A visit by somebody who is on no site file: on the server, beside it, or outside."""
    named = service.tls.names[0] if service.tls.names else ""
    port = service.control_port.number
    if who.name == OUTSIDE:
        door = named or (str(who.reaches.addresses.each[0]) if file and who.reaches else NO_ADDRESS)
        app = "SFTP" if service.protocol == "sftp" else f"FTP, {_SECURITY[service.tls.mode]}"
        by_hand = f"with a phone: Wi-Fi off, any file transfer app, {door}, port {port}, {app}; {_NOTE}"
        return Instruction("anywhere outside", "visit the service", visit_command(site, service, door, port), by_hand)
    at = str(site.server.address.each[0]) if file else NO_ADDRESS
    command = visit_command(site, service, named or at, port)
    place = f"on {site.server.name} itself" if who.name == ON_SERVER else f"at another host of {site.server.network}"
    by_hand = f"with any program there: connect to {at}, port {port}, {_NOTE}"
    return Instruction(place, "visit the service there", f"{command} --at {at}" if named else command, by_hand)


_SECURITY = {"none": "without TLS", "explicit": "explicit TLS", "implicit": "implicit TLS"}
