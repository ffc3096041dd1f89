"""What became of each rung, written down while a session climbs."""

import time

from ..core.ladder import Climbed, Outcome, Rung
from ..wire.harmless import harmless
from .advice import advice_for
from .secret import Secret

MOST_CHARACTERS = 400


class Notebook:
    """The rungs of one session; ``password`` is covered wherever it would be shown."""

    def __init__(self, rungs: tuple[Rung, ...], password: Secret) -> None:
        self._rungs = rungs
        self._password = password
        self.climbed: dict[Rung, Climbed] = {}

    def note(self, rung: Rung, outcome: Outcome, detail: str, started: float | None) -> None:
        """Write down what became of a rung, with the password covered and nothing harmful in it."""
        spent = None if started is None else (time.perf_counter() - started) * 1000
        shown = harmless(self._password.hide_in(detail), MOST_CHARACTERS)
        self.climbed[rung] = Climbed(rung, outcome, shown, spent, advice_for(rung, outcome))

    def ladder(self) -> tuple[Climbed, ...]:
        """All rungs in order; what was not reached is untried."""
        return tuple(self.climbed.get(rung, Climbed(rung, "untried", "")) for rung in self._rungs)
