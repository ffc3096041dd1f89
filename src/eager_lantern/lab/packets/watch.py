"""New connections as they pass the wires of a node: what the kernel did, hop by hop.

Only what opens or refuses a connection is looked at: TCP segments with SYN or RST, and UDP.
"""

import contextlib
import selectors
import socket
import struct
import sys
import time
from collections.abc import Iterator
from ipaddress import ip_address
from typing import Literal, cast

from ...core.compare.with_lab import Sighting
from ...core.model.site import Transport
from .socket import heard, tap

IPV4, IPV6 = 0x0800, 0x86DD
TCP, UDP = 6, 17
SYN, RST, ACK = 0x02, 0x04, 0x10


def watched(node: str, wires: tuple[str, ...], seconds: float) -> list[Sighting]:
    """What passes these wires in so many seconds."""
    if sys.platform != "linux":
        raise RuntimeError("packets are heard on Linux only")
    found: list[Sighting] = []
    with contextlib.ExitStack() as taps, selectors.DefaultSelector() as chosen:
        for wire in wires:
            chosen.register(taps.enter_context(tap(wire, socket.SOCK_DGRAM)), selectors.EVENT_READ, wire)
        end = time.monotonic() + seconds
        while (left := end - time.monotonic()) > 0:
            for key, _ in chosen.select(left):
                when, packet, (_, kind, direction, *_) = heard(cast(socket.socket, key.fileobj))
                way: Literal["in", "out"] = "out" if direction == socket.PACKET_OUTGOING else "in"
                found += _sightings(when, node, key.data, way, kind, packet)
    return found


def _sightings(
    when: int, node: str, wire: str, way: Literal["in", "out"], kind: int, packet: bytes
) -> Iterator[Sighting]:
    """The packet, where it is one that opens or refuses (RFC 791, RFC 8200, RFC 9293)."""
    if kind == IPV4:
        start, protocol, addresses = (packet[0] & 15) * 4, packet[9], (packet[12:16], packet[16:20])
    elif kind == IPV6:
        start, protocol, addresses = 40, packet[6], (packet[8:24], packet[24:40])
    else:
        return
    if protocol not in (TCP, UDP) or len(packet) < start + (14 if protocol == TCP else 8):
        return
    source_port, port = struct.unpack_from(">HH", packet, start)
    flags = packet[start + 13] if protocol == TCP else SYN
    if not flags & (SYN | RST):
        return
    what: Literal["opens", "answers", "refuses"] = "refuses" if flags & RST else "answers" if flags & ACK else "opens"
    source, to = (str(ip_address(each)) for each in addresses)
    transport: Transport = "tcp" if protocol == TCP else "udp"
    yield Sighting(when / 1e9, node, wire, way, transport, what, source, source_port, to, port)
