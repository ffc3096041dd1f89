"""How a command hands over what it found, in the form that was asked for. Apart from ``ending`` because results load
slowly and ``check`` on a terminal needs none."""

from collections.abc import Callable, Iterable
from enum import StrEnum

from msgspec import Struct
from rich.console import RenderableType

from ..formats.results.base import Result, as_json
from .arguments.options import Format
from .ending import emit, show


def finish(result: Callable[[], Struct | Result], view: Callable[[], Iterable[RenderableType]], form: StrEnum) -> None:
    """Write the result as JSON, or its view; of both only the one is made. Raises OutputLost."""
    if form == Format.json:
        emit(as_json(result()))
    else:
        show(view())
