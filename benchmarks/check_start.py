"""How long a whole `check` of the demo site takes, beside the import of what a terminal program needs at least.

Both run alternately as processes, and the fastest run of each counts: whatever else the machine does only adds to
a run. Install the package for it (not in
editable form), so that both sides run from compiled files. Exit code 1 above 2.5. The site is the one of the demo
that is broken: its cures are tried on the model as well. Printed beside it is the site as it is mended, what the
reader of YAML and the validation add before a line of our own has run, and what usual libraries for the same take.
"""

import subprocess
import sys
import time
from pathlib import Path

from eager_lantern import __file__ as package

LIMIT, ROUNDS = 2.5, 17
DATA = Path(package).parent / "data"
CHECK = [sys.executable, "-m", "eager_lantern", "check"]
BROKEN, MENDED = ([*CHECK, str(DATA / name)] for name in ("saltmarsh-before.site.yaml", "saltmarsh-after.site.yaml"))
TERMINAL = [sys.executable, "-c", "import typer, rich.table"]
READER = [sys.executable, "-c", "import typer, rich.table, yaml, msgspec"]
USUAL = [sys.executable, "-c", "import typer, rich.table, pydantic, ruamel.yaml"]
BESIDE = {"the mended site": MENDED, "imports with YAML and validation": READER, "imports of usual libraries": USUAL}


def seconds(command: list[str]) -> float:
    started = time.perf_counter()
    subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, check=False)
    return time.perf_counter() - started


def beside_terminal(command: list[str], rounds: int) -> tuple[float, float]:
    """The fastest seconds of a command, and of the terminal's imports in turn with it."""
    seconds(command), seconds(TERMINAL)
    taken = [(seconds(command), seconds(TERMINAL)) for _ in range(rounds)]
    return min(each for each, _ in taken), min(other for _, other in taken)


def main() -> int:
    if subprocess.run(USUAL, capture_output=True, check=False).returncode:
        print("pydantic and ruamel.yaml are needed to compare with: pip install pydantic ruamel.yaml")
        return 3
    check, terminal = beside_terminal(BROKEN, ROUNDS)
    print(f"check of the demo site            {check * 1000:4.0f} ms (fastest of {ROUNDS})")
    print(f"import of typer and rich.table    {terminal * 1000:4.0f} ms")
    print(f"ratio                             {check / terminal:4.2f} (at most {LIMIT})")
    for name, command in BESIDE.items():
        other, least = beside_terminal(command, ROUNDS // 2)
        print(f"{name:33} {other / least:4.2f}")
    return int(check / terminal > LIMIT)


if __name__ == "__main__":
    sys.exit(main())
