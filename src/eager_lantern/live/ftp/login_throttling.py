"""Wrong logins in a row, of an account that does not exist, to see whether a server slows them down."""

import ssl
import time

from msgspec import structs

from ...core.observed.login_throttling import LoginPace, LoginTry
from ...wire.control import State
from ...wire.reply import ProtocolFault
from ..common.io import timed
from ..common.visit_plan import VisitPlan, stranger
from ..failure import Failed
from .session import Session

PATIENCE_SECONDS = 30.0
"""A slow answer is what is looked for."""
LIMIT_SECONDS = 80.0


async def login_pace(plan: VisitPlan, address: str) -> LoginPace:
    """As many wrong logins as planned, on one connection as long as the server lets it stand."""
    guess, tries = stranger(plan), list[LoginTry]()
    session: Session | None = None
    end = time.monotonic() + LIMIT_SECONDS
    try:
        while len(tries) < plan.looks.login_tries and not any(each.let_in for each in tries) and time.monotonic() < end:
            if session is None:
                session = Session(guess)
                await timed(plan.limits.timeout, session.arrive(address))
            tried = await _tried(session, max(plan.limits.timeout, PATIENCE_SECONDS))
            if tried is not None:
                tries.append(tried)
            elif tries and not tries[-1].ended:
                tries[-1] = structs.replace(tries[-1], ended=True)
            else:
                return LoginPace(tuple(tries), "it ends new connections before any answer")
            if tries[-1].ended:
                await session.leave()
                session = None
    except (Failed, ProtocolFault, OSError, ssl.SSLError) as error:
        return LoginPace(tuple(tries), str(error))
    finally:
        if session is not None:
            await session.leave()
    return LoginPace(tuple(tries))


async def _tried(session: Session, patience: float) -> LoginTry | None:
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
