"""One transfer of a session: its data connection, its command, its bytes, and the server's last word.

A visit gives each of these steps a rung, a sweep gives each a wait of its own; what a step is, they share.
"""

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager, closing

from ...core.values.addresses import Address
from ...wire.endpoints import Endpoint
from ..common.channel import Channel
from ..common.named_by_others import WORD, not_everybodys
from ..common.visit_plan import VisitPlan
from ..failure import Failed
from .session import MOST_LISTING_BYTES, Listener, Session, received


def followed(plan: VisitPlan, announced: Endpoint, peer: str) -> Endpoint:
    """Where a passive reply leads: to the address that it names only where the plan follows it, which is said before.
    Raises Failed where that needs a word more than was given."""
    own = plan.target.address or peer
    repaired = Address.parse(announced.address).kind != "public" == Address.parse(own).kind
    follows = plan.data.announced == "follow" or (plan.data.announced == "follow-public" and not repaired)
    if not follows or announced.address == peer:
        return Endpoint(peer, announced.port)
    if not plan.data.even_private and (what := not_everybodys(announced.address)):
        named = f"the reply names {announced.address}, {what}"
        raise Failed("wrong", f"{named}: not followed ({WORD} beside --follow-announced does)")
    plan.notice(f"data goes to {announced.address}, which only the server's reply names")
    return announced


@asynccontextmanager
async def awaited_at(session: Session, plan: VisitPlan) -> AsyncIterator[tuple[Listener, Endpoint]]:
    """A port that waits for active data, and the endpoint to name for it. Raises Failed where none is free."""
    local = session.wire.local
    with closing(await Listener.on(local, plan)) as listener:
        yield listener, Endpoint(plan.data.active_address or local, listener.port)


async def commanded(session: Session, verb: str, argument: str = "") -> None:
    """Send the command, and wait until the server begins. Raises Failed where it refuses."""
    await session.send(verb, argument)
    await session.opening()


async def taken_in(session: Session, data: Channel, verb: str, most: int = MOST_LISTING_BYTES) -> bytes:
    """All that the server sends, and its word that this was all. Raises Failed."""
    await session.shield_data(data)
    came = b"".join([chunk async for chunk in received(data, most)])
    await completed(session, data, verb)
    return came


async def completed(session: Session, data: Channel, verb: str) -> None:
    """Close the data connection, and hear how the transfer ended. Raises Failed."""
    await data.close()
    reply = await session.completion()
    if reply.kind != 2:
        raise Failed("refused", f"{verb}: the server says {reply}")
