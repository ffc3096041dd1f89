"""Another host as the place that visits are made from, reached over SSH, or another network namespace of this one.

Sockets are opened there (:mod:`.agent`, over :mod:`.link`); everything else, the protocols, TLS and
the password, stays on this machine.
"""

import asyncio
from collections.abc import Callable, Sequence
from typing import Self

from .base import Arrived, Connected, Failed, place_called, second_of
from .link import Link

ANSWER_SECONDS = 5.0


class FarVantage:
    """A host reached over SSH or a network namespace, as an asynchronous context manager. Raises OutOfReach."""

    def __init__(self, place: str) -> None:
        self.name = place_called(place)
        self.round_trip_seconds: float | None = None
        self._link = Link(place)

    async def __aenter__(self) -> Self:
        await self._link.__aenter__()
        self.round_trip_seconds = self._link.round_trip_seconds
        return self

    async def __aexit__(self, *_: object) -> None:
        await self._link.__aexit__()

    async def find(self, name: str, port: int) -> str:
        """By the resolver there."""
        reply, _ = await self._link.asked({"do": "find", "name": name, "port": port})
        return reply.address

    async def connect(self, address: str, port: int, source: str = "") -> Connected:
        """A connection that is opened there and carried here."""
        request = {"do": "connect", "address": address, "port": port, "source": source}
        reply, _ = await self._link.asked(request, stays=True)
        if reply.number not in self._link.made:
            raise Failed("unknown", f"{self.name} answers what was not asked")
        return self._link.made.pop(reply.number)

    async def listen(self, address: str, port: int, arrived: Arrived) -> "_FarDoor":
        """A listener there."""
        reply, _ = await self._link.asked({"do": "listen", "address": address, "port": port}, stays=True)
        self._link.arrivals[reply.number] = arrived
        return _FarDoor(reply.port, lambda: self._shut(reply.number))

    def _shut(self, number: int) -> None:
        self._link.arrivals.pop(number, None)
        self._link.say({"do": "close", "n": number})

    async def ask(self, address: str, port: int, question: bytes) -> bytes:
        """A datagram from there."""
        _, back = await self._link.asked({"do": "ask", "address": address, "port": port}, question)
        return back

    async def holds(self, address: str) -> bool:
        """Whether a socket may be bound to it there."""
        try:
            await self._link.asked({"do": "hold", "address": address})
        except OSError:
            return False
        return True

    async def second_address(self, own: str) -> str | None:
        """From the host's own list."""
        reply, _ = await self._link.asked({"do": "own"})
        try:
            return second_of(own, reply.own)
        except ValueError:
            raise Failed("unknown", f"{self.name} reports addresses that are none") from None

    async def read(self, path: str) -> bytes:
        """A file there."""
        _, back = await self._link.asked({"do": "read", "path": path})
        return back

    async def run(self, words: Sequence[str]) -> tuple[int, bytes]:
        """A command there."""
        reply, back = await self._link.asked({"do": "run", "words": list(words)})
        return reply.code, back

    async def seen_as(self) -> str:
        """The address from which its SSH server sees this machine (``SSH_CONNECTION``); empty where it does not say."""
        reply, _ = await self._link.asked({"do": "ping"})
        return reply.address

    async def vouched(self, failed: Failed) -> Failed:
        """A failure counts only if the place still answers."""
        try:
            async with asyncio.timeout(ANSWER_SECONDS):
                await self._link.asked({"do": "ping"})
        except Failed as gone:
            return gone
        except TimeoutError:
            return Failed("unknown", f"{self.name} is out of reach: it answers no more")
        return failed


class _FarDoor:
    def __init__(self, port: int, shut: Callable[[], None]) -> None:
        self.port = port
        self.close = shut
