"""How long a whole `check` of the demo site takes, beside the import of its usual libraries alone.

Both run alternately as processes, and the median of the ratios of neighbours is the result, so
that a machine that slows down meanwhile does not count. Install the package for it (not in
editable form), so that both sides run from compiled files. Exit code 1 above 1.9: with the versions of
autumn 2026 the imports alone have become quicker, and a check tries every cure that it tells on the model.
Printed beside it is the ratio to what a terminal program needs at least, and what the reader of YAML and
the validation add to that before a line of our own has run.
"""

import statistics
import subprocess
import sys
import time
from pathlib import Path

from eager_lantern import __file__ as package

LIMIT, ROUNDS = 1.9, 21
SITE = Path(package).parent / "data" / "saltmarsh-before.site.yaml"
CHECK = [sys.executable, "-m", "eager_lantern", "check", str(SITE)]
TERMINAL = [sys.executable, "-c", "import typer, rich.table"]
READER = [sys.executable, "-c", "import typer, rich.table, yaml, msgspec"]
IMPORTS = [sys.executable, "-c", "import typer, rich.table, pydantic, ruamel.yaml"]


def seconds(command: list[str]) -> float:
    started = time.perf_counter()
    subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, check=False)
    return time.perf_counter() - started


def main() -> int:
    if subprocess.run(IMPORTS, capture_output=True, check=False).returncode:
        print("pydantic and ruamel.yaml are needed to compare with: pip install pydantic ruamel.yaml")
        return 3
    seconds(CHECK), seconds(IMPORTS)
    pairs = [(seconds(CHECK), seconds(IMPORTS)) for _ in range(ROUNDS)]
    check, imports = (statistics.median(each) for each in zip(*pairs, strict=True))
    ratio = statistics.median(each / other for each, other in pairs)
    least = statistics.median(seconds(TERMINAL) for _ in range(ROUNDS))
    reader = statistics.median(seconds(READER) for _ in range(ROUNDS))
    print(f"check of the demo site  {check * 1000:6.0f} ms (median of {ROUNDS})")
    print(f"imports to compare with {imports * 1000:6.0f} ms")
    print(f"ratio                   {ratio:6.2f} (at most {LIMIT})")
    print(f"to typer and rich alone {check / least:6.2f}, of which YAML and validation {reader / least:.2f}")
    return int(ratio > LIMIT)


if __name__ == "__main__":
    sys.exit(main())
