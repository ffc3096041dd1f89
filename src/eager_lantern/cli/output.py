"""Writing results: stdout is only the result, and a result is written whole or not at all."""

import os
import sys
from collections.abc import Iterable
from typing import TextIO

from rich.console import RenderableType

from ..views.screen import WIDTH, rendered


class OutputLost(Exception):
    """Nobody reads stdout any more, or it cannot take more."""


def emit(text: str) -> None:
    """Write a result to stdout. Raises OutputLost when it cannot be taken."""
    try:
        sys.stdout.write(text if text.endswith("\n") else text + "\n")
        sys.stdout.flush()
    except OSError as error:
        # What is left in the buffer must not be tried again while the interpreter ends.
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        raise OutputLost(error.strerror or "closed") from None


def show(parts: Iterable[RenderableType]) -> None:
    """Write a view to stdout: in colour on a terminal, unless NO_COLOR is set or it is a dumb one."""
    emit(_drawn(parts, sys.stdout))


def tell(parts: Iterable[RenderableType], end: str = "\n") -> None:
    """Write what is no result, a question for example, to stderr in the same way."""
    print(_drawn(parts, sys.stderr).removesuffix("\n"), end=end, file=sys.stderr, flush=True)


def _drawn(parts: Iterable[RenderableType], stream: TextIO) -> str:
    terminal = stream.isatty()
    width = os.get_terminal_size(stream.fileno()).columns if terminal else WIDTH
    plain = bool(os.environ.get("NO_COLOR")) or os.environ.get("TERM") == "dumb"
    return rendered(parts, colour=terminal and not plain, width=width or WIDTH)


def has_terminal() -> bool:
    """Whether a program that is started from here can ask somebody."""
    try:
        os.close(os.open("CON" if sys.platform == "win32" else "/dev/tty", os.O_RDWR))
    except OSError:
        return False
    return True
