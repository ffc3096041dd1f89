"""The lamp: listens in place of a server that is not there yet, and answers only who knows the secret."""

import asyncio
import errno
import os
import socket
from collections.abc import Sequence
from typing import Any, cast

import psutil

from ...core.compare.lamp import Unlit
from ...core.model.site import Transport
from ...wire.lamp import LINE_BYTES, Sight, answer, asked
from ..open_files import allow_open_files

MOST_CONNECTIONS, MOST_OF_ONE = 512, 320
"""At once, and of one address. A sweep has up to 256 at a time."""
PATIENCE_SECONDS = 5.0


class Lamp:
    """Lit ports; use :meth:`light`, then let it burn, then :meth:`put_out`."""

    def __init__(self, secret: bytes) -> None:
        self._secret = secret
        self._servers: list[asyncio.Server] = []
        self._datagrams: list[asyncio.DatagramTransport] = []
        self._waiting: dict[asyncio.StreamWriter, str] = {}
        self.answered = 0
        self.turned_away = 0
        self.crowded = 0

    async def light(
        self, addresses: Sequence[str], ports: Sequence[int], protocols: Sequence[Transport]
    ) -> list[Unlit]:
        """Listen on every port of every address; those on which that fails, each with the reason."""
        allow_open_files(len(addresses) * len(ports) * len(protocols) + MOST_CONNECTIONS + 64)
        asyncio.get_running_loop().set_exception_handler(self._troubled)
        unlit: list[Unlit] = []
        for address in addresses:
            for protocol in protocols:
                for port in ports:
                    try:
                        await self._lit(address, port, protocol)
                    except OSError as error:
                        unlit.append(Unlit(port, protocol, _why(error, port, protocol)))
        return unlit

    async def _lit(self, address: str, port: int, protocol: Transport) -> None:
        if protocol == "tcp":
            self._servers.append(await asyncio.start_server(self._connected, address, port, limit=LINE_BYTES * 2))
            return
        loop = asyncio.get_running_loop()
        transport, _ = await loop.create_datagram_endpoint(lambda: _Datagrams(self), local_addr=(address, port))
        self._datagrams.append(transport)

    def _troubled(self, loop: asyncio.AbstractEventLoop, context: dict[str, Any]) -> None:
        """Where sockets run out, those who wait in a queue are crowded out; nothing is said of each of them."""
        if isinstance(context.get("exception"), OSError):
            self.crowded += 1
        else:
            loop.default_exception_handler(context)

    async def _connected(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """One connection: a right challenge gets its answer, anything else a silent end. Nobody holds more than a
        part of the places, and where all are taken the one that has been silent longest goes."""
        peer = str((writer.get_extra_info("peername") or ("",))[0])
        if sum(each == peer for each in self._waiting.values()) >= MOST_OF_ONE:
            self.crowded += 1
            writer.transport.abort()
            return
        if len(self._waiting) >= MOST_CONNECTIONS:
            oldest = next(iter(self._waiting))
            del self._waiting[oldest]
            self.crowded += 1
            oldest.transport.abort()
        self._waiting[writer] = peer
        try:
            async with asyncio.timeout(PATIENCE_SECONDS):
                line = await reader.readexactly(LINE_BYTES)
                said = self.said(line, writer.get_extra_info("peername"), writer.get_extra_info("sockname"))
                if said:
                    writer.write(said)
                    await writer.drain()
        except (OSError, TimeoutError, asyncio.IncompleteReadError):
            self.turned_away += 1
        finally:
            self._waiting.pop(writer, None)
            writer.close()

    def said(self, line: bytes, peer: tuple[str, int], own: tuple[str, int]) -> bytes:
        """What to say to a line: nothing to a stranger."""
        nonce = asked(self._secret, line)
        if nonce is None:
            self.turned_away += 1
            return b""
        self.answered += 1
        return answer(self._secret, nonce, Sight(peer[0], peer[1], own[0], own[1], self.crowded))

    async def put_out(self) -> None:
        """Stop listening everywhere."""
        for server in self._servers:
            server.close()
        for transport in self._datagrams:
            transport.close()


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
        said = self._lamp.said(data, addr, self._transport.get_extra_info("sockname"))
        if said:
            self._transport.sendto(said, addr)


def _why(error: OSError, port: int, protocol: Transport) -> str:
    if isinstance(error, PermissionError):
        return "ports below 1024 need a privilege: run it with sudo, or leave this port out"
    if error.errno == errno.EADDRNOTAVAIL:
        return "this machine does not have that address: run it on the server host, or give --listen"
    holder = _holder(port, protocol)
    return f"{os.strerror(error.errno or 0).lower()}{f': {holder} listens there' if holder else ''}"


def _holder(port: int, protocol: Transport) -> str:
    """The process that holds a port, where the system tells."""
    kind = socket.SOCK_STREAM if protocol == "tcp" else socket.SOCK_DGRAM
    try:
        for each in psutil.net_connections(protocol):
            listens = each.status in (psutil.CONN_LISTEN, psutil.CONN_NONE)
            if each.type == kind and listens and each.laddr and each.laddr.port == port and each.pid:
                return f"{psutil.Process(each.pid).name()} (process {each.pid})"
    except (psutil.Error, OSError):
        return ""
    return ""
