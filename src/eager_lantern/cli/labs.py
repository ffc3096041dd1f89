"""The labs to choose from, and what each can do."""

import os
import shutil
import sys
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from enum import StrEnum
from pathlib import Path

import psutil

from ..lab.kernel.lab import KernelLab, has_helper
from ..lab.kernel.layout import lab_nodes
from ..lab.loopback.lab import LoopbackLab, lowest_port
from ..lab.rehearsal.rehearsal import Lab
from ..lab.rehearsal.setup import Able, Prepared


class LabKind(StrEnum):
    """Where the site is built."""

    kernel = "kernel"
    loopback = "loopback"


CALLED = {
    LabKind.kernel: "the kernel lab: its packet filter decides",
    LabKind.loopback: "the loopback lab: relays read the rules; it shows no helpers and no idle timeouts",
}


def able(lab: LabKind) -> Able:
    """What a lab of this kind can do on this machine."""
    return Able(has_helper(), True) if lab is LabKind.kernel else Able(False, False, lowest_port(), False)


def progress() -> Callable[[str], None]:
    """One line on a terminal that is written over, and at the end empty; nothing elsewhere."""
    terminal = sys.stderr.isatty()

    def tell(news: str) -> None:
        if terminal:
            shown = f"rehearsing: {news} …" if news else ""
            print(f"\r\x1b[2K{shown}", end="", file=sys.stderr, flush=True)

    return tell


PREFIX = "eager-lantern-lab-"


@contextmanager
def lab_folder() -> Iterator[Path]:
    """A folder for a lab's files, gone with it; those of labs whose program was killed are taken away first."""
    _sweep_stale()
    with tempfile.TemporaryDirectory(prefix=f"{PREFIX}{os.getpid()}-", ignore_cleanup_errors=True) as folder:
        yield Path(folder)


def _sweep_stale() -> None:
    """Folders of programs that run no more, as far as they are ours."""
    for each in Path(tempfile.gettempdir()).glob(f"{PREFIX}*"):
        number = each.name.removeprefix(PREFIX).partition("-")[0]
        with suppress(OSError):
            mine = sys.platform == "win32" or each.lstat().st_uid == os.getuid()
            if number.isdigit() and mine and not each.is_symlink() and not psutil.pid_exists(int(number)):
                shutil.rmtree(each, ignore_errors=True)


@contextmanager
def built(lab: LabKind, ready: Prepared) -> Iterator[Lab]:
    """A prepared site, standing. Raises LabMissing and TooLarge."""
    if lab is LabKind.loopback:
        with LoopbackLab(ready.topology, ready.strangers) as relays:
            yield relays
    else:
        with KernelLab(lab_nodes(ready.topology.site, ready.strangers), ready.folder) as running:
            yield running
