"""A visit from several places at once."""

import asyncio
from collections.abc import Awaitable, Callable, Sequence
from contextlib import AsyncExitStack

from msgspec import structs

from ..core.compare.vantages import Outlook
from ..core.values.outcomes import Rung
from ..live.vantage.address import place_called
from ..live.vantage.base import Vantage
from ..live.vantage.local import HERE
from .output import has_terminal
from .visits import Wanted

Prepare = Callable[[Vantage], Awaitable[list[Wanted]]]
Tell = Callable[[str, Rung], None]


async def seen_from(names: Sequence[str], prepare: Prepare, tell: Tell) -> list[Outlook]:
    """The same visits from each place: one after the other in a place, all places at once."""
    async with AsyncExitStack() as opened:
        stands = await reached(names, opened)
        # one after the other, since a password may be asked for
        wanted = [await prepare(each) if not isinstance(each, Outlook) else [] for each in stands]
        return list(await asyncio.gather(*(_visited(*each, tell) for each in zip(stands, wanted, strict=True))))


async def reached(names: Sequence[str], opened: AsyncExitStack) -> list[Vantage | Outlook]:
    """The places to stand, and what is known of those that cannot be reached."""
    return await (_one_by_one if has_terminal() else _at_once)(names, opened)


async def _at_once(names: Sequence[str], opened: AsyncExitStack) -> list[Vantage | Outlook]:
    return list(await asyncio.gather(*(_standpoint(name, opened) for name in names)))


async def _one_by_one(names: Sequence[str], opened: AsyncExitStack) -> list[Vantage | Outlook]:
    """What ssh asks about one place, a passphrase for example, is answered before the next one is tried."""
    return [await _standpoint(name, opened) for name in names]


async def _standpoint(name: str, opened: AsyncExitStack) -> Vantage | Outlook:
    """A place to stand, or what is known of one that cannot be reached."""
    if name == HERE.name:
        return HERE
    from ..live.vantage.link import OutOfReach
    from ..live.vantage.ssh import SshVantage  # few visits need it

    try:
        return await opened.enter_async_context(SshVantage(name))
    except OutOfReach as error:
        return Outlook(place_called(name), (), f"out of reach: {error}")


async def _visited(place: Vantage | Outlook, wanted: Sequence[Wanted], tell: Tell) -> Outlook:
    if isinstance(place, Outlook):
        return place
    climbs = [structs.replace(await each.run(lambda rung: tell(place.name, rung)), place=place.name) for each in wanted]
    return Outlook(place.name, tuple(climbs), round_trip_seconds=place.round_trip_seconds)
