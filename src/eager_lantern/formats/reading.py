"""Reading files that somebody names, and the errors about them, each starting with ``FILE:LINE:``.

The kernel's own files (/proc, /sys) pass for regular ones: to read one may wait for ever (/proc/kmsg), or do something.
So a file is opened without waiting, then looked at by its handle, which nobody can exchange meanwhile, and only then
read.
"""

import contextlib
import os
import stat
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from msgspec import Struct

from ..wire.terminal_safe import printable

MOST_SHOWN, MOST_COUNTED, MOST_CHARACTERS, MOST_EXPLAINED = 20, 1000, 600, 3


class InputProblem(Struct, frozen=True):
    """Something wrong in a file: what was found, and what was expected; line 0 is the file as a whole. ``key`` is
    the key of a site file that it is about."""

    line: int
    message: str
    key: str = ""


class BadInput(Exception):
    """A file that cannot be used, with every problem that was found in it."""

    def __init__(self, file: str, *problems: InputProblem) -> None:
        self.file = file
        self.problems = tuple(sorted(problems, key=lambda each: each.line))
        super().__init__("\n".join(self._lines()))

    def __reduce__(self) -> tuple[type["BadInput"], tuple[object, ...]]:
        return BadInput, (self.file, *self.problems)

    def _lines(self) -> list[str]:
        file = printable(self.file, MOST_CHARACTERS)
        shown = [
            f"{file}{f':{each.line}' if each.line else ''}: {printable(each.message, MOST_CHARACTERS)}"
            for each in self.problems[:MOST_SHOWN]
        ]
        left = len(self.problems) - len(shown)
        more = f"{left} or more" if len(self.problems) >= MOST_COUNTED else f"{left} more"
        keys = list(dict.fromkeys(each.key for each in self.problems[:MOST_SHOWN] if each.key))[:MOST_EXPLAINED]
        explained = [f"more: eager-lantern explain {each}" for each in keys]
        return [*shown, *([f"{file}: and {more} of the kind"] if left else []), *explained]


def bad_file(file: str | os.PathLike[str], message: str, line: int = 0) -> BadInput:
    """A file that cannot be used for one reason."""
    return BadInput(str(file), InputProblem(line, message))


OF_THE_SYSTEM = ("/proc", "/sys", "/dev")
_TEMPORARY = "/dev/shm"
_CHUNK = 1_048_576


class NotUsable(OSError):
    """What is named is no file of a size to be read; ``strerror`` says what was found, and expected."""

    def __init__(self, why: str) -> None:
        super().__init__(0, why)


NOT_THERE = "found no such file; expected one that is there"
NOT_PERMITTED = "found what you may not read; expected permission to read it"


def not_readable(error: OSError) -> str:
    """The message for what cannot be opened or read."""
    if isinstance(error, NotUsable):
        return error.strerror or ""
    if isinstance(error, FileNotFoundError):
        return NOT_THERE
    if isinstance(error, PermissionError):
        return NOT_PERMITTED
    return f"found what cannot be read ({(error.strerror or 'it failed').lower()}); expected a file that can"


def read_document(path: Path, most: int) -> bytes:
    """The bytes of a file that somebody has named. Raises BadInput for what cannot be read or has more."""
    with _named(path):
        return read_regular(path, most)


class FileEnd(NamedTuple):
    """The first bytes of a file, its last ones, and how many it has."""

    head: bytes
    rest: bytes
    size: int


HEAD_BYTES = 4


def read_end(path: Path, most: int) -> FileEnd:
    """The first four and the last ``most`` bytes of a file that somebody has named, such as a log that grows. Raises
    BadInput for what cannot be read."""
    with _named(path), _opened(path) as (handle, size):
        head = os.read(handle, HEAD_BYTES)
        os.lseek(handle, max(0, (size - most) // HEAD_BYTES * HEAD_BYTES), os.SEEK_SET)
        return FileEnd(head, _read_bounded(handle, most + _CHUNK), size)


@contextlib.contextmanager
def _named(path: Path) -> Iterator[None]:
    """What goes wrong, as a fault of the file."""
    try:
        yield
    except OSError as error:
        raise bad_file(path, not_readable(error)) from None


def read_regular(path: Path, most: int) -> bytes:
    """The bytes of a regular file of at most so many. Raises OSError, NotUsable among it: for a folder, for what may
    never end (a pipe, a device), for files of the system, and for more than the limit."""
    with _opened(path) as (handle, size):
        if size > most:
            raise NotUsable(f"found {size / 1e6:.0f} MB; expected at most {most / 1e6:g} MB")
        return _read_bounded(handle, most)


@contextlib.contextmanager
def _opened(path: Path) -> Iterator[tuple[int, int]]:
    """A regular file, opened to be read, and its size in bytes."""
    _refuse_system(os.path.realpath(path))
    _refuse_other(path.stat())  # to open a device may do something already
    flags = os.O_RDONLY | sum(getattr(os, each, 0) for each in ("O_NONBLOCK", "O_NOCTTY", "O_CLOEXEC", "O_BINARY"))
    handle = os.open(path, flags)
    try:
        found = os.fstat(handle)
        _refuse_other(found)
        if found.st_dev in _devices_of_the_system():
            raise NotUsable("found a file of the system; expected a document")
        yield handle, found.st_size
    finally:
        os.close(handle)


def _refuse_other(found: os.stat_result) -> None:
    """Raises NotUsable for what is no regular file."""
    if stat.S_ISDIR(found.st_mode):
        raise NotUsable("found a folder; expected a file in it")
    if not stat.S_ISREG(found.st_mode):
        raise NotUsable("found a pipe or a device; expected a regular file")


def _read_bounded(handle: int, most: int) -> bytes:
    parts, total = [], 0
    while part := os.read(handle, _CHUNK):
        parts.append(part)
        total += len(part)
        if total > most:
            raise NotUsable(f"found a file that grows while it is read; expected at most {most / 1e6:g} MB")
    return b"".join(parts)


def _refuse_system(real: str) -> None:
    """Raises NotUsable for what lies where the system keeps its own."""
    inside = any(real == each or real.startswith(f"{each}/") for each in OF_THE_SYSTEM)
    if os.name == "posix" and inside and not real.startswith(f"{_TEMPORARY}/"):
        raise NotUsable("found a file of the system; expected a document")


def _devices_of_the_system() -> set[int]:
    """The devices of the kernel's own file systems, wherever else they are mounted as well."""
    found = set()
    for each in ("/proc", "/sys"):
        with contextlib.suppress(OSError):
            there, root = os.stat(each), os.stat("/")  # noqa: PTH116
            if there.st_dev != root.st_dev:
                found.add(there.st_dev)
    return found
