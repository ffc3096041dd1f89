"""In which order to make edits, so that no promise breaks on the way, and no login in clear is open to the internet.

Theory: a walk over sets
========================
The site in between depends only on which edits have been made, so an order is a walk from none to all of them over
sets, each one edit larger than the last. A set is safe where all that is to hold does so in its site. The walk goes
on by the first edit that leads to a safe set, those that add first, then those that change, then those that take away:
whoever lets the new in before he shuts the old out loses nobody. Where no single edit leads on, it goes back and tries
another; a set that leads nowhere is not entered again.

Where no such walk exists, edits have to be made at once: first those of one device, which most devices can take
together, else all that are left. That is reported, never passed off as safe. The same holds from the start where there
are more edits than sets that may be looked at: nobody makes thousands one by one.
"""

from collections.abc import Callable, Iterator, Sequence, Set
from itertools import combinations
from typing import Literal, Protocol

from msgspec import Struct

Turn = Literal["lost", "doubtful", "unknown", "gained", "otherwise", "same", "new", "dropped"]
"""Lost is what was kept and is broken, doubtful what was kept and is unknown, unknown what is so in both states,
dropped what nobody promises any more."""
Verdict = Literal["same", "changed", "lost", "unknown"]


class Kept(Protocol):
    """A forecast or a session."""

    @property
    def kept(self) -> bool | None:
        """Whether it is as promised; None where it is unknown."""


def transition_of(before: Kept | None, after: Kept | None, alike: bool) -> Turn:
    """From one to the other, None where a state does not have it; ``alike`` is whether the two show the same."""
    if before is None or after is None:
        return "new" if before is None else "dropped"
    if before.kept is True and after.kept is not True:
        return "lost" if after.kept is False else "doubtful"
    if after.kept is True and before.kept is not True:
        return "gained"
    if before.kept is None and after.kept is None:
        return "unknown"
    return "same" if alike else "otherwise"


def verdict_of(turns: Set[Turn], alike: bool) -> Verdict:
    """Of all together; ``alike`` is whether nothing else differs either."""
    if "lost" in turns:
        return "lost"
    if turns & {"doubtful", "unknown"}:
        return "unknown"
    return "same" if alike and turns <= {"same"} else "changed"


Made = frozenset[int]
"""The numbers of the edits that have been made."""


class Order(Struct, frozen=True):
    """Steps that make all edits, each with the numbers of its edits: after each step all that is to hold does. Where
    one has several, no single one of them is safe, as far as sets were looked at: ``complete`` is whether all were."""

    steps: tuple[tuple[int, ...], ...]
    complete: bool = True

    @property
    def is_safe(self) -> bool:
        """Whether nothing breaks on the way, however long somebody takes from edit to edit."""
        return all(len(each) == 1 for each in self.steps)


def ordered(wanted: Sequence[int], devices: Sequence[str], holds: Callable[[Made], bool], most: int) -> Order:
    """An order of the edits ``wanted``, which stand as they should be tried; ``devices`` are theirs. ``holds`` states
    whether all that is to hold does after these edits, as it has to after none and after all of them; it is asked
    so many times at ``most``."""
    walk = _Walk(wanted, devices, holds, most)
    return Order(tuple(walk.steps()), walk.complete)


class _Walk:
    def __init__(self, wanted: Sequence[int], devices: Sequence[str], holds: Callable[[Made], bool], most: int) -> None:
        self.wanted, self.holds, self.most = wanted, holds, most
        self.device = dict(zip(wanted, devices, strict=True))
        self.known: dict[Made, bool] = {}
        self.whole = frozenset(wanted)
        self.singly = len(wanted) <= most

    @property
    def complete(self) -> bool:
        """Whether no set was left out for want of time."""
        return self.singly and len(self.known) < self.most

    def steps(self) -> Iterator[tuple[int, ...]]:
        """Single edits as far as they lead, then several at once, and so on."""
        made: Made = frozenset()
        while made != self.whole:
            way = self._single(made) if self.singly else ()
            yield from ((each,) for each in way)
            made = made | set(way)
            if made != self.whole:
                step = self._several(made)
                yield step
                made = made | set(step)

    def _safe(self, made: Made) -> bool:
        """What was not looked at counts as not safe."""
        if made == self.whole:
            return True
        if made not in self.known:
            if len(self.known) >= self.most:
                return False
            self.known[made] = self.holds(made)
        return self.known[made]

    def _single(self, start: Made) -> tuple[int, ...]:
        """The longest way of single edits that was found; all the way, if there is one among those looked at."""
        longest: tuple[int, ...] = ()
        dead: set[Made] = set()
        way: list[int] = []
        made = start
        while made != self.whole:
            onward = (each for each in self.wanted if each not in made and made | {each} not in dead)
            step = next((each for each in onward if self._safe(made | {each})), None)
            if step is not None:
                way.append(step)
                made = made | {step}
                longest = max(longest, tuple(way), key=len)
            elif not way or not self.complete:
                return longest
            else:
                dead.add(made)
                made = made - {way.pop()}
        return tuple(way)

    def _several(self, made: Made) -> tuple[int, ...]:
        """The fewest edits that are safe together: two, those of one device, or else all that are left."""
        left = [each for each in self.wanted if each not in made]
        pairs = combinations(left, 2) if self.complete else ()
        if (pair := next((each for each in pairs if self._safe(made | set(each))), None)) is not None:
            return pair
        for device in dict.fromkeys(self.device[each] for each in left):
            mine = tuple(each for each in left if self.device[each] == device)
            if self._safe(made | set(mine)):
                return mine
        return tuple(left)
