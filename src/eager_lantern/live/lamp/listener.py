"""The lamp: listens in place of a server that is not there yet, and answers only who knows the secret.

Theory: places in a crowd
=========================
A lamp stands on the internet for hours, and anybody may open connections to it and state nothing. Three things run out:
descriptors, places among those that are waited for, and the kernel's queue before them. So

- connections are accepted one by one, and a place is made before each: the stranger who has been silent longest goes.
  Descriptors are never more than ports and places together, whatever arrives;
- who has once answered the challenge, or rather made one, is known by address, and has places of its own that no
  stranger can take. A sweep by who knows the secret fights for its first port alone;
- a challenge that was answered once is not answered again: who has seen one on the way learns nothing by sending it,
  and does not become known.

Where phones are expected (:mod:`.phone`), a connection that does not begin as a challenge may be a browser's; its
question is judged by its head, and whoever asks with a wrong key gets what every stranger gets.
"""

import asyncio
import contextlib
import errno
import socket
import sys
from collections.abc import Sequence
from functools import partial
from typing import cast

import psutil

from ...core.model.site import Transport
from ...core.observed.compared import Unlit
from ...wire.lamp import GREETING, LINE_BYTES, Sight, answer, nonce_of
from ...wire.phone import MOST_HEAD, TLS_HANDSHAKE, HttpQuestion, NoQuestion
from ..own_process import allow_open_files
from .phone import PhoneDesk

MOST_STRANGERS, MOST_KNOWN, MOST_OF_ONE = 512, 512, 320
"""Connections at once: of strangers, of those that are known, and of one address. A sweep has up to 256 at a time."""
LEAST_STRANGERS = 16
SPARE_FILES = 64
QUEUE = 4096
"""How many connections of a port may wait to be accepted, as far as the system allows it."""
PATIENCE_SECONDS = 5.0
RETRY_SECONDS = 0.05
MOST_ANSWERED = 500_000
"""Challenges that are remembered as answered; more than a lamp is asked in a day."""


class Lamp:
    """Lit ports; use :meth:`light`, then let it burn, then :meth:`put_out`."""

    def __init__(self, secret: bytes) -> None:
        self._secret = secret
        self._desk: PhoneDesk | None = None
        self._listening: list[asyncio.Task[None]] = []
        self._datagrams: list[asyncio.DatagramTransport] = []
        self._crowd = _Crowd()
        self._nonces: dict[bytes, None] = {}
        self.answered = 0
        self.rejected = 0

    @property
    def crowded(self) -> int:
        """How many connections there was no place for."""
        return self._crowd.refused

    async def light(
        self, addresses: Sequence[str], ports: Sequence[int], protocols: Sequence[Transport]
    ) -> list[Unlit]:
        """Listen on every port of every address; those on which that fails, each with the reason."""
        listeners = len(addresses) * len(ports) * len(protocols)
        allowed = allow_open_files(listeners + MOST_STRANGERS + MOST_KNOWN + SPARE_FILES)
        if allowed is not None:
            left = allowed - listeners - MOST_KNOWN - SPARE_FILES
            self._crowd.most_strangers = max(LEAST_STRANGERS, min(MOST_STRANGERS, left))
        unlit: list[Unlit] = []
        for address in addresses:
            for protocol in protocols:
                for port in ports:
                    try:
                        await self._lit(address, port, protocol)
                    except OSError as error:
                        unlit.append(Unlit(port, protocol, _bind_error(error, port, protocol)))
        return unlit

    def receive(self, desk: PhoneDesk) -> None:
        """Let phones in that this desk admits."""
        self._desk = desk

    async def _lit(self, address: str, port: int, protocol: Transport) -> None:
        loop = asyncio.get_running_loop()
        if protocol == "tcp":
            family = socket.AF_INET6 if ":" in address else socket.AF_INET
            listener = socket.create_server((address, port), family=family, backlog=QUEUE)
            listener.setblocking(False)
            self._listening.append(loop.create_task(self._accepting(listener)))
            return
        transport, _ = await loop.create_datagram_endpoint(lambda: _Datagrams(self), local_addr=(address, port))
        self._datagrams.append(transport)

    async def _accepting(self, listener: socket.socket) -> None:
        """Take connections one by one; where even the spare descriptors are gone, a stranger goes for each."""
        loop = asyncio.get_running_loop()
        with contextlib.closing(listener):
            while True:
                try:
                    made, peer = await loop.sock_accept(listener)
                except OSError as error:
                    if error.errno in (errno.EMFILE, errno.ENFILE, errno.ENOBUFS, errno.ENOMEM):
                        self._crowd.one_less()
                        await asyncio.sleep(RETRY_SECONDS)
                    continue
                if self._desk is not None:
                    self._desk.came(_unscoped(peer[0]), int(listener.getsockname()[1]))
                if (place := self._crowd.place_for(str(peer[0]))) is None:
                    made.close()
                    continue
                place.task = loop.create_task(self._met(made, place))
                place.task.add_done_callback(partial(_closed, made))  # also of one that never came to its first step

    async def _met(self, made: socket.socket, place: "_Place") -> None:
        """One connection: a right challenge gets its answer, anything else a silent end."""
        loop = asyncio.get_running_loop()
        with place:
            try:
                async with asyncio.timeout(PATIENCE_SECONDS):
                    line = b""
                    while len(line) < LINE_BYTES and GREETING.startswith(line[: len(GREETING)]):
                        piece = await loop.sock_recv(made, LINE_BYTES - len(line))
                        if not piece:
                            break
                        line += piece
                    if self._desk is not None and not line.startswith(GREETING):
                        reply = await self._answer_browser(self._desk, made, line)
                    else:
                        reply = self.reply(line, made.getpeername(), made.getsockname())
                    if reply:
                        await loop.sock_sendall(made, reply)
            except (OSError, TimeoutError):
                self.rejected += 1

    async def _answer_browser(self, desk: PhoneDesk, made: socket.socket, data: bytes) -> bytes:
        """What to say to a browser: nothing where it asks for what it may not have. Of its body nothing is waited for
        before its head was found good."""
        loop, asked = asyncio.get_running_loop(), HttpQuestion()
        peer, own = _unscoped(made.getpeername()[0]), made.getsockname()[1]
        admitted = False
        try:
            while True:
                asked.take(data)
                if asked.head is not None and not admitted:
                    admitted = desk.admits(asked.head)
                    if not admitted:
                        break
                    self._crowd.knows(made.getpeername()[0])
                if asked.whole and asked.head is not None:
                    reply = desk.reply(asked.head, asked.body, peer, own)
                    if reply is None:
                        break
                    self.answered += 1
                    return asked.answer(200, reply.headers, reply.body)
                data = await loop.sock_recv(made, MOST_HEAD)
        except NoQuestion:
            if data.startswith(TLS_HANDSHAKE):
                desk.met_tls(peer, own)
        self.rejected += 1
        return b""

    def reply(self, line: bytes, peer: tuple[str, int], own: tuple[str, int]) -> bytes:
        """What to say to a line: nothing to a stranger, nor to a challenge that was answered before."""
        nonce = nonce_of(self._secret, line)
        if nonce is None or nonce in self._nonces:
            self.rejected += 1
            return b""
        self._nonces[nonce] = None
        if len(self._nonces) > MOST_ANSWERED:
            del self._nonces[next(iter(self._nonces))]
        self._crowd.knows(peer[0])
        self.answered += 1
        return answer(self._secret, nonce, Sight(peer[0], peer[1], own[0], own[1], self.crowded))

    async def put_out(self) -> None:
        """Stop listening everywhere."""
        for task in (*self._listening, *self._crowd.tasks()):
            task.cancel()
        for transport in self._datagrams:
            transport.close()
        await asyncio.gather(*self._listening, *self._crowd.tasks(), return_exceptions=True)


def _unscoped(address: str) -> str:
    """An address without the link that it is of (RFC 4007, section 11), which means nothing elsewhere."""
    return address.partition("%")[0]


def _closed(made: socket.socket, task: "asyncio.Task[None]") -> None:
    made.close()


class _Place:
    """A connection's place in the crowd, which it leaves when it ends."""

    def __init__(self, pool: dict["_Place", None], address: str) -> None:
        self.address = address
        self.task: asyncio.Task[None] | None = None
        self._pool = pool
        pool[self] = None

    def __enter__(self) -> None:
        return None

    def __exit__(self, *_: object) -> None:
        self._pool.pop(self, None)


class _Crowd:
    """Who may be connected at once: strangers, and those that are known, each in order of arrival."""

    def __init__(self) -> None:
        self.most_strangers = MOST_STRANGERS
        self.refused = 0
        self._strangers: dict[_Place, None] = {}
        self._known: dict[_Place, None] = {}
        self._addresses: dict[str, None] = {}

    def knows(self, address: str) -> None:
        """Remember who has made a right challenge; of very many, the last."""
        self._addresses.pop(address, None)
        self._addresses[address] = None
        if len(self._addresses) > MOST_KNOWN:
            del self._addresses[next(iter(self._addresses))]

    def place_for(self, address: str) -> _Place | None:
        """A place for a connection. None where its address has all that one may have; a stranger without a place takes
        that of who has been silent longest."""
        known = address in self._addresses
        pool = self._known if known else self._strangers
        full = len(pool) >= (MOST_KNOWN if known else self.most_strangers)
        if sum(each.address == address for each in pool) >= MOST_OF_ONE or (full and known):
            self.refused += 1
            return None
        if full:
            self.one_less()
        return _Place(pool, address)

    def one_less(self) -> None:
        """The stranger who has been silent longest goes."""
        self.refused += 1
        oldest = next(iter(self._strangers), None)
        if oldest is not None:
            del self._strangers[oldest]
            if oldest.task is not None:
                oldest.task.cancel()

    def tasks(self) -> list[asyncio.Task[None]]:
        """Those that are under way."""
        return [each.task for each in (*self._strangers, *self._known) if each.task is not None]


class _Datagrams(asyncio.DatagramProtocol):
    """One UDP port of a lamp."""

    def __init__(self, lamp: Lamp) -> None:
        self._lamp = lamp
        self._transport: asyncio.DatagramTransport | None = None

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        """The port is bound."""
        self._transport = cast(asyncio.DatagramTransport, transport)

    def datagram_received(self, data: bytes, addr: tuple[str, int]) -> None:
        """A datagram has come."""
        assert self._transport is not None
        reply = self._lamp.reply(data, addr, self._transport.get_extra_info("sockname"))
        if reply:
            self._transport.sendto(reply, addr)


def _bind_error(error: OSError, port: int, protocol: Transport) -> str:
    if isinstance(error, PermissionError) and sys.platform == "win32":
        shown = f"netsh interface ipv4 show excludedportrange {protocol}"  # public interface of Windows
        return f"Windows keeps this port for itself ({shown}), or another program holds it alone"
    if isinstance(error, PermissionError):
        return "ports below 1024 need a privilege: run it with sudo, or leave this port out"
    if error.errno == errno.EADDRNOTAVAIL:
        return "this machine does not have that address: run it on the server host, or give --listen"
    holder = _holder(port, protocol)
    why = (
        (error.strerror or "it failed").partition(" (while")[0].lower()
    )  # what asyncio and socket add names the address
    return f"{why}{f': {holder} listens there' if holder else ''}"


def _holder(port: int, protocol: Transport) -> str:
    """The process that holds a port, where the system reports it."""
    kind = socket.SOCK_STREAM if protocol == "tcp" else socket.SOCK_DGRAM
    try:
        for each in psutil.net_connections(protocol):
            listens = each.status in (psutil.CONN_LISTEN, psutil.CONN_NONE)
            if each.type == kind and listens and each.laddr and each.laddr.port == port and each.pid:
                return f"{psutil.Process(each.pid).name()} (process {each.pid})"
    except (psutil.Error, OSError):
        return ""
    return ""
