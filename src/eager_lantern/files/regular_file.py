"""Reading files that somebody names: never one that does not end, and never more than has a limit."""

import stat
from pathlib import Path


class NotUsable(OSError):
    """What is named is no file of a size to be read; ``strerror`` says why."""

    def __init__(self, why: str) -> None:
        super().__init__(0, why)


def read_regular(path: Path, most: int) -> bytes:
    """The bytes of a regular file of at most so many. Raises OSError, NotUsable among it: for a folder, for what
    may never end (a pipe, a device), and for more than the limit."""
    found = path.stat()
    if stat.S_ISDIR(found.st_mode):
        raise NotUsable("is a folder; name a file in it")
    if not stat.S_ISREG(found.st_mode):
        raise NotUsable("is a pipe or a device; name a regular file")
    if found.st_size > most:
        raise NotUsable(f"has {found.st_size / 1e6:.0f} MB; such a file has at most {most / 1e6:g} MB")
    with path.open("rb") as file:
        return file.read(most)
