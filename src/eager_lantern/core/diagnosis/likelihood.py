"""How likely an observation is, where the model predicts how a try may end."""

from collections.abc import Mapping, Sequence

from msgspec.structs import replace

from ..observed.observation import Observation, PortFate
from ..values.outcomes import ORDER, Outcome, Rung
from ..values.ports import PortSet
from .situation import End

UNKNOWN_SHARE = 0.1
"""How likely anything in particular is where the site file cannot tell what comes: one of about ten ends."""


OTHER_ERROR = 0.05
"""How likely a refusal shows as another error than the one that is predicted."""
_CARRIES: tuple[Rung, ...] = ("secure", "list", "send", "fetch")
"""Where a line that swallows full packets may show first: names, passwords and greetings are no full packets."""


_FIRST_DATA: tuple[Rung, ...] = ("data", "list")


_LATER_DATA: tuple[Rung, ...] = ("send", "fetch")


_OTHERS: Mapping[Rung, tuple[Rung, ...]] = {"greet": ("greet", "secure"), "data": ("data", "list")}
"""Where it shows that something else answers than was meant: soon after it is met, and nowhere later."""


def chance_of(seen: Observation, ends: Sequence[End]) -> float:
    """How likely what was seen is where it may end so, 0 to 1."""
    if any(each.outcome == "unknown" for each in ends):
        return UNKNOWN_SHARE
    if not _named_so(seen, ends) or not _dialled_so(seen, ends):
        return 0.0
    chance = 1.0
    for fate in seen.fates:
        chance *= _chance_of_ports(seen, fate, ends)
    well = sum(each.chance for each in ends if each.rung is None)
    chance *= well**seen.more
    if seen.sometimes:
        ill = sum(each.chance for each in ends if _ends_so(seen, each))
        return chance * 4 * well * ill
    if seen.fates and (seen.works or seen.rung in (None, *_FIRST_DATA)):
        return chance
    return chance * sum(each.chance * _error_chance(seen, seen.rung, each) for each in ends if _is_shown(seen, each))


def aspects_of(seen: Observation, ends: Sequence[End]) -> tuple[bool, bool, bool]:
    """Whether how the try ended, which addresses stood in it, and which data ports, can each be by itself where it may
    end so: two faults may each account for one of them."""
    ports = all(fate.ports <= _union(ends) for fate in seen.fates)
    ended = replace(seen, announced=None, elsewhere=None, fates=seen.fates if ports else ())
    return bool(chance_of(ended, ends)), _named_so(seen, ends) and _dialled_so(seen, ends), ports


def _named_so(seen: Observation, ends: Sequence[End]) -> bool:
    """Whether the reply to PASV would name what it was seen to name."""
    names = {each.announced for each in ends} - {None}
    if seen.announced is not None and names and seen.announced not in names:
        return False
    return seen.elsewhere is None or any(each.elsewhere == seen.elsewhere for each in ends)


def _dialled_so(seen: Observation, ends: Sequence[End]) -> bool:
    """Whether the client would go where it was seen to go."""
    targets = {each.target for each in ends} - {None}
    return seen.tried.dialled is None or not targets or seen.tried.dialled in targets


def _chance_of_ports(seen: Observation, fate: PortFate, ends: Sequence[End]) -> float:
    """What becomes of a port is settled, but for what hangs on more than the port; a server draws each of its range
    alike."""
    asked = _union(ends)
    met = [each for each in ends if each.ports & fate.ports]
    fitting = [each for each in met if _fits_end(seen, fate, each) and (fate.rung is None or _came_so(seen, each))]
    if not fate.ports <= asked or not fate.ports <= _union(fitting):
        return 0.0
    shown = sum(each.chance * _error_chance(seen, fate.rung, each) for each in fitting) / sum(e.chance for e in met)
    return shown * float((1 / len(asked)) ** len(fate.ports)) if fate.drawn else shown


def _error_chance(seen: Observation, rung: Rung | None, end: End) -> float:
    """How likely the client's system calls a refusal so: a reset is no message of a device on the way, but which
    message a strange device sends is not certain."""
    other = rung is not None and seen.error and end.error and seen.error != end.error
    return OTHER_ERROR if other else 1.0


def _union(ends: Sequence[End]) -> PortSet:
    found = PortSet()
    for each in ends:
        found = found | each.ports
    return found


def _fits_end(seen: Observation, fate: PortFate, end: End) -> bool:
    if fate.rung is None:  # it carried a listing, which what shows later does not keep it from
        return end.rung is None or end.rung in _LATER_DATA
    rungs = seen.rungs if fate.rung == seen.rung else (fate.rung,)
    return any(_shows_as(each, fate.outcomes, end) for each in rungs)


def _is_shown(seen: Observation, end: End) -> bool:
    if seen.works:
        return end.rung is None or _went_on(seen, end)
    if seen.rung is None and seen.outcomes:
        return end.rung is not None
    if seen.rung is not None:
        return _ends_so(seen, end)
    return seen.reached is None or end.rung is None or _went_on(seen, end)


def _went_on(seen: Observation, end: End) -> bool:
    """Whether what would end there was left before."""
    known = end.rung is not None and seen.reached is not None
    return known and ORDER.index(end.rung) > ORDER.index(seen.reached)


def _ends_so(seen: Observation, end: End) -> bool:
    met = end.outcome == "wrong" and end.rung == "greet"
    if met and seen.reached is not None and ORDER.index(seen.reached) >= ORDER.index("secure"):
        return False  # who greets and begins TLS as the server does is the server
    if not _came_so(seen, end):
        return False
    if seen.rung is None or (seen.opened and seen.rung in _LATER_DATA and end.rung in _FIRST_DATA):
        return False
    return any(_shows_as(each, seen.outcomes, end) for each in seen.rungs)


def _came_so(seen: Observation, end: End) -> bool:
    """Whether the connection that ended it came to where it was seen, and to no place that it was missing from."""
    if seen.landed is not None and end.lands and seen.landed not in end.lands:
        return False
    if end.came_to is None:
        return not seen.missed
    return end.came_to.issuperset(seen.came_to) and end.came_to.isdisjoint(seen.missed)


def _shows_as(rung: Rung, outcomes: tuple[Outcome, ...], end: End) -> bool:
    """Whether an end shows so. A connection that comes out at something else may show as anything but well; a
    line that swallows full packets, wherever one is needed first."""
    if end.rung is None:
        return False
    if end.outcome == "wrong" and end.rung in _OTHERS:
        bad_certificate = rung == "secure" and outcomes == ("wrong",)  # TLS itself began, as the server does it
        return rung in _OTHERS[end.rung] and not bad_certificate
    if end.rung == "send" and end.outcome == "silent":
        cut_short = rung == "fetch" and "wrong" in outcomes  # the end of what was sent never came
        return cut_short or (rung in _CARRIES and "silent" in outcomes)
    if rung in _LATER_DATA and end.rung in _FIRST_DATA:  # a later transfer has a port of its own
        return end.outcome in outcomes
    return rung == end.rung and end.outcome in outcomes
