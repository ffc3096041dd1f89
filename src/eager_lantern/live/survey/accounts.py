"""Accounts that the survey's host keeps itself or knows from a directory (public interface of the systems).

Of Linux by ``getent`` and ``stat``, here or far away; of Windows by ``net user``, whose exit code alone is read, since
its words are translated, and it knows no home or shell; of any other system by its account database (``getpwnam``).
"""

import asyncio
import os
import stat
import subprocess
import sys
from collections.abc import AsyncIterator, Awaitable, Callable, Sequence
from pathlib import Path

from msgspec.structs import replace

from ...core.observed.survey import SurveyedAccount, SystemKind
from ...wire import linux_host as linux
from ...wire.terminal_safe import printable
from ..own_process import environment_for_child, understood
from ..vantage.base import Vantage
from .host import Learning

MOST_ACCOUNTS = 100
NOT_FOUND = 2
"""The exit code of ``getent`` where a name is in none of its databases, and of ``net user`` where nobody has it."""
LONGEST_SECONDS = 20.0
"""For which ``net user`` is waited: it may ask a directory."""
Look = Callable[[str], Awaitable[SurveyedAccount]]
"""What is known of the account of a name. It raises OSError and ValueError."""


async def linux_accounts(vantage: Vantage, names: Sequence[str], learning: Learning) -> tuple[SurveyedAccount, ...]:
    """Accounts of a Linux system, here or far away."""

    async def look(name: str) -> SurveyedAccount:
        return await _by_getent(vantage, name)

    return tuple([each async for each in _each(names, look, "getent passwd", learning)])


async def own_accounts(kind: SystemKind, names: Sequence[str], learning: Learning) -> tuple[SurveyedAccount, ...]:
    """Accounts of this machine, where it is no Linux."""
    blocking, ask = (_by_net_user, "net user") if kind == "windows" else (_by_database, "id")

    async def look(name: str) -> SurveyedAccount:
        return await asyncio.to_thread(blocking, name)

    return tuple([each async for each in _each(names, look, ask, learning)])


async def _each(names: Sequence[str], look: Look, ask: str, learning: Learning) -> AsyncIterator[SurveyedAccount]:
    for name in names[:MOST_ACCOUNTS]:
        found = await learning.of("accounts", f"{ask} {name}", look(name))
        if found is not None:
            yield found
    if len(names) > MOST_ACCOUNTS:
        learning.note_unknown("accounts", f"only the first {MOST_ACCOUNTS} are looked at", f"{ask} NAME")


async def _by_getent(vantage: Vantage, name: str) -> SurveyedAccount:
    _refuse_option(name, "-")
    code, written = await vantage.run(("getent", "passwd", name))
    if code == NOT_FOUND:
        return SurveyedAccount(name, "getent passwd", known=False)
    if code != 0:
        raise ValueError(f"getent ends with exit code {code}")
    found = await understood(lambda: linux.account(name, written))
    code, written = await vantage.run(("stat", "-L", "-c", "%F|%U|%a", "--", found.home))
    return await understood(lambda: linux.top_of(found, written)) if code == 0 else found


def _by_net_user(name: str) -> SurveyedAccount:
    _refuse_option(name, "/")
    net = Path(os.environ.get("SYSTEMROOT", r"C:\Windows"), "System32", "net.exe")
    asked = [str(net), "user", name]
    try:
        code = subprocess.run(
            asked, env=environment_for_child(), stdin=subprocess.DEVNULL, capture_output=True,
            timeout=LONGEST_SECONDS, check=False,
        ).returncode  # fmt: skip
    except subprocess.TimeoutExpired:
        raise ValueError(f"net user does not end within {LONGEST_SECONDS:g} s") from None
    if code not in (0, NOT_FOUND):
        raise ValueError(f"net user ends with exit code {code}")
    return SurveyedAccount(name, "net user", known=code == 0)


def _by_database(name: str) -> SurveyedAccount:
    if sys.platform == "win32":
        raise ValueError("this system has no database of POSIX accounts")
    import pwd

    try:
        entry = pwd.getpwnam(name)
    except KeyError:
        return SurveyedAccount(name, "getpwnam", known=False)
    shell, home = linux.shell_of(entry.pw_shell), printable(entry.pw_dir, 400)
    found = SurveyedAccount(name, "getpwnam", True, shell, home)
    try:
        seen = Path(entry.pw_dir).stat()
        owner = pwd.getpwuid(seen.st_uid).pw_name
    except (OSError, KeyError):  # nobody may look, or the number has no name
        return found
    if not stat.S_ISDIR(seen.st_mode):
        raise ValueError(f"the home of {name} is no folder")
    mode = f"{stat.S_IMODE(seen.st_mode):o}"
    return replace(found, by="getpwnam, stat", owner=printable(owner, 80), mode=mode)


def _refuse_option(name: str, sign: str) -> None:
    if name.startswith(sign):
        raise ValueError(f"“{name}” begins with “{sign}”, and would be taken for an option")
