"""The search for the cheapest changes that keep every promise.

Theory: a search from cures
===========================
A finding that breaks a promise carries its cure as a change. A site with such a change made is another site, with
findings and cures of its own, and so cures lead on, from site to site, until all promises are kept. Each way costs the
sum of its changes. The search always goes on from the cheapest way that it has (uniform cost, Dijkstra 1959), so the
first that arrives is the cheapest of all that cures lead to. It has arrived where every promise is kept that can be
told, none that was kept is broken, nothing more is let in than the promises need, and nothing is taken away that passed
before (:mod:`.effect`). An entry that has a slip is corrected and not doubled: where a way adds one that does its job
beside it, the way that corrects it goes on in its place, although it may cost a change more.

The number of ways is bounded. Where that is not enough, whatever is cheaper than the cheapest way that waits has been
looked at, so that its cost is a lower bound. Then all cures are made at once, as long as that brings anything,
and every change is taken back that the promises can do without: a good set, which need not be the cheapest.
"""

from collections.abc import Iterator, Sequence
from heapq import heappop, heappush
from itertools import count
from typing import NamedTuple

from msgspec.structs import replace

from ..findings.all import Studied, findings, lines_of, of_promises, predicted, studied
from ..findings.behind import least_cures
from ..findings.finding import Finding, device_of
from ..findings.server_cures import server_cures
from ..model.change import Change, changed, left_out, value_at
from ..model.consistency import problems
from ..model.site import Forward, Rule, Site
from ..predict.ledger import Study
from ..values.ports import PortSet
from ..values.text_value import SitePath
from .effect import Before
from .plan import Costs, DeviceChange, Plan, Wishes

MOST_STATES, LARGE, MOST_OF_LARGE = 400, 300, 12
"""Sites that are looked at; and of sites with more than so many rules and forwards."""
MOST_ROUNDS = 8
MOST_HARMFUL = 3
MOST_SLIPS = 2
"""Changes that put one entry right, rather than one more that does its job."""


class Found(NamedTuple):
    """Plans, the cheapest first; whether everything of less cost was looked at, else what none costs less than; how
    many sites were looked at; and plans that do harm."""

    plans: list[Plan]
    complete: bool
    at_least: float
    tried: int
    harmful: list[Plan]


class Search:
    """Ways from a site along cures. Its goals are promises and ways in, by their number among the forecasts."""

    def __init__(
        self, site: Site, costs: Costs, start: Studied, wishes: Wishes, goals: frozenset[int] | None = None
    ) -> None:
        self.site, self.costs, self.start, self.wishes = site, costs, start, wishes
        self.goals = _goals_of(start, wishes) if goals is None else goals
        self._others = broken_in(start) - self.goals
        self.looked_at: set[SitePath] = set()
        self._before = Before(site)

    def of_part(self, goals: frozenset[int]) -> "Search":
        """The same search for some of its goals, which knows what this one does of the site as it is."""
        part = Search(self.site, self.costs, self.start, self.wishes, goals)
        part._before = self._before
        return part

    def arrived(self, after: Studied) -> bool:
        """Whether every goal is kept and no other promise is worse than before; where only some kinds of findings are
        to be cured, whether none of these is left."""
        both = enumerate(zip(self.start.forecasts, after.forecasts, strict=True))
        settled = all(self._is_settled(i, before.kept, then.kept) for i, (before, then) in both)
        return settled and not (self.wishes.kinds and self._findings(after))

    def _is_settled(self, number: int, before: bool | None, then: bool | None) -> bool:
        return then is True or (number not in self.goals and (before is False or then is before))

    def _findings(self, after: Studied) -> list[Finding]:
        """What keeps goals from being kept, and what was kept before."""
        if kinds := self.wishes.kinds:
            return [each for each in of_promises(after) if each.severity == "breaks" and each.kind in kinds]
        known = without(after, self._others)
        found = of_promises(known)
        return [*found, *server_cures(known, found)]

    def cheapest(self, most_plans: int) -> Found:
        """The cheapest plans: all of one cost, or as many as are wanted."""
        order = count()
        waiting: list[tuple[float, int, tuple[DeviceChange, ...]]] = [(0.0, next(order), ())]
        known: set[frozenset[object]] = set()
        found, harmful, tried, most = list[Plan](), list[Plan](), 0, self._most_states()
        while waiting and tried < most and not self._is_enough(found, waiting[0][0], most_plans):
            cost, _, steps = heappop(waiting)
            tried += 1
            after = predicted(_with(self.site, steps)) if steps else self.start
            if self.arrived(after):
                plan = self._spared(self._plan(after, steps), steps)
                better = self._corrected(plan)
                if better and (key := frozenset(map(_identity, better))) not in known:
                    known.add(key)
                    heappush(waiting, (round(sum(each.cost for each in better), 6), next(order), better))
                elif not better:
                    (found if self._is_allowed(plan) else harmful).append(plan)
                continue
            for step in self._next(after, steps):
                self.looked_at.add(touched(step.change))
                way = (*steps, step)
                key = frozenset(map(_identity, way))
                if key not in known:
                    known.add(key)
                    heappush(waiting, (round(cost + step.cost, 6), next(order), way))
        plans = sorted(found, key=lambda each: each.order)
        complete = not waiting or bool(plans and waiting[0][0] > plans[0].cost)
        at_least = plans[0].cost if complete and plans else waiting[0][0] if waiting else 0.0
        return Found(plans, complete, at_least, tried, harmful[:MOST_HARMFUL])

    def tried(self, plans: Sequence[Plan]) -> Plan | None:
        """Plans joined, if they keep every goal of this search and do no harm."""
        steps = tuple(step for each in plans for step in each.steps)
        site = _with(self.site, steps)
        after = predicted(site) if not problems(site) else None
        plan = self._plan(after, steps) if after is not None and self.arrived(after) else None
        return plan if plan is not None and self._is_allowed(plan) else None

    def _is_enough(self, found: Sequence[Plan], next_cost: float, most_plans: int) -> bool:
        """Whether all plans of the least cost are found, and as many others as are wanted, at up to twice of it."""
        if not found or next_cost <= found[0].cost:
            return False
        return len(found) >= most_plans or next_cost > 2 * found[0].cost

    def _most_states(self) -> int:
        return MOST_STATES if lines_of(self.site) <= LARGE else MOST_OF_LARGE

    def _next(self, after: Studied, steps: Sequence[DeviceChange]) -> Iterator[DeviceChange]:
        """Every cure of what still breaks a promise, at places that are not changed yet."""
        for finding in self._findings(after):
            yield from self._cures(after, steps, finding)

    def _cures(self, after: Studied, steps: Sequence[DeviceChange], finding: Finding) -> Iterator[DeviceChange]:
        site = after.topology.site
        places = {each.change.place for each in steps if not each.change.adds}
        added = [each.change for each in steps if each.change.adds]
        for cure in finding.cures:
            is_new = any(
                _is_within(cure.place, each) for each in added
            )  # it is entered so at once, and may change again
            free = cure.adds or is_new or (cure.place not in places and not _follows_own(cure, added))
            if free and self.wishes.permits(device_of(site, cure.place)) and not problems(changed(site, cure)):
                yield DeviceChange(cure, 0.0 if is_new else self.costs.of(self.site, cure), finding)

    def _plan(self, after: Studied, steps: tuple[DeviceChange, ...]) -> Plan:
        steps = _folded(self.site, steps)
        both = zip(self.start.forecasts, after.forecasts, strict=True)
        gains = tuple(then.promise for before, then in both if then.kept is True and before.kept is not True)
        return Plan(steps, gains, self._before.effect([each.change for each in steps]))

    def _spared(self, plan: Plan, steps: tuple[DeviceChange, ...]) -> Plan:
        """The plan without a step that led on to others and is not needed beside them, the dearest first."""
        for step in sorted(steps, key=lambda each: -each.cost) if len(steps) > 1 else ():
            fewer = _without(steps, step)
            after = predicted(site) if fewer and not problems(site := _with(self.site, fewer)) else None
            if after is not None and self.arrived(after):
                spared = self._plan(after, fewer)
                if self._is_allowed(spared) or not self._is_allowed(plan):
                    return self._spared(spared, fewer)
        return plan

    def _is_allowed(self, plan: Plan) -> bool:
        """Whether it lets in nothing beyond what the promises need, and takes away nothing that served something."""
        return not plan.effect.needless and (self.wishes.allows_loss or not plan.effect.lost)

    def _corrected(self, plan: Plan) -> tuple[DeviceChange, ...]:
        """The way that corrects an entry where the plan adds one that does its job beside it; none where nothing is
        done twice by it."""
        for i, step in enumerate(plan.steps):
            entry, table = step.change.new, touched(step.change)
            if not step.change.adds or not isinstance(entry, Forward | Rule) or not value_at(self.site, table):
                continue
            for span in entry.ports.spans if len(entry.ports.spans) > 1 else ():
                narrower = replace(entry, ports=entry.ports - PortSet((span,)))
                narrow = replace(step, change=replace(step.change, new=narrower))
                if better := self._put_right((*plan.steps[:i], narrow, *plan.steps[i + 1 :]), table):
                    return better
            if better := self._put_right(_without(plan.steps, step), table):
                return better
        return ()

    def _put_right(self, steps: tuple[DeviceChange, ...], table: SitePath) -> tuple[DeviceChange, ...]:
        """The steps with what corrects entries of one table, if that is enough and does no harm."""
        for _ in range(MOST_SLIPS + 1):
            after = predicted(_with(self.site, steps))
            if self.arrived(after):
                return steps if self._is_allowed(self._plan(after, steps)) else ()
            firsts = [each for each in of_promises(without(after, self._others)) if each.severity == "breaks"]
            cures = [(each.cures[0], each) for each in firsts if each.cures and _corrects(each.cures[0], table)]
            if not cures or len(cures) < len(firsts):
                return ()
            cure, finding = cures[0]
            steps = (*steps, DeviceChange(cure, self.costs.of(self.site, cure), finding))
        return ()

    def greedy(self) -> Plan | None:
        """All cures made, round by round, or those that `check` gives; then every change taken back that can be done
        without, the dearest first."""
        found: list[Plan] = []
        for steps in (self._round_by_round(), self._as_checked()):
            after = predicted(_with(self.site, steps))
            plan = self._spared(self._plan(after, steps), steps) if self.arrived(after) else None
            found += [plan] if plan is not None and self._is_allowed(plan) else []
        return min(found, key=lambda each: each.order, default=None)

    def _round_by_round(self) -> tuple[DeviceChange, ...]:
        steps: tuple[DeviceChange, ...] = ()
        after = self.start
        for _ in range(MOST_ROUNDS):
            more = self._one_each(after, steps)
            if not more or self.arrived(after):
                break
            steps = (*steps, *more)
            after = predicted(_with(self.site, steps))
        return steps

    def _as_checked(self) -> tuple[DeviceChange, ...]:
        known = studied(self.site)
        steps = list[DeviceChange]()
        for cure, finding in least_cures(known, findings(known))[1].cures:
            is_new = any(_is_within(cure.place, each.change) for each in steps if each.change.adds)
            if not self.wishes.permits(device_of(self.site, cure.place)):
                return ()
            steps.append(DeviceChange(cure, 0.0 if is_new else self.costs.of(self.site, cure), finding))
        return tuple(steps)

    def _one_each(self, after: Studied, steps: Sequence[DeviceChange]) -> tuple[DeviceChange, ...]:
        """The cheapest cure of each finding, where they do not meet."""
        found: list[DeviceChange] = []
        for finding in self._findings(after):
            mine = sorted(self._cures(after, steps, finding), key=lambda each: each.cost)
            if mine and not any(_overlap(mine[0].change, each.change) for each in found):
                found.append(mine[0])
        return tuple(found)


def _goals_of(start: Studied, wishes: Wishes) -> frozenset[int]:
    """What has to become kept: what is broken, or where nothing is, what is unknown."""
    if wishes.kinds:
        return frozenset()
    broken = frozenset(i for i, each in enumerate(start.forecasts) if each.kept is False)
    return broken or broken_in(start)


def broken_in(start: Studied) -> frozenset[int]:
    """The numbers of what is not known to be kept."""
    return frozenset(i for i, each in enumerate(start.forecasts) if each.kept is not True)


def without(known: Studied, others: frozenset[int]) -> Studied:
    """What is known of all promises but some."""

    def of_these(several: tuple[Study, ...], first: int) -> tuple[Study, ...]:
        return tuple(each for i, each in enumerate(several, start=first) if i not in others)

    ways_in = of_these(known.ways_in, len(known.promises))
    return replace(known, promises=of_these(known.promises, 0), ways_in=ways_in)


def touched(change: Change) -> SitePath:
    """What a change is of: the entry or key, or the whole list where an entry comes or goes."""
    moves = change.adds or change.inserts or (change.new is None and isinstance(change.place[-1], int))
    return change.place[:-1] if moves else change.place


def _with(site: Site, steps: Sequence[DeviceChange]) -> Site:
    return changed(site, *(each.change for each in steps))


def _without(steps: tuple[DeviceChange, ...], step: DeviceChange) -> tuple[DeviceChange, ...]:
    """The same steps but for one; nothing where another is of its entry."""
    index = steps.index(step)
    fewer = left_out([each.change for each in steps], index)
    both = zip((*steps[:index], *steps[index + 1 :]), fewer, strict=False)
    return tuple(replace(each, change=made) for each, made in both)


def _folded(site: Site, steps: tuple[DeviceChange, ...]) -> tuple[DeviceChange, ...]:
    """The same changes, where what is changed of an entry that an earlier one adds is added so at once."""
    whole, found = _with(site, steps), list[DeviceChange]()
    for step in steps:
        place = step.change.place
        added = next((i for i, each in enumerate(found) if each.change.adds and _is_within(place, each.change)), None)
        if added is None:
            found.append(step)
            continue
        new = value_at(_with(site, (*found, step)), found[added].change.place)
        found[added] = replace(found[added], change=replace(found[added].change, new=new))
    return tuple(found) if _with(site, found) == whole else steps


def _corrects(change: Change, table: SitePath) -> bool:
    """Whether a change is of an entry of a table that is there."""
    return len(change.place) > len(table) + 1 and change.place[: len(table)] == table


def _follows_own(cure: Change, added: Sequence[Change]) -> bool:
    """Whether a range would be set to what an entry that is added is for, which is no witness of what was meant."""
    return isinstance(cure.new, PortSet) and any(
        PortSet((span,)) == cure.new
        for each in added
        if isinstance(each.new, Forward | Rule)
        for span in each.new.ports.spans
    )


def _is_within(place: SitePath, added: Change) -> bool:
    """Whether a place is in an entry that a change adds."""
    return len(place) > len(added.place) and place[: len(added.place)] == added.place


def _overlap(one: Change, other: Change) -> bool:
    a, b = one.place, other.place
    if one.adds and other.adds:
        return a[:-1] == b[:-1]
    return a[: len(b)] == b or b[: len(a)] == a


def _identity(step: DeviceChange) -> object:
    """What makes it this change, wherever in a list it is added."""
    place = step.change.place[:-1] if step.change.adds else step.change.place
    return place, step.change.new, step.change.inserts
