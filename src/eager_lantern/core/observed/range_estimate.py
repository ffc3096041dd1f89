"""The range of data ports that a server really uses, estimated from the ports that it hands out.

Nobody can ask for the range; one can only ask for ports again and again. Two estimators say how
much is still unseen:

- The chance that the next port is a new one is about the share of ports seen just once among all
  asked (I. J. Good, “The population frequencies of species and the estimation of population
  parameters”, Biometrika 40, 1953).
- A server that picks among ``N`` ports with equal chance misses the outermost ``g`` of them in
  ``n`` tries with the chance ((N - g) / N)^n; the ``g`` for which this is 5 % bounds what may lie
  beyond an end, with 95 % confidence.

A server that hands its ports out in turn shows it by never repeating one before it has come round;
from then on its range is known exactly.
"""

import math
from collections import Counter
from collections.abc import Sequence
from itertools import pairwise
from typing import Literal

from msgspec import Struct

from ..values.ports import PortSet

CONFIDENCE = 0.95
ENOUGH_UNSEEN = 0.01
FEWEST, MOST = 24, 3000
Habit = Literal["at random", "in turn", "always the same"]


class RangeEstimate(Struct, frozen=True):
    """What the ports seen tell: how many were asked for, the habit of the server, the chance that the
    next one is new, and how many more may lie beyond either end (with 95 % confidence)."""

    asked: int
    seen: PortSet
    habit: Habit
    unseen_chance: float
    beyond: int

    @property
    def spanned(self) -> PortSet:
        """From the lowest to the highest port seen."""
        return PortSet.of((self.seen.lowest, self.seen.highest)) if self.seen else PortSet()

    @property
    def good(self) -> bool:
        """Whether asking on would hardly tell more."""
        return self.asked >= FEWEST and self.unseen_chance <= ENOUGH_UNSEEN


def estimated_range(handed_out: Sequence[int]) -> RangeEstimate:
    """The estimate from ports in the order in which they were handed out."""
    counts = Counter(handed_out)
    seen = PortSet.of(*((port, port) for port in counts))
    habit = _habit(handed_out)
    if habit == "in turn":
        # Come round, it has shown all; until then, each new one is new.
        return RangeEstimate(len(handed_out), seen, habit, 0.0 if len(counts) < len(handed_out) else 1.0, 0)
    once = sum(count == 1 for count in counts.values())
    chance = once / len(handed_out) if handed_out else 1.0
    return RangeEstimate(len(handed_out), seen, habit, chance, _beyond(seen, len(handed_out)))


def _habit(handed_out: Sequence[int]) -> Habit:
    if len(set(handed_out)) == 1 and len(handed_out) >= FEWEST:
        return "always the same"
    steps = Counter(b - a for a, b in pairwise(handed_out))
    usual = steps.most_common(1)[0] if steps else (0, 0)
    in_turn = usual[0] != 0 and usual[1] >= 0.8 * (len(handed_out) - 1) and len(handed_out) >= 3
    return "in turn" if in_turn else "at random"


def _beyond(seen: PortSet, asked: int) -> int:
    if not asked or not seen:
        return 0
    width = seen.highest - seen.lowest + 1
    missed: float = (1 - CONFIDENCE) ** (1 / asked)
    return math.ceil(width * (1 - missed) / missed)


class RangeSeen(Struct, frozen=True):
    """The estimate, what became of a connection to each port, other addresses that were announced,
    and why asking ended before the estimate was good, or nothing."""

    estimate: RangeEstimate
    answers: PortSet
    refuses: PortSet
    silent: PortSet
    announced: tuple[str, ...]
    cut_short: str


class AgainstPlan(Struct, frozen=True):
    """The range seen held against the planned one."""

    beyond_plan: PortSet
    never_seen: PortSet


def against_plan(estimate: RangeEstimate, planned: PortSet) -> AgainstPlan:
    """Ports handed out beyond the plan, and the parts of it outside of what was spanned."""
    return AgainstPlan(estimate.seen - planned, planned - estimate.spanned)
