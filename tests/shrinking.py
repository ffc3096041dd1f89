"""Make a site that shows a disagreement as small as it can be and still show it."""

import copy
import random
from collections.abc import Iterator
from typing import Any

from side_by_side import Compared, compared

from eager_lantern.formats.reading import BadInput

KEPT = {"lantern", "site", "server", "name", "network", "address", "outside", "inside"}
MOST_TRIALS = 150


def shrunk(site: dict[str, Any], shown: Compared) -> dict[str, Any]:
    """Leave out whatever can be left out, until nothing more can."""
    left = MOST_TRIALS
    smaller = True
    while smaller and left:
        smaller = False
        for path in sorted(_removable(site), key=len):
            candidate = _without(site, path)
            if candidate is None or not left:
                continue
            left -= 1
            if _shows(candidate, shown):
                site, smaller = candidate, True
    return site


def _removable(part: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """Every list entry, and every key that is not needed; the last entries first."""
    if isinstance(part, list):
        for i in range(len(part) - 1, -1, -1):
            yield (*path, i)
            yield from _removable(part[i], (*path, i))
    elif isinstance(part, dict):
        for key, value in part.items():
            if key not in KEPT:
                yield (*path, key)
            yield from _removable(value, (*path, key))


def _without(site: dict[str, Any], path: tuple[Any, ...]) -> dict[str, Any] | None:
    candidate = copy.deepcopy(site)
    part: Any = candidate
    for step in path[:-1]:
        try:
            part = part[step]
        except (KeyError, IndexError):
            return None  # gone with an earlier removal
    try:
        del part[path[-1]]
    except (KeyError, IndexError):
        return None
    return candidate


def _shows(site: dict[str, Any], shown: Compared) -> bool:
    """Whether the same connection or session still differs."""
    try:
        found = compared(site, 0, random.Random(0), (shown.probe,) if shown.probe else ())
    except (BadInput, KeyError, StopIteration):
        return False
    return any(each.differs for each in found if each.what == shown.what)
