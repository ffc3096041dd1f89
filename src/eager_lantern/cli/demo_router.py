"""What a router says of itself, in the demo: a stand-in on this machine that has what the site file has."""

import asyncio
import os
import sys

from ..core.model.site import Gateway
from ..core.observed.survey import Host, MappingSeen, Survey
from ..core.values.addresses import Address
from ..lab.servers.stand_in_router import RouterSetup, StandInRouter
from ..lab.servers.stand_in_stun import StandInStun
from ..live.survey.learnt import Learning
from ..live.survey.survey import Wanted, outside_of_host
from ..live.vantage.local import HERE
from ..wire.endpoints import Endpoint


def asked_of_stand_in(gateway: Gateway) -> Survey | None:
    """What a survey learns of a router that has these forwards and this outside address; None where this machine has
    no room for one."""
    try:
        return asyncio.run(_asked(gateway))
    except OSError:
        return None


async def _asked(gateway: Gateway) -> Survey:
    address = _free_address()
    outside = gateway.outside.address.each[0]
    mappings = tuple(
        MappingSeen(each.protocol, port, each.to, port + each.offset, "", each.name, each.enabled)
        for each in gateway.forwards
        for port in each.ports
    )
    async with StandInRouter(RouterSetup(address, outside, mappings)), StandInStun(address, 0, outside) as outsider:
        wanted = Wanted(router=Address.parse(address), stun=(Endpoint(address, outsider.port),))
        return await outside_of_host(HERE, Host("here", "", "other"), wanted, (), lambda line: None, Learning())


def _free_address() -> str:
    """On Linux all of 127.0.0.0/8 is the host's, so that two of them meet nowhere."""
    number = os.getpid() % 65_000
    return f"127.61.{number // 256}.{number % 254 + 1}" if sys.platform.startswith("linux") else "127.0.0.1"
