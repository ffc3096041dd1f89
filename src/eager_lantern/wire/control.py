"""The control connection of an FTP client as a state machine (RFC 959, sections 5 and 6).

Bytes in, events out; it never touches a socket.

Theory of operation
===================
One command is under way at a time. A server first greets; then every command is answered by
one completion reply (2yz, 3yz, 4yz, 5yz), and a command that moves data by one preliminary
reply (1yz) before it. So there are five states, and the first digit of a reply decides where
each leads: that is the whole of the table below. 421 ends the session from any state.
"""

from collections.abc import Callable
from dataclasses import dataclass
from enum import Enum, auto

from .reply import ProtocolFault, Reply, ReplyReader


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
    """One session's control connection, from the greeting on; ``cover`` is for :class:`.reply.ReplyReader`."""

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
            raise ProtocolFault(f"the server says “{reply}” while {self.state.name.lower()}, where nothing was asked")
        self.state, event = after
        return event(self._verb, reply)
