"""What was seen of a try, and how likely that is where an end is predicted.

What was seen may be less than all: a log that breaks off tells how far it came at least, somebody's answer that the
listing does not come tells not how. So a sighting has the last rung that was well, and what may have been the matter
at the next.
"""

from collections.abc import Sequence

from msgspec import Struct

from ..values.addresses import Address
from ..values.outcomes import ORDER, Outcome, Rung
from ..values.ports import PortSet
from .situation import End, Situation

FAILED: tuple[Outcome, ...] = ("refused", "silent", "wrong")
UNKNOWN_SHARE = 0.1
"""How likely anything in particular is where the site file cannot tell what comes: one of about ten ends."""
_CARRIES: tuple[Rung, ...] = ("greet", "secure", "login", "list", "send", "fetch")
_FIRST_DATA: tuple[Rung, ...] = ("data", "list")
_LATER_DATA: tuple[Rung, ...] = ("send", "fetch")


class PortFate(Struct, frozen=True):
    """Data ports of which it is known what became of them: they carried data, or ended at a rung in one of some
    ways. Those ``drawn`` were picked by the server, the others by whoever tried."""

    ports: PortSet
    rung: Rung | None = None
    outcomes: tuple[Outcome, ...] = ("ok",)
    drawn: bool = False


class Sighting(Struct, frozen=True):
    """What was seen of a try: ``reached`` is the last rung that was well. It ended at ``rung`` with one of
    ``outcomes``, or it worked, or, with neither, nothing more is known; with outcomes and no rung it ended somewhere.
    ``sometimes`` is a try that was made again and again and ended so now and then. ``more`` is how many further data
    connections carried data. ``source`` tells where this is from, ``typed`` the name or address that was typed, where
    that is known."""

    tried: Situation
    source: str
    reached: Rung | None = None
    rung: Rung | None = None
    outcomes: tuple[Outcome, ...] = ()
    works: bool = False
    sometimes: bool = False
    elsewhere: bool | None = None
    announced: Address | None = None
    fates: tuple[PortFate, ...] = ()
    more: int = 0
    typed: str = ""

    @property
    def fails(self) -> bool:
        """Whether something was seen that is not as it should be: of what is to stay shut, that it is open."""
        if self.tried.holds == "shut":
            return self.works
        return bool(self.outcomes or self.elsewhere) or any(each.rung is not None for each in self.fates)


def chance_of(seen: Sighting, ends: Sequence[End]) -> float:
    """How likely what was seen is where it may end so, 0 to 1."""
    if any(each.outcome == "unknown" for each in ends):
        return UNKNOWN_SHARE
    if not _named_so(seen, ends):
        return 0.0
    chance = 1.0
    for fate in seen.fates:
        chance *= _chance_of_ports(fate, ends)
    well = sum(each.chance for each in ends if each.rung is None)
    chance *= well**seen.more
    if seen.sometimes:
        ill = sum(each.chance for each in ends if _ends_so(seen, each))
        return chance * 4 * well * ill
    if seen.fates and (seen.works or seen.rung in (None, *_FIRST_DATA)):
        return chance
    return chance * sum(each.chance for each in ends if _fits(seen, each))


def _named_so(seen: Sighting, ends: Sequence[End]) -> bool:
    """Whether the reply to PASV would name what it was seen to name."""
    names = {each.announced for each in ends} - {None}
    if seen.announced is not None and names and seen.announced not in names:
        return False
    return seen.elsewhere is None or any(each.elsewhere == seen.elsewhere for each in ends)


def _chance_of_ports(fate: PortFate, ends: Sequence[End]) -> float:
    """What becomes of a port is settled; a server draws each of its range alike."""
    asked = _union(ends)
    if not fate.ports <= asked or any(end.ports & fate.ports and not _becomes(fate, end) for end in ends):
        return 0.0
    return float((1 / len(asked)) ** len(fate.ports)) if fate.drawn else 1.0


def _union(ends: Sequence[End]) -> PortSet:
    found = PortSet()
    for each in ends:
        found = found | each.ports
    return found


def _becomes(fate: PortFate, end: End) -> bool:
    if fate.rung is None:  # it carried a listing, which what shows later does not keep it from
        return end.rung is None or end.rung in _LATER_DATA
    return _alike(fate.rung, fate.outcomes, end)


def _fits(seen: Sighting, end: End) -> bool:
    if seen.works:
        return end.rung is None or _went_on(seen, end)
    if seen.rung is None and seen.outcomes:
        return end.rung is not None
    if seen.rung is not None:
        return _ends_so(seen, end)
    return seen.reached is None or end.rung is None or _went_on(seen, end)


def _went_on(seen: Sighting, end: End) -> bool:
    """Whether what would end there was left before."""
    known = end.rung is not None and seen.reached is not None
    return known and ORDER.index(end.rung) > ORDER.index(seen.reached)


def _ends_so(seen: Sighting, end: End) -> bool:
    return seen.rung is not None and _alike(seen.rung, seen.outcomes, end)


def _alike(rung: Rung, outcomes: tuple[Outcome, ...], end: End) -> bool:
    """Whether an end shows so. A connection that comes out at something else may show as anything but well; a
    line that swallows full packets, wherever one is needed first."""
    if end.rung is None:
        return False
    if end.outcome == "wrong" and end.rung in ("data", "greet"):
        return rung in ("greet", "secure", "data", "list")
    if end.rung == "send" and end.outcome == "silent":
        cut_short = rung == "fetch" and "wrong" in outcomes  # the end of what was sent never came
        return cut_short or (rung in _CARRIES and "silent" in outcomes)
    if rung in _LATER_DATA and end.rung in _FIRST_DATA:  # a later transfer has a port of its own
        return end.outcome in outcomes
    return rung == end.rung and end.outcome in outcomes
