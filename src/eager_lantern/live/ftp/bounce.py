"""Trying the server's own caution, only ever with addresses of the host that the visit is made from.

RFC 2577, sections 3 and 5: a server that connects wherever it is told can be made to attack others,
and one that takes data from anybody can be robbed of it.
"""

import asyncio
import contextlib
import ssl

from ...core.observed.bounce import Caution
from ...wire.control import State
from ...wire.endpoints import Endpoint, eprt_argument, port_argument
from ...wire.reply import ProtocolFault
from ..common.channel import Channel
from ..common.io import timed
from ..failure import Failed
from ..vantage.base import Connected
from .session import Session

WAIT_SECONDS = 3.0
_FAULTS = (Failed, ProtocolFault, OSError, ssl.SSLError, TimeoutError)
_ALONE = "there is no second address to try it with"


async def caution(session: Session, greeting: str) -> Caution:
    """Both trials on a session that is logged in and idle."""
    try:
        vantage = session.plan.vantage
        other = await timed(session.plan.limits.timeout, vantage.second_address(session.wire.local))
    except _FAULTS as error:
        return Caution(greeting, None, str(error), None, str(error))
    if other is None:
        return Caution(greeting, None, _ALONE, None, _ALONE)
    strangers, stranger_detail = await _takes_strangers(session, other)
    bounces, bounce_detail = await _bounces(session, other)  # last: it may leave the server waiting
    return Caution(greeting, bounces, bounce_detail, strangers, stranger_detail)


async def _bounces(session: Session, other: str) -> tuple[bool | None, str]:
    """Whether the server connects to another address of the visiting host than the one it sees."""
    came = asyncio.Event()

    def arrived(connected: Connected) -> None:
        came.set()
        connected.sock.close()

    try:
        listener = await session.plan.vantage.listen(other, 0, arrived)
    except OSError as error:
        return None, f"{other} could not be listened on: {error.strerror}"
    endpoint = Endpoint(other, listener.port)
    try:
        verb, argument = ("EPRT", eprt_argument(endpoint)) if ":" in other else ("PORT", port_argument(endpoint))
        reply = await session.ask(verb, argument)
        if reply.kind != 2:
            return False, f"{verb} to another address ({other}) is refused: {reply}"
        await session.send("LIST")
        with contextlib.suppress(*_FAULTS):
            async with asyncio.timeout(WAIT_SECONDS):
                await session.completion()
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(came.wait(), 0.5)
    except _FAULTS as error:
        return None, f"PORT could not be tried: {error}"
    finally:
        listener.close()
    if came.is_set():
        return True, f"{verb} to another address was followed: the server connected to {endpoint}"
    return False, f"{verb} to another address was taken, and no connection came there"


async def _takes_strangers(session: Session, other: str) -> tuple[bool | None, str]:
    """Whether data moves on a connection that comes from another address of the visiting host."""
    try:
        endpoint, _ = await session.passive()
        data = await Channel.over(await session.plan.vantage.connect(session.wire.peer, endpoint.port, other))
    except _FAULTS as error:
        return None, f"a data connection from {other} does not come about: {error}"
    try:
        await session.send("LIST")
        async with asyncio.timeout(WAIT_SECONDS):
            await session.opening()
            await session.shield_data(data)
            while await data.read():
                pass
            await data.close()
            reply = await session.completion()
    except _FAULTS as error:
        await _settled(session)
        return False, f"data is not sent to a stranger ({other}): {error or 'no answer'}"
    finally:
        data.abort()
    taken = reply.kind == 2
    return taken, f"data went to {other}, another peer than the control connection's" if taken else f"refused: {reply}"


async def _settled(session: Session) -> None:
    """Wait for what the server still has to say to the transfer that failed."""
    with contextlib.suppress(*_FAULTS):
        async with asyncio.timeout(WAIT_SECONDS):
            while session.control.state is not State.READY:
                await session.completion()
