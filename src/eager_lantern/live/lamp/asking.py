"""Asking every port of a lamp, whoever opens the connections: what an answer means, and what is asked again.

This module is a part of the carried probe, which knows the standard library of Python 3.9 alone.
"""

from __future__ import annotations

import asyncio
import errno
from collections.abc import Awaitable, Callable, Sequence
from typing import NamedTuple

from ...wire.lamp import seen

AT_ONCE = 256
TRIES = 2


class PortTold(NamedTuple):
    """One port as it was asked: what became of it (``closed`` is without a word), where a lamp saw it arrive and from
    whom, and how many others that lamp had no place for."""

    port: int
    outcome: str
    arrived_port: int | None = None
    seen_from: str | None = None
    crowded: int = 0


Ask = Callable[[int], Awaitable[PortTold]]


async def all_asked(ask: Ask, ports: Sequence[int], at_once: int = AT_ONCE) -> list[PortTold]:
    """Every port once, silent ones once more. Where the lamp reports that it had no place for some, ports that were
    closed without a word are asked again, one after the other; what is closed even then is ``crowded``, since it looks
    the same as a port that another program holds."""
    turns = asyncio.Semaphore(at_once)

    async def one(port: int) -> PortTold:
        async with turns:
            found = await ask(port)
            for _ in range(TRIES - 1):
                if found.outcome == "silent":
                    found = await ask(port)
            return found

    found = await asyncio.gather(*map(one, ports))
    if any(each.crowded for each in found):
        for i, each in enumerate(found):
            if each.outcome == "closed":
                again = await ask(each.port)
                found[i] = PortTold(each.port, "crowded") if again.outcome == "closed" else again
    # a port that closes without a word, where no lamp is crowded, is held by another program
    return [each._replace(outcome="wrong") if each.outcome == "closed" else each for each in found]


def told_by_line(port: int, secret: bytes, nonce: bytes, line: bytes) -> PortTold:
    """What an answer means; something that is no lamp, or knows another secret, is wrong."""
    sight = seen(secret, nonce, line)
    if sight is None:
        return PortTold(port, "wrong" if line else "closed")
    return PortTold(port, "ok", sight.at_port, sight.from_address, sight.crowded)


def told_by_error(port: int, error: OSError) -> PortTold:
    """What it means that a connection did not come about."""
    if isinstance(error, ConnectionResetError):
        return PortTold(port, "closed")
    own = error.errno in (errno.ENETUNREACH, errno.EADDRNOTAVAIL, errno.EAFNOSUPPORT, errno.EMFILE)
    return PortTold(port, "unknown" if own else "refused")
