"""What an account may do, as it was seen."""

from msgspec import Struct

from ..model.site import Right


class RightSeen(Struct, frozen=True):
    """One right that was tried. ``expected`` is what the site says, ``seen`` what the server let
    happen; None where the one is silent or the other could not be tried. ``folder`` is the one that it was tried in,
    as clients see it; empty for where the session begins."""

    right: Right
    expected: bool | None
    seen: bool | None
    detail: str
    folder: str = ""

    @property
    def fits(self) -> bool | None:
        """Whether both say the same; None where one of them says nothing."""
        return None if self.expected is None or self.seen is None else self.expected == self.seen


class RightsSeen(Struct, frozen=True):
    """All rights of an account that were tried, whether it can leave its folder, and what could not
    be removed again."""

    rights: tuple[RightSeen, ...]
    confined_expected: bool | None
    confined: bool | None
    confined_detail: str
    left_behind: tuple[str, ...]
