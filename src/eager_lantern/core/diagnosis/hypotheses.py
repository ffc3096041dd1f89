"""Which faults explain what was seen, and how likely each is.

Every fault that the site may have is a hypothesis; so is that the site is as its file says. Each has a prior weight
by its kind; what was seen has a likelihood under each, and the product of both, over the sum of all, is its
probability (Bayes). A fault that may have gone one of several ways is as likely as these are on average. Pairs of
faults are asked only where nothing single explains everything: of each pair one fault has to explain what the other
does not, and what both together come to is predicted again.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import combinations, islice, product
from math import prod

from msgspec import Struct, structs

from ..faults.fault import Effect, Fault, FaultKind
from ..model.change import Change, changed
from ..model.consistency import problems
from ..model.site import Site
from .sighting import Sighting, chance_of
from .situation import End, Situation, ends_of

MOST_PAIRS, MOST_VARIANTS = 300, 3
"""Pairs that are tried, the likeliest first, and variants of each of their faults."""
PAIR_WEIGHT = 0.02
"""How much rarer than a single fault two at once are."""


class Hypothesis(Struct, frozen=True):
    """Faults that a site may have, none where it is as described, and how likely that is to begin with."""

    faults: tuple[Fault, ...]
    weight: float


AS_DESCRIBED: tuple[Fault, ...] = ()
"""The site as its file has it: no fault."""


class Explanation(Struct, frozen=True):
    """A hypothesis under which everything that was seen can be, with the ``likelihood`` of all of it together, over all
    ways of its faults and ``at_best``, by the likeliest of them, and its ``probability`` among all that explain.
    ``variants`` are those ways of its faults that do."""

    hypothesis: Hypothesis
    likelihood: float
    at_best: float
    variants: tuple[tuple[Change, ...], ...]
    probability: float = 0.0

    @property
    def said(self) -> str:
        """The cause in a sentence."""
        return ", and ".join(each.message for each in self.hypothesis.faults) or "the site is as its file says"

    def seen_again(self, likelihood: float) -> "Explanation":
        """The same with something more that was seen."""
        return Explanation(self.hypothesis, self.likelihood * likelihood, self.at_best * likelihood, self.variants)

    @property
    def effects(self) -> tuple[Effect, ...]:
        """What the faults do that no key of the site says."""
        return tuple(each.effect for each in self.hypothesis.faults if each.effect is not None)


class Predictions:
    """What would be seen on a site under a change, each worked out once."""

    def __init__(self, site: Site) -> None:
        self.site = site
        self._known: dict[tuple[tuple[Change, ...], tuple[Effect, ...], Situation], tuple[End, ...]] = {}

    def ends(self, changes: tuple[Change, ...], effects: tuple[Effect, ...], tried: Situation) -> tuple[End, ...]:
        """How a try ends on the site with these changes and effects."""
        key = (changes, effects, tried)
        if key not in self._known:
            self._known[key] = ends_of(changed(self.site, *changes), effects, tried)
        return self._known[key]

    def explanation(self, hypothesis: Hypothesis, seen: Sequence[Sighting]) -> Explanation | None:
        """The hypothesis with the likelihood of what was seen; None where it cannot explain it."""
        effects = tuple(each.effect for each in hypothesis.faults if each.effect is not None)
        ways = list(_ways(self.site, hypothesis.faults))
        found = [(way, self._likelihoods(way, effects, seen)) for way in ways]
        fitting = [(way, each) for way, each in found if all(each)]
        if not fitting:
            return None
        likelihoods = [prod(each) for _, each in fitting]
        mean = sum(likelihoods) / len(ways)
        return Explanation(hypothesis, mean, max(likelihoods), tuple(way for way, _ in fitting))

    def _likelihoods(
        self, way: tuple[Change, ...], effects: tuple[Effect, ...], seen: Sequence[Sighting]
    ) -> tuple[float, ...]:
        return tuple(chance_of(each, self.ends(way, effects, each.tried)) for each in seen)

    def explained_by(self, fault: Fault, seen: Sequence[Sighting]) -> dict[tuple[Change, ...], tuple[bool, ...]]:
        """Which of the sightings each way of a fault explains by itself; ways that explain none are left out."""
        effects = (fault.effect,) if fault.effect is not None else ()
        found = {way: tuple(map(bool, self._likelihoods(way, effects, seen))) for way in fault.variants}
        return {way: explained for way, explained in found.items() if any(explained)}


def explanations(
    predictions: Predictions, faults: Sequence[Fault], weights: Mapping[FaultKind, float], seen: Sequence[Sighting]
) -> tuple[Explanation, ...]:
    """All that explain everything that was seen, the likeliest first: as described, single faults, else pairs."""
    whole = sum(weights[each.kind] for each in faults) or 1.0
    single = [Hypothesis(AS_DESCRIBED, 1.0), *(Hypothesis((each,), weights[each.kind] / whole) for each in faults)]
    found = [each for every in single if (each := predictions.explanation(every, seen)) is not None]
    if not found:
        pairs = islice(_pairs(predictions, faults, weights, whole, seen), MOST_PAIRS)
        found = [each for every in pairs if (each := predictions.explanation(every, seen)) is not None]
    return ranked(found)


def ranked(found: Iterable[Explanation]) -> tuple[Explanation, ...]:
    """Explanations with the probability that each has among them, the likeliest first."""
    weighed = [(each, each.hypothesis.weight * each.likelihood) for each in found]
    whole = sum(weight for _, weight in weighed)
    ranked = sorted(weighed, key=lambda each: -each[1])
    return tuple(
        Explanation(each.hypothesis, each.likelihood, each.at_best, each.variants, weight / whole)
        for each, weight in ranked
    )


def _pairs(
    predictions: Predictions,
    faults: Sequence[Fault],
    weights: Mapping[FaultKind, float],
    whole: float,
    seen: Sequence[Sighting],
) -> Iterator[Hypothesis]:
    """Pairs of which each explains something that the other does not, and both together everything."""
    told = [(each, predictions.explained_by(each, seen)) for each in faults]
    useful = [(_likeliest(fault, ways), _any_of(ways.values())) for fault, ways in told if ways]
    found = [
        Hypothesis((one, other), PAIR_WEIGHT * weights[one.kind] * weights[other.kind] / whole**2)
        for (one, mine), (other, its) in combinations(useful, 2)
        if all(a or b for a, b in zip(mine, its, strict=True)) and not _meet(one, other)
    ]
    yield from sorted(found, key=lambda each: -each.weight)


def _likeliest(fault: Fault, ways: Mapping[tuple[Change, ...], tuple[bool, ...]]) -> Fault:
    """The fault with those of its ways that explain most, as far as pairs are tried with."""
    best = sorted(ways, key=lambda way: -sum(ways[way]))
    return structs.replace(fault, variants=tuple(best[:MOST_VARIANTS]))


def _any_of(explained: Iterable[tuple[bool, ...]]) -> tuple[bool, ...]:
    return tuple(map(any, zip(*explained, strict=True)))


def _meet(one: Fault, other: Fault) -> bool:
    """Whether two faults change the same place, or a place within the other's."""
    mine, its = ({change.place for way in each.variants for change in way} for each in (one, other))
    return any(a[: len(b)] == b or b[: len(a)] == a for a in mine for b in its)


def _ways(site: Site, faults: tuple[Fault, ...]) -> Iterator[tuple[Change, ...]]:
    """Each way in which all of the faults may have gone wrong."""
    if len(faults) < 2:
        yield from (faults[0].variants if faults else ((),))
        return
    for parts in product(*(each.variants for each in faults)):
        way = tuple(change for part in parts for change in part)
        if not problems(changed(site, *way)):
            yield way
