"""The router, asked in the three languages that routers speak: NAT-PMP, PCP, and UPnP with its search.

Nobody but the router itself is asked: an answer that leads to another host is left aside. NAT-PMP and UPnP only read.
PCP states an outside address only in the answer to a mapping, so one is made for a port that nobody uses, for the
shortest time, and taken back.
"""

import asyncio
import contextlib
import secrets
import socket
from collections.abc import Awaitable, Callable, Iterator, Mapping
from functools import partial

import h11
from msgspec import Struct

from ...core.observed.survey import MappingSeen, OutsideSeen
from ...core.values.addresses import Address
from ...wire import igd, nat_pmp, pcp
from ...wire.igd import SEARCH_PORT, Url, search_request
from ..common.channel import Channel
from ..own_process import understood
from ..vantage.base import Failed, Vantage
from ..vantage.local import HERE
from .host import Learning

MOST_MAPPINGS = 500
UPNP_SECONDS = 20.0
MAPPING_SECONDS = 120
"""The shortest mapping that every PCP server has to grant (RFC 6887, section 15)."""
PORTS_OF_A_TRIAL = range(61_000, 65_000)
Tell = Callable[[str], None]


class RouterAnswers(Struct, frozen=True):
    """What the router states."""

    outside: tuple[OutsideSeen, ...]
    mappings: tuple[MappingSeen, ...]


class Asking(Struct, frozen=True):
    """Whom to ask: the router, from which own address (None where that is not known), and ports that are in use."""

    router: Address
    own: Address | None
    used: frozenset[int]


async def router_answers(vantage: Vantage, asking: Asking, tell: Tell, learning: Learning) -> RouterAnswers:
    """Everything that it reports, in whichever language it speaks."""
    ask = f"look at the status page of {asking.router}"
    address, mapped, listed = await asyncio.gather(
        learning.of("outside-address", ask, _by_nat_pmp(vantage, asking)),
        learning.of("outside-address", ask, _by_pcp(vantage, asking, tell)),
        learning.of("mappings", f"look at the forwarding page of {asking.router}", _by_upnp(vantage, asking, learning)),
    )
    outside = [each for each in (address, mapped, *(listed.outside if listed else ())) if each is not None]
    return RouterAnswers(tuple(outside), listed.mappings if listed else ())


async def _by_nat_pmp(vantage: Vantage, asking: Asking) -> OutsideSeen:
    try:
        answer = await datagram_answer(vantage, str(asking.router), nat_pmp.PORT, nat_pmp.ADDRESS_REQUEST)
        outside = await understood(lambda: nat_pmp.outside_address(answer))
        return OutsideSeen(outside, "nat-pmp", f"{asking.router} by NAT-PMP")
    except (Failed, ValueError) as error:
        raise ValueError(f"NAT-PMP: {error}") from None


async def _by_pcp(vantage: Vantage, asking: Asking, tell: Tell) -> OutsideSeen:
    if asking.own is None:
        raise ValueError("PCP: which address of this host the router sees is not known")
    try:
        pcp.announced(await datagram_answer(vantage, str(asking.router), pcp.PORT, pcp.announce_request(asking.own)))
        found = await _mapped_for_a_moment(vantage, asking, asking.own, tell)
    except (Failed, ValueError) as error:
        raise ValueError(f"PCP: {error}") from None
    return OutsideSeen(found.outside, "pcp", f"{asking.router} by PCP")


async def _mapped_for_a_moment(vantage: Vantage, asking: Asking, own: Address, tell: Tell) -> pcp.Mapped:
    nonce = secrets.token_bytes(pcp.NONCE_BYTES)
    port = secrets.choice([each for each in PORTS_OF_A_TRIAL if each not in asking.used])

    async def requested(seconds: int) -> bytes:
        question = pcp.map_request(own, nonce, "udp", port, seconds)
        return await datagram_answer(vantage, str(asking.router), pcp.PORT, question)

    tell(
        f"asking {asking.router} by PCP for a mapping of udp port {port}, which nobody uses here, for "
        f"{MAPPING_SECONDS} s: its answer states the outside address. It is removed at once."
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
    """Whether the router states that the mapping is gone; also where it is not known whether it was ever made."""
    try:
        return pcp.mapped(await requested(0), nonce).seconds == 0
    except (Failed, ValueError, OSError):
        return False


async def _by_upnp(vantage: Vantage, asking: Asking, learning: Learning) -> RouterAnswers:
    try:
        async with asyncio.timeout(UPNP_SECONDS):
            return await _igd_answer(vantage, str(asking.router), learning)
    except TimeoutError:
        raise ValueError(f"UPnP: it is not through after {UPNP_SECONDS:g} s") from None
    except (Failed, ValueError) as error:
        raise ValueError(f"UPnP: {error}") from None


def _outside_seen(stated: str, by: str, learning: Learning) -> Iterator[OutsideSeen]:
    """The outside address of an answer that has one. Raises ValueError for what is no address."""
    address = Address.parse(stated) if stated else None
    if address is not None and address.kind != "unspecified":
        yield OutsideSeen(address, "upnp", by)
    else:
        learning.note_unknown("outside-address", "UPnP: it has no outside address", "look at the router's status page")


async def _igd_answer(vantage: Vantage, router: str, learning: Learning) -> RouterAnswers:
    answer = await searched(vantage, router)
    page = await understood(lambda: igd.location_of(answer, router))
    location = f"http://{f'[{page.host}]' if ':' in page.host else page.host}:{page.port}{page.target}"
    description = await fetched(vantage, page)
    control = await understood(lambda: igd.control_of(description, location))
    url = igd.on_host(control.url, router)

    async def done(name: str, **arguments: str | int) -> dict[str, str]:
        headers = {"SOAPAction": f'"{control.service}#{name}"', "Content-Type": 'text/xml; charset="utf-8"'}
        body = await fetched(vantage, url, igd.soap_body(control.service, name, **arguments), headers)
        return await understood(lambda: igd.answered(body))

    by = f"{router} by UPnP"
    stated = (await done("GetExternalIPAddress")).get("NewExternalIPAddress", "")
    outside = tuple(_outside_seen(stated, by, learning))
    mappings: list[MappingSeen] = []
    for number in range(MOST_MAPPINGS):
        try:
            values = await done("GetGenericPortMappingEntry", NewPortMappingIndex=number)
            mappings.append(await understood(partial(igd.mapping, values, by)))
        except igd.Declined:  # the end of its list; which number it sends differs
            return RouterAnswers(outside, tuple(mappings))
    learning.note_unknown("mappings", f"it lists more than {MOST_MAPPINGS}", f"look at the page of {router}")
    return RouterAnswers(outside, tuple(mappings))


GROUP = "239.255.255.250"
SEARCH_SECONDS, SEARCH_TRIES = 3.0, 3
MOST_DATAGRAM, ROOM_BYTES = 4096, 4_000_000


async def searched(vantage: Vantage, router: str) -> bytes:
    """The first answer of the router. Raises OSError, and Failed where it gives none."""
    if vantage is not HERE or ":" in router:
        return await datagram_answer(vantage, router, SEARCH_PORT, search_request(router))
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as tried:
        tried.setblocking(False)
        tried.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, ROOM_BYTES)
        for _ in range(SEARCH_TRIES):  # strangers may have answered so much that the router's answer found no room
            for to in (router, GROUP):
                await asyncio.get_running_loop().sock_sendto(tried, search_request(to), (to, SEARCH_PORT))
            with contextlib.suppress(TimeoutError):
                async with asyncio.timeout(SEARCH_SECONDS / SEARCH_TRIES):
                    return await _answer_of(tried, router)
        raise Failed("silent", f"{router} does not answer a search for its description")


async def _answer_of(tried: socket.socket, router: str) -> bytes:
    """The first that comes from the router, however many others answer: only the time is bounded."""
    while True:
        try:
            data, sender = await asyncio.get_running_loop().sock_recvfrom(tried, MOST_DATAGRAM)
        except ConnectionError:  # one of the two askings was refused; the other may be answered
            continue
        if sender[0] == router:
            return data


MOST_BYTES = 262_144
SECONDS = 5.0


async def fetched(vantage: Vantage, url: Url, body: bytes = b"", headers: Mapping[str, str] = {}) -> bytes:
    """The body that comes back, of an error as well; a body is sent by POST. Raises OSError, ValueError where it is no
    HTTP or too much, and Failed where it takes too long."""
    try:
        async with asyncio.timeout(SECONDS):
            channel = await Channel.over(await vantage.connect(url.host, url.port))
            try:
                return await _exchanged(channel, url, body, headers)
            finally:
                channel.abort()
    except TimeoutError:
        raise Failed("silent", f"{url.host} port {url.port} does not answer in time") from None
    except h11.ProtocolError as error:
        raise ValueError(f"what {url.host} answers is no HTTP: {error}") from None


async def _exchanged(channel: Channel, url: Url, body: bytes, headers: Mapping[str, str]) -> bytes:
    talk = h11.Connection(h11.CLIENT, max_incomplete_event_size=16_384)
    host = f"[{url.host}]" if ":" in url.host else url.host
    length = {"Content-Length": str(len(body))} if body else {}
    sent = {"Host": f"{host}:{url.port}", "Connection": "close", **length, **headers}
    request = h11.Request(method="POST" if body else "GET", target=url.target, headers=list(sent.items()))
    parts = [talk.send(request), talk.send(h11.Data(body)) if body else b"", talk.send(h11.EndOfMessage())]
    await channel.write(b"".join(each for each in parts if each))
    found = b""
    while True:
        event = talk.next_event()
        if event is h11.NEED_DATA:
            talk.receive_data(await channel.read())
        elif isinstance(event, h11.Data):
            found += event.data
            if len(found) > MOST_BYTES:
                raise ValueError(f"{url.host} answers more than {MOST_BYTES} bytes")
        elif isinstance(event, (h11.EndOfMessage, h11.ConnectionClosed)):
            return found


WAITS_SECONDS = (0.5, 1.0, 2.0)
"""How long each try waits: datagrams get lost, and every protocol asked here doubles its waits (RFC 6886, 3.1)."""


async def datagram_answer(vantage: Vantage, address: str, port: int, question: bytes) -> bytes:
    """The first datagram that comes back from there. Raises OSError, and Failed where none does."""
    for seconds in WAITS_SECONDS:
        try:
            async with asyncio.timeout(seconds):
                return await vantage.ask(address, port, question)
        except TimeoutError:
            continue
        except ConnectionRefusedError:
            raise Failed("refused", f"nothing listens on udp port {port} of {address}") from None
    raise Failed("silent", f"{address} does not answer on udp port {port}")
