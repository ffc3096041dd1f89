"""How long a whole `check` of the demo site takes, beside the smallest command that the same libraries make.

Both run alternately as processes, and the fastest run of each counts: whatever else the machine does only adds to
a run. Install the package for it (not in editable form), so that both sides run from compiled files. The smallest
command has one option and prints a table of one row: the terminal library loads its own validation when a command
runs, so that the import alone is no measure of what every program of it takes. Exit code 1 above 1.6. The site is the
one of the demo that is broken: its cures are tried on the model as well. Printed beside it, each by the import of the
terminal libraries: the check, the site as it is mended, what the reader of YAML and the validation add before a line of
our own has run, and what usual libraries for the same take.
"""

import subprocess
import sys
import time
from pathlib import Path

from eager_lantern import __file__ as package

LIMIT, ROUNDS = 1.6, 17
DATA = Path(package).parent / "data"
CHECK = [sys.executable, "-m", "eager_lantern", "check"]
BROKEN, MENDED = ([*CHECK, str(DATA / name)] for name in ("saltmarsh-before.site.yaml", "saltmarsh-after.site.yaml"))
SMALLEST = """
import typer
from rich.console import Console
from rich.table import Table

app = typer.Typer(add_completion=False, rich_markup_mode=None)

@app.command()
def main(name: str = typer.Option("pier")) -> None:
    table = Table("name")
    table.add_row(name)
    Console().print(table)

app()
"""
LEAST = [sys.executable, "-c", SMALLEST]
TERMINAL = [sys.executable, "-c", "import typer, rich.table"]
READER = [sys.executable, "-c", "import typer, rich.table, yaml, msgspec"]
USUAL = [sys.executable, "-c", "import typer, rich.table, pydantic, ruamel.yaml"]
BESIDE = {
    "check of the demo site": BROKEN,
    "the mended site": MENDED,
    "the smallest command": LEAST,
    "imports with YAML and validation": READER,
    "imports of usual libraries": USUAL,
}


def seconds(command: list[str]) -> float:
    started = time.perf_counter()
    subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, check=False)
    return time.perf_counter() - started


def fastest(command: list[str], other: list[str], rounds: int) -> tuple[float, float]:
    """The fastest seconds of a command, and of another in turn with it."""
    seconds(command), seconds(other)
    taken = [(seconds(command), seconds(other)) for _ in range(rounds)]
    return min(mine for mine, _ in taken), min(its for _, its in taken)


def main() -> int:
    for needed in (USUAL, LEAST):
        if (done := subprocess.run(needed, capture_output=True, text=True, check=False)).returncode:
            print(f"pydantic and ruamel.yaml are needed to compare with: {done.stderr.strip().splitlines()[-1]}")
            return 3
    check, least = fastest(BROKEN, LEAST, ROUNDS)
    print(f"check of the demo site            {check * 1000:4.0f} ms (fastest of {ROUNDS})")
    print(f"the smallest command              {least * 1000:4.0f} ms")
    print(f"ratio                             {check / least:4.2f} (at most {LIMIT})")
    print("beside the import of typer and rich.table:")
    for name, command in BESIDE.items():
        mine, imports = fastest(command, TERMINAL, ROUNDS // 2)
        print(f"{name:33} {mine / imports:5.2f}")
    return int(check / least > LIMIT)


if __name__ == "__main__":
    sys.exit(main())
