"""The far end of a visit from elsewhere: it opens sockets on another host, as the near end asks.

This file is sent as text over an SSH connection, or into a network namespace, and run from memory
there. It needs Python 3.9 or newer and nothing but its standard library, writes no file, and ends when
its connection does, or when nothing was heard for QUIET_SECONDS. It knows neither password nor protocol: what travels
under TLS or SSH stays so up to the near end, which is :mod:`.far`.

A frame is two lengths of four bytes, a JSON object and raw bytes. Requests have ``do``, answers
``is``, both a number ``n``, which is that of a connection from then on.
"""

from __future__ import annotations

import asyncio
import contextlib
import errno
import itertools
import json
import os
import platform
import socket
import struct
import sys
import threading
from pathlib import Path
from typing import Any, BinaryIO

BANNER = b"eager-lantern far end 1\n"
LENGTHS = struct.Struct("!II")
MOST_BYTES = 65_536
WINDOW_BYTES = 262_144
CHUNK = 16_384
QUIET_SECONDS = 600.0
"""Longer than somebody takes to type a password at the near end, which states nothing meanwhile."""
MOST_ADDRESSES = 500
MOST_ROUTE_LINES = 200_000
RUN_SECONDS = 10.0
SYSTEM_PATH = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin:/run/current-system/sw/bin"
Head = dict[str, Any]


def packed(head: Head, body: bytes = b"") -> bytes:
    """One frame."""
    text = json.dumps(head).encode()
    return LENGTHS.pack(len(text), len(body)) + text + body


class Frames:
    """Collects bytes until frames are whole; keeps little more than one of them."""

    def __init__(self) -> None:
        self._waiting = b""

    def receive(self, data: bytes) -> list[tuple[Head, bytes]]:
        """The frames that these bytes complete. Raises ValueError for what is none."""
        self._waiting += data
        frames = []
        while len(self._waiting) >= LENGTHS.size:
            head, body = LENGTHS.unpack_from(self._waiting)
            if max(head, body) > MOST_BYTES:
                raise ValueError("a frame of more bytes than any has")
            end = LENGTHS.size + head + body
            if len(self._waiting) < end:
                break
            try:
                found = json.loads(self._waiting[LENGTHS.size : LENGTHS.size + head])
            except RecursionError:
                raise ValueError("a frame of too many levels") from None
            if not isinstance(found, dict):
                raise ValueError("a frame without an object")
            frames.append((found, self._waiting[LENGTHS.size + head : end]))
            self._waiting = self._waiting[end:]
        return frames


class Carried:
    """A connection whose bytes go to the near end, as many as it has room for."""

    def __init__(self, writer: asyncio.StreamWriter) -> None:
        self.writer = writer
        self.room = WINDOW_BYTES
        self.more = asyncio.Event()


class FarEnd:
    """Does what the near end asks, each request in a task of its own."""

    def __init__(self, out: BinaryIO) -> None:
        self._out = out
        self._tasks: dict[int, asyncio.Task[None]] = {}
        self._carried: dict[int, Carried] = {}
        self._arrivals = 0

    def say(self, head: Head, body: bytes = b"") -> None:
        """Tell the near end. A slow connection holds everything up, which is what it should do."""
        self._out.write(packed(head, body))
        self._out.flush()

    def do(self, head: Head, body: bytes) -> None:
        """Begin what a frame asks for."""
        number, what = head["n"], head["do"]
        if what == "ping":
            self.say({"is": "here", "n": number, "address": os.environ.get("SSH_CONNECTION", "").partition(" ")[0]})
        elif what == "close":
            self._close(number)
        elif what == "send" and number in self._carried:
            self._carried[number].writer.write(body)
        elif what == "more" and number in self._carried:
            self._carried[number].room += head["bytes"]
            self._carried[number].more.set()
        elif what in ("connect", "listen", "find", "hold", "own", "ask", "read", "run"):
            work = getattr(self, "_" + what)(number, head, body)
            self._tasks[number] = asyncio.get_running_loop().create_task(self._done(number, work))

    async def _done(self, number: int, work: Any) -> None:
        try:
            await work
        except OSError as error:
            self.say({"is": "failed", "n": number, **_error_head(error)})
        except UnicodeError:
            self.say({"is": "failed", "n": number, **_error_head(socket.gaierror(socket.EAI_NONAME, "no host name"))})

    def _close(self, number: int) -> None:
        carried = self._carried.pop(number, None)
        if carried is not None:
            carried.writer.close()
            carried.room += 1
            carried.more.set()
        task = self._tasks.pop(number, None)
        if task is not None:
            task.cancel()

    async def _connect(self, number: int, head: Head, body: bytes) -> None:
        source = (head["source"], 0) if head["source"] else None
        streams = await asyncio.open_connection(head["address"], head["port"], local_addr=source)
        await self._carry(number, {"is": "connected", "n": number}, *streams)

    async def _carry(self, number: int, news: Head, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """Bytes from a connection to the near end, until either of them closes it."""
        carried = self._carried[number] = Carried(writer)
        local, peer = writer.get_extra_info("sockname"), writer.get_extra_info("peername")
        self.say({**news, "local": local[0], "peer": peer[0]})
        ending: Head = {"is": "end", "n": number}
        try:
            while True:
                while carried.room <= 0:
                    carried.more.clear()
                    await carried.more.wait()
                data = await reader.read(min(CHUNK, carried.room))
                if not data:
                    break
                carried.room -= len(data)
                self.say({"is": "data", "n": number}, data)
        except OSError as error:
            ending.update(_error_head(error))
        self.say(ending)

    async def _listen(self, number: int, head: Head, body: bytes) -> None:
        async def arrived(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            self._arrivals -= 1
            await self._carry(self._arrivals, {"is": "arrived", "n": number, "new": self._arrivals}, reader, writer)

        server = await asyncio.start_server(arrived, head["address"], head["port"])
        try:
            self.say({"is": "listening", "n": number, "port": server.sockets[0].getsockname()[1]})
            await asyncio.Event().wait()
        finally:
            server.close()

    async def _find(self, number: int, head: Head, body: bytes) -> None:
        loop = asyncio.get_running_loop()
        found = await loop.getaddrinfo(head["name"], head["port"], type=socket.SOCK_STREAM)
        self.say({"is": "found", "n": number, "address": found[0][4][0]})

    async def _hold(self, number: int, head: Head, body: bytes) -> None:
        """Whether an address is one of this host's own; nothing is sent."""
        _check_own_address(head["address"])
        self.say({"is": "held", "n": number})

    async def _own(self, number: int, head: Head, body: bytes) -> None:
        """This host's own addresses, as far as they are known."""
        own = await asyncio.get_running_loop().run_in_executor(None, own_addresses)
        self.say({"is": "own", "n": number, "own": own[:MOST_ADDRESSES]})

    async def _ask(self, number: int, head: Head, body: bytes) -> None:
        """One datagram out, one back."""
        loop = asyncio.get_running_loop()
        with contextlib.closing(_datagrams(head["address"])) as tried:
            tried.setblocking(False)
            await loop.sock_connect(tried, (head["address"], head["port"]))
            await loop.sock_sendall(tried, body)
            self.say({"is": "answered", "n": number}, await loop.sock_recv(tried, MOST_BYTES))

    async def _read(self, number: int, head: Head, body: bytes) -> None:
        """The beginning of a file, as of those in which a system shows its state."""
        self.say({"is": "read", "n": number}, beginning_of(head["path"]))

    async def _run(self, number: int, head: Head, body: bytes) -> None:
        """What a command of the system writes, and its exit code."""
        code, written = await output_of(head["words"])
        self.say({"is": "ran", "n": number, "code": code}, written)


def beginning_of(path: str) -> bytes:
    """As much of a file as a frame holds. Raises OSError."""
    with Path(path).open("rb") as file:
        return file.read(MOST_BYTES)


async def output_of(words: list[str]) -> tuple[int, bytes]:
    """The exit code of a command of the system and what it writes, as much as a frame holds; -1 where it was ended.

    It is looked for where systems keep theirs and nowhere else, and gets nothing of this program's environment.
    Raises OSError.
    """
    process = await asyncio.create_subprocess_exec(
        *words, stdin=asyncio.subprocess.DEVNULL, stdout=asyncio.subprocess.PIPE, stderr=asyncio.subprocess.DEVNULL,
        env={"PATH": SYSTEM_PATH, "LC_ALL": "C"}, cwd="/",
    )  # fmt: skip
    assert process.stdout is not None
    written = b""
    try:
        while len(written) < MOST_BYTES:
            data = await asyncio.wait_for(process.stdout.read(MOST_BYTES - len(written)), RUN_SECONDS)
            if not data:
                return await asyncio.wait_for(process.wait(), RUN_SECONDS), written
            written += data
    except asyncio.TimeoutError:  # noqa: UP041  (until Python 3.11 it was another one)
        pass
    finally:
        if process.returncode is None:
            with contextlib.suppress(ProcessLookupError):
                process.kill()
            await process.wait()
    return -1, written


def own_addresses() -> list[str]:
    """The addresses of this host that Linux lists, or, on other systems, that its name leads to."""
    found = set()
    with contextlib.suppress(OSError), Path("/proc/net/fib_trie").open() as routes:
        address = ""
        for line in itertools.islice(routes, MOST_ROUTE_LINES):
            if "|--" in line:
                address = line.split()[-1]
            elif "/32 host LOCAL" in line:
                found.add(address)
    with contextlib.suppress(OSError), Path("/proc/net/if_inet6").open() as table:
        found.update(socket.inet_ntop(socket.AF_INET6, bytes.fromhex(line[:32])) for line in table)
    with contextlib.suppress(OSError, UnicodeError):
        found.update(str(each[4][0]) for each in socket.getaddrinfo(platform.node(), None))
    return [each for each in sorted(found) if _is_own(each)]


def _is_own(address: str) -> bool:
    try:
        _check_own_address(address)
    except OSError:
        return False
    return True


def _check_own_address(address: str) -> None:
    """Raises OSError where an address is not this host's own."""
    with contextlib.closing(_datagrams(address)) as tried:
        tried.bind((address, 0))


def _datagrams(address: str) -> socket.socket:
    return socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, socket.SOCK_DGRAM)


def _error_head(error: OSError) -> Head:
    """An error by its symbol, since its number means another thing on another system."""
    lookup = isinstance(error, socket.gaierror)
    return {"lookup": lookup, "error": errno.errorcode.get(error.errno or 0, ""), "text": error.strerror or str(error)}


async def run(out: BinaryIO) -> None:
    """Serve until the input ends, or is quiet for too long."""
    loop = asyncio.get_running_loop()
    pieces: asyncio.Queue[bytes] = asyncio.Queue()

    def read() -> None:
        data = b"first"
        while data:
            data = os.read(0, MOST_BYTES)
            loop.call_soon_threadsafe(pieces.put_nowait, data)

    threading.Thread(target=read, daemon=True).start()
    end, frames = FarEnd(out), Frames()
    out.write(BANNER)
    end.say({"is": "ready", "n": 0, "host": platform.node(), "python": platform.python_version()})
    with contextlib.suppress(asyncio.TimeoutError):
        while True:
            data = await asyncio.wait_for(pieces.get(), QUIET_SECONDS)
            if not data:
                return
            for head, body in frames.receive(data):
                end.do(head, body)


def main() -> None:
    """Serve on standard input and output."""
    with contextlib.suppress(OSError, ValueError):
        asyncio.new_event_loop().run_until_complete(run(sys.stdout.buffer))
    os._exit(0)  # at once, whatever look-ups are still under way


if __name__ == "__main__":
    main()
