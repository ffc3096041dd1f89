"""A finding, as a value."""

from typing import Any, Literal

from msgspec import Struct

from .change import Change, change
from .place import Place
from .site import Site

Severity = Literal["breaks", "risks", "note"]


def setting(site: Site, place: Place, new: Any) -> tuple[Change, ...]:
    """The cure that sets one place."""
    return (change(site, place, new),)


class Finding(Struct, frozen=True):
    """Something wrong or unwise, where it stands, and what to do about it. ``cures`` are changes of the site
    of which each would do, as far as a change of one place does."""

    kind: str
    severity: Severity
    message: str
    advice: str
    place: Place
    cures: tuple[Change, ...] = ()
