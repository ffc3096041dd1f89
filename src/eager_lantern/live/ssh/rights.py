"""Trying what an account may do over SSH file transfer, and whether it can climb out; then tidying up."""

import contextlib
import secrets
from collections.abc import Awaitable, Callable

import asyncssh

from ...core.model.site import Right
from ...core.observed.climb import RightSeen, RightsSeen
from ..common.visit_plan import NO_FILE, OUTSIDE, FolderLook, VisitPlan

_FAULTS = (asyncssh.Error, OSError, EOFError, ValueError, LookupError, TypeError, AssertionError)
ENOUGH_ENTRIES = 100


class SshTrial:
    """One account, tried right by right; every name it makes is its own."""

    def __init__(self, files: asyncssh.SFTPClient, plan: VisitPlan, prefix: str) -> None:
        self._files = files
        self._plan = plan
        self._name = f"{prefix}{secrets.token_hex(6)}-rights.txt"
        self._look = FolderLook()
        self._found: list[RightSeen] = []

    async def seen(self) -> RightsSeen:
        """Every right in every folder, then what remains removed."""
        left = [name for look in self._plan.looks.every_folder for name in await self._in(look)]
        confined, detail = await self._confined()
        return RightsSeen(tuple(self._found), self._plan.looks.confined, confined, detail, tuple(left))

    @property
    def _file(self) -> str:
        return f"{self._look.name}/{self._name}" if self._look.name else self._name

    async def _in(self, look: FolderLook) -> list[str]:
        """Every right in a folder, in an order in which each can be tried; what could not be removed again."""
        self._look = look
        files, file, moved, folder = self._files, self._file, f"{self._file}.renamed", f"{self._file}.folder"
        await self._tried("list", lambda: self._listed(look.name or "."))
        wrote = await self._tried("write", lambda: self._write("wb"))
        await self._tried("append", lambda: self._write("ab"), wrote)
        await self._tried("read", self._read, wrote)
        renamed = await self._tried("rename", lambda: files.rename(file, moved), wrote)
        kept = moved if renamed else file
        removed = await self._tried("remove", lambda: files.remove(kept), wrote)
        made = await self._tried("make-folders", lambda: files.mkdir(folder))
        left = [kept] if wrote and not removed else []
        return [*left, folder] if made and not await self._done(lambda: files.rmdir(folder)) else left

    async def _listed(self, folder: str) -> None:
        """The first few entries of a folder, which may have any number of them."""
        count = 0
        async for _ in self._files.scandir(folder):
            count += 1
            if count >= ENOUGH_ENTRIES:
                return

    async def _write(self, mode: str) -> None:
        async with self._files.open(self._file, mode) as file:
            await file.write(b"one\n")

    async def _read(self) -> None:
        async with self._files.open(self._file, "rb") as file:
            await file.read(100)

    async def _tried(self, right: Right, step: Callable[[], Awaitable[object]], possible: bool = True) -> bool:
        expected = None if self._look.rights is None else right in self._look.rights
        seen: bool | None = None
        detail = NO_FILE
        if possible:
            try:
                await step()
                seen, detail = True, "was allowed"
            except asyncssh.SFTPError as error:
                seen, detail = False, f"the server replied {self._plan.credentials.password.hide_in(error.reason)}"
            except _FAULTS as error:
                detail = str(error)
        self._found.append(RightSeen(right, expected, seen, detail, self._look.name))
        return bool(seen)

    async def _done(self, step: Callable[[], Awaitable[object]]) -> bool:
        with contextlib.suppress(*_FAULTS):
            await step()
            return True
        return False

    async def _confined(self) -> tuple[bool | None, str]:
        """Whether the account stays where it begins: what lies above is listed, or is not."""
        try:
            home = str(await self._files.realpath("."))
        except _FAULTS:
            return None, "the server does not report the folder"
        above = ("/",) if home != "/" else OUTSIDE
        for outside in above:
            if await self._done(lambda place=outside: self._listed(place)):  # type: ignore[misc]
                return False, f"it begins in {home} and can list {outside}"
        return True, f"it begins in {home}, and nothing above can be listed"
