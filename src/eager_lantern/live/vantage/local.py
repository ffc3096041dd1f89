"""This machine as the place that visits are made from."""

import asyncio
import contextlib
import itertools
import socket
from collections.abc import Sequence
from dataclasses import dataclass

import psutil

from ..own_process import aside
from .agent import beginning_of, output_of
from .base import OWN_PLACE, Arrived, Connected, Failed, second_of

MOST_DATAGRAM = 65_536


@dataclass(frozen=True)
class Here:
    """Sockets of this machine."""

    name: str = OWN_PLACE
    round_trip_seconds: float | None = None

    async def find(self, name: str, port: int) -> str:
        """By the system's resolver, which may take long and cannot be interrupted."""
        found = await aside(lambda: socket.getaddrinfo(name, port, type=socket.SOCK_STREAM))
        return str(found[0][4][0])

    async def connect(self, address: str, port: int, source: str = "") -> Connected:
        """An ordinary connection."""
        made = _socket(address, socket.SOCK_STREAM)
        try:
            if source:
                made.bind((source, 0))
            await asyncio.get_running_loop().sock_connect(made, (address, port))
            return _connected(made)
        except BaseException:
            made.close()
            raise

    async def listen(self, address: str, port: int, arrived: Arrived) -> "Listening":
        """An ordinary listener."""
        family = socket.AF_INET6 if ":" in address else socket.AF_INET
        made = socket.create_server((address, port), family=family)
        made.setblocking(False)
        return Listening(made, arrived)

    async def ask(self, address: str, port: int, question: bytes) -> bytes:
        """By a socket that is connected, so that refusals are reported."""
        loop = asyncio.get_running_loop()
        with contextlib.closing(_socket(address, socket.SOCK_DGRAM)) as tried:
            await loop.sock_connect(tried, (address, port))
            await loop.sock_sendall(tried, question)
            return await loop.sock_recv(tried, MOST_DATAGRAM)

    async def holds(self, address: str) -> bool:
        """Whether a socket may be bound to it."""
        with contextlib.closing(_socket(address, socket.SOCK_DGRAM)) as tried:
            try:
                tried.bind((address, 0))
            except OSError:
                return False
        return True

    async def second_address(self, own: str) -> str | None:
        """From what the system's interfaces have."""
        found = itertools.chain.from_iterable(psutil.net_if_addrs().values())
        inet = (each.address for each in found if each.family in (socket.AF_INET, socket.AF_INET6))
        return second_of(own, (each for each in inet if "%" not in each))

    async def read(self, path: str) -> bytes:
        """As the far end does it."""
        return beginning_of(path)

    async def run(self, words: Sequence[str]) -> tuple[int, bytes]:
        """As the far end does it."""
        return await output_of(list(words))

    async def vouched(self, failed: Failed) -> Failed:
        """This machine is always in reach."""
        return failed


class Listening:
    """A listener of this machine."""

    def __init__(self, server: socket.socket, arrived: Arrived) -> None:
        self._server = server
        self.port = int(server.getsockname()[1])
        self._task = asyncio.get_running_loop().create_task(self._accept(arrived))

    async def _accept(self, arrived: Arrived) -> None:
        with contextlib.suppress(OSError):
            while True:
                made, _ = await asyncio.get_running_loop().sock_accept(self._server)
                arrived(_connected(made))

    def close(self) -> None:
        """Listen no more. The socket is closed once nobody waits on it, since its number may be another's at once."""
        self._task.add_done_callback(lambda _: self._server.close())
        self._task.cancel()


def _socket(address: str, kind: socket.SocketKind) -> socket.socket:
    made = socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, kind)
    made.setblocking(False)
    return made


def _connected(made: socket.socket) -> Connected:
    return Connected(made, str(made.getsockname()[0]), str(made.getpeername()[0]))


HERE = Here()
