"""The connection to a far end: started over SSH or in a network namespace, asked, and its sockets carried here.

The system's own ``ssh`` makes the connection, so that its configuration, keys, agent and known
hosts count as they always do; its own ``ip netns exec`` enters a namespace, with the resolver that is set there.
"""

import asyncio
import contextlib
import errno
import inspect
import itertools
import os
import signal
import socket
import sys
import time
from asyncio.subprocess import PIPE, Process
from collections.abc import Callable
from typing import Annotated, Any, Self

from msgspec import Meta, Struct, convert

from ...wire.terminal_safe import printable
from ..own_process import environment_for_child, own_path, program
from . import agent as far_end
from .agent import BANNER, CHUNK, MOST_BYTES, WINDOW_BYTES, Frames, Head, packed
from .base import NAMESPACE, Arrived, Connected, Failed, place_called

READY_SECONDS = 120.0
LEAVING_SECONDS = 1.5
AWAKE_SECONDS = 15.0
MOST_SECONDS = 90.0
"""For an answer, beside what a visit itself waits: no far end takes so long, unless it means to."""
TOO_OLD = 97
NOT_FOUND = 127
MOST_PREAMBLE = 65_536
_OPTIONS = (
    "-T", "-o", "RemoteCommand=none", "-o", "ClearAllForwardings=yes", "-o", "PermitLocalCommand=no",
    "-o", "ServerAliveInterval=5", "-o", "ServerAliveCountMax=3",
)  # fmt: skip


class AgentReply(Struct, frozen=True, rename={"what": "is", "number": "n"}):
    """A message of the far end; which fields there are depends on ``what``."""

    what: str
    number: int
    new: int = 0
    local: str = ""
    peer: str = ""
    port: Annotated[int, Meta(ge=0, le=65_535)] = 0
    address: str = ""
    own: tuple[str, ...] = ()
    lookup: bool = False
    error: str = ""
    text: str = ""
    code: int = 0


class OutOfReach(Exception):
    """The place cannot be had as a vantage, with the reason."""


class Link:
    """A far end that answers, as an asynchronous context manager. Raises OutOfReach."""

    def __init__(self, place: str) -> None:
        self.place = place
        self.name = place_called(place)
        self.round_trip_seconds = 0.0
        self._numbers = itertools.count(1)
        self._answers: dict[int, asyncio.Future[tuple[AgentReply, bytes]]] = {}
        self._carried: dict[int, _Carried] = {}
        self.made: dict[int, Connected] = {}
        self.arrivals: dict[int, Arrived] = {}
        self._process: Process | None = None
        self._tasks: list[asyncio.Task[None]] = []
        self._said = b""
        self._gone = ""

    async def __aenter__(self) -> Self:
        command = _command_to(self.place)
        try:
            async with asyncio.timeout(READY_SECONDS):
                await self._started(command)
        except (OSError, EOFError, TimeoutError):
            if self._tasks:  # ssh's last words may come after its end
                await asyncio.wait(self._tasks[:1], timeout=LEAVING_SECONDS)
            await self.__aexit__()
            raise OutOfReach(self._why()) from None
        except (ValueError, Failed):
            await self.__aexit__()
            raise OutOfReach("what answers there is not the program that was sent") from None
        except BaseException:
            await self.__aexit__()
            raise
        return self

    async def __aexit__(self, *_: object) -> None:
        for each in self._tasks:
            each.cancel()
        self._ended("the visit is over")
        if self._process is None:
            return
        assert self._process.stdin is not None
        # ssh may be asking for a passphrase: when terminated, it turns the terminal's echo on again
        for end in (self._process.stdin.close, self._process.terminate, self._process.kill):
            with contextlib.suppress(ProcessLookupError):
                end()
            # it is waited for until its output ends, which nobody reads any more
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._process.wait(), LEAVING_SECONDS)
                return

    async def _started(self, command: list[str]) -> None:
        """Send the far end and wait until it answers; ``command`` runs a Python there with what follows it."""
        source = inspect.getsource(far_end).encode()
        load = f"import sys;sys.version_info>=(3,9) or sys.exit({TOO_OLD});exec(sys.stdin.buffer.read({len(source)}))"
        last = [f'python3 -IB -c "{load}"'] if _is_ssh(self.place) else [sys.executable, "-IB", "-c", load]
        self._process = await asyncio.create_subprocess_exec(
            *command, *last,
            stdin=PIPE, stdout=PIPE, stderr=PIPE, env=environment_for_child(),
            preexec_fn=None if sys.platform == "win32" else _deaf_to_interrupts,
        )  # fmt: skip
        assert self._process.stdout is not None
        self._tasks = [asyncio.create_task(self._overheard())]
        self._write(source)
        frames = Frames()
        first = frames.receive(await _after_banner(self._process.stdout))
        self._tasks += [asyncio.create_task(self._heard(frames, first)), asyncio.create_task(self._kept_awake())]
        started = time.perf_counter()
        await self.asked({"do": "ping"})
        self.round_trip_seconds = time.perf_counter() - started

    async def _overheard(self) -> None:
        """The last of ssh's own output."""
        assert self._process is not None
        assert self._process.stderr is not None
        while data := await self._process.stderr.read(CHUNK):
            self._said = (self._said + data)[-2000:]

    def _why(self) -> str:
        code = self._process.returncode if self._process else None
        if code == TOO_OLD:
            return "its python3 is older than 3.9"
        lines = self._said.decode(errors="replace").strip().splitlines()
        last = printable(lines[-1].removeprefix("ssh: "), 200) if lines else "nothing came back"
        how = "ssh" if _is_ssh(self.place) else "ip netns"
        return f"python3 (3.9 or newer) is not there: {last}" if code == NOT_FOUND else f"{how} reports: {last}"

    def _write(self, data: bytes) -> None:
        if self._process is not None and self._process.stdin is not None and not self._process.stdin.is_closing():
            self._process.stdin.write(data)

    def say(self, head: Head, body: bytes = b"") -> None:
        """Tell the far end."""
        self._write(packed(head, body))

    async def _kept_awake(self) -> None:
        while True:
            await asyncio.sleep(AWAKE_SECONDS)
            self.say({"do": "ping", "n": 0})

    async def _heard(self, frames: Frames, first: list[tuple[Head, bytes]]) -> None:
        """Everything that comes back, until the connection ends."""
        assert self._process is not None
        assert self._process.stdout is not None
        why = "the connection to it has ended"
        try:
            self._taken(first)
            while data := await self._process.stdout.read(MOST_BYTES):
                self._taken(frames.receive(data))
        except (ValueError, OSError):
            why = "what comes back from it makes no sense"
        self._ended(why)

    def _taken(self, frames: list[tuple[Head, bytes]]) -> None:
        for head, body in frames:
            reply = convert(head, AgentReply)
            number = reply.number
            if reply.what == "arrived" and number in self.arrivals:
                self.arrivals[number](self._carry(reply.new, reply))
            elif number in self._carried:
                self._carried[number].take(reply, body)
            elif number in self._answers and not self._answers[number].done():
                if reply.what == "connected":  # its first bytes may be next
                    self.made[number] = self._carry(number, reply)
                self._answers[number].set_result((reply, body))

    def _ended(self, why: str) -> None:
        """Nothing that is under way can be known any more."""
        self._gone = self._gone or why
        for future in self._answers.values():
            if not future.done():
                future.set_exception(self._lost())
        for each in list(self._carried.values()):
            each.take(AgentReply("end", 0, error="ECONNABORTED", text=self._gone), b"")

    def _lost(self) -> Failed:
        return Failed("unknown", f"{self.name} is out of reach: {self._gone}")

    def _carry(self, number: int, reply: AgentReply) -> Connected:
        carried = self._carried[number] = _Carried(self.say, number, lambda: self._carried.pop(number, None))
        return Connected(carried.outer, reply.local, reply.peer, lambda: carried.trouble)

    async def asked(self, request: Head, body: bytes = b"", stays: bool = False) -> tuple[AgentReply, bytes]:
        """The answer to a request. Raises OSError where it failed there, and Failed where the place is gone."""
        if self._gone:
            raise self._lost()
        number = next(self._numbers)
        self._answers[number] = asyncio.get_running_loop().create_future()
        self.say({**request, "n": number}, body)
        answered = False
        try:
            async with asyncio.timeout(MOST_SECONDS):
                reply, back = await self._answers[number]
            answered = reply.what != "failed"
        except TimeoutError:
            raise Failed("unknown", f"{self.name} is out of reach: it answers no more") from None
        finally:
            del self._answers[number]
            if not (answered and stays):
                self.say({"do": "close", "n": number})
                if number in self.made:
                    self.made.pop(number).sock.close()
        if not answered:
            raise _error(reply)
        return reply, back


class _Carried:
    """A pair of sockets: the visit has the outer one, the inner one's bytes go to and fro."""

    def __init__(self, say: Callable[..., None], number: int, forget: Callable[[], Any]) -> None:
        self.outer, self._inner = socket.socketpair()
        self.outer.setblocking(False)
        self._inner.setblocking(False)
        self.trouble: OSError | None = None
        self._pieces: asyncio.Queue[bytes] = asyncio.Queue()
        self._held = 0
        self._say, self._number, self._forget = say, number, forget
        loop = asyncio.get_running_loop()
        self._inwards = loop.create_task(self._bring())
        self._outwards = loop.create_task(self._send())

    def take(self, reply: AgentReply, body: bytes) -> None:
        """The far end's messages about this connection."""
        if reply.what == "data":
            self._held += len(body)
            if self._held > WINDOW_BYTES:
                raise ValueError("more than there is room for")
            self._pieces.put_nowait(body)
        elif reply.what == "end":
            self.trouble = self.trouble or (_error(reply) if reply.error else None)
            self._pieces.put_nowait(b"")

    async def _bring(self) -> None:
        """Bytes from there; each batch that was taken makes room for as many."""
        with contextlib.suppress(OSError):
            while data := await self._pieces.get():
                await asyncio.get_running_loop().sock_sendall(self._inner, data)
                self._held -= len(data)
                self._say({"do": "more", "n": self._number, "bytes": len(data)})
            self._inner.shutdown(socket.SHUT_WR)

    async def _send(self) -> None:
        """Bytes from the visit, which ends the connection by closing its socket."""
        try:
            with contextlib.suppress(OSError):
                while data := await asyncio.get_running_loop().sock_recv(self._inner, CHUNK):
                    self._say({"do": "send", "n": self._number}, data)
        finally:
            self._forget()
            self._say({"do": "close", "n": self._number})
            self._inwards.cancel()
            await asyncio.wait([self._inwards])  # the number of a closed socket may be another's at once
            self._inner.close()


def _is_ssh(place: str) -> bool:
    return not place.startswith(NAMESPACE)


def _command_to(place: str) -> list[str]:
    """The words that run a command at a place. Raises OutOfReach where this system has not what it takes."""
    if _is_ssh(place):
        ssh = program("ssh", own_path())
        if ssh is None:
            raise OutOfReach("the command ssh is not there: install the OpenSSH client")
        return [ssh, *_OPTIONS, "--", place]
    if sys.platform != "linux":
        raise OutOfReach("network namespaces are of Linux alone")
    ip = program("ip")
    if ip is None:
        raise OutOfReach("the command ip is not there: install the package iproute2")
    if os.geteuid() != 0:
        raise OutOfReach("a namespace needs root: run it with sudo")
    return [ip, "netns", "exec", place.removeprefix(NAMESPACE)]


async def _after_banner(stream: asyncio.StreamReader) -> bytes:
    """What follows the banner; login scripts may have talked before it. Raises EOFError, ValueError."""
    seen = b""
    while BANNER not in seen:
        if len(seen) > MOST_PREAMBLE:
            raise ValueError("another program answers")
        data = await stream.read(CHUNK)
        if not data:
            raise EOFError
        seen += data
    return seen.partition(BANNER)[2]


def _error(reply: AgentReply) -> OSError:
    """The error as it was there, by the number that it has here."""
    text = printable(reply.text)
    if reply.lookup:
        return socket.gaierror(socket.EAI_NONAME, text)
    numbers = {name: number for number, name in errno.errorcode.items()}
    return OSError(numbers.get(reply.error, errno.EIO), text)


def _deaf_to_interrupts() -> None:
    """Ctrl-C is for the visit, which needs the connection to tidy up."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
