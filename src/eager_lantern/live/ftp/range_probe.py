"""Asking a server for data ports again and again, without transfers, to see its range as it is."""

import asyncio
import ssl
import time

from ...core.observed.range_estimate import MOST, RangeSeen, estimated_range
from ...core.values.outcomes import Outcome
from ...core.values.ports import PortSet
from ...wire.endpoints import Endpoint
from ...wire.reply import ProtocolFault
from ..common.io import timed
from ..common.visit_plan import VisitPlan
from ..failure import Failed
from .session import Session, opened

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
