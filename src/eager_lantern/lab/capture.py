"""Packets of a node's wires written as a pcap file (draft-ietf-opsawg-pcap).

Linux hands over whole Ethernet frames on a packet socket; times are of this machine.
"""

import selectors
import socket
import struct
import threading
import time
from pathlib import Path

ALL_PROTOCOLS = 0x0003
MAGIC, VERSION, SNAP_BYTES, ETHERNET = 0xA1B2C3D4, (2, 4), 262_144, 1
_MICROSECOND = 1000


def capture(wires: tuple[str, ...], path: Path, begun: threading.Event) -> None:
    """Write frames for as long as the lab stands; ``begun`` is set once nothing is missed."""
    with path.open("xb", buffering=0) as out, selectors.DefaultSelector() as taps:
        out.write(struct.pack("<IHHIIII", MAGIC, *VERSION, 0, 0, SNAP_BYTES, ETHERNET))
        for wire in wires:
            tap = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(ALL_PROTOCOLS))
            tap.bind((wire, ALL_PROTOCOLS))
            taps.register(tap, selectors.EVENT_READ)
        begun.set()
        while True:
            for key, _ in taps.select():
                frame = key.fileobj.recv(SNAP_BYTES)  # type: ignore[union-attr]
                seconds, rest = divmod(time.time_ns(), 1_000_000_000)
                out.write(struct.pack("<IIII", seconds, rest // _MICROSECOND, len(frame), len(frame)) + frame)
