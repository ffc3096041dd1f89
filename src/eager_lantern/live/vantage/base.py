"""Where a visit is made from: this machine (:mod:`.local`), or another that opens sockets for it (:mod:`.far`)."""

import ipaddress
import re
import socket
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Literal, Protocol

from ...wire.terminal_safe import printable

Fault = Literal["refused", "silent", "wrong", "unknown"]


class Failed(Exception):
    """A rung that did not hold: how, and what was seen."""

    def __init__(self, outcome: Fault, detail: str) -> None:
        super().__init__(detail)
        self.outcome = outcome
        self.detail = detail


OWN_PLACE = "here"
"""This machine, as it is written."""
NAMESPACE = "namespace://"
_PLACE = re.compile(
    r"namespace://[A-Za-z0-9_][A-Za-z0-9_.-]{0,63}/?|ssh://(?:[^\s/@:-][^\s/@:]*@)?(?:[\w][\w.-]*|\[[0-9a-fA-F:.%]+\])(?::[0-9]{1,5})?/?"
)


def checked_place(text: str) -> str:
    """The text, where it is the address of a place. Raises ValueError with what would be right."""
    if not _PLACE.fullmatch(text):
        raise ValueError(
            f"“{printable(text)}” is no place: write ssh://USER@HOST or ssh://USER@HOST:PORT, namespace://NAME, or here"
        )
    return text.rstrip("/")


def place_called(place: str) -> str:
    """A place as it is shown."""
    name = place.removeprefix(NAMESPACE)
    return place.removeprefix("ssh://") if name == place else f"namespace {name}"


def _never() -> None:
    return None


@dataclass(frozen=True, slots=True)
class Connected:
    """A connection that stands: a stream socket that does not block, and the addresses of both ends as
    they are where it was opened. ``lost`` states why it ended, where the socket itself cannot."""

    sock: socket.socket
    local: str
    peer: str
    lost: Callable[[], OSError | None] = _never


Arrived = Callable[[Connected], None]


class Door(Protocol):
    """A port that is listened on."""

    @property
    def port(self) -> int:
        """Which."""

    def close(self) -> None:
        """Listen no more."""


class Vantage(Protocol):
    """A place that connections are made from."""

    @property
    def name(self) -> str:
        """What the place is called."""

    @property
    def round_trip_seconds(self) -> float | None:
        """What the way to the place and back adds to each step; None where there is no such way."""

    async def find(self, name: str, port: int) -> str:
        """The first address of a host name, by the resolver there. Raises OSError and UnicodeError."""

    async def connect(self, address: str, port: int, source: str = "") -> Connected:
        """A connection, from an address of its own where one is given. Raises OSError."""

    async def listen(self, address: str, port: int, arrived: Arrived) -> Door:
        """Wait for connections, on any free port where 0 is asked for. Raises OSError."""

    async def ask(self, address: str, port: int, question: bytes) -> bytes:
        """One datagram out, the first one back. Raises OSError."""

    async def holds(self, address: str) -> bool:
        """Whether an address is one of its own; nothing is sent."""

    async def second_address(self, own: str) -> str | None:
        """Another address of its own, by :func:`second_of`. Raises Failed where the place is gone."""

    async def read(self, path: str) -> bytes:
        """The beginning of a file, at most 65,536 bytes of it. Raises OSError."""

    async def run(self, words: Sequence[str]) -> tuple[int, bytes]:
        """The exit code of a command of the system, -1 where it was ended, and the beginning of what it writes.
        Raises OSError."""

    async def vouched(self, failed: Failed) -> Failed:
        """What failed there; or, where the place itself is out of reach, that."""


def second_of(own: str, addresses: Iterable[str]) -> str | None:
    """Of the addresses of a host, another one that reaches whoever is reached from its ``own``: of the same
    family and scope. Raises ValueError for what is no address."""
    address = ipaddress.ip_address(own)
    if address.version == 4 and address.is_loopback:
        return str(address + 1)  # all of 127.0.0.0/8 is the host's
    others = (each for each in map(ipaddress.ip_address, addresses) if each.version == address.version)
    alike = (each for each in others if each != address and each.is_global == address.is_global)
    usable = [each for each in alike if not (each.is_loopback or each.is_link_local)]
    return str(min(usable, key=int)) if usable else None
