"""Replies of an FTP server (RFC 959, section 4.2): bytes in, whole replies out."""

import re
from collections.abc import Callable
from dataclasses import dataclass

from .terminal_safe import decoded, printable

MOST_REPLY_BYTES = 65_536
_FIRST = re.compile(rb"([1-5][0-9]{2})([ -])(.*)", re.DOTALL)
_BARE = re.compile(rb"([1-5][0-9]{2})")


class ProtocolFault(Exception):
    """The peer does not speak FTP, or says more than it may."""


@dataclass(frozen=True, slots=True)
class Reply:
    """One whole reply; ``lines`` are as sent, without code and line ends."""

    code: int
    lines: tuple[str, ...]

    @property
    def kind(self) -> int:
        """The first digit: 1 preliminary, 2 done, 3 more is needed, 4 not now, 5 no."""
        return self.code // 100

    @property
    def text(self) -> str:
        """All of it on one line, as sent."""
        return " ".join(line.strip() for line in self.lines if line.strip())

    def __str__(self) -> str:
        return f"{self.code} {printable(self.text)}".rstrip()


class ReplyReader:
    """Collects bytes until a reply is whole. Never keeps more than MOST_REPLY_BYTES. ``cover`` is what is done to
    a text before anything else sees it, to take out what nobody is to read."""

    def __init__(self, cover: Callable[[str], str] = str) -> None:
        self._cover = cover
        self._waiting = b""
        self._lines: list[bytes] = []
        self._code = b""
        self._size = 0

    @property
    def unread(self) -> bool:
        """Whether bytes have come that are no whole reply yet."""
        return bool(self._waiting or self._lines)

    def receive(self, data: bytes) -> list[Reply]:
        """The replies that these bytes complete.

        Raises ProtocolFault for bytes that are no FTP reply and for a reply without end.
        """
        replies: list[Reply] = []
        *lines, self._waiting = (self._waiting + data).split(b"\n")
        for line in lines:
            reply = self._take(line.rstrip(b"\r"))
            if reply:
                replies.append(reply)
        if self._size + len(self._waiting) > MOST_REPLY_BYTES:
            raise ProtocolFault(f"a reply of more than {MOST_REPLY_BYTES} bytes; given up")
        return replies

    def _take(self, line: bytes) -> Reply | None:
        self._size += len(line) + 1  # an empty line is kept as well
        if self._size > MOST_REPLY_BYTES:
            raise ProtocolFault(f"a reply of more than {MOST_REPLY_BYTES} bytes; given up")
        first = _FIRST.fullmatch(line)
        if self._lines:
            ends = first is not None and first[1] == self._code and first[2] == b" "
            self._lines.append(first[3] if ends and first else line)
            return self._whole() if ends or line == self._code else None
        if first is None and not _BARE.fullmatch(line):
            raise ProtocolFault(f"this is no FTP reply: {printable(self._cover(decoded(line)), 80)}")
        self._code = line[:3]
        self._lines = [first[3] if first else b""]
        return None if first and first[2] == b"-" else self._whole()

    def _whole(self) -> Reply:
        whole = self._cover("\n".join(map(decoded, self._lines)))
        reply = Reply(int(self._code), tuple(whole.split("\n")))
        self._lines, self._size = [], 0
        return reply
