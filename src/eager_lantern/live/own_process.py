"""What this process shares with its children and threads: environment, programs, open files, work that nobody has to
wait for.

Programs of the system (namespaces, packet filter, daemons) are looked up in SYSTEM_PATH alone; what is the
administrator's own choice (ssh, git) in their search path, without the folders of it that are relative or the current
one.
"""

import asyncio
import contextlib
import os
import sys
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import Future
from pathlib import Path
from typing import TypeVar

OURS = "EAGER_LANTERN_"
SYSTEM_PATH = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin:/run/current-system/sw/bin"


def environment_for_child(**more: str) -> dict[str, str]:
    """This program's environment without the variables that are its own, and with :func:`own_path`."""
    kept = {name: value for name, value in os.environ.items() if not name.startswith(OURS)}
    return {**kept, "PATH": own_path(), "PYTHONSAFEPATH": "1", **more}


def environment_of_system() -> dict[str, str]:
    """The same for a program of the system, which looks for others in SYSTEM_PATH alone."""
    return environment_for_child(PATH=SYSTEM_PATH)


def own_path() -> str:
    """The user's search path without what is relative or the current folder, where somebody else may have put a
    program of a known name."""
    return os.pathsep.join(_outside_current_folder(os.environ.get("PATH", "").split(os.pathsep)))


def _outside_current_folder(folders: list[str]) -> Iterator[str]:
    here = os.path.realpath(os.curdir)
    yield from (each for each in folders if os.path.isabs(each) and os.path.realpath(each) != here)  # noqa: PTH117


def program(name: str, path: str = SYSTEM_PATH) -> str | None:
    """Where a program of a search path stands; None where it has none of this name. Unlike the system's own search,
    never in the current folder."""
    file = f"{name}.exe" if sys.platform == "win32" else name
    found = (os.path.join(each, file) for each in _outside_current_folder(path.split(os.pathsep)))  # noqa: PTH118
    return next((each for each in found if os.path.isfile(each) and os.access(each, os.X_OK)), None)  # noqa: PTH113


def python_of_ours(module: str, *arguments: str) -> list[str]:
    """A command that runs ``main`` of a module of this program in an interpreter that looks nowhere but where this
    one found its own modules: not into the current folder, and not where variables of the environment point."""
    here = Path.cwd()
    own = str(Path(__file__).resolve().parents[2])
    found = [each for each in sys.path if each and Path(each).is_absolute() and Path(each) != here]
    paths = [own, *(each for each in found if each != own)]
    start = f"import sys; sys.path[:] = {paths!r}; from {module} import main; main()"
    return [sys.executable, "-I", "-c", start, *arguments]


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


Done = TypeVar("Done")
SECONDS = 10.0
"""How long an answer from a network may take to be understood; all that is honest takes milliseconds."""


async def aside(work: Callable[[], Done]) -> Done:
    """What some work comes to, done in a thread of its own. Whoever stops waiting leaves that thread behind: unlike
    one of asyncio's pool, it keeps neither the event loop nor the process from ending."""
    return await asyncio.wrap_future(begun(work))


def begun(work: Callable[[], Done]) -> Future[Done]:
    """Some work in a thread of its own, which keeps no process from ending."""
    done: Future[Done] = Future()

    def run() -> None:
        if done.set_running_or_notify_cancel():
            try:
                done.set_result(work())
            except BaseException as error:
                done.set_exception(error)

    threading.Thread(target=run, daemon=True).start()
    return done


async def understood(read: Callable[[], Done]) -> Done:
    """What bytes from a network mean. Raises ValueError where that takes too long, and what ``read`` raises."""
    try:
        async with asyncio.timeout(SECONDS):
            return await aside(read)
    except TimeoutError:
        raise ValueError(f"an answer that is not understood within {SECONDS:g} s") from None
