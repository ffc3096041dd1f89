"""One question by datagram, repeated until something comes back."""

import asyncio

from ..failure import Failed
from ..vantage.base import Vantage

WAITS_SECONDS = (0.5, 1.0, 2.0)
"""How long each try waits: datagrams get lost, and every protocol asked here doubles its waits (RFC 6886, 3.1)."""


async def asked(vantage: Vantage, address: str, port: int, question: bytes) -> bytes:
    """The first datagram that comes back from there. Raises OSError, and Failed where none does."""
    for seconds in WAITS_SECONDS:
        try:
            async with asyncio.timeout(seconds):
                return await vantage.ask(address, port, question)
        except TimeoutError:
            continue
        except ConnectionRefusedError:
            raise Failed("refused", f"nothing listens on udp port {port} of {address}") from None
    raise Failed("silent", f"{address} does not answer on udp port {port}")
