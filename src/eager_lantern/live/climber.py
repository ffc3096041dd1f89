"""One session on its way up the ladder, whatever its protocol: each rung tried, timed and written down."""

import secrets
import time
from collections.abc import Awaitable, Callable
from typing import ClassVar

from ..core.ladder import Climbed, Outcome, Rung
from ..core.login_pace import LoginPace
from ..core.rights import RightsSeen
from ..wire.harmless import harmless
from .advice import advice_for
from .failed import Failed
from .plan import Plan
from .session import timed

PREFIX = "eager-lantern-visit-"
TIDY_SECONDS = 8
MOST_CHARACTERS = 400
Progress = Callable[[Rung], None]


class Climber:
    """The rungs of one session. The password is covered wherever it would be shown; ``file`` and ``content``
    are what it sends, and ``sent`` whether that may be on the server; ``faults`` are what a step may raise."""

    rungs: ClassVar[tuple[Rung, ...]]
    faults: ClassVar[tuple[type[Exception], ...]]

    def __init__(self, plan: Plan, progress: Progress) -> None:
        self.plan = plan
        self.progress = progress
        self.climbed: dict[Rung, Climbed] = {}
        self.current: Rung = "name"
        self.address = ""
        self.file = f"{PREFIX}{secrets.token_hex(6)}.txt"
        said = "Sent by eager-lantern visit to test this server; may be deleted."
        self.content = f"{said} {secrets.token_hex(16)}\n".encode()
        self.sent = False
        self.rights: RightsSeen | None = None
        self.pace: LoginPace | None = None

    def as_failed(self, error: Exception) -> Failed:
        """What one of the faults means for a rung."""
        raise NotImplementedError

    def note(self, rung: Rung, outcome: Outcome, detail: str, started: float | None) -> None:
        """Write down what became of a rung, with the password covered and nothing harmful in it."""
        spent = None if started is None else (time.perf_counter() - started) * 1000
        shown = harmless(self.plan.password.hide_in(detail), MOST_CHARACTERS)
        self.climbed[rung] = Climbed(rung, outcome, shown, spent, advice_for(rung, outcome))

    def note_left_behind(self, error: Exception) -> None:
        """Write down why what was sent could not be removed."""
        failed = self.as_failed(error)
        self.note("tidy", failed.outcome, f"{self.file} may still be on the server: {failed.detail}", None)

    def ladder(self) -> tuple[Climbed, ...]:
        """All rungs in order; what was not reached is untried."""
        return tuple(self.climbed.get(rung, Climbed(rung, "untried", "")) for rung in self.rungs)

    async def rung(self, rung: Rung, step: Callable[[], Awaitable[str]]) -> None:
        """Try one rung. Whatever goes wrong is noted and raised as Failed."""
        self.current = rung
        self.progress(rung)
        started = time.perf_counter()
        try:
            detail = await timed(self.plan.timeout, step())
        except self.faults as error:
            failed = await self.plan.standpoint.vouched(self.as_failed(error))
            self.note(rung, failed.outcome, failed.detail, started)
            raise failed from None
        self.note(rung, "ok", detail, started)
