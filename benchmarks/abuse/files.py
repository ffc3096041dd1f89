"""Whole commands on damaged files: none ends in a fault of the program, none takes long or much memory.

A command is the program's own ``main`` with what would be typed, in a process of its own that is forked from one in
which everything is loaded, so that hundreds run in a second and none can spoil the next process. What counts as found:
exit code 70, any exception at all, a code that is on no page, more than 10 s of CPU, more than 600 MB.
"""

import contextlib
import io
import os
import resource
import shutil
import signal
import sys
import tempfile
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from multiprocessing import get_context
from multiprocessing.connection import Connection
from multiprocessing.process import BaseProcess
from pathlib import Path
from random import Random

from corpus import DATA, corpus, damaged, shown

MOST_CPU_SECONDS, MOST_BYTES = 10.0, 600_000_000
BATCH = 200
CODES = {0, 1, 2, 3}
AFTER = str(DATA / "saltmarsh-after.site.yaml")
Words = tuple[str, ...]
SITE: tuple[Words, ...] = (
    ("check", "FILE"), ("check", "FILE", "--format", "json"), ("check", "FILE", "--format", "sarif"), ("mend", "FILE"),
    ("mend", "FILE", "--write"), ("walk", "FILE", "--client", "institute"),
    ("sheets", "FILE", "--into", "pages", "--force"),
    ("compare", AFTER, "FILE"), ("compare", "FILE", AFTER, "--format", "json"), ("size", "FILE"),
    ("diagnose", "FILE", "--answers", "none"),
)  # fmt: skip
KEPT: tuple[Words, ...] = (
    ("diagnose", AFTER, "--seen", "FILE"), ("check", AFTER, "--seen", "FILE"),
    ("compare", AFTER, "FILE"), ("compare", "FILE", "FILE"),
    ("check", AFTER, "--survey", "FILE"), ("adopt", "FILE", "--save", "first.site.yaml", "--force"),
    ("adopt", AFTER, "FILE", "--device", "harbour-router"),
)  # fmt: skip
DEVICE: tuple[Words, ...] = (
    ("adopt", AFTER, "FILE"), ("adopt", AFTER, "FILE", "--device", "gauge-store"),
    ("adopt", AFTER, "FILE", "--device", "gauge-store", "--direction", "out"),
    ("adopt", AFTER, "FILE", "--device", "harbour-router"), ("adopt", AFTER, "FILE", "--format", "json"),
    ("adopt", AFTER, "FILE", "--device", "harbour-router", "--outside", "eth0", "--inside", "eth1"),
)  # fmt: skip
COMMANDS: dict[str, tuple[Words, ...]] = {
    "site": SITE, "kept": KEPT, "table": DEVICE, "ruleset": DEVICE, "device": DEVICE,
    "log": (("diagnose", AFTER, "--log", "field-station=FILE"), ("diagnose", "--log", "FILE")),
}  # fmt: skip


@dataclass
class Tally:
    """What a run came to."""

    runs: int = 0
    codes: dict[int, int] = field(default_factory=dict)
    most_cpu: float = 0.0
    most_bytes: int = 0
    found: list[str] = field(default_factory=list)

    def add(self, other: "Tally") -> None:
        """Count another's with one's own."""
        self.runs += other.runs
        for code, count in other.codes.items():
            self.codes[code] = self.codes.get(code, 0) + count
        self.most_cpu, self.most_bytes = max(self.most_cpu, other.most_cpu), max(self.most_bytes, other.most_bytes)
        self.found += other.found


class _TooLong(BaseException):
    pass


def _once(words: Words) -> int:
    """The exit code of a command. Raises whatever it raises."""
    from eager_lantern.cli.app import main

    sys.argv = ["eager-lantern", *words]
    with contextlib.redirect_stdout(io.StringIO()), contextlib.redirect_stderr(io.StringIO()):
        try:
            main()
        except SystemExit as leaving:
            return leaving.code if isinstance(leaving.code, int) else 1
    return 0


def _ended(number: int, frame: object) -> None:
    raise _TooLong


def _batch(seed: int, keep: Path, answer: Connection) -> None:
    """A batch of inputs in a folder of its own."""
    chance, tally, seeds = Random(seed), Tally(), corpus()
    names = list(seeds)
    signal.signal(signal.SIGPROF, _ended)
    with tempfile.TemporaryDirectory(prefix="abuse-") as folder:
        os.chdir(folder)
        for _ in range(BATCH):
            name = chance.choice(names)
            content = damaged(seeds[name], chance)
            kind, _, base = name.partition("/")
            file = f"x{Path(base).suffix}" if kind != "site" else "x.site.yaml"
            Path(file).write_bytes(content)
            words = tuple(each.replace("FILE", file) for each in chance.choice(COMMANDS[kind]))
            trouble, started = "", time.process_time()
            signal.setitimer(signal.ITIMER_PROF, MOST_CPU_SECONDS)
            try:
                code = _once(words)
                trouble = "" if code in CODES else f"exit code {code}"
                tally.codes[code] = tally.codes.get(code, 0) + 1
            except _TooLong:
                trouble = f"more than {MOST_CPU_SECONDS:g} s of CPU"
            except BaseException as error:  # all that is left is a fault of the program
                trouble = f"{type(error).__name__}: {error}"
            signal.setitimer(signal.ITIMER_PROF, 0)
            tally.runs += 1
            tally.most_cpu = max(tally.most_cpu, time.process_time() - started)
            tally.most_bytes = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
            if tally.most_bytes > MOST_BYTES:
                trouble = trouble or f"{tally.most_bytes // 1_000_000} MB"
            if trouble:
                (keep / shown(name, content)).write_bytes(content)
                tally.found.append(f"{' '.join(words)}: {trouble[:200]} ({keep / shown(name, content)})")
            for each in Path().iterdir():
                shutil.rmtree(each) if each.is_dir() else each.unlink()
            if tally.most_bytes > MOST_BYTES:
                break
        os.chdir("/")
    answer.send(tally)


def _seeds(seed: int) -> Iterator[int]:
    while True:
        yield seed
        seed += 1


def abused(seconds: float, seed: int, workers: int, keep: Path) -> Tally:
    """Batches side by side until the time is over."""
    keep.mkdir(parents=True, exist_ok=True)
    _once(("check", AFTER)), _once(("mend", AFTER))  # loads nearly everything once, before processes are forked
    fork, total, end = get_context("fork"), Tally(), time.monotonic() + seconds
    running: dict[Connection, BaseProcess] = {}
    numbers = _seeds(seed)
    while time.monotonic() < end or running:
        while len(running) < workers and time.monotonic() < end:
            ours, theirs = fork.Pipe()
            made = fork.Process(target=_batch, args=(next(numbers), keep, theirs))
            made.start()
            theirs.close()
            running[ours] = made
        for ours, process in list(running.items()):
            if not ours.poll(0.05 / workers):
                continue
            try:
                total.add(ours.recv())
            except EOFError:
                total.found.append("a process died without a word")
            process.join()
            del running[ours]
    return total
