"""Passwords: where they come from, and how they are kept out of everything that is shown."""

import contextlib
import getpass
import netrc
import os
import signal
import sys
from collections.abc import Iterator
from pathlib import Path

from .secret_traces import GAP, traces

VARIABLE = "EAGER_LANTERN_PASSWORD"
HIDDEN = "••••"


LONG = 8
"""From how many characters on a password hardly stands in a text by chance, broken up or not."""


class Secret:
    """A password that does not print itself; ``of_host`` where it belongs to the name of a host, as netrc has it."""

    def __init__(self, text: str, of_host: bool = False) -> None:
        self._text = text
        self.of_host = of_host

    def reveal(self) -> str:
        """The password itself, for the wire only."""
        return self._text

    def hide_in(self, text: str) -> str:
        """The text with the password covered wherever it stands, in every form that :mod:`.secret_traces` knows. Only
        for what somebody else has said: a short password may well be a part of our own words."""
        parts, done = [], 0
        for first, last in traces(self._text, text, GAP if self.is_long else 0):
            parts += [text[done:first], HIDDEN]
            done = last
        return "".join((*parts, text[done:]))

    @property
    def is_long(self) -> bool:
        """Whether it hardly stands in any text by chance."""
        return len(self._text) >= LONG

    def __repr__(self) -> str:
        return f"Secret({HIDDEN})"


class NoPassword(Exception):
    """There is no way to learn the password, with what would be one."""


def password_for(host: str, user: str) -> Secret:
    """The password from the environment, netrc, or a prompt, in this order.

    Raises NoPassword where none of them is there; anonymous users need none (RFC 1635).
    """
    if VARIABLE in os.environ:
        return Secret(os.environ[VARIABLE])
    if found := _from_netrc(host, user):
        return found
    if user == "anonymous":
        return Secret("guest@")
    if sys.stdin is not None and sys.stdin.isatty():
        with _interruptible():
            return Secret(getpass.getpass(f"Password of {user} at {host}: ", stream=sys.stderr))
    raise NoPassword(f"no password for {user}: set {VARIABLE}, or add {host} to ~/.netrc, or run in a terminal")


@contextlib.contextmanager
def _interruptible() -> Iterator[None]:
    """Ctrl-C ends a question at once, also where asyncio would wait for its answer first."""
    before = signal.signal(signal.SIGINT, signal.default_int_handler)
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, before)


def _from_netrc(host: str, user: str) -> Secret | None:
    path = Path(os.environ.get("NETRC", "~/.netrc")).expanduser()
    if not os.path.isfile(path):  # noqa: PTH113  (Path.is_file raises where it may not look)
        return None
    try:
        entry = netrc.netrc(path).authenticators(host)
    except netrc.NetrcParseError as error:
        # The parser's own message may quote what it stumbled over, which may be a password.
        raise NoPassword(f"{path}:{error.lineno}: cannot be understood, or others may read it") from None
    except OSError as error:
        raise NoPassword(f"{path}: cannot be read: {error.strerror}") from None
    if entry is None or entry[0] not in ("", user) or entry[2] is None:
        return None
    return Secret(entry[2], of_host=True)
