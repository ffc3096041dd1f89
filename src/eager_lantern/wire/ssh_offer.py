"""What an SSH server sends before keys are exchanged (RFC 4253, sections 4.2, 6 and 7.1): bytes in, offer out."""

import struct

from ..core.observed.looks import SshOffer
from .ftp import ProtocolFault
from .terminal_safe import printable

MOST_BYTES = 65_536
MOST_PACKET = 35_000
_KEXINIT, _COOKIE, _LISTS = 20, 16, 10


class OfferReader:
    """Collects bytes until the server's first packet is whole."""

    def __init__(self) -> None:
        self._waiting = b""
        self._version = ""

    def receive(self, data: bytes) -> SshOffer | None:
        """The offer, once it is there. Raises ProtocolFault for what is none."""
        self._waiting += data
        if len(self._waiting) > MOST_BYTES:
            raise ProtocolFault(f"more than {MOST_BYTES} bytes before the keys are exchanged; given up")
        while not self._version and b"\n" in self._waiting:
            line, _, self._waiting = self._waiting.partition(b"\n")
            if line.startswith(b"SSH-"):  # other lines may come before it
                self._version = printable(line.rstrip(b"\r").decode("ascii", "replace"))
        return self._offer() if self._version and len(self._waiting) >= 5 else None

    def _offer(self) -> SshOffer | None:
        length, padding = struct.unpack_from("!IB", self._waiting)
        if length > MOST_PACKET or padding + 2 + _COOKIE > length or self._waiting[5:6] not in (b"", bytes([_KEXINIT])):
            raise ProtocolFault("its first packet offers no algorithms")
        if len(self._waiting) < 4 + length:
            return None
        lists = _name_lists(self._waiting[6 + _COOKIE : 4 + length - padding])
        return SshOffer(self._version, lists[0], lists[1], _either_direction(lists[2:4]), _either_direction(lists[4:6]))


def _name_lists(raw: bytes) -> list[tuple[str, ...]]:
    """The lists of names (RFC 4251, section 5). Raises ProtocolFault where they do not fit."""
    found = []
    for _ in range(_LISTS):
        size = int.from_bytes(raw[:4], "big")
        if len(raw) < 4 + size:
            raise ProtocolFault("its list of algorithms is cut short")
        names = raw[4 : 4 + size].decode("ascii", "replace")
        found.append(tuple(printable(each) for each in names.split(",") if each))
        raw = raw[4 + size :]
    return found


def _either_direction(ways: list[tuple[str, ...]]) -> tuple[str, ...]:
    """The names of either direction, once each."""
    return tuple(dict.fromkeys(name for way in ways for name in way))
