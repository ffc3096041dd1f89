"""The search for the router's description (SSDP): asked of the router itself, and of the group of all where this
machine can listen for what comes back. Answers of anybody but the router are left aside."""

import asyncio
import contextlib
import socket

from ...wire.igd import SEARCH_PORT, search_request
from ..failure import Failed
from ..vantage.base import Vantage
from ..vantage.local import HERE
from .datagrams import asked

GROUP = "239.255.255.250"
SECONDS, TRIES = 3.0, 3
MOST_DATAGRAM, ROOM_BYTES = 4096, 4_000_000


async def searched(vantage: Vantage, router: str) -> bytes:
    """The first answer of the router. Raises OSError, and Failed where it gives none."""
    if vantage is not HERE or ":" in router:
        return await asked(vantage, router, SEARCH_PORT, search_request(router))
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as tried:
        tried.setblocking(False)
        tried.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, ROOM_BYTES)
        for _ in range(TRIES):  # strangers may have answered so much that the router's answer found no room
            for to in (router, GROUP):
                await asyncio.get_running_loop().sock_sendto(tried, search_request(to), (to, SEARCH_PORT))
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(SECONDS / TRIES):
                    return await _answer_of(tried, router)
        raise Failed("silent", f"{router} does not answer a search for its description")


async def _answer_of(tried: socket.socket, router: str) -> bytes:
    """The first that comes from the router, however many others answer: only the time is bounded."""
    while True:
        try:
            data, sender = await asyncio.get_running_loop().sock_recvfrom(tried, MOST_DATAGRAM)
        except ConnectionError:  # one of the two askings was refused; the other may be answered
            continue
        if sender[0] == router:
            return data
