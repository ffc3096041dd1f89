"""A carried probe: asks a lit server, from wherever it is run, which of its ports are reached, and writes that down.

It needs Python 3.9 or newer and nothing else, no password and no rights. It opens connections to the server that
stands in PLAN and to nothing else, and sends them a question of 256 bytes. It reads nothing of this computer but its
clock. The result is one file, sealed, so that nobody can change it on its way back.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import secrets
import socket
import sys
import time
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import Any

from ...wire.lamp import LINE_BYTES, question, sealed
from .asking import Ask, PortTold, all_asked, told_by_error, told_by_line

PLAN: dict[str, Any] = {}
SEVERAL = 64
PATIENCE_SECONDS = 4.0
"""Longer than a system takes that asks three times before it believes a refusal."""
GREETING_SECONDS = 5.0
MOST_SHOWN = 200
OUTCOMES = {
    "ok": "reached", "refused": "refused", "silent": "no answer", "wrong": "another program answers",
    "unknown": "could not be tried from here", "crowded": "the lamp had no room",
}  # fmt: skip
"""What becomes of a port, and how that is said."""


def ranges(ports: Iterable[int]) -> str:
    """Ports as they are written: ``21, 61200-61455``."""
    spans: list[list[int]] = []
    for port in sorted(ports):
        if spans and spans[-1][1] == port - 1:
            spans[-1][1] = port
        else:
            spans.append([port, port])
    return ", ".join(str(low) if low == high else f"{low}-{high}" for low, high in spans)


async def over_tcp(address: str, port: int, asked: bytes) -> bytes:
    """The line that comes back. Raises OSError."""
    reader, writer = await asyncio.open_connection(address, port)
    try:
        writer.write(asked)
        line = b""
        while not line.endswith(b"\n") and len(line) < LINE_BYTES:
            piece = await reader.read(LINE_BYTES)
            if not piece:
                break
            line += piece
        return line
    finally:
        writer.close()


class OneAnswer(asyncio.DatagramProtocol):
    """The first datagram that comes back, or the refusal."""

    def __init__(self) -> None:
        self.line: asyncio.Future[bytes] = asyncio.get_running_loop().create_future()

    def datagram_received(self, data: bytes, addr: Any) -> None:
        """It is here."""
        if not self.line.done():
            self.line.set_result(data)

    def error_received(self, exc: Exception) -> None:
        """It was refused."""
        if not self.line.done():
            self.line.set_exception(exc)


async def over_udp(address: str, port: int, asked: bytes) -> bytes:
    """The datagram that comes back. Raises OSError."""
    loop = asyncio.get_running_loop()
    transport, protocol = await loop.create_datagram_endpoint(OneAnswer, remote_addr=(address, port))
    try:
        transport.sendto(asked)
        return await protocol.line
    finally:
        transport.close()


def asking(address: str, protocol: str, secret: bytes) -> Ask:
    """How one port of an address is asked."""
    exchange = over_tcp if protocol == "tcp" else over_udp

    async def ask(port: int) -> PortTold:
        nonce = secrets.token_bytes(16)
        try:
            line = await asyncio.wait_for(exchange(address, port, question(secret, nonce)), PATIENCE_SECONDS)
        except asyncio.TimeoutError:  # noqa: UP041  (until Python 3.11 it was another one)
            return PortTold(port, "silent")
        except OSError as error:
            return told_by_error(port, error)
        return told_by_line(port, secret, nonce, line)

    return ask


def sweep_told(address: str, protocol: str, found: Sequence[PortTold]) -> dict[str, Any]:
    """What became of each port."""
    moved = {str(each.port): each.arrived_port for each in found if each.arrived_port not in (None, each.port)}
    return {
        "target": address,
        "protocol": protocol,
        **{outcome: ranges(each.port for each in found if each.outcome == outcome) for outcome in OUTCOMES},
        "rewritten": moved,
        "seen_from": list(dict.fromkeys(each.seen_from for each in found if each.seen_from is not None)),
    }


async def greeting_of(address: str, port: int) -> str:
    """The first line of whatever greets at a port that is no lamp's; empty where nothing does."""
    with contextlib.suppress(OSError, asyncio.TimeoutError):
        reader, writer = await asyncio.wait_for(asyncio.open_connection(address, port), PATIENCE_SECONDS)
        try:
            data = await asyncio.wait_for(reader.read(MOST_SHOWN), GREETING_SECONDS)
        finally:
            writer.close()
        line = data.decode("ascii", "replace").splitlines()[:1]
        return "".join(each for each in "".join(line) if each.isprintable())
    return ""


def found_address(host: str) -> str:
    """Where a name leads on this computer; empty where it leads nowhere."""
    with contextlib.suppress(OSError, UnicodeError):
        return str(socket.getaddrinfo(host, None, type=socket.SOCK_STREAM)[0][4][0])
    return ""


async def probed(plan: dict[str, Any], say: Callable[[str], None]) -> dict[str, Any]:
    """The whole result, not yet sealed."""
    secret = plan["secret"].encode()
    address, greets, sweeps = found_address(plan["host"]), "", []
    say(f"{plan['host']} is {address}" if address else f"{plan['host']} has no address here")
    if address:
        found = await all_asked(asking(address, "tcp", secret), [plan["control"]], SEVERAL)
        sweeps.append(sweep_told(address, "tcp", found))
        greets = await greeting_of(address, plan["control"]) if found[0].outcome in ("wrong", "crowded") else ""
        say(f"port {plan['control']}: {OUTCOMES[found[0].outcome]}{f', “{greets}”' if greets else ''}")
        data = plan["data_address"] or address
        for protocol in plan["protocols"] if plan["ports"] else ():
            ports = [port for low, high in plan["ports"] for port in range(low, high + 1)]
            found = await all_asked(asking(data, protocol, secret), ports, SEVERAL)
            sweeps.append(sweep_told(data, protocol, found))
            for outcome, words in OUTCOMES.items():
                if those := ranges(each.port for each in found if each.outcome == outcome):
                    say(f"ports {those} over {protocol.upper()}: {words}")
    return {
        "format": "eager-lantern/carried/1",
        "site": plan["site"],
        "service": plan["service"],
        "client": plan["client"],
        "time": time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime()),
        "host": plan["host"],
        "address": address,
        "greeting": greets,
        "sweeps": sweeps,
    }


def say(text: str) -> None:
    """Tell who runs it, on whatever terminal that is."""
    encoding = getattr(sys.stdout, "encoding", None) or "ascii"
    print(text.encode(encoding, "replace").decode(encoding), flush=True)


def main() -> None:
    """Ask, and write the result beside this file, or where it is run from."""
    say(f"This asks {PLAN['host']} which of its ports can be reached from here. It takes about a minute.")
    try:
        result = asyncio.run(probed(PLAN, say))
        data = sealed(PLAN["secret"].encode(), json.dumps(result).encode())
        name = f"probe-result-{time.strftime('%Y%m%d-%H%M%S')}.json"
        with Path(name).open("xb") as file:
            file.write(data)
    except KeyboardInterrupt:
        say("interrupted: nothing was written")
        sys.exit(130)
    except OSError as error:
        say(f"the result cannot be written here: {error.strerror}. Run it in a folder of your own.")
        sys.exit(1)
    say(f"Done. Send this file back, as it is: {Path(name).absolute()}")


if __name__ == "__main__":
    main()
