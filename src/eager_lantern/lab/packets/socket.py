"""Packets as they pass a wire, with the kernel's own time of each."""

import socket
import struct
import sys
from typing import Any

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
