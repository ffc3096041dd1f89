"""The cheapest set of changes that keeps every promise, and what undoes a fault that only a device has."""

from collections.abc import Collection

from msgspec.structs import replace

from ..diagnosis.fault import Fault, Wording
from ..diagnosis.faults import faults_of
from ..findings.all import of_promises, predicted
from ..model.site import Site
from .parts import cheapest
from .plan import Costs, Mending, Wishes
from .search import Search

MOST_ALTERNATIVES = 3


def mend(site: Site, costs: Costs, wishes: Wishes = Wishes()) -> Mending:
    """The cheapest changes that keep every promise of a consistent site, within what is wished; where kinds of findings
    are named, the cures of these alone, whatever else stays broken."""
    start = predicted(site)
    unsure = () if wishes.kinds else tuple(each for each in start.forecasts if each.kept is None)
    if not site.promises:
        return Mending(kept=False, least=False)
    if Search(site, costs, start, wishes).arrived(start):
        return Mending(kept=True)
    search, found = cheapest(site, costs, start, wishes)
    harmful = tuple(found.harmful)
    if found.plans:
        others = tuple(found.plans[1 : max(wishes.others, MOST_ALTERNATIVES) + 1])
        return Mending(
            False, found.plans[0], others, found.complete, found.at_least, found.tried, harmful, wishes=wishes
        )
    if not found.complete and (plan := search.greedy()) is not None:
        return Mending(False, plan, (), False, found.at_least, found.tried, harmful, wishes=wishes)
    if not any(each.kept is False for each in start.forecasts):
        return Mending(False, None, (), False, tried=found.tried, remaining=unsure, wishes=wishes)
    remaining = tuple(each for each in start.forecasts if each.kept is False)
    incurable = tuple(each for each in of_promises(start) if each.severity == "breaks" and not each.cures)
    limited = wishes.on or wishes.never
    freely = mend(site, costs, replace(wishes, on=frozenset(), never=frozenset())) if limited else None
    return Mending(
        False,
        None,
        (),
        found.complete,
        found.at_least,
        found.tried,
        harmful,
        remaining,
        incurable,
        wishes,
        freely.plan if freely else None,
    )


def undone(site: Site, kinds: Collection[str], wording: Wording) -> tuple[Fault, ...]:
    """Where each of these kinds of faults may stand on a consistent site, with what to look at and what undoes it;
    faults of one place that are undone alike are listed once. A cause that `diagnose` names may stand on a device and
    not in the file: there the file is the cure, and what it states has to be entered on the device again."""
    faults = [wording.worded(each) for each in faults_of(site) if each.kind in kinds]
    return tuple({(each.kind, each.at, each.place, each.cure): each for each in reversed(faults)}.values())[::-1]
