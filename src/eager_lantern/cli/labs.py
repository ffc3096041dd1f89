"""The labs to choose from, and what each can do."""

import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from enum import StrEnum

from ..lab.kernel import KernelLab, has_helper
from ..lab.kernel_plan import lab_nodes
from ..lab.loopback import LoopbackLab, lowest_port
from ..lab.prepared import Able, Prepared
from ..lab.rehearsal import Lab


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
    return Able(has_helper(), True) if lab is LabKind.kernel else Able(False, False, lowest_port())


def progress() -> Callable[[str], None]:
    """One line on a terminal that is written over, and at the end empty; nothing elsewhere."""
    terminal = sys.stderr.isatty()

    def tell(news: str) -> None:
        if terminal:
            shown = f"rehearsing: {news} …" if news else ""
            print(f"\r\x1b[2K{shown}", end="", file=sys.stderr, flush=True)

    return tell


@contextmanager
def built(lab: LabKind, ready: Prepared) -> Iterator[Lab]:
    """A prepared site, standing. Raises LabMissing and TooLarge."""
    if lab is LabKind.loopback:
        with LoopbackLab(ready.topology, ready.strangers) as relays:
            yield relays
    else:
        with KernelLab(lab_nodes(ready.topology.site, ready.strangers), ready.folder) as stands:
            yield stands
