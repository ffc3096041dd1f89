"""Sweeping lit ports from outside: for each, whether it arrives, and where."""

import asyncio
import contextlib
import errno
import secrets
from collections.abc import Sequence
from typing import Literal

from ...core.model.site import Transport
from ...core.observed.compared import LitPort, Sweep
from ...wire.lamp import LINE_BYTES, question, seen
from ..vantage.base import Vantage

AT_ONCE = 256
TRIES = 2


async def swept(
    vantage: Vantage, address: str, ports: Sequence[int], secret: bytes, protocol: Transport, timeout: float
) -> Sweep:
    """Every port of an address once, silent ones once more. Where the lamp reports that it had no place for some,
    ports that were closed without a word are tried again, one after the other; what is closed even then is
    ``crowded``, since it looks the same as a port that another program holds."""
    turns = asyncio.Semaphore(AT_ONCE)
    ask = _by_tcp if protocol == "tcp" else _by_udp

    async def one(port: int) -> LitPort:
        async with turns:
            for _ in range(TRIES):
                found = await ask(vantage, address, port, secret, timeout)
                if found.outcome != "silent":
                    break
            return found

    found = await asyncio.gather(*map(one, ports))
    if any(each.crowded for each in found):
        for i, each in enumerate(found):
            if each.outcome == "closed":
                again = await ask(vantage, address, each.port, secret, timeout)
                found[i] = LitPort(each.port, "crowded") if again.outcome == "closed" else again
    return Sweep(address, protocol, tuple(_final_port(each) for each in found))


def _final_port(found: LitPort) -> LitPort:
    """A port that closes without a word, where no lamp is crowded, is held by another program."""
    return LitPort(found.port, "wrong") if found.outcome == "closed" else found


async def _by_tcp(vantage: Vantage, address: str, port: int, secret: bytes, timeout: float) -> LitPort:
    nonce = secrets.token_bytes(16)
    loop = asyncio.get_running_loop()
    line = b""
    try:
        async with asyncio.timeout(timeout):
            connected = await vantage.connect(address, port)
            with contextlib.closing(connected.sock) as sock:
                await loop.sock_sendall(sock, question(secret, nonce))
                while not line.endswith(b"\n") and len(line) < LINE_BYTES:
                    piece = await loop.sock_recv(sock, LINE_BYTES)
                    if error := connected.lost():
                        raise error
                    if not piece:
                        break
                    line += piece
    except TimeoutError:
        return LitPort(port, "silent")
    except ConnectionResetError:
        return LitPort(port, "closed")
    except OSError as error:
        return LitPort(port, _fate(error))
    return _lit_port(port, secret, nonce, line)


async def _by_udp(vantage: Vantage, address: str, port: int, secret: bytes, timeout: float) -> LitPort:
    nonce = secrets.token_bytes(16)
    try:
        async with asyncio.timeout(timeout):
            line = await vantage.ask(address, port, question(secret, nonce))
    except TimeoutError:
        return LitPort(port, "silent")
    except OSError as error:
        return LitPort(port, _fate(error))
    return _lit_port(port, secret, nonce, line)


def _lit_port(port: int, secret: bytes, nonce: bytes, line: bytes) -> LitPort:
    """What an answer means; something that is no lamp, or knows another secret, is wrong."""
    sight = seen(secret, nonce, line)
    if sight is None:
        return LitPort(port, "wrong" if line else "closed")
    return LitPort(port, "ok", sight.at_port, sight.from_address, sight.crowded)


def _fate(error: OSError) -> Literal["unknown", "refused"]:
    if error.errno in (errno.ENETUNREACH, errno.EADDRNOTAVAIL, errno.EAFNOSUPPORT, errno.EMFILE):
        return "unknown"
    return "refused"
