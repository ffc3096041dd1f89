"""A finding, as a value."""

from typing import Literal

from msgspec import Struct

from .place import Place

Severity = Literal["breaks", "risks", "note"]


class Finding(Struct, frozen=True):
    """Something wrong or unwise, where it stands, and what to do about it."""

    kind: str
    severity: Severity
    message: str
    advice: str
    place: Place
