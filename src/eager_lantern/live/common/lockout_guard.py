"""One login try an account, however many visits want it, so that nobody is locked out."""

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from ..failure import Failed


class LockoutGuard:
    """Lets one visit try an account first. Once that is let in, so are all others; once it is refused, no
    other tries."""

    def __init__(self) -> None:
        self._first = asyncio.Lock()
        self._good = False
        self._refused = ""

    @asynccontextmanager
    async def turn(self) -> AsyncIterator[None]:
        """Wait until it is known what becomes of the first try."""
        if self._good:
            yield
            return
        async with self._first:
            yield

    @property
    def shut(self) -> str:
        """Why the account is not tried; empty where it may be."""
        return (
            f"not tried, so that nobody is locked out: it was refused before ({self._refused})" if self._refused else ""
        )

    def pass_or_fail(self) -> None:
        """Raises Failed where the account was refused before."""
        if self.shut:
            raise Failed("unknown", self.shut)

    def let_in(self) -> None:
        """The account is good."""
        self._good = True

    def turned_away(self, why: str) -> None:
        """The account was refused."""
        self._refused = why
