"""What becomes of a program that is told to end by a signal other than Ctrl-C."""

import contextlib
import signal
import sys

_ENDINGS = [getattr(signal, name) for name in ("SIGTERM", "SIGHUP") if hasattr(signal, name)]


def end_tidily() -> None:
    """Leave as by Ctrl-C, so that folders and processes of a lab are taken away."""
    with contextlib.suppress(ValueError):  # in a thread of another program
        for number in _ENDINGS:
            signal.signal(number, _ended)


def end_quietly() -> None:
    """End at once, as a process does that has nothing to tidy up: a worker of several."""
    for number in _ENDINGS:
        signal.signal(number, signal.SIG_DFL)


def _ended(number: int, frame: object) -> None:
    sys.exit(128 + number)
