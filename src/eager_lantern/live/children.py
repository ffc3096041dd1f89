"""What a program that is started from here gets of this one: none of its secrets, and no code of the current folder.

Programs of the system (namespaces, packet filter, daemons) are looked up in SYSTEM_PATH alone; what is the
administrator's own choice (ssh, git) in their search path, without the folders of it that are relative or the current
one.
"""

import os
import sys
from collections.abc import Iterator
from pathlib import Path

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
    return os.pathsep.join(_apart(os.environ.get("PATH", "").split(os.pathsep)))


def _apart(folders: list[str]) -> Iterator[str]:
    here = os.path.realpath(os.curdir)
    yield from (each for each in folders if os.path.isabs(each) and os.path.realpath(each) != here)  # noqa: PTH117


def program(name: str, path: str = SYSTEM_PATH) -> str | None:
    """Where a program of a search path stands; None where it has none of this name. Unlike the system's own search,
    never in the current folder."""
    file = f"{name}.exe" if sys.platform == "win32" else name
    found = (os.path.join(each, file) for each in _apart(path.split(os.pathsep)))  # noqa: PTH118
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
