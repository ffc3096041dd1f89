"""Visits from several places held side by side: what one place sees and another does not."""

from collections.abc import Iterable, Sequence
from typing import Literal

from msgspec import Struct

from ..observed.climb import Climb, RungSeen
from ..values.outcomes import ORDER, Rung

_CONNECTING: tuple[Rung, ...] = ("connect", "data")


class Outlook(Struct, frozen=True):
    """What was seen from one place, or why nothing could be; every step of its sessions has taken
    ``round_trip_seconds`` more than it would have there."""

    name: str
    climbs: tuple[Climb, ...]
    trouble: str = ""
    round_trip_seconds: float | None = None


class VantageRow(Struct, frozen=True):
    """One promise, whoever it is to, as each place has seen it; None where a place has none such."""

    service: str
    mode: str
    holds: Literal["works", "shut"]
    climbs: tuple[Climb | None, ...]

    @property
    def rungs(self) -> tuple[Rung, ...]:
        """The rungs that any of the places has."""
        had = {each.rung for climb in self.climbs if climb for each in climb.rungs}
        return tuple(rung for rung in ORDER if rung in had)

    @property
    def all_kept(self) -> bool:
        """Whether every place has seen what is promised."""
        return all(climb.kept is True for climb in self.climbs if climb)


def rows(places: Sequence[Outlook]) -> tuple[VantageRow, ...]:
    """Every promise that any of the places has, in the order in which they come."""
    keys = dict.fromkeys(_key(climb) for place in places for climb in place.climbs)
    return tuple(VantageRow(*key, tuple(_with(place.climbs, key) for place in places)) for key in keys)


_Key = tuple[str, str, Literal["works", "shut"]]


def _key(climb: Climb) -> _Key:
    return climb.service, climb.mode, climb.holds


def _with(climbs: Iterable[Climb], key: _Key) -> Climb | None:
    return next((climb for climb in climbs if _key(climb) == key), None)


def rung_of(climb: Climb | None, rung: Rung) -> RungSeen | None:
    """What a climb has of a rung."""
    return next((each for each in climb.rungs if each.rung == rung), None) if climb else None


def parted(row: VantageRow, places: Sequence[Outlook]) -> str:
    """What the difference between the places tells about where to look; empty where it tells nothing.

    Where the session works from one place, and from another a connection does not come about, it is not
    the server's doing. What the server answers, as an announced address, may well be.
    """
    if row.holds == "shut":
        return ""
    pairs = [(place.name, climb) for place, climb in zip(places, row.climbs, strict=True) if climb]
    works = [name for name, climb in pairs if climb.observed == "works"]
    lost = [name for name, climb in pairs if (at := climb.stopped_at) and at.rung in _CONNECTING]
    if not works or not lost:
        return ""
    return (
        f"The server itself does its part: it works from {_listed(works)}. What stops {_listed(lost)} lies on the way, "
        "or in a rule that tells sources apart."
    )


def _listed(names: Sequence[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"
