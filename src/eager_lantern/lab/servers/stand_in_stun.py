"""A STUN server for rehearsals and tests (RFC 8489): tells an address that it was given, or that of who asks."""

import asyncio
import struct
from ipaddress import ip_address

from ...core.values.addresses import Address
from .answering import answering

_COOKIE = 0x2112A442


class StandInStun:
    """A STUN server at an address, as an asynchronous context manager; ``seen_as`` is what it tells everybody."""

    def __init__(self, address: str, port: int = 0, seen_as: Address | None = None) -> None:
        self._address, self.port, self._seen_as = address, port, seen_as
        self._transport: asyncio.DatagramTransport | None = None

    async def __aenter__(self) -> "StandInStun":
        self._transport, self.port = await answering(self._address, self.port, self._answered)
        return self

    async def __aexit__(self, *_: object) -> None:
        if self._transport is not None:
            self._transport.close()

    def _answered(self, question: bytes, sender: tuple[str, int]) -> bytes:
        if len(question) < 20 or struct.unpack_from("!HHI", question) != (1, len(question) - 20, _COOKIE):
            return b""
        address = ip_address(str(self._seen_as or sender[0]))
        mask = question[4:20]
        xored = bytes(a ^ b for a, b in zip(address.packed, mask, strict=False))
        family = 1 if address.version == 4 else 2
        value = struct.pack("!BBH", 0, family, sender[1] ^ (_COOKIE >> 16)) + xored
        body = struct.pack("!HH", 0x0020, len(value)) + value
        return struct.pack("!HH", 0x0101, len(body)) + mask + body
