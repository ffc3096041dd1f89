"""What a command ends with (docs/results.md). Nothing else knows the numbers."""

from collections.abc import Iterable
from typing import Literal

KEPT, BROKEN, BAD_INPUT, CANNOT_TELL, FAULT, INTERRUPTED = 0, 1, 2, 3, 70, 130
_WORST_FIRST = (FAULT, BAD_INPUT, BROKEN, CANNOT_TELL, KEPT)


def of_verdict(verdict: Literal["kept", "broken", "unknown"]) -> int:
    """The code of a verdict on a site."""
    return {"kept": KEPT, "broken": BROKEN, "unknown": CANNOT_TELL}[verdict]


def of_kept(kept: Iterable[bool | None]) -> int:
    """The code of several promises; None stands for one that is unknown, and none at all tells nothing."""
    found = set(kept)
    return BROKEN if False in found else CANNOT_TELL if None in found or not found else KEPT


def worst(codes: Iterable[int]) -> int:
    """The code that matters most of several."""
    found = set(codes)
    return next((code for code in _WORST_FIRST if code in found), KEPT)
