"""What is awaited and read with a limit, whatever the protocol."""

import asyncio
from collections.abc import Awaitable
from typing import TypeVar

from ...wire.listing import MOST_LINES, Listing
from ..failure import Failed

Done = TypeVar("Done")


def trusted(listing: Listing) -> str:
    """What a listing holds. Raises Failed where names in it are tricks."""
    if listing.tricks:
        names = "; ".join(listing.tricks)
        raise Failed("wrong", f"{listing}, with names that lead elsewhere or steer a terminal: {names}")
    if listing.entries > MOST_LINES:
        raise Failed("wrong", f"more than {MOST_LINES} entries in the folder; given up")
    return str(listing)


async def timed(seconds: float, what: Awaitable[Done]) -> Done:
    """The result of something that must be done in time. Raises Failed, silent, otherwise."""
    try:
        async with asyncio.timeout(seconds):
            return await what
    except TimeoutError:
        raise Failed("silent", f"no answer within {seconds:g} s") from None
