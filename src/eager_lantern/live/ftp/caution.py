"""How careful a server is with addresses that a client names, and with wrong logins.

RFC 2577, sections 3 and 5: a server that connects to any address that it is given can be made to attack others,
and one that takes data from anybody can be robbed of it.
"""

import asyncio
import contextlib
import ssl
import time

from msgspec import structs

from ...core.observed.looks import BounceCheck, LoginThrottling, LoginTry
from ...wire.ftp import Endpoint, ProtocolFault, State, eprt_argument, port_argument
from ..common.channel import Channel, timed
from ..common.visit_plan import VisitPlan, stranger
from ..vantage.base import Connected, Failed
from .session import Session

WAIT_SECONDS = 3.0
_FAULTS = (Failed, ProtocolFault, OSError, ssl.SSLError, TimeoutError)
_ALONE = "there is no second address to try it with"


async def caution(session: Session, greeting: str) -> BounceCheck:
    """Both trials on a session that is logged in and idle."""
    try:
        vantage = session.plan.vantage
        other = await timed(session.plan.limits.timeout, vantage.second_address(session.wire.local))
    except _FAULTS as error:
        return BounceCheck(greeting, None, str(error), None, str(error))
    if other is None:
        return BounceCheck(greeting, None, _ALONE, None, _ALONE)
    strangers, stranger_detail = await _takes_strangers(session, other)
    bounces, bounce_detail = await _bounces(session, other)  # last: it may leave the server waiting
    return BounceCheck(greeting, bounces, bounce_detail, strangers, stranger_detail)


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
        await _drain(session)
        return False, f"data is not sent to a stranger ({other}): {error or 'no answer'}"
    finally:
        data.abort()
    taken = reply.kind == 2
    return taken, f"data went to {other}, another peer than the control connection's" if taken else f"refused: {reply}"


async def _drain(session: Session) -> None:
    """Wait for what the server still has to say to the transfer that failed."""
    with contextlib.suppress(*_FAULTS):
        async with asyncio.timeout(WAIT_SECONDS):
            while session.control.state is not State.READY:
                await session.completion()


PATIENCE_SECONDS = 30.0
"""A slow answer is what is looked for."""
LIMIT_SECONDS = 80.0


async def login_pace(plan: VisitPlan, address: str) -> LoginThrottling:
    """As many wrong logins as planned, on one connection as long as the server lets it stand."""
    guess, tries = stranger(plan), list[LoginTry]()
    session: Session | None = None
    end = time.monotonic() + LIMIT_SECONDS
    try:
        while len(tries) < plan.looks.login_tries and not any(each.let_in for each in tries) and time.monotonic() < end:
            if session is None:
                session = Session(guess)
                await timed(plan.limits.timeout, session.arrive(address))
            tried = await _try_login(session, max(plan.limits.timeout, PATIENCE_SECONDS))
            if tried is not None:
                tries.append(tried)
            elif tries and not tries[-1].ended:
                tries[-1] = structs.replace(tries[-1], ended=True)
            else:
                return LoginThrottling(tuple(tries), "it ends new connections before any answer")
            if tries[-1].ended:
                await session.leave()
                session = None
    except (Failed, ProtocolFault, OSError, ssl.SSLError) as error:
        return LoginThrottling(tuple(tries), str(error))
    finally:
        if session is not None:
            await session.leave()
    return LoginThrottling(tuple(tries))


async def _try_login(session: Session, patience: float) -> LoginTry | None:
    """One login; None where the connection is over before it is answered, closed or reset."""
    started = time.perf_counter()
    try:
        await timed(patience, session.login())
    except (ConnectionError, ssl.SSLEOFError, ssl.SSLZeroReturnError):
        return None
    except Failed as failed:
        if failed.outcome == "silent":
            raise
        over = session.control.state is State.CLOSED
        return None if failed.outcome == "wrong" else LoginTry(time.perf_counter() - started, ended=over)
    return LoginTry(time.perf_counter() - started, let_in=True)
