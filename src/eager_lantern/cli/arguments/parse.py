"""What was typed after an option, read as the site file reads it."""

from typing import Any, Protocol, Self, TypeVar

import typer


class Readable(Protocol):
    """A value type that reads itself from text, and says what is wrong with it."""

    @classmethod
    def parse(cls, text: str) -> Self:
        """Raises ValueError."""


Kind = TypeVar("Kind", bound=Readable)


def parsed(kind: type[Kind], option: str, text: str) -> Kind:
    """The value of an option. Raises BadParameter."""
    try:
        return kind.parse(text)
    except ValueError as error:
        raise typer.BadParameter(f"{option}: {error}") from None


def parsed_or_none(kind: type[Kind], option: str, text: str | None) -> Kind | None:
    """The value of an option that may be left out. Raises BadParameter."""
    return None if text is None else parsed(kind, option, text)


def set_only(**options: Any) -> dict[str, Any]:
    """The options that were given."""
    return {name: value for name, value in options.items() if value is not None}
