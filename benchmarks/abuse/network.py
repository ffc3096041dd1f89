"""Servers, routers and resolvers that answer what they like: a visit and a survey come to their end, in time, with a
result, and the password is in none of it."""

import asyncio
import contextlib
import time
from collections.abc import Awaitable, Callable
from random import Random

from msgspec import to_builtins

from eager_lantern.core.values.addresses import Address
from eager_lantern.lab.servers.router import answering_datagrams
from eager_lantern.live.common.secret import Secret
from eager_lantern.live.common.visit_plan import Credentials, DataHabits, Limits, Looks, Security, Target, VisitPlan
from eager_lantern.live.ftp.visit import visit_ftp
from eager_lantern.live.survey.survey import SurveyPlan, survey
from eager_lantern.live.vantage.local import HERE
from eager_lantern.wire import igd, nat_pmp
from eager_lantern.wire.ftp import Endpoint

PASSWORD = "ebb-and-flow-61"
HONEST = {
    "": b"220 ready\r\n", "USER": b"331 password\r\n", "PASS": b"230 in\r\n", "AUTH": b"234 go on\r\n",
    "PBSZ": b"200 ok\r\n", "PROT": b"200 ok\r\n", "TYPE": b"200 ok\r\n", "LIST": b"150 here\r\n226 done\r\n",
    "STOR": b"150 send\r\n226 done\r\n", "RETR": b"150 here\r\n226 done\r\n", "DELE": b"250 gone\r\n",
    "EPSV": b"229 (|||1|)\r\n", "PASV": b"227 (127,0,0,1,0,1)\r\n", "QUIT": b"221 bye\r\n",
}  # fmt: skip
ODD = (
    b"", b"\r\n", b"999 x\r\n", b"220-\r\n", b"421 no\r\n", b"\xff" * 300 + b"\r\n", b"2" * 70_000,
    b"230 in\r\n230 in\r\n", b"227 (300,1,1,1,9,9)\r\n", b"229 (|||99999|)\r\n", b"227 (10,0,0,1,9,9)\r\n",
    b"331 ebb-and-flow-61\r\n", b"\x16\x03\x01", b"530 \x1b[2J\r\n", b"234 go\r\n230 ", b"\r\n" * 3000,
    b"150 a\r\n150 b\r\n150 c\r\n", b"550 6562622d616e642d666c6f772d3631\r\n",
)  # fmt: skip
MOST_SECONDS = 30.0
OWN = "127.61.200.1"


async def _visited(chance: Random) -> str:
    """What is wrong with how a visit to a server ended that answers some commands with something odd."""
    odd = {verb: chance.choice(ODD) for verb in HONEST if chance.random() < 0.25}

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with contextlib.suppress(OSError, ValueError, asyncio.IncompleteReadError, asyncio.CancelledError):
            writer.write(odd.get("", HONEST[""]))
            while line := await reader.readline():
                verb = line.decode(errors="replace").partition(" ")[0].strip()
                writer.write(odd.get(verb, HONEST.get(verb, b"502 no\r\n")))
                await writer.drain()
        writer.close()

    server = await asyncio.start_server(serve, "127.0.0.1", 0, limit=1 << 20)
    async with server:
        plan = VisitPlan(
            Target("127.0.0.1", server.sockets[0].getsockname()[1]),
            Credentials("station", Secret(PASSWORD)),
            Security(mode=chance.choice(("none", "explicit", "implicit")), any_certificate=True),
            DataHabits(mode=chance.choice(("passive", "active")), extended=chance.choice((False, True, "first"))),
            Looks(
                closely=chance.random() < 0.3, tries_rights=chance.random() < 0.2, login_tries=chance.choice((0, 0, 2))
            ),
            Limits(timeout=0.4, whole=6),
        )
        climb = await visit_ftp(plan)
        server.close()
    said = repr(to_builtins(climb, enc_hook=str))
    return "the password is in the result" if PASSWORD in said or PASSWORD.encode().hex() in said else ""


async def _surveyed(chance: Random) -> str:
    """What is wrong with how a survey ended whose router, resolver and STUN server answer what they like."""

    def answer(question: bytes, sender: tuple[str, int]) -> bytes:
        how = chance.random()
        if how < 0.2:
            return chance.randbytes(chance.randrange(200))
        if how < 0.4:
            return question[: chance.randrange(len(question) + 1)] + chance.randbytes(20)
        if how < 0.6:
            found = bytearray(question + chance.randbytes(chance.randrange(60)))
            found[chance.randrange(len(found))] ^= 0x80
            return bytes(found)
        if how < 0.8:
            place = chance.choice(
                (b"http://127.61.200.1:9/", b"http://[::1]/", b"x" * 3000, b"http://" + b"a-" * 900 + b"!")
            )
            return b"HTTP/1.1 200 OK\r\nLOCATION: " + place + b"\r\n\r\n"
        return b""

    doors = [await answering_datagrams(OWN, port, answer) for port in (nat_pmp.PORT, igd.SEARCH_PORT, 53, 3478)]
    try:
        router = Address.parse(OWN)
        wanted = SurveyPlan(router, (Endpoint(OWN, 3478),), ("tides.saltmarsh.example",), router, even_private=True)
        await survey(HERE, wanted, (), lambda line: None)
    finally:
        for transport, _ in doors:
            transport.close()
    return ""


def abused(minutes: float, seed: int, workers: int) -> list[str]:
    """Visits and surveys in turn until the time is over."""
    chance, found, counts, longest = Random(seed), list[str](), {"visits": 0, "surveys": 0}, 0.0
    works: dict[str, Callable[[Random], Awaitable[str]]] = {"visits": _visited, "surveys": _surveyed}
    end = time.monotonic() + 60 * minutes
    while time.monotonic() < end:
        name = "surveys" if chance.random() < 0.1 else "visits"
        started = time.monotonic()
        try:
            trouble = asyncio.run(_with(works[name], chance))
        except Exception as error:
            trouble = f"{type(error).__name__}: {error}"
        longest = max(longest, lasted := time.monotonic() - started)
        counts[name] += 1
        if lasted > MOST_SECONDS:
            trouble = trouble or f"took {lasted:.0f} s"
        if trouble:
            found.append(f"{name} number {counts[name]}, seed {seed}: {trouble}")
    told = f"{counts['visits']} visits and {counts['surveys']} surveys of who answers what it likes"
    print(f"network   {told}; longest {longest:.1f} s")
    return found


async def _with(work: Callable[[Random], Awaitable[str]], chance: Random) -> str:
    return await work(chance)
