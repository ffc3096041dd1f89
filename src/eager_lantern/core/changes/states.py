"""Two states compared: promises, exposure, access and the steps from one to the other; or two visits, session by
session."""

from collections.abc import Callable, Iterator, Sequence
from collections.abc import Set as AbstractSet

from msgspec import Struct
from msgspec.structs import replace

from ..findings.all import Studied, lines_of, predicted
from ..mending.effect import needless_of
from ..model.consistency import problems
from ..model.site import Promise, Site
from ..network.topology import Topology
from ..observed.climb import Climb, RungSeen
from ..predict.access import (
    Access,
    OutsideDoor,
    Reached,
    access,
    as_access,
    both,
    doors,
    more,
    other_doors,
    with_unknown_open,
)
from ..predict.exposure import open_in_clear
from ..predict.forecast import Forecast
from ..predict.passage import NetworkPart, named, parts, passage
from ..predict.session import predict
from .moves import Bridge, Move, bridge, moves
from .order import Made, Order, Turn, Verdict, ordered, transition_of, verdict_of
from .steps import PLACES, Edit, Overlay

SAID = ("promises", "site", "lantern", "load", "system", "lease")
"""Sections and keys by which the file states something that nobody enters anywhere."""
MOST_LOOKED_AT, LARGE, MOST_OF_LARGE = 300, 300, 40
"""Sites in between that are looked at for one order, and of sites with more than so many rules and forwards."""


class Transition(Struct, frozen=True):
    """A promise or a way in of two states, with its forecast in each that has it."""

    before: Forecast | None
    after: Forecast | None

    @property
    def promise(self) -> Promise:
        """What is promised."""
        known = self.after or self.before
        assert known is not None
        return known.promise

    @property
    def turn(self) -> Turn:
        """What has become of it."""
        alike = (
            self.before is not None
            and self.after is not None
            and _noticed_by_client(self.before) == _noticed_by_client(self.after)
        )
        return transition_of(self.before, self.after, alike)


class Comparison(Struct, frozen=True):
    """What two states of a site do not have in common. ``gained`` is who reaches what after and not before, ``lost``
    the other way round, ``unknown`` of whom it was known before and is not after, ``unasked`` the part of what is
    gained that no promise needs, ``unsure`` of whom it is known in neither. ``edits`` lead from one to the other in the
    given ``order``, in which what holds in both keeps holding. Where an address moves, ``bridge`` is the state in which
    the old and the new both lead in."""

    before: Site
    after: Site
    promises: tuple[Transition, ...]
    ways_in: tuple[Transition, ...]
    gained: tuple[Reached, ...]
    lost: tuple[Reached, ...]
    unasked: tuple[Reached, ...]
    unknown: tuple[Reached, ...]
    unsure: tuple[Reached, ...]
    doors_opened: tuple[Reached, ...]
    doors_closed: tuple[Reached, ...]
    doors_unknown: tuple[Reached, ...]
    edits: tuple[Edit, ...]
    order: Order
    moves: tuple[Move, ...] = ()
    bridge: Bridge | None = None

    @property
    def verdict(self) -> Verdict:
        """Lost where a promise is, or a way in that had to stay open, be it that the file no longer names it."""
        ways: set[Turn] = {"lost" if each.turn == "dropped" else each.turn for each in self.ways_in}
        verdict = verdict_of({each.turn for each in self.promises} | ways, not self.edits)
        return "unknown" if verdict == "same" and self.unsure else verdict

    def device(self, edit: Edit) -> str:
        """The device, host, client or name that an edit is made on."""
        section = edit.path[0]
        if section in PLACES:
            return edit.path[1] if len(edit.path) > 1 else str((edit.new or edit.old).name)
        return "" if section in SAID or edit.path[-1] in SAID else self.after.server.name


def compare(before: Site, after: Site) -> Comparison:
    """Two consistent sites held against each other."""
    return compared_overlay(Overlay(before, after))


def compared_overlay(overlay: Overlay) -> Comparison:
    """The same of two that were laid over each other before."""
    before, after = overlay.before, overlay.after
    old, new = predicted(before), predicted(after)
    places, alone = parts(before, after), _clients(before) ^ _clients(after)
    reached_before, reached_after = (_passing(each, places, alone) for each in (before, after))
    gained = more(reached_before, reached_after)
    unknown = _perhaps(after, reached_after, places, alone)
    was_unknown = _perhaps(before, reached_before, places, alone)
    lost = more(both(reached_after, unknown), reached_before)
    found = Comparison(
        before,
        after,
        tuple(_transitions(_of_promises(old), _of_promises(new))),
        tuple(_transitions(_of_ways_in(old), _of_ways_in(new))),
        gained,
        lost,
        needless_of(after, gained, places),
        more(was_unknown, unknown),
        more({}, both(was_unknown, unknown)),
        *_doors_between(overlay, gained, lost, more(was_unknown, unknown)),
        tuple(overlay.edits),
        Order(()),
    )
    moved, order = moves(before, after), _order(found, overlay)
    return replace(found, order=order, moves=moved, bridge=bridge(before, after, _held(found)) if moved else None)


def _doors_between(
    overlay: Overlay, gained: Sequence[Reached], lost: Sequence[Reached], unknown: Sequence[Reached]
) -> tuple[tuple[Reached, ...], tuple[Reached, ...], tuple[Reached, ...]]:
    """Outside ports that lead in after and not before, and before and not after, even if every rule of which nobody
    knows what it does let pass, and those that led in before and perhaps do after; but for those behind which something
    is gained, lost or known no more anyway."""
    before, after = overlay.before, overlay.after
    if not any(each.path[0] == "gateways" for each in overlay.edits):
        return (), (), ()
    certain, possible = zip(*map(_doors_of, (before, after)), strict=True)
    closed = other_doors(certain[0], possible[1], as_access(lost))
    not_certain = other_doors(certain[0], certain[1], as_access([*lost, *unknown]))
    return (
        other_doors(certain[1], possible[0], as_access(gained)),
        closed,
        more(as_access(closed), as_access(not_certain)),
    )


def _doors_of(site: Site) -> tuple[tuple[OutsideDoor, ...], tuple[OutsideDoor, ...]]:
    """Those that certainly lead in, and those that do or may."""
    certain, opened = doors(site), with_unknown_open(site)
    return certain, certain if opened == site else doors(opened)


def _passing(site: Site, places: Sequence[NetworkPart], alone: AbstractSet[str]) -> Access:
    """Who reaches what, hosts and anywhere else on each network, by the words for it; a client that is ``alone`` in
    one of two states, only through a gateway: that nothing stands between it and its neighbours is no difference."""
    found, through = named(passage(site, places)), access(site) if alone else {}
    return {key: through.get(key, ()) if key[1] in alone else boxes for key, boxes in found.items()}


def _perhaps(site: Site, known: Access, places: Sequence[NetworkPart], alone: AbstractSet[str]) -> Access:
    """What nobody knows of what is reached, since the site does not know what some rules do: what were reached if they
    let everything pass, beside what is ``known`` to be."""
    opened = with_unknown_open(site)
    return {} if opened == site else as_access(more(known, _passing(opened, places, alone)))


def _clients(site: Site) -> set[str]:
    return {each.name for each in site.clients}


def _of_promises(known: Studied) -> list[Forecast]:
    return [each.forecast for each in known.promises]


def _of_ways_in(known: Studied) -> list[Forecast]:
    """The ways in that have to stay open, also where a promise states it as well."""
    kept_open = {(client, each.name) for each in known.topology.site.services for client in each.keep_open_for}
    promised = [each for each in _of_promises(known) if each.promise.holds == "works"]
    also = [each for each in promised if (each.promise.client, each.promise.service) in kept_open]
    return [*also, *(each.forecast for each in known.ways_in)]


def _transitions(before: Sequence[Forecast], after: Sequence[Forecast]) -> Iterator[Transition]:
    """In the order of the later state, then what only the earlier has."""
    known = {each.promise: each for each in before}
    left = dict(known)
    for each in after:
        left.pop(each.promise, None)
        yield Transition(known.get(each.promise), each)
    yield from (Transition(each, None) for each in left.values())


def _noticed_by_client(forecast: Forecast) -> object:
    """What a client notices of it."""
    data = forecast.data
    stops = tuple((each.outcome, each.answer) for each in forecast.stops)
    return forecast.predicted, forecast.banned, forecast.rung, stops, data and (data.works, data.fails, data.unknown)


def _held(found: Comparison) -> tuple[Promise, ...]:
    """What is kept in both states."""
    turned = [*found.promises, *found.ways_in]
    held = [each.promise for each in turned if each.before and each.after and each.before.kept and each.after.kept]
    return tuple(dict.fromkeys(held))


def _stated(found: Comparison) -> Made:
    """The edits of what is only in the file: what is promised, and what the site is called."""
    return frozenset(i for i, edit in enumerate(found.edits) if not found.device(edit))


def _order(found: Comparison, overlay: Overlay) -> Order:
    """The order of all edits but those of what is only in the file."""
    devices = [found.device(edit) for edit in found.edits]
    wanted = sorted((i for i, device in enumerate(devices) if device), key=lambda number: _rank(found.edits[number]))
    most = MOST_OF_LARGE if lines_of(found.after) > LARGE else MOST_LOOKED_AT
    in_clear = open_in_clear(Topology(found.before)) | open_in_clear(Topology(found.after))
    holds = _promises_hold(overlay, _held(found), _stated(found), in_clear)
    return ordered(wanted, [devices[each] for each in wanted], holds, most)


def _rank(edit: Edit) -> int:
    return 0 if edit.old is None else 2 if edit.new is None else 1


def _promises_hold(
    overlay: Overlay, held: Sequence[Promise], stated: Made, in_clear: frozenset[str]
) -> Callable[[Made], bool]:
    """Whether promises are kept with so many edits made, and no login in clear is open to the internet but where it is
    ``in_clear`` in one of the two states."""

    def holds(made: Made) -> bool:
        site: Site = overlay.between(made | stated)
        site = replace(site, promises=tuple(held))
        if problems(site):
            return False
        topology = Topology(site)
        kept = all(predict(topology, each, ("promises", i)).kept is True for i, each in enumerate(held))
        return kept and open_in_clear(topology) <= in_clear

    return holds


class Revisited(Struct, frozen=True):
    """A session of two results: the same client, service, mode, target and place. None where one has none of it."""

    before: Climb | None
    after: Climb | None

    @property
    def session(self) -> Climb:
        """Whose session it is."""
        known = self.after or self.before
        assert known is not None
        return known

    @property
    def turn(self) -> Turn:
        """What has become of it."""
        alike = (
            self.before is not None
            and self.after is not None
            and _rung_outcomes(self.before) == _rung_outcomes(self.after)
        )
        return transition_of(self.before, self.after, alike)

    @property
    def parts_at(self) -> tuple[RungSeen | None, RungSeen | None]:
        """The first rung at which the two went differently, as it was and as it is."""
        before = {each.rung: each for each in self.before.rungs} if self.before else {}
        after = {each.rung: each for each in self.after.rungs} if self.after else {}
        for rung in dict.fromkeys((*before, *after)):
            one, other = before.get(rung), after.get(rung)
            if (one and one.outcome) != (other and other.outcome):
                return one, other
        return None, None


def revisited(before: Sequence[Climb], after: Sequence[Climb]) -> tuple[Revisited, ...]:
    """Every session of two results, in the order of the later one."""
    return tuple(_session_pairs(before, after))


def _session_pairs(before: Sequence[Climb], after: Sequence[Climb]) -> Iterator[Revisited]:
    left = {_session_key(each): each for each in before}
    for each in after:
        yield Revisited(left.pop(_session_key(each), None), each)
    yield from (Revisited(each, None) for each in left.values())


def _session_key(climb: Climb) -> tuple[str, ...]:
    return climb.client, climb.service, climb.mode, climb.holds, climb.target, climb.place


def _rung_outcomes(climb: Climb) -> list[tuple[str, str]]:
    return [(each.rung, each.outcome) for each in climb.rungs]
