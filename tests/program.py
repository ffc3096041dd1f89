"""Running the built program as its users do."""

import os
import subprocess
import sys
from pathlib import Path

from eager_lantern import __file__ as package

DATA = Path(package).parent / "data"
BEFORE, AFTER = DATA / "saltmarsh-before.site.yaml", DATA / "saltmarsh-after.site.yaml"


def run(*words: object, cwd: Path | None = None, **environment: str) -> subprocess.CompletedProcess[str]:
    """Run the program with these words and no terminal."""
    kept = {key: value for key, value in os.environ.items() if key != "EAGER_LANTERN_PASSWORD"}
    return subprocess.run(
        [sys.executable, "-m", "eager_lantern", *map(str, words)],
        capture_output=True,
        text=True,
        timeout=60,
        cwd=cwd,
        env={**kept, **environment},
        stdin=subprocess.DEVNULL,
    )
