"""Ten thousand strangers at a lamp while a phone sweeps its ports: with wrong, used and expired keys, from other pages,
with HTTP that is slow, endless or broken; and damaged requests by the million."""

import asyncio
import contextlib
import json
import random
import resource
import time
from collections.abc import Callable

from eager_lantern.core.network.topology import Topology
from eager_lantern.core.observed.phone import PhonePlan, phone_plan
from eager_lantern.core.predict.endpoints import position_of
from eager_lantern.core.values.addresses import Address
from eager_lantern.core.values.ports import PortSet
from eager_lantern.formats.shipped import shipped_text
from eager_lantern.formats.site.site_file import parse_site
from eager_lantern.live.lamp.listener import Lamp
from eager_lantern.live.lamp.phone import AT_ONCE, TOKEN_SECONDS, DeskSetup, PhoneDesk, new_key
from eager_lantern.live.own_process import allow_open_files
from eager_lantern.wire.phone import HttpQuestion, NoQuestion

PORTS, STRANGERS, TRIES = PortSet.parse("30200-30327"), 10_000, 2
PAGE = "127.0.0.1:30200"
HELD_SECONDS = 30.0


def _plan() -> PhonePlan:
    site = parse_site("site", shipped_text("saltmarsh-after.site.yaml")).site
    topology = Topology(site)
    at, none = Address.parse("127.0.0.1"), PortSet()
    plan = phone_plan(topology, site.services[0], position_of(topology, "internet"), at, PORTS, none, none)
    assert plan is not None
    return plan


def _request(method: str, path: str, host: str, origin: str = f"http://{PAGE}", body: str = "") -> bytes:
    fields = (f"Host: {host}", f"Origin: {origin}", f"Content-Length: {len(body)}")
    return "\r\n".join((f"{method} {path} HTTP/1.1", *fields, "", body)).encode()


async def _answer(port: int, request: bytes) -> bytes:
    """What comes back, all of it; nothing where that is not to be had."""
    try:
        async with asyncio.timeout(30):
            reader, writer = await asyncio.open_connection("127.0.0.1", port)
            with contextlib.closing(writer):
                writer.write(request)
                return await reader.read()
    except (OSError, TimeoutError):
        return b""


async def _swept(desk: PhoneDesk) -> list[int]:
    """A sweep as the page does it, and the ports that arrive."""
    begun = await _answer(PORTS.lowest, _request("POST", f"/{desk.token}/begin", PAGE))
    key = json.loads(begun.partition(b"\r\n\r\n")[2])["key"]
    turns, lost = asyncio.Semaphore(AT_ONCE), []

    async def one(port: int) -> None:
        async with turns:
            if b'"from"' not in await _answer(port, _request("GET", f"/{key}/here", f"127.0.0.1:{port}")):
                lost.append(port)

    await asyncio.gather(*map(one, PORTS))
    for _ in range(TRIES - 1):
        again, lost = lost, []
        await asyncio.gather(*map(one, again))
    report = json.dumps({"refused": lost, "silent": [], "done": True})
    told = await _answer(PORTS.lowest, _request("POST", f"/{key}/fates", PAGE, body=report))
    arrives: list[int] = json.loads(told.partition(b"\r\n\r\n")[2])["arrives"]
    return arrives


def _kinds(desk: PhoneDesk, used: str, expired: str) -> list[Callable[[int], list[bytes]]]:
    """What a stranger sends, in pieces, by the turn: the second piece comes a second later, and so on."""

    def page(key: str) -> bytes:
        return _request("GET", f"/{key}", PAGE)

    return [
        lambda i: [b"GET / HTTP/1.1\r\nHost: " + PAGE.encode() + b"\r\n\r\n"],
        lambda i: [page(new_key())],
        lambda i: [page(used), _request("POST", f"/{used}/begin", PAGE)],
        lambda i: [page(expired)],
        lambda i: [_request("GET", f"/{desk.token or used}", PAGE, origin="http://elsewhere.example")],
        lambda i: [_request("POST", f"/{desk.token or used}/begin", PAGE, origin="null")],
        lambda i: [_request("OPTIONS", f"/{desk.token or used}", PAGE)],
        lambda i: [b"GET /", b"a", b"b", b"c", b"d", b"e", b"f", b"g"],
        lambda i: [b"POST /" + new_key().encode() + b"/fates HTTP/1.1\r\nHost: h\r\nContent-Length: 99999999\r\n\r\n"],
        lambda i: [b"X: " + bytes(60_000)],
        lambda i: [b"\x16\x03\x01\x02\x00\x01\x00\x01\xfc\x03\x03" + bytes(500)],
        lambda i: [b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n"],
        lambda i: [],
    ]


async def _in_crowd() -> tuple[int, float, int, int]:
    """How many ports arrive at a phone in the crowd, in how many seconds, bytes that strangers got, and how many there
    was no place for."""
    allow_open_files(16_000)
    now, shift = time.monotonic, 0.0
    desk = PhoneDesk(DeskSetup(_plan(), b"page", "default-src 'none'", lambda _: "outside", lambda: now() + shift))
    expired, shift = desk.token, TOKEN_SECONDS + 1
    desk.look_at_clock()
    lamp, heard, writers = Lamp(b"flood-and-ebb-tide-61"), 0, []
    assert not await lamp.light(["127.0.0.1"], list(PORTS), ["tcp"])
    lamp.receive(desk)
    used = desk.token
    assert await _swept(desk) == list(PORTS)  # the token is used from here on
    kinds = _kinds(desk, used, expired)

    async def come(i: int) -> None:
        nonlocal heard
        with contextlib.suppress(OSError):
            source = (f"127.0.{1 + i % 9}.{2 + i % 200}", 0)
            port = PORTS.lowest + i % len(PORTS)
            reader, writer = await asyncio.open_connection("127.0.0.1", port, local_addr=source)
            writers.append(writer)
            for each in kinds[i % len(kinds)](i):
                if writer.is_closing() or reader.at_eof():
                    break
                writer.write(each)
                await asyncio.sleep(0 if i % 2 else 1)
            heard += len(await reader.read(1))

    burst = [asyncio.create_task(come(i)) for i in range(STRANGERS)]
    await asyncio.sleep(0)
    started = time.perf_counter()
    arrived = await _swept(desk)
    took = time.perf_counter() - started
    with contextlib.suppress(TimeoutError):
        async with asyncio.timeout(HELD_SECONDS):
            await asyncio.gather(*burst, return_exceptions=True)
    for each in burst:
        each.cancel()
    for writer in writers:
        writer.transport.abort()
    await lamp.put_out()
    return len(arrived), took, heard, lamp.crowded


def _fuzzed(seconds: float, seed: int) -> tuple[int, int]:
    """Damaged requests, and how many of them were answered though nobody with the token could have asked so."""
    chance = random.Random(seed)
    desk = PhoneDesk(DeskSetup(_plan(), b"page", "default-src 'none'", lambda _: "outside", time.monotonic))
    right = [_request("GET", f"/{desk.token}", PAGE), _request("POST", f"/{desk.token}/begin", PAGE)]
    lines = [*right, _request("GET", f"/{new_key()}/here", PAGE), b"\x16\x03\x01\x02\x00", b"PRI * HTTP/2.0\r\n\r\n"]
    count, wrong, end = 0, 0, time.monotonic() + seconds
    while time.monotonic() < end:
        for _ in range(1_000):
            line = bytearray(chance.choice(lines))
            for _ in range(chance.randint(1, 3)):
                at = chance.randint(0, len(line))
                line[at : at + chance.randint(0, 3)] = chance.randbytes(chance.randint(0, 3))
            count += 1
            asked = HttpQuestion()
            with contextlib.suppress(NoQuestion):
                asked.take(bytes(line))
                if asked.head is not None and desk.admits(asked.head):
                    wrong += desk.token.encode() not in bytes(line).lower() or PAGE.encode() not in line
    return count, wrong


def abused(minutes: float, seed: int, workers: int) -> list[str]:
    """The crowd, then damaged requests for the rest of the time."""
    arrived, took, heard, crowded = asyncio.run(_in_crowd())
    print(f"phones    {STRANGERS} strangers: {arrived} of {len(PORTS)} ports arrive at a phone in {took:.1f} s")
    print(f"          no place for {crowded}, {heard} bytes to strangers")
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    count, wrong = _fuzzed(60 * minutes, seed)
    more = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1000
    print(f"          {count} damaged requests, {wrong} answered wrongly, {more:.0f} MB more; seed {seed}")
    found = []
    if arrived != len(PORTS):
        found.append(f"phones: {len(PORTS) - arrived} ports do not arrive at the phone")
    if heard:
        found.append(f"phones: {heard} bytes were said to strangers")
    if wrong:
        found.append(f"phones: {wrong} damaged requests were answered")
    return found
