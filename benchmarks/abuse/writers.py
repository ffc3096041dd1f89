"""Every command that writes, killed (SIGKILL) at moments all over its run: what is there is the old or the new content,
whole, and once the command has run again nothing else is left, neither beside the file nor among temporary ones."""

import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from random import Random

from corpus import CASES, DATA

KILLS, LOOK_EVERY = 200, 5
BEFORE, AFTER = (DATA / f"saltmarsh-{each}.site.yaml" for each in ("before", "after"))
COMMANDS: dict[str, tuple[str, ...]] = {
    "demo": ("demo", "--keep", "kept"),
    "survey": ("survey", "--router", "127.61.9.9", "--resolver", "127.61.9.9", "--save", "survey.json", "--force"),
    "mend": ("mend", "pier.site.yaml", "--write"),
    "adopt": ("adopt", "pier.site.yaml", str(CASES / "forwards.csv"), "--device", "harbour-router", "--write"),
    "first site": ("adopt", str(CASES / "kept-survey.json"), "--save", "first.site.yaml", "--force"),
    "new": ("new", "--site", "Pier", "--clients-can", "tls", "--defaults", "--save", "new.site.yaml", "--force"),
    "sheets": ("sheets", "pier.site.yaml", "--into", "pages", "--force"),
    "certificate": ("certificate", "pier.site.yaml", "--self-signed", "--into", "keys"),
    "size": ("size", "pier.site.yaml", "--picture", "size.svg"),
}
"""The longest first. Each writes into the folder that it runs in; what it makes ends with one of WHOLE, or is a key."""
WHOLE = (b"\n", b"</html>", b"}")


def _run(name: str, folder: Path, temporary: Path) -> "subprocess.Popen[bytes]":
    environment = {**os.environ, "TMPDIR": str(temporary)}
    words = [sys.executable, "-m", "eager_lantern", *COMMANDS[name]]
    quiet = subprocess.DEVNULL
    return subprocess.Popen(words, cwd=folder, env=environment, stdin=quiet, stdout=quiet, stderr=quiet)


def _torn(folder: Path, before: bytes) -> list[str]:
    """Files that are neither whole nor as before; hidden ones are what a killed writer leaves for the next."""
    found = []
    for path in (each for each in folder.rglob("*") if each.is_file() and not each.name.startswith(".")):
        content = path.read_bytes()
        if path.name == "pier.site.yaml" and len(content) < len(before) // 2:
            found.append(f"{path.name} has {len(content)} bytes")
        elif not content.endswith(WHOLE):
            found.append(f"{path.name} is torn")
    return found


def abused(minutes: float, seed: int, workers: int) -> list[str]:
    """As many kills as the time allows, LOOK_EVERY to KILLS a command; several commands side by side."""
    share = 60 * minutes * workers / len(COMMANDS)
    with ThreadPoolExecutor(workers) as pool:
        done = list(pool.map(lambda name: _killed(name, share, Random(f"{name} {seed}")), COMMANDS))
    counted = ", ".join(f"{name} {count}" for name, (count, _) in zip(COMMANDS, done, strict=True))
    print(f"writers   killed at any moment: {counted} times")
    return [each for _, found in done for each in found]


def _killed(name: str, seconds: float, chance: Random) -> tuple[int, list[str]]:
    """How often a command was killed, and what was found."""
    found, end, kills = list[str](), time.monotonic() + seconds, 0
    with tempfile.TemporaryDirectory() as place:
        temporary, folder = Path(place) / "tmp", Path(place) / "work"
        temporary.mkdir()
        took = _whole(name, folder, temporary)
        while kills < LOOK_EVERY or (kills < KILLS and time.monotonic() < end):
            _fresh(folder)
            process = _run(name, folder, temporary)
            time.sleep(chance.uniform(0.3, 1.05) * took)
            process.send_signal(signal.SIGKILL)
            process.wait()
            kills += 1
            found += [f"{name}, killed: {each}" for each in _torn(folder, BEFORE.read_bytes())]
            if kills % LOOK_EVERY == 0:
                found += _left(name, folder, temporary)
    return kills, found


def _fresh(folder: Path) -> None:
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir()
    shutil.copy(BEFORE, folder / "pier.site.yaml")


def _whole(name: str, folder: Path, temporary: Path) -> float:
    """How many seconds the command takes where nobody kills it."""
    _fresh(folder)
    started = time.monotonic()
    _run(name, folder, temporary).wait()
    return time.monotonic() - started


def _left(name: str, folder: Path, temporary: Path) -> list[str]:
    """What is still there of killed writers once the command has run again; one that overwrites nothing gets a place
    where there is nothing."""
    for each in (folder / "keys", folder / "kept") if name in ("certificate", "demo") else ():
        shutil.rmtree(each, ignore_errors=True)
    _run(name, folder, temporary).wait()
    hidden = [each.name for each in folder.rglob(".*")]
    stale = [each.name for each in temporary.iterdir()]
    return [f"{name}, killed: left {', '.join(hidden + stale)}"] if hidden or stale else []
