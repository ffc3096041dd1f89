"""Choices that several commands offer."""

from enum import StrEnum


class Format(StrEnum):
    """How a result is written."""

    text = "text"
    json = "json"


class CheckFormat(StrEnum):
    """How the result of a check is written."""

    text = "text"
    json = "json"
    sarif = "sarif"
    junit = "junit"


class SessionMode(StrEnum):
    """Who opens the data connections of a session: the client, or the server."""

    passive = "passive"
    active = "active"


def example(*lines: str) -> str:
    """The end of a help text: a command that can be copied as it stands, on one line or several."""
    return "\b\nExample: " + " \\\n    ".join(lines)
