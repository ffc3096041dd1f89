"""How a command ends: results on stdout, whole or not at all, and signals."""

import codecs
import contextlib
import io
import os
import signal
import sys
from collections.abc import Iterable
from typing import Self, TextIO

from rich.console import Console, Group, RenderableType

from ..views.screen import console_on, rendered

_ENDINGS = [getattr(signal, name) for name in ("SIGTERM", "SIGHUP") if hasattr(signal, name)]


def end_tidily() -> None:
    """Leave as by Ctrl-C, so that folders and processes of a lab are taken away."""
    with contextlib.suppress(ValueError):  # in a thread of another program
        for number in _ENDINGS:
            signal.signal(number, _exit_by_signal)


def end_quietly() -> None:
    """End at once, as a process does that has nothing to tidy up: a worker of several."""
    for number in _ENDINGS:
        signal.signal(number, signal.SIG_DFL)


def _exit_by_signal(number: int, frame: object) -> None:
    sys.exit(128 + number)


class OutputLost(Exception):
    """Nobody reads stdout any more, or it cannot take more."""


class _Stream(io.TextIOWrapper):
    @classmethod
    def instead_of(cls, stream: io.TextIOWrapper) -> Self:
        """The same stream, which is not used any more itself."""
        encoding, lines, at_once = stream.encoding, stream.line_buffering, stream.write_through
        return cls(
            stream.detach(), encoding, "backslashreplace", line_buffering=lines, write_through=at_once
        )  # fmt: skip


class ResultStream(_Stream):
    """Where results go, whoever writes them: this program, or the parser of its arguments (help, versions). Raises
    OutputLost where it takes no more."""

    def write(self, text: str) -> int:
        """Write all of it. Nothing is no write: with nothing others only ask what kind of stream this is."""
        if text == "":
            return 0
        try:
            return super().write(text)
        except OSError as error:
            raise self._lost(error) from None

    def flush(self) -> None:
        """Hand on what waits."""
        try:
            super().flush()
        except OSError as error:
            raise self._lost(error) from None

    @staticmethod
    def _lost(error: OSError) -> OutputLost:
        """What is left in the buffer must not be tried again while the interpreter ends."""
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        return OutputLost(error.strerror or "closed")


class SideStream(_Stream):
    """Where everything else is said: where nobody can take it, it is said to nobody, and the command goes on to its own
    end and exit code."""

    def write(self, text: str) -> int:
        """Write what can be written."""
        with contextlib.suppress(OSError, ValueError):
            super().write(text)
        return len(text)

    def flush(self) -> None:
        """Hand on what can be."""
        with contextlib.suppress(OSError, ValueError):
            super().flush()


def emit(text: str) -> None:
    """Write a result to stdout. Raises OutputLost when it cannot be taken."""
    text = _in_encoding(text, sys.stdout.encoding or "ascii")
    sys.stdout.write(text if text.endswith("\n") else text + "\n")
    sys.stdout.flush()


_STAND_INS = str.maketrans({
    "◆": "x", "●": "o", "◌": "?", "▲": "!", "✕": "X", "·": ".", "▆": "#", "▂": "_", "━": "-", "→": "->", "◀": "<",
    "›": ">", "“": '"', "”": '"', "’": "'", "…": "...", "–": "-", "×": "x", "•": "*",
})  # fmt: skip
"""Plain characters for those that an old encoding may lack; every shape stays another one."""


def _in_encoding(text: str, encoding: str) -> str:
    """The text as this encoding can have it: JSON with escapes, which lose nothing, anything else with plain
    shapes and what is left written out."""
    if text.startswith("{") and codecs.lookup(encoding).name != "utf-8":  # JSON is UTF-8 (RFC 8259, section 8.1)
        return "".join(each if ord(each) < 128 else _json_escape(each) for each in text)
    try:
        text.encode(encoding)
    except UnicodeEncodeError:
        plain = text.translate(_STAND_INS)
        return plain.encode(encoding, errors="backslashreplace").decode(encoding)
    return text


def _json_escape(character: str) -> str:
    """One character as JSON escapes it (RFC 8259, section 7)."""
    import json  # only where an encoding lacks what JSON has

    return json.dumps(character)[1:-1]


def show(parts: Iterable[RenderableType]) -> None:
    """Write a view to stdout: in colour on a terminal, unless NO_COLOR is set or it is a dumb one."""
    emit(_rendered_text(parts, sys.stdout))


def tell(parts: Iterable[RenderableType], end: str = "\n") -> None:
    """Write what is no result, a question for example, to stderr in the same way."""
    text = _in_encoding(_rendered_text(parts, sys.stderr).removesuffix("\n"), sys.stderr.encoding or "ascii")
    print(text, end=end, file=sys.stderr, flush=True)


class Redrawn:
    """A view on stdout that is drawn again and again in its place, where stdout is a terminal that can do that; on
    any other nothing is drawn."""

    def __init__(self) -> None:
        from rich.live import Live  # it loads slowly, and few commands draw twice

        width, colour = _width_of(sys.stdout), _is_coloured(sys.stdout)
        console = console_on(sys.stdout, colour, width)
        self._live = Live(console=console, auto_refresh=False, transient=True) if colour else None

    def draw(self, parts: Iterable[RenderableType]) -> None:
        """Draw this instead of what is there."""
        if self._live is not None:
            self._live.start()
            self._live.update(Group(*parts), refresh=True)

    def clear(self) -> None:
        """Take it away."""
        if self._live is not None:
            self._live.stop()


def _rendered_text(parts: Iterable[RenderableType], stream: TextIO) -> str:
    return rendered(parts, colour=_is_coloured(stream), width=_width_of(stream))


def _width_of(stream: TextIO) -> int | None:
    return _width_asked() or (os.get_terminal_size(stream.fileno()).columns if stream.isatty() else None)


def _is_coloured(stream: TextIO) -> bool:
    """Whether a stream is a terminal that reads escape sequences, and colour is wanted on it."""
    plain = bool(os.environ.get("NO_COLOR")) or os.environ.get("TERM") == "dumb"
    return stream.isatty() and not plain and not Console(file=stream).legacy_windows


def _width_asked() -> int:
    """The columns that ``COLUMNS`` asks for; 0 where it asks for none."""
    asked = os.environ.get("COLUMNS", "")
    return int(asked) if asked.isdecimal() and len(asked) < 5 else 0


def has_terminal() -> bool:
    """Whether a program that is started from here can ask somebody."""
    try:
        os.close(os.open("CON" if sys.platform == "win32" else "/dev/tty", os.O_RDWR))
    except OSError:
        return False
    return True
