"""Options that several commands offer: groups, formats, values read as the site file reads them."""

import functools
import inspect
from collections.abc import Callable
from dataclasses import fields, is_dataclass
from enum import StrEnum
from pathlib import Path
from typing import Annotated, Any, Protocol, Self, TypeVar, get_type_hints

import typer

from . import completion


def example(*lines: str) -> str:
    """The end of a help text: a command that can be copied as it stands, on one line or several."""
    return "\b\nExample: " + " \\\n    ".join(lines)


def with_option_groups(command: Callable[..., None]) -> Callable[..., None]:
    """The command as typer reads it: with the fields of its groups as parameters, in their order."""
    hints: dict[str, type[Any]] = get_type_hints(command)
    groups = {name: kind for name, kind in hints.items() if is_dataclass(kind)}

    @functools.wraps(command)
    def with_options(**typed: Any) -> None:
        command(
            **{name: kind(**{each.name: typed[each.name] for each in fields(kind)}) for name, kind in groups.items()}
        )

    options = [
        inspect.Parameter(each.name, inspect.Parameter.KEYWORD_ONLY, default=each.default, annotation=each.type)
        for kind in groups.values()
        for each in fields(kind)
    ]
    vars(with_options).pop("__wrapped__")  # its own parameters are the groups
    with_options.__signature__ = inspect.Signature(options)  # type: ignore[attr-defined]
    with_options.__annotations__ = {each.name: each.annotation for each in options}
    return with_options


class Readable(Protocol):
    """A value type that reads itself from text, and states what is wrong with it."""

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


class Format(StrEnum):
    """How a result is written."""

    text = "text"
    json = "json"


class SessionMode(StrEnum):
    """Who opens the data connections of a session: the client, or the server."""

    passive = "passive"
    active = "active"


SiteArgument = Annotated[
    Path | None, typer.Argument(readable=False, help="The site file; default: the only *.site.yaml here.")
]
ServiceName = Annotated[
    str, typer.Option(help="A service of the site; default: the only one.", autocompletion=completion.services)
]
Written = Annotated[Format, typer.Option("--format", help="text for people, json for programs.")]
Forced = Annotated[bool, typer.Option("--force", help="Replace a file that is there already.")]


class CheckFormat(StrEnum):
    """How the result of a check is written."""

    text = "text"
    json = "json"
    sarif = "sarif"
    junit = "junit"
