"""Signals at any moment of what lasts: it ends within 5 s with the code of the page, without a traceback, and leaves
neither processes nor files."""

import os
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from random import Random

import psutil
from corpus import DATA

MOST_SECONDS = 5.0
AFTER = str(DATA / "saltmarsh-after.site.yaml")
LASTING = {
    "rehearse on loopback": ("rehearse", AFTER, "--lab", "loopback"),
    "rehearse in the kernel": ("rehearse", AFTER),
    "demo": ("demo",),
    "lamp": ("lamp", AFTER, "--listen", "127.0.0.1", "--ports", "61200-61299"),
    "visit": ("visit", "127.0.0.1", "--port", "9", "--user", "anonymous", "--security", "none"),
    "survey": ("survey", "--router", "127.61.9.9", "--resolver", "127.61.9.9"),
}
OWN = b"eager_lantern"
"""Stands in a traceback of the program; without it, it is one of the interpreter that has not come to the program."""
CODES = {signal.SIGINT: (130, -signal.SIGINT), signal.SIGTERM: (143,)}


def abused(minutes: float, seed: int, workers: int) -> list[str]:
    """One after the other until the time is over."""
    chance, found, count, worst = Random(seed), list[str](), 0, 0.0
    if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:  # as in the background of a shell: its children would too
        signal.signal(signal.SIGINT, signal.default_int_handler)
    end = time.monotonic() + 60 * minutes
    while time.monotonic() < end:
        name = chance.choice(list(LASTING))
        number = chance.choice(list(CODES))
        with tempfile.TemporaryDirectory() as folder:
            mark = f"abuse-{os.getpid()}-{count}"
            process = subprocess.Popen(
                [sys.executable, "-m", "eager_lantern", *LASTING[name]],
                env={**os.environ, "TMPDIR": folder, "ABUSE_MARK": mark}, stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL, stderr=subprocess.PIPE,
            )  # fmt: skip
            time.sleep(chance.uniform(0.05, 8.0))
            codes = CODES[number] if _caught(process.pid, number) else (*CODES[number], -number)
            process.send_signal(number)
            sent = time.monotonic()
            try:
                _, said = process.communicate(timeout=60)
            except subprocess.TimeoutExpired:
                process.kill()
                _, said = process.communicate()
            lasted = time.monotonic() - sent
            count, worst = count + 1, max(worst, lasted)
            done = process.returncode in (0, 1, 2, 3)  # it was through before the signal came
            if lasted > MOST_SECONDS:
                found.append(f"{name}: {lasted:.1f} s after {number.name}")
            if not done and process.returncode not in codes:
                found.append(f"{name}: code {process.returncode} after {number.name}: {said[-200:]!r}")
            if b"Traceback" in said and OWN in said:
                found.append(f"{name}: a traceback after {number.name}: {said.decode(errors='replace')}")
            gone = time.monotonic() + MOST_SECONDS
            while (left := _marked(mark)) and time.monotonic() < gone:
                time.sleep(0.1)
            if left:
                found.append(f"{name}: {len(left)} processes are left after {number.name}")
            if files := [each.name for each in Path(folder).iterdir()]:
                found.append(f"{name}: {', '.join(files)} left after {number.name}")
    print(f"signals   {count} at any moment of {', '.join(LASTING)}; longest to its end {worst:.1f} s")
    return found


def _caught(pid: int, number: int) -> bool:
    """Whether the process has a handler for the signal by now: while the interpreter loads the program there is none,
    nothing to tidy up, and the system ends it."""
    lines = Path(f"/proc/{pid}/status").read_text().splitlines()
    mask = next((line for line in lines if line.startswith("SigCgt:")), "SigCgt: 0").split()[1]
    return bool(int(mask, 16) >> (number - 1) & 1)


def _marked(mark: str) -> list[int]:
    return [each.pid for each in psutil.process_iter() if _is_marked(each, mark)]


def _is_marked(process: psutil.Process, mark: str) -> bool:
    try:
        return process.environ().get("ABUSE_MARK") == mark
    except psutil.Error:
        return False
