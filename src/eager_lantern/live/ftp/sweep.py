"""Every data port of a session tried, and the range that a server really uses.

Which port comes next is for the server to say (passive) or for the client (active). First
one session tries them all and waits for each only as long as answers here take; what is
still open then is tried once more by many sessions side by side, each with full patience, so
that silence is awaited together.

Theory: what a port is to blame for
===================================
A listing may fail because of its port, of its session, or of bad luck, and only the first is a fact about
the port. So a result is written down at once only where the network spoke of this very port: it opened
and carried a listing, it was refused, or the server named its reason. What one session alone may have
caused, silence after a short wait, a refused PORT command, is believed only of a second session with full
patience; a session that broke shows nothing, its port goes back to those that wait, and who has seen three
of its sessions break gives up. What none came as far as to try stays untried, neither open nor shut.

In passive mode the server chooses: a session asks for ports until one is named that is still to be tried,
so it must never hold one back; in active mode a port is taken before anything is awaited, since
another session would take it too. The first wait is three times the longest answer so far, so that many
silent ports cost a patience together and not one each.

What is believed of a session in a hurry, and of one with patience:

>>> nothing, silent = None, PortTried("data", "silent", "no answer")
>>> turned_away, opened = PortTried("announce", "refused", "501"), PortTried("list", "ok", "64 bytes")
>>> [_believed(each, patient=False) for each in (nothing, silent, turned_away, opened)]
[False, False, False, True]
>>> [_believed(each, patient=True) for each in (nothing, silent, turned_away, opened)]
[True, True, True, True]
"""

import asyncio
import contextlib
import ssl
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from ...core.observed.range_estimate import MOST, RangeSeen, estimated_range
from ...core.values.outcomes import Outcome, Rung
from ...core.values.ports import PortSet
from ...wire.ftp import Endpoint, ProtocolFault, State
from ..common.channel import Channel, timed
from ..common.visit_plan import VisitPlan
from ..vantage.base import Failed
from .session import Session, awaited_at, commanded, followed, opened, taken_in

LEAST_WAIT_SECONDS = 0.008
SIDE_BY_SIDE = 128
MOST_BROKEN = 3
"""After so many sessions that broke before they showed anything about a port, a trial gives up."""
_FAULTS = (Failed, ProtocolFault, OSError, ssl.SSLError, EOFError, TimeoutError)
Progress = Callable[[str], None]


@dataclass(frozen=True, slots=True)
class PortTried:
    """What became of one data port: the rung that stopped it, or ``list`` where it is ok."""

    rung: Rung
    outcome: Outcome
    detail: str


def _believed(found: PortTried | None, patient: bool) -> bool:
    """Whether a result is about its port: what may come of one session alone, silence or a refused command, is
    believed only of a second one, with more patience."""
    return patient or not (found is None or found.outcome == "silent" or _is_announce_failure(found))


def _is_announce_failure(found: PortTried | None) -> bool:
    return found is not None and found.rung == "announce"


async def sweep(plan: VisitPlan, address: str, ports: Sequence[int], progress: Progress) -> dict[int, PortTried]:
    """What became of each of these ports; a port is missing where no session came as far as to try it."""
    sweeper = _Sweeper(plan, address, ports, progress)
    await sweeper.quickly()
    await sweeper.patiently()
    return sweeper.tried


class _Sweeper:
    def __init__(self, plan: VisitPlan, address: str, ports: Sequence[int], progress: Progress) -> None:
        self.plan = plan
        self.address = address
        self.left = dict.fromkeys(ports)
        self.tried: dict[int, PortTried] = {}
        self.progress = progress
        self.wait = LEAST_WAIT_SECONDS

    async def quickly(self) -> None:
        """One session tries each port once."""
        trial, ports = _Trial(self), tuple(self.left)
        for i, port in enumerate(ports, start=1):
            if not await trial.attempt(port, self.wait):
                break
            self.progress(f"{i} of {len(ports)} data ports")
        await trial.leave()

    async def patiently(self) -> None:
        """Several sessions share what is left, and silence is the result where nothing comes."""
        waiting = list(self.left)
        count = min(SIDE_BY_SIDE, len(waiting))
        await asyncio.gather(*(self._share(len(waiting[i::count])) for i in range(count)))

    async def _share(self, count: int) -> None:
        trial = _Trial(self)
        for _ in range(2 * count):
            port = next(iter(self.left), None)
            if port is None or not await trial.attempt(port, self.plan.limits.timeout):
                break
            self.progress(f"{len(self.left)} data ports are silent so far")
        await trial.leave()

    def settle(self, port: int, tried: PortTried) -> None:
        """Write down a result."""
        self.tried[port] = tried
        self.left.pop(port, None)


class _Trial:
    """A session that tries ports, and is replaced where one has broken it."""

    def __init__(self, sweeper: _Sweeper) -> None:
        self.sweeper = sweeper
        self.plan = sweeper.plan
        self.session: Session | None = None
        self.taken: int | None = None
        self.broken = 0

    async def attempt(self, wanted: int, wait: float) -> bool:
        """Try a port. A session that breaks shows nothing about it, and another may try it again; false once
        too many have broken."""
        try:
            await self._one(wanted, wait)
        except _FAULTS:
            self.broken += 1
            if self.taken is not None:
                self.sweeper.left[self.taken] = None
            await self.leave()
        self.taken = None
        return self.broken < MOST_BROKEN

    def _take(self, port: int) -> None:
        """No other session is to try it meanwhile."""
        self.sweeper.left.pop(port, None)
        self.taken = port

    async def _one(self, wanted: int, wait: float) -> None:
        """Try a port: the wanted one in active mode, in passive mode the next that the server names
        of those that are left."""
        if self.plan.data.mode == "active":
            self._take(wanted)  # before anything is awaited
        session = await self._ready()
        if self.plan.data.mode == "active":
            found = await self._active(session, wanted, wait)
            port = wanted
        else:
            endpoint = await self._announced(session)
            port = endpoint.port
            if port not in self.sweeper.left:
                return
            self._take(port)
            found = await self._passive(session, endpoint, wait)
        if _believed(found, patient=wait >= self.plan.limits.timeout):
            self.sweeper.settle(port, found or PortTried("data", "silent", f"no answer within {wait:g} s"))
        else:
            self.sweeper.left[port] = None
        if session.control.state is not State.READY or _is_announce_failure(found):
            await self.leave()

    async def _ready(self) -> Session:
        if self.session is None:
            self.session = Session(self.plan)
            async with asyncio.timeout(self.plan.limits.timeout * 4):
                await self.session.enter(self.sweeper.address)
        return self.session

    async def _announced(self, session: Session) -> Endpoint:
        """The next port that is still to be tried; the server may name others before it."""
        for _ in range(2 * (len(self.sweeper.tried) + len(self.sweeper.left)) + 8):
            async with asyncio.timeout(self.plan.limits.timeout):
                endpoint, _ = await session.passive()
            if endpoint.port in self.sweeper.left or not self.sweeper.left:
                break
        return followed(self.plan, endpoint, session.wire.peer)

    async def _passive(self, session: Session, endpoint: Endpoint, wait: float) -> PortTried | None:
        started = time.monotonic()
        try:
            async with asyncio.timeout(wait):
                data = await opened(self.plan, endpoint)
        except TimeoutError:
            return None
        except Failed as failed:
            return PortTried("data", failed.outcome, failed.detail)
        self.sweeper.wait = max(self.sweeper.wait, 3 * (time.monotonic() - started))
        return await self._listed(session, data)

    async def _active(self, session: Session, port: int, wait: float) -> PortTried | None:
        started = time.monotonic()
        only = replace(self.plan, data=replace(self.plan.data, active_ports=PortSet.single(port)))
        async with awaited_at(session, only) as (listener, named):
            try:
                async with asyncio.timeout(self.plan.limits.timeout):
                    await session.name_port(named)
            except Failed as failed:
                return PortTried("announce", failed.outcome, failed.detail)
            try:
                async with asyncio.timeout(self.plan.limits.timeout):
                    await commanded(session, "LIST")
                async with asyncio.timeout(wait):
                    data = await session.arrival(listener)
            except TimeoutError:
                return None
            except Failed as failed:
                return PortTried("data", failed.outcome, failed.detail)
        self.sweeper.wait = max(self.sweeper.wait, 3 * (time.monotonic() - started))
        return await self._read(session, data)

    async def _listed(self, session: Session, data: Channel) -> PortTried:
        try:
            async with asyncio.timeout(self.plan.limits.timeout):
                await commanded(session, "LIST")
        except Failed as failed:
            return PortTried("list", failed.outcome, failed.detail)
        except TimeoutError:
            return PortTried("list", "silent", "the transfer does not begin")
        except (ProtocolFault, OSError, EOFError) as error:
            return PortTried("list", "wrong", str(error))
        return await self._read(session, data)

    async def _read(self, session: Session, data: Channel) -> PortTried:
        try:
            async with asyncio.timeout(self.plan.limits.timeout):
                came = await taken_in(session, data, "LIST")
        except Failed as failed:
            if failed.outcome == "refused":
                return PortTried("list", "refused", failed.detail)
            return await self._refused(session, failed)
        except TimeoutError:
            return PortTried("list", "silent", "the listing does not come")
        except (ProtocolFault, OSError, EOFError) as error:
            return await self._refused(session, Failed("wrong", str(error)))
        return PortTried("list", "ok", f"{len(came)} bytes of listing")

    async def _refused(self, session: Session, failed: Failed) -> PortTried:
        """A data connection that broke: the server's own words are the better reason."""
        with contextlib.suppress(*_FAULTS):
            async with asyncio.timeout(self.plan.limits.timeout):
                reply = await session.completion()
                if reply.kind != 2:
                    return PortTried("list", "refused", f"the server replied {reply}")
        return PortTried("list", failed.outcome, failed.detail)

    async def leave(self) -> None:
        """End the session; the next trial begins a new one."""
        if self.session is not None and self.session.channel is not None:
            if self.session.control.state is State.READY:
                await self.session.leave()
            else:
                self.session.channel.abort()
        self.session = None


CONNECT_SECONDS = 2.0
LIMIT_SECONDS = 60.0


async def range_seen(plan: VisitPlan, address: str, connections: int) -> RangeSeen:
    """Log in on a few connections and ask on each until the estimate is good; the data connection of
    each port is tried once. Raises Failed where not even one session comes about."""
    probe = _Probe(plan)
    first = await probe.entered(address)
    others = await asyncio.gather(*(probe.entered(address) for _ in range(connections - 1)), return_exceptions=True)
    sessions = [first, *(each for each in others if isinstance(each, Session))]
    try:
        async with asyncio.timeout(LIMIT_SECONDS):
            await asyncio.gather(*map(probe.asked, sessions))
    except TimeoutError:
        probe.cut_short = f"ended after {LIMIT_SECONDS:g} s"
    finally:
        await asyncio.gather(*(each.leave() for each in sessions))
    return probe.result()


class _Probe:
    def __init__(self, plan: VisitPlan) -> None:
        self.plan = plan
        self.ports: list[int] = []
        self.outcomes: dict[int, Outcome] = {}
        self.announced: dict[str, None] = {}
        self.cut_short = ""
        self.estimate = estimated_range(())
        self._judged_at = 0.0

    async def entered(self, address: str) -> Session:
        session = Session(self.plan)
        await timed(self.plan.limits.timeout * 2, session.enter(address))
        return session

    async def asked(self, session: Session) -> None:
        """Ask on one connection until the estimate is good, or the server will not go on."""
        try:
            while not self._enough():
                endpoint, _ = await timed(self.plan.limits.timeout, session.passive())
                self.ports.append(endpoint.port)
                if endpoint.address != session.wire.peer:
                    self.announced[endpoint.address] = None
                if endpoint.port not in self.outcomes:
                    self.outcomes[endpoint.port] = await self._knocked(Endpoint(session.wire.peer, endpoint.port))
        except (Failed, ProtocolFault, OSError, ssl.SSLError) as error:
            self.cut_short = self.cut_short or f"the server would not go on: {error}"

    def _enough(self) -> bool:
        """Whether to stop; the estimate is made anew only now and then, as it grows costly."""
        now = time.monotonic()
        if now - self._judged_at > 0.05:
            self._judged_at = now
            self.estimate = estimated_range(self.ports)
        if len(self.ports) >= MOST and not self.estimate.good:
            self.cut_short = f"ended after {MOST} ports"
        return self.estimate.good or len(self.ports) >= MOST

    async def _knocked(self, endpoint: Endpoint) -> Outcome:
        """Whether a data connection to a port that waits now gets through."""
        try:
            channel = await timed(CONNECT_SECONDS, opened(self.plan, endpoint))
        except Failed as failed:
            return failed.outcome
        channel.abort()
        return "ok"

    def result(self) -> RangeSeen:
        """What was found."""
        return RangeSeen(
            estimate=estimated_range(self.ports),
            answers=self._with("ok"),
            refuses=self._with("refused"),
            silent=self._with("silent"),
            announced=tuple(self.announced),
            cut_short=self.cut_short,
        )

    def _with(self, outcome: Outcome) -> PortSet:
        return PortSet.of(*((port, port) for port, each in self.outcomes.items() if each == outcome))
