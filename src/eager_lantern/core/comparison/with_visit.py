"""Two results of visits held against each other, session by session."""

from collections.abc import Iterator, Sequence

from msgspec import Struct

from ..observed.climb import Climb, RungSeen
from .turn import Turn, turn_of


class Revisited(Struct, frozen=True):
    """A session of two results: the same client, service, mode, target and place. None where one has none of it."""

    before: Climb | None
    after: Climb | None

    @property
    def session(self) -> Climb:
        """Whose session it is."""
        known = self.after or self.before
        assert known is not None
        return known

    @property
    def turn(self) -> Turn:
        """What has become of it."""
        alike = self.before is not None and self.after is not None and _outcomes(self.before) == _outcomes(self.after)
        return turn_of(self.before, self.after, alike)

    @property
    def parts_at(self) -> tuple[RungSeen | None, RungSeen | None]:
        """The first rung at which the two went differently, as it was and as it is."""
        before = {each.rung: each for each in self.before.rungs} if self.before else {}
        after = {each.rung: each for each in self.after.rungs} if self.after else {}
        for rung in dict.fromkeys((*before, *after)):
            one, other = before.get(rung), after.get(rung)
            if (one and one.outcome) != (other and other.outcome):
                return one, other
        return None, None


def revisited(before: Sequence[Climb], after: Sequence[Climb]) -> tuple[Revisited, ...]:
    """Every session of two results, in the order of the later one."""
    return tuple(_revisited(before, after))


def _revisited(before: Sequence[Climb], after: Sequence[Climb]) -> Iterator[Revisited]:
    left = {_key(each): each for each in before}
    for each in after:
        yield Revisited(left.pop(_key(each), None), each)
    yield from (Revisited(each, None) for each in left.values())


def _key(climb: Climb) -> tuple[str, ...]:
    return climb.client, climb.service, climb.mode, climb.holds, climb.target, climb.place


def _outcomes(climb: Climb) -> list[tuple[str, str]]:
    return [(each.rung, each.outcome) for each in climb.rungs]
