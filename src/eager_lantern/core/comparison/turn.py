"""What has become of something that is promised, from one state to another."""

from collections.abc import Set
from typing import Literal, Protocol

Turn = Literal["lost", "doubtful", "gained", "otherwise", "same", "new", "dropped"]
"""Lost is what was kept and is broken, doubtful what was kept and cannot be told, dropped what nobody promises any
more."""
Verdict = Literal["same", "changed", "lost", "unknown"]


class Kept(Protocol):
    """A forecast or a session."""

    @property
    def kept(self) -> bool | None:
        """Whether it is as promised; None where it cannot be told."""


def turn_of(before: Kept | None, after: Kept | None, alike: bool) -> Turn:
    """From one to the other, None where a state does not have it; ``alike`` is whether the two show the same."""
    if before is None or after is None:
        return "new" if before is None else "dropped"
    if before.kept is True and after.kept is not True:
        return "lost" if after.kept is False else "doubtful"
    if after.kept is True and before.kept is not True:
        return "gained"
    return "same" if alike else "otherwise"


def verdict_of(turns: Set[Turn], alike: bool) -> Verdict:
    """Of all together; ``alike`` is whether nothing else differs either."""
    if "lost" in turns:
        return "lost"
    if "doubtful" in turns:
        return "unknown"
    return "same" if alike and turns <= {"same"} else "changed"
