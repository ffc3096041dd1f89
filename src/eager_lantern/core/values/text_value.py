"""The base of small immutable values that the site file writes as text, and the places where they stand in it.

The core knows no lines and no files. It points with a place, and whoever read the file
knows which line that is.
"""

from typing import Any, ClassVar

LONGEST_ONE, LONGEST_MANY = 300, 2_000_000
"""How many characters one thing may be written with (a name has at most 253, RFC 1035), and a list of them."""


def bounded(text: str, most: int = LONGEST_ONE) -> str:
    """The text itself. Raises ValueError for one that is longer than anything that is read here."""
    if len(text) > most:
        raise ValueError(f"found {len(text)} characters, “{text[:24]}…”; expected at most {most}")
    return text


class Value:
    """Equal, ordered and hashed by the parts that a subclass names in ``__slots__``.

    Not a dataclass, so that a decoder hands over the text as it is written instead of
    looking for a mapping of fields.
    """

    __slots__: tuple[str, ...] = ()
    _names: ClassVar[tuple[str, ...]] = ()

    def __init_subclass__(cls) -> None:
        cls._names = tuple(each for part in cls.__mro__ for each in part.__dict__.get("__slots__", ()))

    def _parts(self) -> tuple[Any, ...]:
        return tuple([getattr(self, each) for each in self._names])

    def __eq__(self, other: object) -> bool:
        return type(other) is type(self) and other._parts() == self._parts()

    def __lt__(self, other: "Value") -> bool:
        return bool(self._parts() < other._parts())

    def __hash__(self) -> int:
        return hash(self._parts())

    def __repr__(self) -> str:
        return f"{type(self).__name__}({str(self)!r})"


SitePath = tuple[str | int, ...]


def dotted(place: SitePath) -> str:
    """``gateways[0].forwards[1].ports``."""
    text = ""
    for part in place:
        text += f"[{part}]" if isinstance(part, int) else f".{part}"
    return text.removeprefix(".")
