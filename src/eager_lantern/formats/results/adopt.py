"""``eager-lantern/adopt/1``."""

from collections.abc import Sequence
from typing import Any, Literal

from msgspec import to_builtins

from ...core.changes.adopted import DeviceConfig, Direction, Subject
from .base import ResultPart
from .check import CheckResult
from .compare import CompareResult


class ParsedValueResult(ResultPart, frozen=True, kw_only=True):
    """A value that was read: its key below the device or service, and the line of the file."""

    key: str
    value: Any
    line: int


class SkippedResult(ResultPart, frozen=True, kw_only=True):
    """What was read and is not taken over."""

    line: int
    text: str
    why: str


class DeviceConfigResult(ResultPart, frozen=True, kw_only=True):
    """A file that was read; ``direction`` is which filter its rules are of, none where the file does not state it."""

    file: str
    subject: Subject
    direction: Direction | None
    read: tuple[ParsedValueResult, ...]
    skipped: tuple[SkippedResult, ...]


class AdoptResult(ResultPart, frozen=True, kw_only=True):
    """What was read of a device, and the site file as it is held against the one with that in it."""

    format: Literal["eager-lantern/adopt/1"] = "eager-lantern/adopt/1"
    device: str
    configs: tuple[DeviceConfigResult, ...]
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
    """The site file that was written from what was seen alone, what was not observed, and what check predicts."""

    format: Literal["eager-lantern/first-site/1"] = "eager-lantern/first-site/1"
    file: str
    seen: tuple[LearntResult, ...]
    not_seen: tuple[str, ...]
    forwards: int
    check: CheckResult


def adopt_result(
    device: str, configs: Sequence[DeviceConfig], comparison: CompareResult, patch: str, written: bool
) -> AdoptResult:
    """The result of an adoption."""
    return AdoptResult(
        device=device,
        configs=tuple(map(_config_result, configs)),
        comparison=comparison,
        patch=patch,
        written=written,
    )


def _config_result(config: DeviceConfig) -> DeviceConfigResult:
    return DeviceConfigResult(
        file=config.file,
        subject=config.subject,
        direction=config.direction,
        read=tuple(
            ParsedValueResult(key=".".join(each.key), value=to_builtins(each.value, enc_hook=str), line=each.line)
            for each in config.values
        ),
        skipped=tuple(SkippedResult(line=each.line, text=each.text, why=each.why) for each in config.skipped),
    )
