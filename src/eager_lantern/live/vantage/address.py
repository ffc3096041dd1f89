"""How a place that is reached over SSH is written."""

import re

from ...wire.terminal_safe import printable

OWN_PLACE = "here"
"""This machine, as it is written."""
_PLACE = re.compile(r"ssh://(?:[^\s/@:-][^\s/@:]*@)?(?:[\w][\w.-]*|\[[0-9a-fA-F:.%]+\])(?::[0-9]{1,5})?/?")


def checked_place(text: str) -> str:
    """The text, where it is the address of a place. Raises ValueError with what would be right."""
    if not _PLACE.fullmatch(text):
        raise ValueError(f"“{printable(text)}” is no place: write ssh://USER@HOST or ssh://USER@HOST:PORT, or here")
    return text.rstrip("/")


def place_called(place: str) -> str:
    """A place as it is shown."""
    return place.removeprefix("ssh://")
