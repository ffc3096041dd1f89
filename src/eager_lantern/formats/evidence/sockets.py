"""The server's sockets as ``ss -tanp`` lists them (public interface), and connections that a router tracks as
``conntrack -L`` does (public interface)."""

import re
from collections.abc import Iterator, Sequence
from pathlib import Path

from msgspec import Struct

from ...core.diagnosis.fault import FaultKind
from ...core.diagnosis.words import Testimony
from ...core.model.site import Service, Site
from ...core.observed.observation import Observation, PortFate, Situation
from ...core.values.addresses import Address, address_or_none
from ...core.values.outcomes import Outcome
from ...core.values.ports import PortSet
from ..damage import guarded
from .session_logs import alike
from .whose import client_at, is_own

_SS_HEAD = re.compile(r"^(?:Netid\s+)?State\s+Recv-Q\s+Send-Q\s+Local", re.M)
_SS_LINE = re.compile(
    r"^(?:tcp\s+)?(LISTEN|ESTAB|SYN-SENT|SYN-RECV|CLOSE-WAIT|FIN-WAIT-1|TIME-WAIT|[A-Z0-9-]+)\s+(\d+)\s+(\d+)\s+"
    r"(\S{1,80}):(\d+|\*)\s+(\S{1,80}):(\d+|\*)(?:\s+users:\(\(\"([^\"]{1,40})\")?"
)
_TRACKED = re.compile(
    r"^(?:ipv[46]\s+\d+\s+)?tcp\s+\d+\s+\d+\s+(\w+)\s+src=(\S+) dst=(\S+) sport=(\d+) dport=(\d+) "
    r"(\[UNREPLIED\] )?src=(\S+) dst=(\S+) sport=(\d+) dport=(\d+)"
)
_SERVERS = ("ftp", "ssh", "inetd", "systemd", "docker-proxy", "rootlessport")
"""What is part of the names of programs that hold ports for file transfer."""
_STUCK_BYTES = 4000
_UNANSWERED: tuple[Outcome, ...] = ("silent", "refused")
"""No answer over TCP; a refusal by ICMP may have come all the same."""


class Socket(Struct, frozen=True):
    """A socket: its state, how much it has not got rid of, where it is and with whom, and whose it is."""

    state: str
    unsent: int
    address: str
    port: int
    peer: str
    program: str


def is_socket_list(text: str) -> bool:
    """Whether ``ss`` printed a text."""
    return bool(_SS_HEAD.search(text[:4000]))


def is_tracked_list(text: str) -> bool:
    """Whether ``conntrack`` printed a text."""
    lines = [each for each in text.splitlines()[:50] if each.strip()]
    return bool(lines) and all(
        _TRACKED.match(each) or "conntrack v" in each or each.startswith("udp") for each in lines
    )


def _sockets(text: str) -> Iterator[Socket]:
    for line in text.splitlines():
        if found := _SS_LINE.match(line.strip()):
            state, _, unsent, address, port, peer, _, program = found.groups()
            if port != "*":
                yield Socket(state, int(unsent), address.strip("[]"), int(port), peer.strip("[]"), program or "")


@guarded
def read_sockets(path: Path, text: str, site: Site) -> tuple[tuple[Observation, ...], tuple[Testimony, ...]]:
    """What the server's sockets state about its services, and connections back to clients that get no answer."""
    sockets = list(_sockets(text))
    named = [each for service in site.services if service.protocol != "other" for each in _of(service, sockets, path)]
    waiting = [_not_answered(each, path, site) for each in sockets if each.state == "SYN-SENT"]
    return alike([each for each in waiting if each], len(waiting), path.name), tuple(named)


def _of(service: Service, sockets: Sequence[Socket], path: Path) -> Iterator[Testimony]:
    port, source = service.control_port.number, path.name
    own = [each for each in sockets if each.state == "LISTEN" and each.port == port]
    reachable = [each for each in own if not each.address.startswith("127.") and each.address != "::1"]
    foreign = [each for each in reachable if each.program and not any(name in each.program for name in _SERVERS)]
    if not reachable:
        where = "on 127.0.0.1 alone" if own else "nowhere"
        text = f"port {port} has a listener {where}"
        yield Testimony(text, source, frozenset(("service-not-running", "service-on-other-port")))
    elif foreign:
        yield Testimony(f"{foreign[0].program} listens on port {port}", source, frozenset(("other-program-on-port",)))
    else:
        gone: frozenset[FaultKind] = frozenset(
            ("service-not-running", "service-on-other-port", "other-program-on-port")
        )
        yield Testimony(f"port {port} has its listener", source, frozenset(), gone)
    if service.passive is not None and reachable and not foreign:
        yield from _of_range(service.passive.ports, port, sockets, source)
    for each in sockets:
        if each.state in ("ESTAB", "CLOSE-WAIT", "FIN-WAIT-1") and each.unsent > _STUCK_BYTES:
            text = f"{each.unsent} bytes to {each.peer} are not acknowledged on port {each.port}"
            yield Testimony(text, source, frozenset(("full-packets-lost", "idle-too-short")))
        elif each.state == "ESTAB" and each.port == port and each.unsent:
            text = f"{each.unsent} bytes of a reply to {each.peer} are not acknowledged"
            yield Testimony(text, source, frozenset(("idle-too-short", "full-packets-lost")))


def _of_range(ports: PortSet, control: int, sockets: Sequence[Socket], source: str) -> Iterator[Testimony]:
    taken = {each.port for each in sockets if each.state == "LISTEN" and each.port in ports}
    outside = sorted(
        each.port
        for each in sockets
        if each.state == "LISTEN" and "ftp" in each.program and each.port != control and each.port not in ports
    )
    if len(taken) == len(ports):
        text = f"every port of {ports} has a listener"
        yield Testimony(text, source, frozenset(("range-in-use", "range-left-to-system")))
    elif outside:
        text = f"the server listens for data on port {outside[0]}, outside {ports}"
        yield Testimony(text, source, frozenset(("range-left-to-system", "range-changed", "range-in-use")))


def _not_answered(socket: Socket, path: Path, site: Site) -> Observation | None:
    """A connection from the server to a client, as in active mode, that gets no answer."""
    client = client_at(site, socket.peer)
    service = next((each for each in site.services if each.protocol == "ftp"), None)
    if not client or service is None:
        return None
    names = address_or_none(socket.peer.removeprefix("::ffff:"))
    tried = Situation(client, service.name, "active", names=names, known_program=False)
    return Observation(tried, path.name, "announce", "data", ("silent",))


@guarded
def read_tracked(
    path: Path, text: str, site: Site, place: str
) -> tuple[tuple[Observation, ...], tuple[Testimony, ...]]:
    """Connections that a router passed on and that got no answer."""
    found: list[Observation] = []
    named: list[Testimony] = []
    for line in text.splitlines():
        match = _TRACKED.match(line.strip())
        if match is None or match[6] is None:
            continue
        came, to, port, led_to = match[2], match[3], int(match[5]), match[7]
        if is_own(site, address_or_none(came)):
            found += _back_to_client(to, path, site, place)
        elif client := client_at(site, came):
            found += _passed_on(site, client, port, address_or_none(led_to), path, place)
            if not is_own(site, address_or_none(led_to)):
                words = f"{place} leads port {port} to {led_to}, which is not the server"
                named.append(Testimony(words, path.name, frozenset(("forward-old-address", "server-address-changed"))))
    return alike(found, len(found), path.name), tuple(named)


def _passed_on(
    site: Site, client: str, port: int, led_to: Address | None, path: Path, place: str
) -> Iterator[Observation]:
    server = site.server.name
    came_to = (place, server) if is_own(site, led_to) else (place,)
    missed = () if is_own(site, led_to) else (server,)
    for service in site.services:
        if service.control_port.number == port and service.protocol != "other":
            tried = Situation(client, service.name, known_program=False)
            yield Observation(tried, path.name, None, "connect", _UNANSWERED, came_to=came_to, missed=missed)
        elif service.passive is not None and port in service.passive.ports:
            fate = PortFate(PortSet.single(port), "data", _UNANSWERED, drawn=True)
            tried = Situation(client, service.name, "passive", known_program=False)
            yield Observation(
                tried, path.name, "announce", "data", _UNANSWERED, fates=(fate,), came_to=came_to, missed=missed
            )


def _back_to_client(to: str, path: Path, site: Site, place: str) -> Iterator[Observation]:
    client = client_at(site, to)
    service = next((each for each in site.services if each.protocol == "ftp"), None)
    if client and service is not None:
        tried = Situation(client, service.name, "active", names=address_or_none(to), known_program=False)
        yield Observation(tried, path.name, "announce", "data", ("silent",), came_to=(place,))
