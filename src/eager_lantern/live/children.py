"""What a program that is started from here gets of this one: none of its secrets, and no code of the current folder."""

import os
import sys
from pathlib import Path

OURS = "EAGER_LANTERN_"


def environment_for_child(**more: str) -> dict[str, str]:
    """This program's environment without the variables that are its own."""
    kept = {name: value for name, value in os.environ.items() if not name.startswith(OURS)}
    return {**kept, "PYTHONSAFEPATH": "1", **more}


def python_of_ours(module: str, *arguments: str) -> list[str]:
    """A command that runs ``main`` of a module of this program in an interpreter that looks nowhere but where this
    one found its own modules: not into the current folder, and not where variables of the environment point."""
    here = Path.cwd()
    own = str(Path(__file__).resolve().parents[2])
    found = [each for each in sys.path if each and Path(each).is_absolute() and Path(each) != here]
    paths = [own, *(each for each in found if each != own)]
    start = f"import sys; sys.path[:] = {paths!r}; from {module} import main; main()"
    return [sys.executable, "-I", "-c", start, *arguments]
