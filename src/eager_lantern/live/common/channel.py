"""One bounded TCP connection: opened, put under TLS, read and written with a time limit.

asyncio's own TLS streams cannot resume a session, which many servers demand of data
connections; so the TLS object works on memory here and this class moves the bytes.
"""

import asyncio
import contextlib
import errno
import socket
import ssl
import sys
from collections.abc import Awaitable, Callable
from typing import Self, TypeVar

from ...core.model.site import ETHERNET_BYTES
from ...core.network.flow import HEADERS_BYTES
from ...wire.ftp import MOST_LINES, Endpoint, Listing
from ..vantage.base import Connected, Failed
from ..vantage.local import Here
from .visit_plan import VisitPlan

Result = TypeVar("Result")
CHUNK = 65_536


class Channel:
    """Bytes in and out, in clear until :meth:`start_tls`; ``local`` and ``peer`` are the addresses of
    both ends."""

    def __init__(self, connected: Connected, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self.local, self.peer = connected.local, connected.peer
        self._lost = connected.lost
        self._reader = reader
        self._writer = writer
        self._incoming = ssl.MemoryBIO()
        self._outgoing = ssl.MemoryBIO()
        self.tls: ssl.SSLObject | None = None

    @classmethod
    async def over(cls, connected: Connected) -> Self:
        """A channel over a connection that stands."""
        return cls(connected, *await asyncio.open_connection(sock=connected.sock))

    async def start_tls(self, context: ssl.SSLContext, name: str, session: ssl.SSLSession | None = None) -> None:
        """Become the TLS client. Raises ssl.SSLError, and EOFError when the peer hangs up."""
        self.tls = context.wrap_bio(self._incoming, self._outgoing, server_hostname=name, session=session)
        await self._driven(self.tls.do_handshake)

    async def read(self) -> bytes:
        """Some bytes, or none at the end of the connection."""
        if self.tls is None:
            return await self._received()
        try:
            return await self._driven(lambda: self.tls.read(CHUNK) if self.tls else b"")
        except (ssl.SSLZeroReturnError, ssl.SSLEOFError, EOFError):
            return b""

    async def write(self, data: bytes) -> None:
        """All of the bytes."""
        if self.tls is None:
            self._writer.write(data)
        else:
            rest = memoryview(data)
            while rest:
                sent = await self._driven(lambda part=rest[:CHUNK]: self.tls.write(part))  # type: ignore[misc]
                rest = rest[sent:]
        await self._writer.drain()

    async def close(self) -> None:
        """Say goodbye properly where the peer still listens, and close."""
        with contextlib.suppress(OSError, ssl.SSLError):
            if self.tls is not None:
                with contextlib.suppress(ssl.SSLError):
                    self.tls.unwrap()
                self._writer.write(self._outgoing.read())
            self._writer.close()
            async with asyncio.timeout(1):
                await self._writer.wait_closed()

    def abort(self) -> None:
        """Drop the connection at once."""
        self._writer.transport.abort()

    async def _driven(self, step: Callable[[], Result]) -> Result:
        """Repeat a TLS step, moving bytes to and from the peer, until it is done."""
        while True:
            try:
                result = step()
            except ssl.SSLWantReadError:
                await self._flush()
                data = await self._received()
                if not data:
                    self._incoming.write_eof()
                    if self.tls is not None and self.tls.version() is None:
                        raise EOFError("the peer closed the connection during the TLS handshake") from None
                else:
                    self._incoming.write(data)
            except ssl.SSLError:
                await self._flush()  # the alert gives the peer the reason
                raise
            else:
                await self._flush()
                return result

    async def _received(self) -> bytes:
        """Some bytes, or none at the end. Raises OSError where the connection was lost instead."""
        data = await self._reader.read(CHUNK)
        if not data and (error := self._lost()):
            raise error
        return data

    async def _flush(self) -> None:
        data = self._outgoing.read()
        if data:
            self._writer.write(data)
            await self._writer.drain()


Done = TypeVar("Done")


def trusted(listing: Listing) -> str:
    """What a listing holds. Raises Failed where names in it are tricks."""
    if listing.tricks:
        names = "; ".join(listing.tricks)
        raise Failed("wrong", f"{listing}, with names that lead elsewhere or steer a terminal: {names}")
    if listing.entries > MOST_LINES:
        raise Failed("wrong", f"more than {MOST_LINES} entries in the folder; given up")
    return str(listing)


async def timed(seconds: float, what: Awaitable[Done]) -> Done:
    """The result of something that must be done in time. Raises Failed, silent, otherwise."""
    try:
        async with asyncio.timeout(seconds):
            return await what
    except TimeoutError:
        raise Failed("silent", f"no answer within {seconds:g} s") from None


_OWN = {errno.ENETUNREACH, errno.EADDRNOTAVAIL, errno.EAFNOSUPPORT, errno.EINVAL}
"""A system's own error, before anything was sent."""
_TOLD = "reported by this machine or a device on the way: no host has this address, or a filter forbids it"


async def connected(plan: VisitPlan, endpoint: Endpoint) -> Connected:
    """A connection. Raises Failed with the network's error."""
    try:
        way = plan.reach(endpoint.address, endpoint.port)
        return await plan.vantage.connect(way.address, way.port, way.source)
    except ConnectionRefusedError:
        raise Failed("refused", f"{endpoint} refuses the connection") from None
    except TimeoutError:
        raise Failed("silent", f"{endpoint} does not answer") from None
    except OSError as error:
        if error.errno in _OWN and not _is_local_error(plan, endpoint.address, error):
            raise Failed("unknown", f"{endpoint}: {error.strerror}") from None
        hint = f" ({_TOLD})" if error.errno in (errno.EHOSTUNREACH, errno.EACCES, errno.ENETUNREACH) else ""
        raise Failed("refused", f"{endpoint}: {error.strerror}{hint}") from None


def _is_local_error(plan: VisitPlan, address: str, error: OSError) -> bool:
    """Whether “network is unreachable” came from the way: where this machine has a route itself, and nothing but that
    is asked by connecting a datagram socket, an ICMPv6 message reported it."""
    if error.errno != errno.ENETUNREACH or not isinstance(plan.vantage, Here):
        return False
    with socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, socket.SOCK_DGRAM) as asked:
        return asked.connect_ex((address, 9)) == 0


_LINUX_IP_MTU, _LINUX_IPV6_MTU = 14, 24
USUAL_OPTIONS_BYTES = 12
"""What time stamps take of each segment (RFC 7323, section 3.2), where both ends have them."""


def packets_note(sock: socket.socket) -> str:
    """What is unusual about the packets of a TCP connection that stands, in a clause for after its first word: the
    path MTU that the system knows (RFC 1191), else what the negotiated segment size comes to. Empty where they are
    as large as on any Ethernet, and where the socket does not tell."""
    six = sock.family == socket.AF_INET6
    hint = (
        _option(sock, socket.IPPROTO_IPV6, _LINUX_IPV6_MTU) if six else _option(sock, socket.IPPROTO_IP, _LINUX_IP_MTU)
    )
    segment = _option(sock, socket.IPPROTO_TCP, socket.TCP_MAXSEG) if hasattr(socket, "TCP_MAXSEG") else None
    if sys.platform == "linux" and hint is not None and hint < ETHERNET_BYTES:
        return f"; packets of {hint} bytes at most on this way (path MTU)"
    fits = ETHERNET_BYTES - HEADERS_BYTES[6 if six else 4] - USUAL_OPTIONS_BYTES
    if segment is not None and 0 < segment < fits:
        return f"; segments of {segment} bytes at most (MSS), {fits} are usual"
    return ""


def _option(sock: socket.socket, level: int, name: int) -> int | None:
    with contextlib.suppress(OSError):
        return sock.getsockopt(level, name)
    return None
