"""Packets as they pass the wires of a node: new connections watched, everything captured (draft-ietf-opsawg-pcap).

Only what opens or refuses a connection is looked at: TCP segments with SYN or RST, and UDP.
"""

import contextlib
import selectors
import socket
import struct
import sys
import threading
import time
from collections.abc import Iterator
from ipaddress import ip_address
from pathlib import Path
from typing import Any, Literal, cast

from ...core.model.site import Transport
from ...core.observed.rehearsed import PacketSeen

IPV4, IPV6 = 0x0800, 0x86DD
TCP, UDP = 6, 17
SYN, RST, ACK = 0x02, 0x04, 0x10


def watched(node: str, wires: tuple[str, ...], seconds: float) -> list[PacketSeen]:
    """What passes these wires in so many seconds."""
    if sys.platform != "linux":
        raise RuntimeError("packets are heard on Linux only")
    found: list[PacketSeen] = []
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
) -> Iterator[PacketSeen]:
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
    yield PacketSeen(when / 1e9, node, wire, way, transport, what, source, source_port, to, port)


ALL_PROTOCOLS = 0x0003
MOST_BYTES = 262_144
_TIMESTAMPS = 35
"""SO_TIMESTAMPNS of asm-generic/socket.h, which Python does not name everywhere."""
_TIME = struct.Struct("@qq")


def tap(wire: str, kind: socket.SocketKind) -> socket.socket:
    """A socket that hears all of a wire: whole frames (SOCK_RAW), or packets alone (SOCK_DGRAM)."""
    if sys.platform != "linux":
        raise RuntimeError("packets are heard on Linux only")
    made = socket.socket(socket.AF_PACKET, kind, socket.htons(ALL_PROTOCOLS))
    made.setsockopt(socket.SOL_SOCKET, _TIMESTAMPS, 1)
    made.bind((wire, ALL_PROTOCOLS))
    return made


def heard(source: socket.socket) -> tuple[int, bytes, Any]:
    """The next packet: nanoseconds since 1970, its bytes, and its link-layer address."""
    if sys.platform != "linux":
        raise RuntimeError("packets are heard on Linux only")
    packet, extra, _, address = source.recvmsg(MOST_BYTES, socket.CMSG_SPACE(_TIME.size))
    seconds, rest = _TIME.unpack(extra[0][2])
    return seconds * 1_000_000_000 + rest, packet, address


MAGIC, VERSION, ETHERNET = 0xA1B2C3D4, (2, 4), 1
_MICROSECOND = 1000


def capture(wires: tuple[str, ...], path: Path, begun: threading.Event) -> None:
    """Write frames for as long as the lab stands; ``begun`` is set once nothing is missed."""
    with path.open("xb", buffering=0) as out, selectors.DefaultSelector() as taps:
        out.write(struct.pack("<IHHIIII", MAGIC, *VERSION, 0, 0, MOST_BYTES, ETHERNET))
        for wire in wires:
            taps.register(tap(wire, socket.SOCK_RAW), selectors.EVENT_READ)
        begun.set()
        while True:
            for key, _ in taps.select():
                when, frame, _ = heard(key.fileobj)  # type: ignore[arg-type]
                seconds, rest = divmod(when, 1_000_000_000)
                out.write(struct.pack("<IIII", seconds, rest // _MICROSECOND, len(frame), len(frame)) + frame)
