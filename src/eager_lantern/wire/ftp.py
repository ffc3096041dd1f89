"""FTP as its client speaks it (RFC 959, RFC 2428): replies, the control connection as a state machine, addresses,
listings. Bytes in, events out.

Bytes in, events out; it never touches a socket.

Theory of operation
===================
One command is under way at a time. A server first greets; then every command is answered by
one completion reply (2yz, 3yz, 4yz, 5yz), and a command that moves data by one preliminary
reply (1yz) before it. So there are five states, and the first digit of a reply decides where
each leads: that is the whole of the table below. 421 ends the session from any state.

MLSD has a format (RFC 3659, section 7.2). LIST has none (RFC 959, section 4.1.3); nearly all servers
write lines as ``ls -l`` or as the DOS command ``dir`` does. A client that believes a name which
leads out of its folder writes where it should not.
"""

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from enum import Enum, auto
from ipaddress import IPv4Address, ip_address
from itertools import islice

from .terminal_safe import decoded, printable

MOST_REPLY_BYTES = 65_536
_FIRST = re.compile(rb"([1-5][0-9]{2})([ -])(.*)", re.DOTALL)
_BARE = re.compile(rb"([1-5][0-9]{2})")


class ProtocolFault(Exception):
    """The peer does not speak FTP, or sends more than it may."""


@dataclass(frozen=True, slots=True)
class Reply:
    """One whole reply; ``lines`` are as sent, without code and line ends."""

    code: int
    lines: tuple[str, ...]

    @property
    def kind(self) -> int:
        """The first digit: 1 preliminary, 2 done, 3 more is needed, 4 not now, 5 no."""
        return self.code // 100

    @property
    def text(self) -> str:
        """All of it on one line, as sent."""
        return " ".join(line.strip() for line in self.lines if line.strip())

    def __str__(self) -> str:
        return f"{self.code} {printable(self.text)}".rstrip()


class ReplyReader:
    """Collects bytes until a reply is whole. Never keeps more than MOST_REPLY_BYTES. ``cover`` is what is done to
    a text before anything else sees it, to take out what nobody is to read."""

    def __init__(self, cover: Callable[[str], str] = str) -> None:
        self._cover = cover
        self._waiting = b""
        self._lines: list[bytes] = []
        self._code = b""
        self._size = 0

    @property
    def unread(self) -> bool:
        """Whether bytes have come that are no whole reply yet."""
        return bool(self._waiting or self._lines)

    def receive(self, data: bytes) -> list[Reply]:
        """The replies that these bytes complete.

        Raises ProtocolFault for bytes that are no FTP reply and for a reply without end.
        """
        replies: list[Reply] = []
        *lines, self._waiting = (self._waiting + data).split(b"\n")
        for line in lines:
            reply = self._take(line.rstrip(b"\r"))
            if reply:
                replies.append(reply)
        if self._size + len(self._waiting) > MOST_REPLY_BYTES:
            raise ProtocolFault(f"a reply of more than {MOST_REPLY_BYTES} bytes; given up")
        return replies

    def _take(self, line: bytes) -> Reply | None:
        self._size += len(line) + 1  # an empty line is kept as well
        if self._size > MOST_REPLY_BYTES:
            raise ProtocolFault(f"a reply of more than {MOST_REPLY_BYTES} bytes; given up")
        first = _FIRST.fullmatch(line)
        if self._lines:
            ends = first is not None and first[1] == self._code and first[2] == b" "
            self._lines.append(first[3] if ends and first else line)
            return self._whole() if ends or line == self._code else None
        if first is None and not _BARE.fullmatch(line):
            raise ProtocolFault(f"this is no FTP reply: {printable(self._cover(decoded(line)), 80)}")
        self._code = line[:3]
        self._lines = [first[3] if first else b""]
        return None if first and first[2] == b"-" else self._whole()

    def _whole(self) -> Reply:
        whole = self._cover("\n".join(map(decoded, self._lines)))
        reply = Reply(int(self._code), tuple(whole.split("\n")))
        self._lines, self._size = [], 0
        return reply


@dataclass(frozen=True, slots=True)
class Endpoint:
    """An address and a port."""

    address: str
    port: int

    def __str__(self) -> str:
        return f"[{self.address}]:{self.port}" if ":" in self.address else f"{self.address}:{self.port}"


_SIX = re.compile(r"(?<![0-9])" + ",".join([r"\s*([0-9]{1,3})\s*"] * 6) + r"(?![0-9])")
_EXTENDED = re.compile(r"\((.)\1\1([0-9]{1,5})\1\)")


def passive_endpoint(reply: Reply) -> Endpoint:
    """Where a 227 reply sends the client; the numbers are searched for (RFC 1123, 4.1.2.6).

    Raises ProtocolFault when there are none, or they are none of an address and a port.
    """
    match = _SIX.search(reply.text)
    numbers = [int(each) for each in match.groups()] if match else []
    if not numbers or any(each > 255 for each in numbers):
        raise ProtocolFault(f"no address and port in the passive reply “{reply}”")
    port = numbers[4] * 256 + numbers[5]
    if port == 0:
        raise ProtocolFault(f"port 0 in the passive reply “{reply}”")
    return Endpoint(str(IPv4Address(bytes(numbers[:4]))), port)


def extended_port(reply: Reply) -> int:
    """The port of a 229 reply, ``(|||6446|)`` (RFC 2428, section 3).

    Raises ProtocolFault when there is none.
    """
    match = _EXTENDED.search(reply.text)
    if not match or not 1 <= int(match[2]) <= 65535:
        raise ProtocolFault(f"no port in the extended passive reply “{reply}”")
    return int(match[2])


def port_argument(endpoint: Endpoint) -> str:
    """The argument of PORT (RFC 959, 4.1.2), IPv4 only. Raises ValueError for another family."""
    address = IPv4Address(endpoint.address)
    return ",".join(map(str, [*address.packed, endpoint.port // 256, endpoint.port % 256]))


def eprt_argument(endpoint: Endpoint) -> str:
    """The argument of EPRT (RFC 2428, section 2), either family."""
    family = 1 if ip_address(endpoint.address).version == 4 else 2
    return f"|{family}|{endpoint.address}|{endpoint.port}|"


class State(Enum):
    """Where the conversation stands."""

    GREETING = auto()
    READY = auto()
    ASKED = auto()
    MOVING = auto()
    CLOSED = auto()


@dataclass(frozen=True, slots=True)
class Event:
    """A reply and the command that it answers; the greeting answers no command."""

    verb: str
    reply: Reply


class Greeting(Event):
    """The server is there (2yz), or sends the client away."""


class Preliminary(Event):
    """A preliminary reply: the data connection is about to be used."""


class Completion(Event):
    """The end of a command: done, more needed, or refused."""


class Farewell(Event):
    """The server closes the session."""


_AFTER: dict[tuple[State, int], tuple[State, type[Event]]] = {
    (State.GREETING, 1): (State.GREETING, Preliminary),
    (State.GREETING, 2): (State.READY, Greeting),
    (State.GREETING, 4): (State.CLOSED, Farewell),
    (State.GREETING, 5): (State.CLOSED, Farewell),
    (State.ASKED, 1): (State.MOVING, Preliminary),
    (State.ASKED, 2): (State.READY, Completion),
    (State.ASKED, 3): (State.READY, Completion),
    (State.ASKED, 4): (State.READY, Completion),
    (State.ASKED, 5): (State.READY, Completion),
    (State.MOVING, 1): (State.MOVING, Preliminary),
    (State.MOVING, 2): (State.READY, Completion),
    (State.MOVING, 4): (State.READY, Completion),
    (State.MOVING, 5): (State.READY, Completion),
}
_CLOSING = 421


class Control:
    """One session's control connection, from the greeting on; ``cover`` is for :class:`ReplyReader`."""

    def __init__(self, cover: Callable[[str], str] = str) -> None:
        self.state = State.GREETING
        self._reader = ReplyReader(cover)
        self._verb = ""

    def command(self, verb: str, argument: str = "") -> bytes:
        """The bytes of a command.

        Raises ProtocolFault when another command is under way, and ValueError for an
        argument that would smuggle in a second line.
        """
        if self.state is not State.READY:
            raise ProtocolFault(f"{verb} cannot be sent while {self.state.name.lower()}")
        if any(ord(each) < 32 or ord(each) == 127 for each in argument):
            raise ValueError("an argument of a command cannot hold control characters")
        self.state, self._verb = State.ASKED, verb
        return f"{verb} {argument}".rstrip(" ").encode() + b"\r\n"

    def shielded(self) -> None:
        """TLS begins now. Raises ProtocolFault where the peer's last reply was followed by more in clear: taken for a
        part of what comes under TLS, it would be words that anybody on the way can put there."""
        if self._reader.unread:
            raise ProtocolFault("plain text follows the reply after which TLS begins: somebody on the way adds words")

    def receive(self, data: bytes) -> list[Event]:
        """What these bytes mean; the empty bytes are the end of the connection.

        Raises ProtocolFault for what is no FTP, or comes where nothing was asked.
        """
        if not data:
            self.state = State.CLOSED
            return []
        return [self._event(reply) for reply in self._reader.receive(data)]

    def _event(self, reply: Reply) -> Event:
        if reply.code == _CLOSING:
            self.state = State.CLOSED
            return Farewell(self._verb, reply)
        after = _AFTER.get((self.state, reply.kind))
        if after is None:
            raise ProtocolFault(f"the server sent “{reply}” while {self.state.name.lower()}, where nothing was asked")
        self.state, event = after
        return event(self._verb, reply)


MOST_TOLD = 3
MOST_IN_A_LINE = 4096
MOST_LINES = 100_000
"""Of a listing no more are looked at: who has so many files in a folder has more than a client can list."""
_LINE = re.compile(rb"[^\r\n]+")
_TIME = r"(?:[A-Za-z]{3}\s+\d{1,2}|\d{4}-\d\d-\d\d)\s+[\d:]{4,5}"
_LONG = re.compile(rf"([-dlbcpsD])[-rwxsStTlL]{{9}}[.+@]?\s+\d+\s.*?\s{_TIME} (.*)")
_DOS = re.compile(r"\d\d-\d\d-\d{2,4}\s+\d\d:\d\d[AP]M\s+(?:<\w+>|\d+) (.*)")
_FACTS = re.compile(r"(?:[\w.-]++=[^;]*+;)++ (.*)")
_TOTAL = re.compile(r"total \d+")
_CONTROLS = re.compile(r"[\x00-\x1f\x7f-\x9f]")


@dataclass(frozen=True, slots=True)
class Listing:
    """How many entries there are, and the first few of the names among them that are tricks, made safe."""

    entries: int
    tricks: tuple[str, ...]

    def __str__(self) -> str:
        return f"{self.entries} entr{'y' if self.entries == 1 else 'ies'}"


def read_listing(raw: bytes) -> Listing:
    """A listing as it came, whatever its format."""
    lines = (decoded(match[0]) for match in islice(_LINE.finditer(raw), MOST_LINES + 1))
    return checked_names(_listed_name(line) for line in lines if line.strip() and not _TOTAL.fullmatch(line))


def checked_names(names: Iterable[str]) -> Listing:
    """Names that are known to be names."""
    count, tricks = 0, list[str]()
    for name in names:
        count += 1
        if len(tricks) < MOST_TOLD and _is_trick(name):
            tricks.append(printable(name))
    return Listing(count, tuple(tricks))


def _listed_name(line: str) -> str:
    """The name in a line; of a format that is not known, all that follows the last space."""
    line = line[-MOST_IN_A_LINE:]
    if match := _LONG.fullmatch(line):
        name = match[2].lstrip(" ")
        return name.partition(" -> ")[0] if match[1] == "l" else name
    if match := _DOS.fullmatch(line) or _FACTS.fullmatch(line):
        return match[1].strip(" ")
    return line.rpartition(" ")[2]


def _is_trick(name: str) -> bool:
    """Whether a name leads elsewhere, or would steer a terminal."""
    return "/" in name or "\\" in name or bool(_CONTROLS.search(name))
