"""``eager-lantern/adopt/1``."""

from collections.abc import Sequence
from typing import Any, Literal

from msgspec import to_builtins

from ...core.adoption.told import Reading, Subject
from .base import ResultPart
from .check import CheckResult
from .compare import CompareResult


class ToldResult(ResultPart, frozen=True, kw_only=True):
    """A value that was read: its key below the device or service, and the line of the file."""

    key: str
    value: Any
    line: int


class LeftResult(ResultPart, frozen=True, kw_only=True):
    """What was read and is not taken over."""

    line: int
    text: str
    why: str


class ReadingResult(ResultPart, frozen=True, kw_only=True):
    """A file that was read."""

    file: str
    subject: Subject
    read: tuple[ToldResult, ...]
    left: tuple[LeftResult, ...]


class AdoptResult(ResultPart, frozen=True, kw_only=True):
    """What was read of a device, and the site file as it is held against the one with that in it."""

    format: Literal["eager-lantern/adopt/1"] = "eager-lantern/adopt/1"
    device: str
    readings: tuple[ReadingResult, ...]
    comparison: CompareResult
    patch: str
    written: bool


class LearntResult(ResultPart, frozen=True, kw_only=True):
    """An answer that was seen: in which file, and why a person should look at it all the same, or nothing."""

    key: str
    answer: str
    seen_in: str
    doubt: str


class FirstSiteResult(ResultPart, frozen=True, kw_only=True):
    """The site file that was written from what was seen alone, what nobody has seen, and what check says of it."""

    format: Literal["eager-lantern/first-site/1"] = "eager-lantern/first-site/1"
    file: str
    seen: tuple[LearntResult, ...]
    not_seen: tuple[str, ...]
    forwards: int
    check: CheckResult


def adopt_result(
    device: str, readings: Sequence[Reading], comparison: CompareResult, patch: str, written: bool
) -> AdoptResult:
    """The result of an adoption."""
    return AdoptResult(
        device=device,
        readings=tuple(map(_reading, readings)),
        comparison=comparison,
        patch=patch,
        written=written,
    )


def _reading(reading: Reading) -> ReadingResult:
    return ReadingResult(
        file=reading.file,
        subject=reading.subject,
        read=tuple(
            ToldResult(key=".".join(each.key), value=to_builtins(each.value, enc_hook=str), line=each.line)
            for each in reading.told
        ),
        left=tuple(LeftResult(line=each.line, text=each.text, why=each.why) for each in reading.left),
    )
