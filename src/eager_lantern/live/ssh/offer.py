"""A look at what an SSH server offers, on a connection of its own that never logs in."""

import contextlib

from ...core.observed.ssh_facts import SshOffer
from ...wire.reply import ProtocolFault
from ...wire.ssh_offer import OfferReader
from ..common.channel import Channel
from ..common.io import timed
from ..common.visit_plan import VisitPlan
from ..failure import Failed

HELLO = b"SSH-2.0-EagerLantern\r\n"


async def ssh_offer(plan: VisitPlan, address: str) -> SshOffer | None:
    """The offer; None where none comes in time."""
    with contextlib.suppress(Failed, ProtocolFault, OSError):
        return await timed(plan.limits.timeout, _offer(plan, address))
    return None


async def _offer(plan: VisitPlan, address: str) -> SshOffer | None:
    way = plan.reach(address, plan.target.port)
    channel = await Channel.over(await plan.vantage.connect(way.address, way.port, way.source))
    try:
        await channel.write(HELLO)
        reader = OfferReader()
        while data := await channel.read():
            if offer := reader.receive(data):
                return offer
        return None
    finally:
        channel.abort()
