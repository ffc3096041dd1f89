"""The router, asked in the three languages that routers speak: NAT-PMP, PCP, and UPnP.

Nobody but the router itself is asked: an answer that leads to another host is left aside. NAT-PMP and UPnP only read.
PCP tells an outside address in the answer to a mapping alone, so one is made for a port that nobody uses, for the
shortest time, and taken back.
"""

import asyncio
import secrets
from collections.abc import Awaitable, Callable, Iterator
from functools import partial

from msgspec import Struct

from ...core.observed.survey import MappingSeen, OutsideSeen
from ...core.values.addresses import Address
from ...wire import igd, nat_pmp, pcp
from ..failure import Failed
from ..vantage.base import Vantage
from ..worker import understood
from .datagrams import asked
from .http_request import fetched
from .learnt import Learning
from .search import searched

MOST_MAPPINGS = 500
UPNP_SECONDS = 20.0
MAPPING_SECONDS = 120
"""The shortest mapping that every PCP server has to grant (RFC 6887, section 15)."""
PORTS_OF_A_TRIAL = range(61_000, 65_000)
Tell = Callable[[str], None]


class RouterSaid(Struct, frozen=True):
    """What the router tells."""

    outside: tuple[OutsideSeen, ...]
    mappings: tuple[MappingSeen, ...]


class Asking(Struct, frozen=True):
    """Whom to ask: the router, from which own address (None where that is not known), and ports that are in use."""

    router: Address
    own: Address | None
    used: frozenset[int]


async def router_said(vantage: Vantage, asking: Asking, tell: Tell, learning: Learning) -> RouterSaid:
    """Everything that it tells, in whichever language it speaks."""
    ask = f"look at the status page of {asking.router}"
    address, mapped, listed = await asyncio.gather(
        learning.of("outside-address", ask, _by_nat_pmp(vantage, asking)),
        learning.of("outside-address", ask, _by_pcp(vantage, asking, tell)),
        learning.of("mappings", f"look at the forwarding page of {asking.router}", _by_upnp(vantage, asking, learning)),
    )
    outside = [each for each in (address, mapped, *(listed.outside if listed else ())) if each is not None]
    return RouterSaid(tuple(outside), listed.mappings if listed else ())


async def _by_nat_pmp(vantage: Vantage, asking: Asking) -> OutsideSeen:
    try:
        answer = await asked(vantage, str(asking.router), nat_pmp.PORT, nat_pmp.ADDRESS_REQUEST)
        outside = await understood(lambda: nat_pmp.outside_address(answer))
        return OutsideSeen(outside, "nat-pmp", f"{asking.router} by NAT-PMP")
    except (Failed, ValueError) as error:
        raise ValueError(f"NAT-PMP: {error}") from None


async def _by_pcp(vantage: Vantage, asking: Asking, tell: Tell) -> OutsideSeen:
    if asking.own is None:
        raise ValueError("PCP: which address of this host the router sees is not known")
    try:
        pcp.announced(await asked(vantage, str(asking.router), pcp.PORT, pcp.announce_request(asking.own)))
        found = await _mapped_for_a_moment(vantage, asking, asking.own, tell)
    except (Failed, ValueError) as error:
        raise ValueError(f"PCP: {error}") from None
    return OutsideSeen(found.outside, "pcp", f"{asking.router} by PCP")


async def _mapped_for_a_moment(vantage: Vantage, asking: Asking, own: Address, tell: Tell) -> pcp.Mapped:
    nonce = secrets.token_bytes(pcp.NONCE_BYTES)
    port = secrets.choice([each for each in PORTS_OF_A_TRIAL if each not in asking.used])

    async def requested(seconds: int) -> bytes:
        question = pcp.map_request(own, nonce, "udp", port, seconds)
        return await asked(vantage, str(asking.router), pcp.PORT, question)

    tell(
        f"asking {asking.router} by PCP for a mapping of udp port {port}, which nobody uses here, for "
        f"{MAPPING_SECONDS} s: its answer tells the outside address. It is taken back at once."
    )
    try:
        return pcp.mapped(await requested(MAPPING_SECONDS), nonce)
    except pcp.Refused:
        port = 0  # nothing was made
        raise
    finally:
        if port and not await _taken_back(requested, nonce):
            tell(f"the mapping of udp port {port} was not seen to go; it ends by itself within {MAPPING_SECONDS} s")


async def _taken_back(requested: Callable[[int], Awaitable[bytes]], nonce: bytes) -> bool:
    """Whether the router says that the mapping is gone; also where it is not known whether it was ever made."""
    try:
        return pcp.mapped(await requested(0), nonce).seconds == 0
    except (Failed, ValueError, OSError):
        return False


async def _by_upnp(vantage: Vantage, asking: Asking, learning: Learning) -> RouterSaid:
    try:
        async with asyncio.timeout(UPNP_SECONDS):
            return await _listed(vantage, str(asking.router), learning)
    except TimeoutError:
        raise ValueError(f"UPnP: it is not through after {UPNP_SECONDS:g} s") from None
    except (Failed, ValueError) as error:
        raise ValueError(f"UPnP: {error}") from None


def _outside(said: str, by: str, learning: Learning) -> Iterator[OutsideSeen]:
    """The outside address of an answer that has one. Raises ValueError for what is no address."""
    address = Address.parse(said) if said else None
    if address is not None and address.kind != "unspecified":
        yield OutsideSeen(address, "upnp", by)
    else:
        learning.untold("outside-address", "UPnP: it has no outside address", "look at the router's status page")


async def _listed(vantage: Vantage, router: str, learning: Learning) -> RouterSaid:
    answer = await searched(vantage, router)
    page = await understood(lambda: igd.location_of(answer, router))
    location = f"http://{f'[{page.host}]' if ':' in page.host else page.host}:{page.port}{page.target}"
    description = await fetched(vantage, page)
    control = await understood(lambda: igd.control_of(description, location))
    url = igd.on_host(control.url, router)

    async def done(name: str, **arguments: str | int) -> dict[str, str]:
        headers = {"SOAPAction": f'"{control.service}#{name}"', "Content-Type": 'text/xml; charset="utf-8"'}
        body = await fetched(vantage, url, igd.action(control.service, name, **arguments), headers)
        return await understood(lambda: igd.answered(body))

    by = f"{router} by UPnP"
    said = (await done("GetExternalIPAddress")).get("NewExternalIPAddress", "")
    outside = tuple(_outside(said, by, learning))
    mappings: list[MappingSeen] = []
    for number in range(MOST_MAPPINGS):
        try:
            values = await done("GetGenericPortMappingEntry", NewPortMappingIndex=number)
            mappings.append(await understood(partial(igd.mapping, values, by)))
        except igd.Declined:  # the end of its list; which number it says differs
            return RouterSaid(outside, tuple(mappings))
    learning.untold("mappings", f"it lists more than {MOST_MAPPINGS}", f"look at the page of {router}")
    return RouterSaid(outside, tuple(mappings))
