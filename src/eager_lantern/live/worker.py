"""Computing in a thread that nobody has to wait for: what a stranger sent may take for ever to be understood."""

import asyncio
import threading
from collections.abc import Callable
from concurrent.futures import Future
from typing import TypeVar

Done = TypeVar("Done")
SECONDS = 10.0
"""How long an answer from a network may take to be understood; all that is honest takes milliseconds."""


async def aside(work: Callable[[], Done]) -> Done:
    """What some work comes to, done in a thread of its own. Whoever stops waiting leaves that thread behind: unlike
    one of asyncio's pool, it keeps neither the event loop nor the process from ending."""
    return await asyncio.wrap_future(begun(work))


def begun(work: Callable[[], Done]) -> Future[Done]:
    """Some work in a thread of its own, which keeps no process from ending."""
    done: Future[Done] = Future()

    def run() -> None:
        if done.set_running_or_notify_cancel():
            try:
                done.set_result(work())
            except BaseException as error:
                done.set_exception(error)

    threading.Thread(target=run, daemon=True).start()
    return done


async def understood(read: Callable[[], Done]) -> Done:
    """What bytes from a network mean. Raises ValueError where that takes too long, and what ``read`` raises."""
    try:
        async with asyncio.timeout(SECONDS):
            return await aside(read)
    except TimeoutError:
        raise ValueError(f"an answer that is not understood within {SECONDS:g} s") from None
