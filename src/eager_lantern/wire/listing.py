"""The names in a listing, as far as they can be told, and those that no honest server would send.

MLSD has a format (RFC 3659, section 7.2). LIST has none (RFC 959, section 4.1.3); nearly all servers
write lines as ``ls -l`` or as the DOS command ``dir`` does. A client that believes a name which
leads out of its folder writes where it should not.
"""

import re
from collections.abc import Iterable
from dataclasses import dataclass
from itertools import islice

from .terminal_safe import decoded, printable

MOST_TOLD = 3
MOST_IN_A_LINE = 4096
MOST_LINES = 100_000
"""Of a listing no more are looked at: who has so many files in a folder has more than a client can list."""
_LINE = re.compile(rb"[^\r\n]+")
_TIME = r"(?:[A-Za-z]{3}\s+\d{1,2}|\d{4}-\d\d-\d\d)\s+[\d:]{4,5}"
_LONG = re.compile(rf"([-dlbcpsD])[-rwxsStTlL]{{9}}[.+@]?\s+\d+\s.*?\s{_TIME} (.*)")
_DOS = re.compile(r"\d\d-\d\d-\d{2,4}\s+\d\d:\d\d[AP]M\s+(?:<\w+>|\d+) (.*)")
_FACTS = re.compile(r"(?:[\w.-]++=[^;]*+;)++ (.*)")
_TOTAL = re.compile(r"total \d+")
_CONTROLS = re.compile(r"[\x00-\x1f\x7f-\x9f]")


@dataclass(frozen=True, slots=True)
class Listing:
    """How many entries there are, and the first few of the names among them that are tricks, made safe."""

    entries: int
    tricks: tuple[str, ...]

    def __str__(self) -> str:
        return f"{self.entries} entr{'y' if self.entries == 1 else 'ies'}"


def read_listing(raw: bytes) -> Listing:
    """A listing as it came, whatever its format."""
    lines = (decoded(match[0]) for match in islice(_LINE.finditer(raw), MOST_LINES + 1))
    return checked_names(_name(line) for line in lines if line.strip() and not _TOTAL.fullmatch(line))


def checked_names(names: Iterable[str]) -> Listing:
    """Names that are known to be names."""
    count, tricks = 0, list[str]()
    for name in names:
        count += 1
        if len(tricks) < MOST_TOLD and _is_trick(name):
            tricks.append(printable(name))
    return Listing(count, tuple(tricks))


def _name(line: str) -> str:
    """The name in a line; of a format that is not known, all that follows the last space."""
    line = line[-MOST_IN_A_LINE:]
    if match := _LONG.fullmatch(line):
        name = match[2].lstrip(" ")
        return name.partition(" -> ")[0] if match[1] == "l" else name
    if match := _DOS.fullmatch(line) or _FACTS.fullmatch(line):
        return match[1].strip(" ")
    return line.rpartition(" ")[2]


def _is_trick(name: str) -> bool:
    """Whether a name leads elsewhere, or would steer a terminal."""
    return "/" in name or "\\" in name or bool(_CONTROLS.search(name))
