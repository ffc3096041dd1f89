"""Faults that have nothing to do with one another, mended apart and joined.

Theory: parts that do not meet
==============================
The ways of a search multiply: six faults with three cures each are hundreds of sets of changes, of which every one that
costs less than the whole has to be looked at. Where no cure of one fault is a cure of another, the cheapest set is the
sum of the cheapest of each, and six small searches do. So broken promises that have the place of a finding or of a cure
in common make a part, and each part is searched as if nothing else were broken. What is looked at in one search must
lie at other places than what is looked at in any other, else a change might serve two of them, and all are searched
together. The sets joined are tried on the whole site, as any other plan is.
"""

from collections.abc import Iterator, Sequence

from ..findings.all import Studied, of_promises
from ..model.site import Site
from ..values.text_value import SitePath
from .plan import Costs, Plan, Wishes
from .search import Found, Search, broken_in, touched, without


def cheapest(site: Site, costs: Costs, start: Studied, wishes: Wishes) -> tuple[Search, Found]:
    """The cheapest plans of a whole site, with the search that tried them on it."""
    whole = Search(site, costs, start, wishes)
    parts = () if wishes.kinds else parts_of(start, whole.goals)
    if len(parts) < 2:
        return whole, whole.cheapest(wishes.others + 1)
    searches = [whole.of_part(part) for part in parts]
    found = [each.cheapest(wishes.others + 1) for each in searches]
    if all(each.plans for each in found) and not _meet([each.looked_at for each in searches]):
        plans = [plan for steps in _joined([each.plans for each in found]) if (plan := whole.tried(steps))]
        tried = sum(each.tried for each in found)
        if plans and plans[0].cost == sum(each.plans[0].cost for each in found):
            least = sum(each.at_least for each in found)
            plans.sort(key=lambda each: each.order)
            return whole, Found(plans, all(each.complete for each in found), round(least, 6), tried, [])
    return whole, whole.cheapest(wishes.others + 1)


def parts_of(start: Studied, goals: frozenset[int]) -> tuple[frozenset[int], ...]:
    """What has to become kept, in parts that share no place of a finding or of a cure."""
    parts: list[tuple[frozenset[int], set[SitePath]]] = []
    broken = broken_in(start)
    for goal in sorted(goals):
        found = of_promises(without(start, broken - {goal}))
        places = {touched(cure) for each in found for cure in each.cures} | {each.place for each in found}
        near = [each for each in parts if each[1] & places]
        parts = [each for each in parts if each not in near]
        parts.append((frozenset([goal]).union(*(each[0] for each in near)), places.union(*(each[1] for each in near))))
    return tuple(part for part, _ in parts)


def _meet(several: Sequence[set[SitePath]]) -> bool:
    """Whether a place of one is a place of another, or lies in one; what the server is for all of them, such as its
    address, is a place of each."""
    if len(several) > 1 and any(_is_for_all(place) for each in several for place in each):
        return True
    for i, each in enumerate(several):
        others = {place for other in several[i + 1 :] for place in other}
        if any(_lies_in(place, others) for place in each) or any(_lies_in(place, each) for place in others):
            return True
    return False


def _is_for_all(place: SitePath) -> bool:
    return place[0] in ("server", "services") and place[:2] != ("server", "filter")


def _lies_in(place: SitePath, others: set[SitePath]) -> bool:
    return any(place[:length] in others for length in range(1, len(place) + 1))


def _joined(parts: Sequence[Sequence[Plan]]) -> Iterator[tuple[Plan, ...]]:
    """The best plan of every part, then each with one part done another way."""
    best = [each[0] for each in parts]
    yield tuple(best)
    for i, plans in enumerate(parts):
        for other in plans[1:]:
            yield (*best[:i], other, *best[i + 1 :])
