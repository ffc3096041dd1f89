"""Datagrams answered one by one."""

import asyncio
from collections.abc import Callable
from typing import cast

Answer = Callable[[bytes, tuple[str, int]], bytes]
"""What is said to a datagram and its sender; nothing where that is empty."""


async def answering(address: str, port: int, answer: Answer) -> tuple[asyncio.DatagramTransport, int]:
    """Answer at a port, any free one for 0, until the transport is closed. Raises OSError."""
    transport, _ = await asyncio.get_running_loop().create_datagram_endpoint(
        lambda: _Answering(answer), local_addr=(address, port)
    )
    return transport, int(transport.get_extra_info("sockname")[1])


class _Answering(asyncio.DatagramProtocol):
    def __init__(self, answer: Answer) -> None:
        self._answer = answer

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        """Keep where answers go."""
        self._transport = cast(asyncio.DatagramTransport, transport)

    def datagram_received(self, data: bytes, sender: tuple[str, int]) -> None:
        """Answer, or say nothing."""
        if said := self._answer(data, sender):
            self._transport.sendto(said, sender)
