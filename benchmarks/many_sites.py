"""Four hundred site files in one call: growth with their number, and the gain of the second core.

Printed are the ratio of a call over 400 files to one over 100 (linear is 4, starting the
program aside), and the ratio of one core's time to all cores' for 400.
"""

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from eager_lantern import __file__ as package

SITE = (Path(package).parent / "data" / "saltmarsh-before.site.yaml").read_text()


def seconds(folder: Path, cores: int | None = None) -> float:
    command = [sys.executable, "-m", "eager_lantern", "check", str(folder), "--format", "json"]
    pinned = [] if cores is None else ["taskset", "-c", "0"]
    started = time.perf_counter()
    subprocess.run([*pinned, *command], stdout=subprocess.DEVNULL, check=False)
    return time.perf_counter() - started


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        few, many = Path(name) / "few", Path(name) / "many"
        for folder, count in ((few, 100), (many, 400)):
            folder.mkdir()
            for i in range(count):
                (folder / f"{i}.site.yaml").write_text(SITE.replace("61200-61327", f"61200-{61300 + i % 150}"))
        small, large, alone = seconds(few), seconds(many), seconds(many, cores=1)
    print(f"100 sites   {small:6.2f} s")
    print(f"400 sites   {large:6.2f} s   {large / small:.2f} times as long for 4 times as many")
    print(f"on one core {alone:6.2f} s   {alone / large:.2f} times as long as on {os.cpu_count()}")


if __name__ == "__main__":
    main()
