"""A TCP connection that can be put under TLS, resuming an earlier session.

asyncio's own TLS streams cannot resume a session, which many servers demand of data
connections; so the TLS object works on memory here and this class moves the bytes.
"""

import asyncio
import contextlib
import ssl
from collections.abc import Callable
from typing import Self, TypeVar

from ..vantage.base import Connected

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
                await self._flush()  # the alert tells the peer why
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
