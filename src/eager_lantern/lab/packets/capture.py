"""Packets of a node's wires written as a pcap file (draft-ietf-opsawg-pcap)."""

import selectors
import socket
import struct
import threading
from pathlib import Path

from .socket import MOST_BYTES, heard, tap

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
