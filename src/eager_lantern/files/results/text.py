"""How results become text."""

import json
from typing import Any

from msgspec import Struct, to_builtins

Result = dict[str, Any]
"""A result as plain dictionaries, in the order of the format."""


def plain(result: Struct) -> Result:
    """A result as plain dictionaries, in the order of the format."""
    found: Result = to_builtins(result, enc_hook=str)
    return found


def as_json(result: Struct | Result) -> str:
    """The text of a result. What is not plainly visible is escaped, so that it steers no terminal either."""
    return _visible(json.dumps(_mapping(result), indent=2, ensure_ascii=False))


def as_line(result: Struct | Result) -> str:
    """The same on one line, for a command that has more than one thing to say."""
    return _visible(json.dumps(_mapping(result), ensure_ascii=False))


def _mapping(result: Struct | Result) -> Result:
    return plain(result) if isinstance(result, Struct) else result


def _visible(text: str) -> str:
    if text.replace("\n", "").isprintable():
        return text
    return "".join(each if each.isprintable() or each == "\n" else json.dumps(each)[1:-1] for each in text)
