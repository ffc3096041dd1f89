"""How many files and sockets this process may have open."""

import contextlib
import sys

if sys.platform != "win32":
    import resource


def allow_open_files(wanted: int | None = None) -> None:
    """Allow so many, or as many as there can be, as far as the system lets a process do that itself. Windows
    has no such limit."""
    if sys.platform != "win32":
        soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
        if wanted is None or soft < wanted:
            with contextlib.suppress(ValueError, OSError):
                resource.setrlimit(resource.RLIMIT_NOFILE, (hard if wanted is None else min(wanted, hard), hard))
