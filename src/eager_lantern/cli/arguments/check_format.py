"""The choice of formats that ``check`` offers."""

from enum import StrEnum


class CheckFormat(StrEnum):
    """How the result of a check is written."""

    text = "text"
    json = "json"
    sarif = "sarif"
    junit = "junit"
