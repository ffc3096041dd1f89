"""A finding, as a value."""

from typing import Any, Literal

from msgspec import Struct

from ..model.change import Change, change
from ..model.site import Site
from ..values.site_path import SitePath
from .finding_kinds import FindingKind

Severity = Literal["breaks", "risks", "note"]


def setting(site: Site, place: SitePath, new: Any) -> tuple[Change, ...]:
    """The cure that sets one place."""
    return (change(site, place, new),)


class Finding(Struct, frozen=True):
    """Something wrong or unwise, where it stands, and what to do about it. ``cures`` are changes of the site
    of which each would do, as far as a change of one place does."""

    kind: FindingKind
    severity: Severity
    message: str
    advice: str
    place: SitePath
    cures: tuple[Change, ...] = ()
