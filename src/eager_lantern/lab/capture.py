"""Packets of an interface written as a pcap file (draft-ietf-opsawg-pcap).

Linux hands over whole Ethernet frames on a packet socket; times are of this machine.
"""

import socket
import struct
import threading
import time
from pathlib import Path

ALL_PROTOCOLS = 0x0003
MAGIC, VERSION, SNAP_BYTES, ETHERNET = 0xA1B2C3D4, (2, 4), 262_144, 1


def capture(wire: str, path: Path, begun: threading.Event, ending: threading.Event) -> None:
    """Write frames until ``ending`` is set; ``begun`` is set once nothing is missed any more."""
    with socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(ALL_PROTOCOLS)) as tap, path.open("wb") as out:
        tap.bind((wire, ALL_PROTOCOLS))
        tap.settimeout(0.1)
        out.write(struct.pack("<IHHIIII", MAGIC, *VERSION, 0, 0, SNAP_BYTES, ETHERNET))
        out.flush()
        begun.set()
        while not ending.is_set():
            try:
                frame = tap.recv(SNAP_BYTES)
            except TimeoutError:
                out.flush()
                continue
            seconds, fraction = divmod(time.time_ns(), 1_000_000_000)
            out.write(struct.pack("<IIII", seconds, fraction // 1000, len(frame), len(frame)) + frame)
