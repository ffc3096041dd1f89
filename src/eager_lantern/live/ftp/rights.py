"""Trying what an account may do, and whether it can climb out of its folder; then tidying up."""

import secrets
import ssl
from typing import Protocol

from ...core.model.site import Right
from ...core.observed.climb import RightSeen, RightsSeen
from ...wire.ftp import ProtocolFault, Reply
from ..common.visit_plan import NO_FILE, OUTSIDE, FolderLook, VisitPlan
from ..vantage.base import Failed
from .session import Session

_FAULTS = (ProtocolFault, OSError, ssl.SSLError)


class Mover(Protocol):
    """Somebody who moves files on a session that is logged in."""

    session: Session

    async def moved(self, verb: str, argument: str, content: bytes | None) -> bytes:
        """Send the content, or fetch what there is. Raises Failed where the server refuses."""


class Trial:
    """One account, tried right by right; every name it makes is its own."""

    def __init__(self, mover: Mover, plan: VisitPlan, prefix: str) -> None:
        self._mover = mover
        self._plan = plan
        self._name = f"{prefix}{secrets.token_hex(6)}"
        self._look = FolderLook()
        self._files: list[str] = []
        self._found: list[RightSeen] = []

    async def seen(self) -> RightsSeen:
        """Every right in every folder, then what remains removed."""
        left = [name for look in self._plan.looks.every_folder for name in await self._in(look)]
        confined, detail = await self._confined()
        expected = self._plan.looks.confined
        return RightsSeen(tuple(self._found), expected, confined, detail, tuple(left))

    async def _in(self, look: FolderLook) -> list[str]:
        """Every right in a folder, in an order in which each can be tried; what could not be removed again."""
        self._look, self._files = look, []
        made = f"{look.name}/{self._name}" if look.name else self._name
        file = f"{made}-rights.txt"
        await self._transfer("list", "LIST", look.name, None)
        wrote = await self._transfer("write", "STOR", file, b"one\n")
        if wrote:
            self._files.append(file)
        await self._transfer("append", "APPE", file, b"two\n", wrote)
        await self._transfer("read", "RETR", file, None, wrote)
        if await self._asked("rename", ("RNFR", file), ("RNTO", f"{file}.renamed"), possible=wrote):
            self._files = [f"{file}.renamed"]
        if await self._asked("remove", ("DELE", self._files[0] if self._files else file), possible=wrote):
            self._files = []
        left = list(self._files)
        if await self._asked("make-folders", ("MKD", made)) and not await self._ok("RMD", made):
            left.append(made)
        return left

    def _note(self, right: Right, seen: bool | None, detail: str) -> bool:
        expected = None if self._look.rights is None else right in self._look.rights
        self._found.append(RightSeen(right, expected, seen, detail, self._look.name))
        return bool(seen)

    async def _transfer(
        self, right: Right, verb: str, argument: str, content: bytes | None, possible: bool = True
    ) -> bool:
        """A right that takes a data connection; not tried where there is nothing to try it on."""
        if not possible:
            return self._note(right, None, NO_FILE)
        try:
            await self._mover.moved(verb, argument, content)
        except Failed as failed:
            return self._note(right, False if failed.outcome == "refused" else None, failed.detail)
        except _FAULTS as error:
            return self._note(right, None, str(error))
        return self._note(right, True, f"{verb} was allowed")

    async def _asked(self, right: Right, *commands: tuple[str, str], possible: bool = True) -> bool:
        """A right that takes commands alone."""
        if not possible:
            return self._note(right, None, NO_FILE)
        for verb, argument in commands:
            reply = await self._mover.session.ask(verb, argument)
            if reply.kind not in (2, 3):
                return self._note(right, False, f"{verb}: the server replied {reply}")
        return self._note(right, True, f"{commands[-1][0]} was allowed")

    async def _ok(self, verb: str, argument: str = "") -> bool:
        return (await self._mover.session.ask(verb, argument)).kind == 2

    async def _confined(self) -> tuple[bool | None, str]:
        """Whether the account stays where it begins. The folder that it names at the start and after
        climbing tells; where it starts at the top, only folders of the system itself do."""
        home = _folder(await self._mover.session.ask("PWD"))
        if home is None:
            return None, "the server does not report the folder"
        if home.rstrip("/"):
            await self._ok("CWD", "/")
            top = _folder(await self._mover.session.ask("PWD"))
            await self._ok("CWD", home)
            above = top is not None and top != home
            return not above, f"it begins in {home} and reaches {top}" if above else f"it does not get above {home}"
        for outside in OUTSIDE:
            if await self._ok("CWD", outside):
                await self._ok("CWD", "/")
                return False, f"it begins at the top and enters {outside}"
        return True, "it begins at the top, and no folder of the system is there"


def _folder(reply: Reply) -> str | None:
    """The folder in a 257 reply (RFC 959, appendix II), with doubled quotes made single."""
    text = reply.text
    start, end = text.find('"'), text.rfind('"')
    return text[start + 1 : end].replace('""', '"') if reply.code == 257 and end > start else None
