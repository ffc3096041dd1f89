"""The cheapest set of changes that keeps every promise.

Theory: a search from cures
===========================
A finding that breaks a promise carries its cure as a change. A site with such a change made is another site, with
findings and cures of its own, and so cures lead on, from site to site, until all promises are kept. Each way costs the
sum of its changes. The search always goes on from the cheapest way that it has (uniform cost, Dijkstra 1959), so the
first that arrives is the cheapest of all that cures lead to. It has arrived where every promise is kept that can be
told, none that was kept is broken, and nothing more is let in than the promises need (:mod:`..predict.exposure`).

The number of ways is bounded. Where that is not enough, all cures are made at once, as long as that brings anything,
and then every change is taken back that the promises can do without: a good set, which need not be
the cheapest.

A cause that `diagnose` names may stand on a device and not in the file: there the file is the cure, and what it states
has to be entered on the device again.
"""

from collections.abc import Collection, Iterator, Mapping, Sequence
from heapq import heappop, heappush
from itertools import count
from typing import Literal

from msgspec import Struct

from ..diagnosis.fault import Fault, Wording
from ..diagnosis.faults import faults_of
from ..findings.all import Studied, predicted, untried
from ..findings.finding import Finding
from ..model.change import Change, changed
from ..model.consistency import problems
from ..model.site import INTERNET, Client, Gateway, Habits, Promise, PublishedName, Site
from ..network.topology import Topology
from ..predict.exposure import Exposed, Widened, beyond_need, exposed, widened
from ..predict.forecast import Forecast

Owner = Literal["server", "own-device", "name", "client", "other-device"]


class Costs(Struct, frozen=True):
    """What a change costs by whose it is, and what is added where it is of a key by which a protection is given up."""

    owners: Mapping[Owner, float]
    gives_up: Mapping[str, float]

    def of(self, site: Site, change: Change) -> float:
        """The cost of one change of a site."""
        return self.owners[owner_of(site, change)] + self.gives_up.get(str(change.place[-1]), 0.0)


def owner_of(site: Site, change: Change) -> Owner:
    """Whose device a change is on: the site's own are those between its server and the internet."""
    match change.place[0]:
        case "gateways":
            own = own_gateways(site)
            return "own-device" if site.gateways[int(change.place[1])].name in own else "other-device"
        case "clients" | "habits":
            return "client"
        case "names":
            return "name"
        case _:
            return "server"


def own_gateways(site: Site) -> frozenset[str]:
    """The gateways that the server is behind: those on its way to the internet, and all others of its own network."""
    chain = Topology(site).chain(site.server.network, INTERNET) or ()
    beside = {each.name for each in site.gateways if each.inside.network == site.server.network}
    return frozenset(beside | {each.device.name for each in chain})


MOST_STATES, LARGE, MOST_OF_LARGE = 400, 300, 12
"""Sites that are looked at; and of sites with more than so many rules and forwards."""
MOST_ROUNDS = 8
MOST_ALTERNATIVES = 3


class DeviceChange(Struct, frozen=True):
    """A change, what it costs, and the finding that it cures."""

    change: Change
    cost: float
    finding: Finding

    def device(self, site: Site) -> str:
        """The gateway, client or name that it is on, else the server."""
        section, *rest = self.change.place
        named: dict[str | int, Sequence[Gateway | Client | PublishedName | Habits]] = {
            "gateways": site.gateways,
            "clients": site.clients,
            "names": site.names,
            "habits": site.habits,
        }
        return named[section][int(rest[0])].name if section in named and rest else site.server.name


class Plan(Struct, frozen=True):
    """Changes that together keep every promise; ``gains`` are those that are not kept without, ``more`` is what is let
    in with them and was not before."""

    steps: tuple[DeviceChange, ...]
    gains: tuple[Promise, ...]
    more: tuple[Widened, ...]

    @property
    def cost(self) -> float:
        """The sum of what its changes cost."""
        return sum(each.cost for each in self.steps)

    @property
    def changes(self) -> tuple[Change, ...]:
        """Its changes, in order."""
        return tuple(each.change for each in self.steps)


class Mending(Struct, frozen=True):
    """What mends a site: nothing needs to be done where ``kept``; without a plan nothing in the file helps, and
    ``remaining`` are the promises that stay broken or unknown, with the findings that no change of the file cures.
    ``least`` is whether the plan is known to be the cheapest that cures lead to; ``only`` are kinds that alone are
    to be cured."""

    kept: bool
    plan: Plan | None = None
    alternatives: tuple[Plan, ...] = ()
    least: bool = True
    remaining: tuple[Forecast, ...] = ()
    incurable: tuple[Finding, ...] = ()
    only: frozenset[str] = frozenset()

    @property
    def verdict(self) -> Literal["kept", "mended", "impossible", "unknown"]:
        """Unknown where there was no plan among those that could be looked at."""
        if self.kept:
            return "kept"
        return "mended" if self.plan is not None else "impossible" if self.least else "unknown"


def mend(site: Site, costs: Costs, only: frozenset[str] = frozenset()) -> Mending:
    """The cheapest changes that keep every promise of a consistent site; where ``only`` names kinds of findings, of
    the cures of these alone, whatever else stays broken."""
    start = predicted(site)
    search = _Search(site, costs, start, only)
    if search.arrived(start):
        unsure = () if only else tuple(each for each in start.forecasts if each.kept is None)
        return Mending(kept=not unsure, least=not unsure, remaining=unsure)
    plans, complete = search.cheapest(_state_bound(site))
    if plans:
        return Mending(False, plans[0], tuple(plans[1 : MOST_ALTERNATIVES + 1]), least=complete, only=only)
    if not complete and (plan := search.greedy()) is not None:
        return Mending(False, plan, least=False, only=only)
    remaining = tuple(each for each in start.forecasts if each.kept is False)
    incurable = tuple(each for each in untried(start) if each.severity == "breaks" and not each.cures)
    return Mending(False, None, least=complete, remaining=remaining, incurable=incurable)


def _state_bound(site: Site) -> int:
    tables = [table for each in site.gateways for table in (each.filter.inward, each.filter.outward)]
    hosts = [site.server.filter, *(each.filter for each in site.clients)]
    rules = sum(len(table.rules) for table in tables) + sum(
        len(each.incoming.rules) + len(each.outgoing.rules) for each in hosts
    )
    return MOST_STATES if rules + sum(len(each.forwards) for each in site.gateways) <= LARGE else MOST_OF_LARGE


class _Search:
    """Ways from a site along cures."""

    def __init__(self, site: Site, costs: Costs, start: Studied, only: frozenset[str]) -> None:
        self.site, self.costs, self.start, self.only = site, costs, start, only
        self._exposed: Exposed | None = None

    def arrived(self, after: Studied) -> bool:
        """Whether every promise is kept that was known before, and what was unknown is no worse; where only
        some kinds are to be cured, whether none of these is left and no promise is worse than before."""
        pairs = [(a.kept, b.kept) for a, b in zip(self.start.forecasts, after.forecasts, strict=True)]
        if self.only:
            worse = any(then is not True and before is not False and then is not before for before, then in pairs)
            return not worse and not any(each.kind in self.only for each in self._broken(after))
        return all(then is True or (then is None and before is None) for before, then in pairs)

    def _broken(self, after: Studied) -> list[Finding]:
        found = [each for each in untried(after) if each.severity == "breaks"]
        return [each for each in found if each.kind in self.only] if self.only else found

    def cheapest(self, most: int) -> tuple[list[Plan], bool]:
        """The cheapest plans, all of one cost, and whether all ways of less have been looked at."""
        order = count()
        waiting: list[tuple[float, int, tuple[DeviceChange, ...]]] = [(0.0, next(order), ())]
        known: set[frozenset[object]] = set()
        found: list[Plan] = []
        for _ in range(most):
            if not waiting or (found and waiting[0][0] > found[0].cost):
                return found, True
            cost, _, steps = heappop(waiting)
            site = changed(self.site, *(each.change for each in steps))
            after = predicted(site) if steps else self.start
            if self.arrived(after):
                if (plan := self._allowed(site, after, steps)) is not None:
                    found.append(plan)
                continue
            for step in self._next(site, after, steps):
                way = (*steps, step)
                key = frozenset(map(_identity, way))
                if key not in known:
                    known.add(key)
                    heappush(waiting, (cost + step.cost, next(order), way))
        return found, False

    def _next(self, site: Site, after: Studied, steps: Sequence[DeviceChange]) -> Iterator[DeviceChange]:
        """Every cure of what still breaks a promise, at places that are not changed yet."""
        places = {each.change.place for each in steps}
        for finding in self._broken(after):
            for cure in finding.cures:
                if cure.place not in places and not problems(changed(site, cure)):
                    yield DeviceChange(cure, self.costs.of(self.site, cure), finding)

    def _allowed(self, site: Site, after: Studied, steps: tuple[DeviceChange, ...]) -> Plan | None:
        """The plan, where it lets in nothing beyond what the promises need."""
        if self._exposed is None:
            self._exposed = exposed(self.site)
        more = widened(self._exposed, exposed(site))
        both = zip(self.start.forecasts, after.forecasts, strict=True)
        gains = tuple(then.promise for before, then in both if then.kept is True and before.kept is not True)
        return Plan(steps, gains, more) if not beyond_need(site, more) else None

    def greedy(self) -> Plan | None:
        """All cures made, round by round, then every change taken back that can be done without, the dearest first."""
        steps: tuple[DeviceChange, ...] = ()
        after = self.start
        for _ in range(MOST_ROUNDS):
            site = changed(self.site, *(each.change for each in steps))
            more = self._one_each(site, after, steps)
            if not more or self.arrived(after):
                break
            steps = (*steps, *more)
            after = predicted(changed(self.site, *(each.change for each in steps)))
        if not self.arrived(after):
            return None
        for each in sorted(steps, key=lambda each: -each.cost)[:MOST_OF_LARGE]:
            without = tuple(other for other in steps if other is not each)
            if not _adds(each) and self.arrived(predicted(self._with(without))):
                steps = without
        site = self._with(steps)
        return self._allowed(site, predicted(site), steps)

    def _with(self, steps: Sequence[DeviceChange]) -> Site:
        return changed(self.site, *(each.change for each in steps))

    def _one_each(self, site: Site, after: Studied, steps: Sequence[DeviceChange]) -> tuple[DeviceChange, ...]:
        """The cheapest cure of each finding, where they do not meet."""
        found: list[DeviceChange] = []
        for finding in self._broken(after):
            mine = sorted(
                (each for each in self._next(site, after, steps) if each.finding == finding), key=lambda each: each.cost
            )
            if mine and not any(_overlap(mine[0].change, each.change) for each in found):
                found.append(mine[0])
        return tuple(found)


def _adds(step: DeviceChange) -> bool:
    """Whether it adds to a list, so that the places of what was added after it would move."""
    return step.change.old is None and isinstance(step.change.place[-1], int)


def _overlap(one: Change, other: Change) -> bool:
    a, b = one.place, other.place
    return a[: len(b)] == b or b[: len(a)] == a


def _identity(step: DeviceChange) -> object:
    """What makes it this change, wherever in a list it is added."""
    place = step.change.place[:-1] if _adds(step) else step.change.place
    return place, step.change.new


def undone(site: Site, kinds: Collection[str], wording: Wording) -> tuple[Fault, ...]:
    """Where each of these kinds of faults may stand on a consistent site, with what to look at and what undoes it;
    faults of one place that are undone alike are listed once."""
    faults = [wording.worded(each) for each in faults_of(site) if each.kind in kinds]
    return tuple({(each.kind, each.at, each.place, each.cure): each for each in reversed(faults)}.values())[::-1]
