"""A look at what an SSH server offers, on a connection of its own that never logs in."""

import contextlib

from ..core.ssh_facts import SshOffer
from ..wire.reply import ProtocolFault
from ..wire.ssh_offer import OfferReader
from .channel import Channel
from .failed import Failed
from .plan import Plan
from .session import timed

HELLO = b"SSH-2.0-EagerLantern\r\n"


async def ssh_offer(plan: Plan, address: str) -> SshOffer | None:
    """The offer; None where none comes in time."""
    with contextlib.suppress(Failed, ProtocolFault, OSError):
        return await timed(plan.timeout, _offer(plan, address))
    return None


async def _offer(plan: Plan, address: str) -> SshOffer | None:
    way = plan.reach(address, plan.port)
    channel = await Channel.over(await plan.standpoint.connect(way.address, way.port, way.source))
    try:
        await channel.write(HELLO)
        reader = OfferReader()
        while data := await channel.read():
            if offer := reader.receive(data):
                return offer
        return None
    finally:
        channel.abort()
