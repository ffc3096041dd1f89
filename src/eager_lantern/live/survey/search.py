"""The search for the router's description (SSDP): asked of the router itself, and of the group of all where this
machine can listen for what comes back. Answers of anybody but the router are left aside."""

import asyncio
import socket

from ...wire.igd import SEARCH_PORT, search_request
from ..failure import Failed
from ..vantage.base import Vantage
from ..vantage.local import HERE
from .datagrams import asked

GROUP = "239.255.255.250"
SECONDS = 3.0
MOST_DATAGRAM, MOST_ANSWERS = 4096, 200


async def searched(vantage: Vantage, router: str) -> bytes:
    """The first answer of the router. Raises OSError, and Failed where it gives none."""
    if vantage is not HERE or ":" in router:
        return await asked(vantage, router, SEARCH_PORT, search_request(router))
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as tried:
        tried.setblocking(False)
        for to in (router, GROUP):
            await asyncio.get_running_loop().sock_sendto(tried, search_request(to), (to, SEARCH_PORT))
        try:
            async with asyncio.timeout(SECONDS):
                return await _answer_of(tried, router)
        except TimeoutError:
            raise Failed("silent", f"{router} does not answer a search for its description") from None


async def _answer_of(tried: socket.socket, router: str) -> bytes:
    for _ in range(MOST_ANSWERS):
        try:
            data, sender = await asyncio.get_running_loop().sock_recvfrom(tried, MOST_DATAGRAM)
        except ConnectionError:  # one of the two askings was refused; the other may be answered
            continue
        if sender[0] == router:
            return data
    raise Failed("unknown", f"{MOST_ANSWERS} others answered the search, and {router} did not")
