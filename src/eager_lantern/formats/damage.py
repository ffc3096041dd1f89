"""Readers of foreign files: whatever they stumble over is reported as damage of the file, and they end in time.

A reader knows what is usually wrong with a file and says so itself, with its line. What it does not foresee, a port of
65536 in a kept result or a number where a rule set has a list, must neither end the program with a fault of its own
nor hold it up: so each reader runs in a thread that nobody waits for beyond SECONDS, and Ctrl-C ends the waiting at
once, whatever the thread does.
"""

import contextlib
import re
import threading
from collections.abc import Callable
from functools import wraps
from os import PathLike
from typing import Concatenate, ParamSpec, TypeVar

from .reading import BadInput, bad_file
from .site.yaml_tree import YamlTree

_BYTE = re.compile(r"\(byte ([0-9]{1,9})\)")
_PLACE = re.compile(r"at `\$([^`]{0,400})`")
_PART = re.compile(r"\.([A-Za-z_]\w{0,80})|\[([0-9]{1,7})\]")


def json_line(text: str, error: Exception) -> int:
    """The line, from 1, of the text that an error is about; 0 where that is not told."""
    message = str(error)
    if byte := _BYTE.search(message):
        return text.encode("utf-8", "surrogatepass")[: int(byte[1])].count(b"\n") + 1
    if "truncated" in message:
        return text.count("\n") + 1
    if place := _PLACE.search(message):
        parts = tuple(each[1] or int(each[2]) for each in _PART.finditer(place[1]))
        with contextlib.suppress(BadInput):  # JSON is YAML (YAML 1.2, section 1.3), whose reader keeps lines
            return YamlTree("", text).line(parts)
    return 0


SECONDS = 120.0
"""The largest files that are read take a tenth of it on a slow machine."""
DAMAGE = (ValueError, LookupError, TypeError, AttributeError, ArithmeticError, RuntimeError, AssertionError)
"""What readers raise where something is not what they take it for; RuntimeError has RecursionError and what becomes of
a StopIteration within a generator."""
_Read = TypeVar("_Read")
_File = TypeVar("_File", bound=str | PathLike[str])
_More = ParamSpec("_More")
_inside = threading.local()


def guarded(read: Callable[Concatenate[_File, _More], _Read]) -> Callable[Concatenate[_File, _More], _Read]:
    """The same reader of a file, which is its first argument, by name or path. Raises BadInput, and nothing else that
    has to do with what is in the file; OSError is its own to raise."""

    @wraps(read)
    def whole(file: _File, /, *rest: _More.args, **named: _More.kwargs) -> _Read:
        if getattr(_inside, "is_thread", False):
            return read(file, *rest, **named)
        found: list[_Read] = []
        troubles: list[BaseException] = []

        def work() -> None:
            _inside.is_thread = True
            try:
                found.append(read(file, *rest, **named))
            except BaseException as error:
                troubles.append(error)

        thread = threading.Thread(target=work, daemon=True)
        thread.start()
        thread.join(SECONDS)
        if found:
            return found[0]
        if not troubles:
            why = f"found no end of it within {SECONDS:g} s; expected a file that can be read in that time"
            raise bad_file(file, why)
        try:
            raise troubles[0]
        except BadInput:
            raise
        except MemoryError:
            raise bad_file(file, "found more than this machine can hold; expected a smaller file") from None
        except DAMAGE as error:
            what = damage(error)
            if not (what.startswith("found ") and "; expected " in what):
                what = f"found damage: {what}; expected a whole file"
            raise bad_file(file, what) from error

    return whole


def damage(error: BaseException) -> str:
    """What is wrong, as well as it can be told from an exception that no reader foresaw."""
    if isinstance(error, RecursionError):
        return "it is nested too deep"
    if isinstance(error, KeyError):
        return f"“{error.args[0] if error.args else ''}” is missing, or is not known"
    if isinstance(error, ValueError) and str(error):
        return str(error)
    if isinstance(error, (IndexError, RuntimeError)):
        return "it ends where more is expected"
    return "it has something of another kind than expected"
