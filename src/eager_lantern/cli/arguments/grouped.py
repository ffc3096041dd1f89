"""Options of a command in groups: a parameter whose type is a dataclass stands for one option a field."""

import functools
import inspect
from collections.abc import Callable
from dataclasses import fields, is_dataclass
from typing import Any, get_type_hints


def grouped(command: Callable[..., None]) -> Callable[..., None]:
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
