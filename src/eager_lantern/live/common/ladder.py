"""One session on its way up the ladder, whatever its protocol: each rung tried, timed, recorded, and with advice where
it fails."""

import asyncio
import contextlib
import secrets
import socket
import time
from collections.abc import Awaitable, Callable
from typing import ClassVar

from ...core.observed.climb import Dialled, Look, Missed, RightsSeen, RungSeen
from ...core.observed.looks import LoginThrottling
from ...core.values.addresses import Address
from ...core.values.outcomes import Outcome, Rung
from ...wire.ftp import Endpoint
from ...wire.terminal_safe import printable
from ..vantage.base import Failed
from .channel import timed
from .visit_plan import VisitPlan

PREFIX = "eager-lantern-visit-"
TIDY_SECONDS = 8
MOST_CHARACTERS = 400
CONTENT_BYTES = 4500
"""What is sent takes three full packets of Ethernet: where only short ones pass, that shows."""
Progress = Callable[[Rung], None]


class Climber:
    """The rungs of one session. The password is covered wherever it would be shown; ``file`` and ``content``
    are what it sends, and ``sent`` whether that may be on the server; ``faults`` are what a step may raise."""

    rungs: ClassVar[tuple[Rung, ...]]
    faults: ClassVar[tuple[type[Exception], ...]]

    def __init__(self, plan: VisitPlan, progress: Progress) -> None:
        self.plan = plan
        self.progress = progress
        self.climbed: dict[Rung, RungSeen] = {}
        self.current: Rung = "name"
        self.address = ""
        self.file = f"{PREFIX}{secrets.token_hex(6)}.txt"
        remark = "Sent by eager-lantern visit to test this server; may be deleted."
        self.content = f"{remark} {secrets.token_hex(16)}\n".encode().ljust(CONTENT_BYTES, b".")
        self.sent = False
        self.rights: RightsSeen | None = None
        self.pace: LoginThrottling | None = None
        self.tricked = False
        self.looked: set[Look] = set()
        self._missed: dict[Look, str] = {}

    def as_failed(self, error: Exception) -> Failed:
        """What one of the faults means for a rung."""
        raise NotImplementedError

    async def climb(self) -> None:
        """Every rung until one fails."""
        raise NotImplementedError

    async def look_further(self) -> None:
        """Whatever else the plan asks for; what fails here changes nothing in the ladder, and is reported."""
        raise NotImplementedError

    async def leave(self) -> None:
        """Remove what was sent, whatever state the session is in, and hang up."""
        raise NotImplementedError

    async def run(self) -> None:
        """All of it, within the time that the plan has; cancelling tidies up first."""
        whole = self.plan.limits.whole
        try:
            async with asyncio.timeout(whole):
                await self.climb()
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(whole):
                    await self.look_further()
        except TimeoutError:
            self.note(self.current, "silent", f"the whole visit took more than {whole:g} s; ended here", None)
        finally:
            await self.leave()

    async def look(self, name: Look, step: Callable[[], Awaitable[None]]) -> None:
        """Look at something beyond the ladder; what fails there changes nothing in it, and is reported."""
        try:
            await step()
            self.looked.add(name)
        except self.faults as error:
            self._missed[name] = self.as_failed(error).detail or "no answer"

    def refuse_where_tricked(self) -> None:
        """Nothing is sent to a server whose listing holds tricks. Raises Failed."""
        if self.tricked:
            raise Failed("unknown", "the listing has names that are tricks, so nothing is sent and nothing fetched")

    def cannot_look(self, reason: str, *names: Look) -> None:
        """Tell why something is not looked at."""
        self._missed |= dict.fromkeys(names, reason)

    def missed(self) -> tuple[Missed, ...]:
        """What was asked for and not seen, with the reasons."""
        plan = self.plan
        asked: dict[Look, bool] = {
            "closely": plan.looks.closely,
            "rights": plan.looks.tries_rights,
            "bounce": plan.looks.tries_caution,
            "range": bool(plan.looks.range_connections),
            "login-throttling": bool(plan.looks.login_tries),
        }
        stopped = next((each for each in self.ladder() if each.outcome not in ("ok", "untried")), None)
        rest = f"the session ended at {stopped.rung}" if stopped else "the visit ended before it"
        names = [name for name, wanted in asked.items() if wanted and name not in self.looked]
        return tuple(Missed(name, self._told(self._missed.get(name, rest))) for name in names)

    def _told(self, detail: str) -> str:
        return printable(self.plan.credentials.password.hide_in(detail), MOST_CHARACTERS)

    def note(self, rung: Rung, outcome: Outcome, detail: str, started: float | None) -> None:
        """Write down what became of a rung, with the password covered and nothing harmful in it."""
        spent = None if started is None else (time.perf_counter() - started) * 1000
        self.climbed[rung] = RungSeen(rung, outcome, self._told(detail), spent, self.plan.advice.at(rung, outcome))

    def note_left_behind(self, error: Exception) -> None:
        """Write down why what was sent could not be removed."""
        failed = self.as_failed(error)
        self.note("tidy", failed.outcome, f"{self.file} may still be on the server: {failed.detail}", None)

    def ladder(self) -> tuple[RungSeen, ...]:
        """All rungs in order; what was not reached is untried."""
        return tuple(self.climbed.get(rung, RungSeen(rung, "untried", "")) for rung in self.rungs)

    async def rung(self, rung: Rung, step: Callable[[], Awaitable[str]]) -> None:
        """Try one rung, or its next step; the times of its steps add up. Whatever goes wrong is noted and raised as
        Failed."""
        self.current = rung
        self.progress(rung)
        before = self.climbed.get(rung)
        started = time.perf_counter() - ((before.milliseconds or 0) / 1000 if before else 0)
        try:
            detail = await timed(self.plan.limits.timeout, step())
        except self.faults as error:
            failed = await self.plan.vantage.vouched(self.as_failed(error))
            self.note(rung, failed.outcome, failed.detail, started)
            raise failed from None
        self.note(rung, "ok", detail, started)


def dialled_by(plan: VisitPlan) -> Dialled:
    """What a visit is made to."""
    address = plan.target.address if plan.target.address != plan.target.name else None
    return Dialled(plan.target.name, address, plan.target.port)


def shown(dialled: Dialled) -> str:
    """The same for people."""
    if dialled.address is not None:
        return f"{dialled.name} ({Endpoint(dialled.address, dialled.port)})"
    return str(Endpoint(dialled.name, dialled.port))


async def looked_up(plan: VisitPlan) -> tuple[str, str]:
    """The address to connect to, and how it was found. Raises Failed."""
    if plan.target.address is not None:
        return plan.target.address, plan.target.found or f"{plan.target.name} is {plan.target.address}, as given"
    with contextlib.suppress(ValueError):
        return str(Address.parse(plan.target.name)), "an address, nothing to look up"
    try:
        address = await plan.vantage.find(plan.target.name, plan.target.port)
    except socket.gaierror as error:
        raise Failed(
            "wrong", f"{printable(plan.target.name)} has no address as seen from {plan.vantage.name}: {error.strerror}"
        ) from None
    except UnicodeError:
        raise Failed("wrong", f"{printable(plan.target.name)} is no host name") from None
    return address, f"{plan.target.name} is {address}"
