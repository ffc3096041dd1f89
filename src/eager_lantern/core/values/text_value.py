"""The base of small immutable values that the site file writes as text."""

from typing import Any


class Value:
    """Equal, ordered and hashed by the parts that a subclass names in ``__slots__``.

    Not a dataclass, so that a decoder hands over the text as it is written instead of
    looking for a mapping of fields.
    """

    __slots__: tuple[str, ...] = ()

    def _parts(self) -> tuple[Any, ...]:
        return tuple(getattr(self, each) for cls in type(self).__mro__ for each in getattr(cls, "__slots__", ()))

    def __eq__(self, other: object) -> bool:
        return type(other) is type(self) and other._parts() == self._parts()

    def __lt__(self, other: "Value") -> bool:
        return bool(self._parts() < other._parts())

    def __hash__(self) -> int:
        return hash(self._parts())

    def __repr__(self) -> str:
        return f"{type(self).__name__}({str(self)!r})"
