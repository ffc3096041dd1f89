"""Finding pages by what shows: the words of somebody who sees a fault and does not know its name."""

import re
from collections.abc import Mapping

from .package_data import Page

MOST_FOUND = 12
_ALIKE = {
    "hang": ("hang", "silence", "no answer", "wait"), "timeout": ("hang", "no answer", "silence"),
    "timed": ("hang", "no answer", "silence"), "stuck": ("hang",), "freeze": ("hang",), "freezes": ("hang",),
    "refused": ("refus",), "reset": ("refus", "break"), "dir": ("listing",), "ls": ("listing",), "list": ("listing",),
    "folder": ("listing", "folder"), "directory": ("listing", "folder"), "upload": ("transfer",),
    "download": ("transfer",), "password": ("password", "login", "account"), "530": ("login", "account"),
    "425": ("data", "listing"), "certificate": ("certificate",), "outside": ("outside",), "home": ("inside",),
}  # fmt: skip
"""What people say, and the words that the pages have for it."""
_SMALL = {"the", "a", "an", "is", "it", "and", "but", "or", "of", "to", "in", "on", "at", "my", "not", "no", "does"}


def showing_like(text: str, pages: Mapping[str, Page]) -> list[str]:
    """The kinds of finding whose “how it shows” has all that is asked for, the closest first."""
    asked = [each for each in re.findall(r"[a-z0-9]+", text.lower()) if each not in _SMALL]
    scored = {kind: _score(asked, page) for kind, page in pages.items()}
    best = max(scored.values(), default=0)
    found = [kind for kind, score in scored.items() if score and score == best]
    return found[:MOST_FOUND] if asked and best >= len(asked) else []


def _score(asked: list[str], page: Page) -> int:
    """How many of the words stand in what shows."""
    shows = page["shows"].lower()
    return sum(any(form in shows for form in _forms(word)) for word in asked)


def _forms(word: str) -> tuple[str, ...]:
    """A word without its ending, and what else is said for it."""
    stem = re.sub(r"(ings?|ed|es|s)$", "", word) if len(word) > 4 else word
    return (*_ALIKE.get(word, ()), *_ALIKE.get(stem, ()), stem)
