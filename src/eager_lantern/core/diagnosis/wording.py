"""Plain sentences about what was seen, and about what to try next."""

from shlex import quote

from msgspec import Struct

from ..model.site import Site
from ..observed.observation import Observation, Situation
from ..predict.endpoints import visit_command
from ..values.outcomes import Outcome, Rung
from ..values.phrases import ports_named
from ..values.ports import PortSet
from .next_test import ON_SERVER, Test, Weighed

_WHAT: dict[Rung, str] = {
    "name": "the name is looked up",
    "connect": "the connection is made",
    "greet": "the server greets",
    "secure": "TLS begins",
    "host-key": "the host key is shown",
    "login": "the login is tried",
    "announce": "data is asked for",
    "data": "the data connection is made",
    "list": "the listing is asked for",
    "send": "a file is sent",
    "fetch": "a file is fetched",
    "tidy": "the file is removed",
}
_PASSED: dict[Rung, str] = {
    "name": "the name look-up", "connect": "the connection", "greet": "the greeting", "secure": "TLS",
    "host-key": "the host key", "login": "the login", "announce": "the request for data", "data": "the data connection",
    "list": "the listing", "send": "sending a file", "fetch": "fetching a file", "tidy": "removing the file",
}  # fmt: skip
NO_ADDRESS = "SERVER-ADDRESS"
"""What stands in a command for an address that nobody has stated."""
_HOW: dict[Outcome, str] = {"refused": "a refusal", "silent": "no answer", "wrong": "something else"}


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
    how = " or ".join(_HOW[each] for each in seen.outcomes if each in _HOW)
    return f"{how} when {_WHAT[seen.rung]}"


def _fate(ports: PortSet, rung: Rung | None, outcomes: tuple[Outcome, ...]) -> str:
    return f"{ports_named(ports)} {'carried data' if rung is None else ' or '.join(outcomes)}"


class Instruction(Struct, frozen=True):
    """Where to stand, what to do there, and the command to type; of a look there is none."""

    place: str
    do: str
    command: str


def instruction(site: Site, weighed: Weighed, file: str) -> Instruction:
    """How a test is made, in the words of whoever makes it. ``file`` is the site file, empty where there is none."""
    test = weighed.test
    if test.tried is None:
        return Instruction(f"at {test.at}", f"look: {test.look}", "")
    return _to_try(site, test, test.tried, file)


def _to_try(site: Site, test: Test, tried: Situation, file: str) -> Instruction:
    service = next(each for each in site.services if each.name == tried.service)
    if tried.stands_in is not None:
        on_server = tried.client == ON_SERVER
        at = str(site.server.address.each[0]) if file else NO_ADDRESS
        named = service.tls.names[0] if service.tls.names else ""
        command = visit_command(site, service, named or at, service.control_port.number)
        place = f"on {site.server.name} itself" if on_server else f"at another host of {site.server.network}"
        return Instruction(place, "visit the service there", f"{command} --at {at}" if named else command)
    how = f" in {tried.mode} mode" if tried.mode else ""
    extended = " with EPSV" if tried.extended else ""
    place = f"at the place of {tried.client}"
    do = f"visit {tried.service}{how}{extended}"
    if not file:
        client = next(each for each in site.clients if each.name == tried.client)
        host = client.reaches.name if client.reaches else ""
        return Instruction(place, do, visit_command(site, service, host or NO_ADDRESS, service.control_port.number))
    words = ["eager-lantern", "visit", file, "--client", tried.client, "--service", tried.service]
    words += ["--mode", tried.mode] if tried.mode else []
    words += ["--extended"] if tried.extended else []
    return Instruction(place, do, " ".join(map(quote, words)))
