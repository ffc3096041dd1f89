"""How many files and sockets this process may have open."""

import contextlib
import sys

if sys.platform != "win32":
    import resource


def allow_open_files(wanted: int | None = None) -> int | None:
    """Allow so many, or as many as there can be, as far as the system lets a process do that itself; how many it is
    then. None where there is no limit, as on Windows."""
    if sys.platform != "win32":
        soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
        if wanted is None or (soft != resource.RLIM_INFINITY and soft < wanted):
            most = hard if wanted is None or (hard != resource.RLIM_INFINITY and hard < wanted) else wanted
            with contextlib.suppress(ValueError, OSError):
                resource.setrlimit(resource.RLIMIT_NOFILE, (most, hard))
                soft = most
        return None if soft == resource.RLIM_INFINITY else soft
    return None
