"""Sweeping lit ports from outside: for each, whether it arrives, and where."""

import asyncio
import contextlib
import secrets
from collections.abc import Sequence
from typing import cast

from ...core.model.site import Transport
from ...core.observed.compared import LitOutcome, LitPort, Sweep
from ...wire.lamp import LINE_BYTES, question
from ..vantage.base import Vantage
from .asking import PortTold, all_asked, told_by_error, told_by_line


async def swept(
    vantage: Vantage, address: str, ports: Sequence[int], secret: bytes, protocol: Transport, timeout: float
) -> Sweep:
    """Every port of an address, as :func:`.asking.all_asked` does it."""
    exchange = _over_tcp if protocol == "tcp" else _over_udp

    async def ask(port: int) -> PortTold:
        nonce = secrets.token_bytes(16)
        try:
            async with asyncio.timeout(timeout):
                line = await exchange(vantage, address, port, question(secret, nonce))
        except TimeoutError:
            return PortTold(port, "silent")
        except OSError as error:
            return told_by_error(port, error)
        return told_by_line(port, secret, nonce, line)

    found = await all_asked(ask, ports)
    return Sweep(
        address,
        protocol,
        tuple(LitPort(each.port, cast(LitOutcome, each.outcome), *each[2:]) for each in found),
    )


async def _over_tcp(vantage: Vantage, address: str, port: int, asked: bytes) -> bytes:
    """The line that comes back, as far as it comes. Raises OSError."""
    loop, line = asyncio.get_running_loop(), b""
    connected = await vantage.connect(address, port)
    with contextlib.closing(connected.sock) as sock:
        await loop.sock_sendall(sock, asked)
        while not line.endswith(b"\n") and len(line) < LINE_BYTES:
            piece = await loop.sock_recv(sock, LINE_BYTES)
            if error := connected.lost():
                raise error
            if not piece:
                break
            line += piece
    return line


async def _over_udp(vantage: Vantage, address: str, port: int, asked: bytes) -> bytes:
    """The datagram that comes back. Raises OSError."""
    return await vantage.ask(address, port, asked)
