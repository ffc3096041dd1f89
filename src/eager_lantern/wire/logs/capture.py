"""Sessions in a packet capture: what went over the control connection, and what became of each data connection.

Theory: what a place on the way sees
====================================
A capture at one place shows the packets that came there and no others. A connection of which the first packet (SYN)
never came was stopped before; one that came and got no answer was stopped here or behind; one that was reset was
refused. In clear, the control connection reads as any log does, so its lines are handed to the reader of logs; under
TLS what is left in clear are alerts before the keys are there (RFC 8446, section 6), and the ports that data
connections are made to. Full segments that are sent again and again while small ones pass are lost for their size
(RFC 2923, section 2.1), and a reply that is sent again and again was forgotten by a device on the way.

>>> a, b = ("192.0.2.7", 4000), ("10.61.4.20", 21)
>>> sent = [Segment(0.0, *a, *b, SYN, 0), Segment(0.1, *b, *a, RST | ACK, 0)]
>>> (seen,) = sessions_in(sent, frozenset({21}), frozenset())
>>> seen.client, seen.told.rung, seen.told.outcomes, seen.came
('192.0.2.7', 'connect', ('refused',), True)
"""

from collections.abc import Sequence
from dataclasses import dataclass, field

from ...core.observed.observation import FAILED
from ...core.values.outcomes import Outcome, Rung
from .lines import ENGLISH, ErrorWords
from .session import SessionTold, read_sessions

FIN, SYN, RST, ACK = 0x01, 0x02, 0x04, 0x10
FULL_BYTES = 1200
"""Segments that carry more than this are full on any line that files travel on."""
OFTEN = 3
"""How often something is sent again before it is taken for lost."""
_ALERTS = {
    40: "handshake failure", 42: "bad certificate", 43: "unsupported certificate", 44: "certificate revoked",
    45: "certificate expired", 46: "certificate unknown", 48: "unknown ca", 70: "protocol version",
    71: "insufficient security", 112: "unrecognized name",
}  # fmt: skip
"""Alerts by their number (RFC 8446, section 6)."""
_ALERT = 0x15
_UNANSWERED: tuple[Outcome, ...] = ("silent", "refused")
"""No answer over TCP; a refusal by ICMP may have come all the same."""
REPEATED_FULL = "full segments are sent again and again, and small ones pass"
REPEATED_REPLY = "the last reply is sent again and again, and never acknowledged"


@dataclass(frozen=True, slots=True)
class Segment:
    """A TCP segment as it was captured: ``length`` is that of its payload on the wire, in bytes; ``payload`` what of it
    is kept. ``time`` is in seconds."""

    time: float
    source: str
    source_port: int
    to: str
    to_port: int
    flags: int
    sequence: int
    payload: bytes = b""
    length: int = 0


@dataclass(slots=True)
class CapturedSession:
    """A session of a client, by the address that it comes with here: how far it came, whether the connection that it
    ended with came to this place (None where that is no question), and the port here that the control connection
    came to."""

    client: str
    told: SessionTold
    came: bool | None
    landed: int
    began: float


@dataclass(slots=True)
class _Connection:
    """A TCP connection, from its first segment; ``left`` is that the client has ended it."""

    client: tuple[str, int]
    server: tuple[str, int]
    began: float
    tries: int = 0
    answered: bool = False
    reset: bool = False
    segments: list[Segment] = field(default_factory=list)
    left: bool = False

    def repeated(self, least_bytes: int, most_bytes: int) -> bool:
        """Whether the server sends a segment of such a length again and again, at the end of what it sends."""
        counts: dict[int, int] = {}
        for each in self.segments:
            if (each.source, each.source_port) == self.server and least_bytes <= each.length <= most_bytes:
                counts[each.sequence] = counts.get(each.sequence, 0) + 1
        return max(counts.values(), default=0) > OFTEN


def sessions_in(
    segments: Sequence[Segment], control_ports: frozenset[int], ssh_ports: frozenset[int]
) -> tuple[CapturedSession, ...]:
    """The sessions of file transfer in a capture. ``control_ports`` are those at which services are reached, here or
    outside, ``ssh_ports`` those of them that speak SSH."""
    connections = _connections(segments)
    control = [each for each in connections if each.server[1] in control_ports or _greets(each)]
    if not control:  # what comes for no service that is known may be one that was led to another port
        control = [each for each in connections if not each.answered or each.reset]
    rest = [each for each in connections if each not in control]
    return tuple(_session(each, control, rest, ssh_ports) for each in control)


def _connections(segments: Sequence[Segment]) -> list[_Connection]:
    found: dict[tuple[str, int, str, int], _Connection] = {}
    every: list[_Connection] = []
    for each in segments:
        forth = (each.source, each.source_port, each.to, each.to_port)
        back = (each.to, each.to_port, each.source, each.source_port)
        if each.flags & SYN and not each.flags & ACK:
            known = found.get(forth)
            if known is None or known.answered or known.reset:
                found[forth] = known = _Connection(forth[:2], forth[2:], each.time)
                every.append(known)
            known.tries += 1
            continue
        connection = found.get(forth) or found.get(back)
        if connection is None:
            continue
        from_server = (each.source, each.source_port) == connection.server
        if each.flags & SYN:
            connection.answered = True
        elif each.flags & RST and from_server and not connection.answered:
            connection.reset = True
        if each.flags & (FIN | RST) and not from_server:
            connection.left = True
        if each.length:
            connection.segments.append(each)
    return every


def _greets(connection: _Connection) -> bool:
    own = (each.payload for each in connection.segments if (each.source, each.source_port) == connection.server)
    return next(own, b"")[:4] in (b"220 ", b"220-", b"SSH-")


def _session(
    control: _Connection, others: Sequence[_Connection], rest: Sequence[_Connection], ssh_ports: frozenset[int]
) -> CapturedSession:
    spoken = _lines(control)
    told = next(iter(read_sessions(spoken, ErrorWords(ENGLISH))), None) if spoken else None
    came: bool | None = True
    if told is None:
        told = SessionTold("sftp" if control.server[1] in ssh_ports else "ftp")
        told.rung, told.outcomes = _met(control)
        told.reached = "connect" if control.answered else None
    elif told.protocol == "ftp" and not told.works:
        next_ones = [each.began for each in others if each.client[0] == control.client[0]]
        until = min((each for each in next_ones if each > control.began), default=float("inf"))
        mine = [each for each in rest if control.began <= each.began < until]
        came = _data(told, control, mine)
    if told.reached == "secure" and told.rung is None:
        told.reached = "greet"  # TLS was begun, and whether it came about is not in clear
    if control.segments and told.opened and told.rung in ("list", "fetch", "send", None):
        _lost(told, control, rest)
    told.dialled = None
    return CapturedSession(control.client[0], told, came, control.server[1], control.began)


def _met(control: _Connection) -> tuple[Rung | None, tuple[Outcome, ...]]:
    """How a connection ended over which nothing readable went."""
    if control.reset:
        return "connect", ("refused",)
    if not control.answered:
        return "connect", _UNANSWERED
    return ("greet", ("silent", "wrong")) if not _from_server(control) else (None, ())


def _from_server(control: _Connection) -> list[Segment]:
    return [each for each in control.segments if (each.source, each.source_port) == control.server]


def _lines(control: _Connection) -> list[str]:
    """What was said, a line each, with a sign for who said it; under TLS its alerts alone."""
    known: dict[tuple[str, int], set[int]] = {control.client: set(), control.server: set()}
    open_ends = {control.client: "", control.server: ""}
    found: list[str] = []
    for each in control.segments:
        sender = (each.source, each.source_port)
        if not each.payload or each.sequence in known[sender]:
            continue
        known[sender].add(each.sequence)
        if each.payload[0] == _ALERT and len(each.payload) >= 7 and each.payload[3:5] == b"\x00\x02":
            alert = _ALERTS.get(each.payload[6])
            found += [f"tls alert: {alert}"] if alert else []
            continue
        if each.payload[0] in (0x14, 0x16, 0x17) and each.payload[1:2] == b"\x03":
            continue
        text = open_ends[sender] + each.payload.decode("utf-8", errors="replace")
        cut_off = each.length > len(each.payload)  # no more of a segment was kept
        *whole, open_ends[sender] = (text + "\n" * cut_off).split("\n")
        sign = "<" if sender == control.server else ">"
        found += [f"{sign} {line.rstrip()}" for line in whole if line.strip()]
    return found


def _data(told: SessionTold, control: _Connection, mine: Sequence[_Connection]) -> bool | None:
    """What became of the last data connection here; whether it came."""
    if told.rung not in ("data", "list", None) or told.opened:
        return True
    if told.mode == "active":
        back = [each for each in mine if each.server[0] == control.client[0]]
        if back and not back[-1].answered:
            told.rung, told.outcomes = "data", ("refused",) if back[-1].reset else _UNANSWERED
        return True
    if not told.endpoints or told.reached != "announce":
        return True
    port = told.endpoints[-1].port
    made = [each for each in mine if each.server[1] == port and each.client[0] == control.client[0]]
    if not made and not control.left and not told.waits:
        told.rung, told.outcomes = None, ()  # a session that is still open, and has asked for nothing yet
        return None
    if not made:
        told.rung, told.outcomes = "data", FAILED
        return False
    if not made[-1].answered:
        told.rung, told.outcomes = "data", ("refused",) if made[-1].reset else _UNANSWERED
    return True


def _lost(told: SessionTold, control: _Connection, rest: Sequence[_Connection]) -> None:
    """What was sent and never came."""
    data = [each for each in rest if each.client[0] == control.client[0] and each.began >= control.began]
    if any(each.repeated(FULL_BYTES, 1 << 16) for each in data):
        told.rung, told.outcomes, told.works = told.rung or "fetch", ("silent",), False
        told.words.append(REPEATED_FULL)
    elif control.repeated(1, FULL_BYTES):
        told.rung, told.outcomes, told.works = "fetch", ("silent",), False
        told.words.append(REPEATED_REPLY)
