"""Which faults explain what was seen, and how likely each is.

Every fault that the site may have is a hypothesis; so is that the site is as its file states. Each has a prior weight
by its kind; what was seen has a likelihood under each, and the product of both, over the sum of all, is its
probability (Bayes). A fault that may have gone one of several ways is as likely as these are on average. Pairs of
faults are asked only where nothing single explains everything: of each pair one fault has to explain what the other
does not, and what both together come to is predicted again.
"""

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from itertools import combinations, islice, product
from math import prod
from typing import get_args

from msgspec import Struct, structs

from ..model.change import Change, changed
from ..model.consistency import problems
from ..model.site import Client, Site
from ..network.topology import Topology
from ..observed.observation import Observation, Situation
from .fault import ACCEPTS_OTHER, Effect, Fault, FaultKind, Way, changes_in
from .likelihood import aspects_of, chance_of
from .situation import End, PossibleEnds, ends_with, session_of, shown_to_the_end, shows_late, with_stand_in
from .words import Meaning, Testimony, borne_out, fit, named_by

MOST_PAIRS, MOST_VARIANTS = 200, 2
"""Pairs that are tried, the likeliest first, and variants of each of their faults."""
ASPECTS = 3
"""How many aspects of an observation are explained one by one."""
PAIR_WEIGHT = 0.02
"""How much rarer than a single fault two at once are."""


class Hypothesis(Struct, frozen=True):
    """Faults that a site may have, none where it is as described, and how likely that is to begin with."""

    faults: tuple[Fault, ...]
    weight: float


AS_DESCRIBED: tuple[Fault, ...] = ()
"""The site as its file states: no fault."""


class Explanation(Struct, frozen=True):
    """A hypothesis under which everything that was seen can be, with the ``likelihood`` of all of it together, over all
    ways of its faults and ``at_best``, by the likeliest of them, and its ``probability`` among all that explain.
    ``variants`` are those ways of its faults that do, ``words`` how likely the words of servers and programs are."""

    hypothesis: Hypothesis
    likelihood: float
    at_best: float
    variants: tuple[Way, ...]
    probability: float = 0.0
    words: float = 1.0

    @property
    def message(self) -> str:
        """The cause in a sentence."""
        return ", and ".join(each.message for each in self.hypothesis.faults) or "the site matches its file"

    def seen_again(self, likelihood: float) -> "Explanation":
        """The same with something more that was seen."""
        return structs.replace(self, likelihood=self.likelihood * likelihood, at_best=self.at_best * likelihood)


class Predictions:
    """What would be seen on a site under a change, each worked out once."""

    def __init__(self, site: Site, replies: tuple[Meaning, ...] = (), testimonies: tuple[Testimony, ...] = ()) -> None:
        self.site = site
        self._replies = replies
        self.testimonies = testimonies
        self._topologies: dict[tuple[tuple[Change, ...], Client | None], Topology] = {}
        self._sessions: dict[tuple[tuple[Change, ...], Situation], PossibleEnds] = {}

    def ends(self, way: Way, tried: Situation) -> tuple[End, ...]:
        """How a try ends where something has gone wrong in this way."""
        key = (self._concerning(changes_in(way), tried), tried)
        if key not in self._sessions:
            self._sessions[key] = session_of(self._topology(key[0], tried), tried)
        return ends_with(self._sessions[key], tuple(each for each in way if isinstance(each, Effect)), tried)

    def _concerning(self, changes: tuple[Change, ...], tried: Situation) -> tuple[Change, ...]:
        """Without the changes of other clients' habits and filters, which concern nobody else, and without what the
        server does for those habits alone."""
        own = next((i for i, each in enumerate(self.site.clients) if each.name == tried.client), None)
        if tried.holds == "shut":
            return changes
        whose = {each.place[1] for each in changes if each.place[0] == "clients"}
        return tuple(
            each
            for each in changes
            if (each.place[0] != "clients" or each.place[1] == own)
            and not (whose and own not in whose and each.place[-1] == ACCEPTS_OTHER)
        )

    def _topology(self, changes: tuple[Change, ...], tried: Situation) -> Topology:
        key = (changes, tried.stands_in)
        if key not in self._topologies:
            self._topologies[key] = Topology(with_stand_in(changed(self.site, *changes), tried))
        return self._topologies[key]

    def explanation(
        self,
        hypothesis: Hypothesis,
        seen: Sequence[Observation],
        tried: Collection[Way] | None = None,
        described: frozenset[FaultKind] = frozenset(),
    ) -> Explanation | None:
        """The hypothesis with the likelihood of what was seen; None where it cannot explain it. ``tried`` are those of
        its ways that may, where that is known; ``described`` are kinds that the site has as it is described."""
        ways = _ways(hypothesis.faults)
        hopeful = ways if tried is None else tried
        fitting = [(way, chance) for way in hopeful if (chance := self._likelihood(way, seen))]
        if len(hypothesis.faults) > 1:  # of each by itself that is known
            fitting = [(way, chance) for way, chance in fitting if not problems(changed(self.site, *changes_in(way)))]
        if not fitting:
            return None
        words = prod(fit(described | self._kinds_met(hypothesis, each), self.named(each)) for each in seen)
        words *= borne_out(hypothesis.faults, self.testimonies)
        mean = sum(chance for _, chance in fitting) / len(ways)
        best = max(chance for _, chance in fitting)
        ways_left = tuple(way for way, _ in fitting)
        return Explanation(hypothesis, words * mean, words * best, ways_left, words=words)

    def named(self, seen: Observation) -> frozenset[FaultKind]:
        """The kinds of faults that the words of an observation name."""
        named = named_by(seen.words, seen.rungs, self._replies)
        return named | {each for each in get_args(FaultKind) if each in seen.named}

    def is_named(self, fault: Fault, seen: Sequence[Observation]) -> bool:
        """Whether words of a try that a fault concerns, or what somebody states, name a fault."""
        accused = any(fault.kind in each.names for each in self.testimonies)
        return accused or any(fault.kind in self.named(each) and self._meets(fault, each.tried) for each in seen)

    def _kinds_met(self, hypothesis: Hypothesis, seen: Observation) -> frozenset[FaultKind]:
        """The kinds of those faults that a try meets."""
        return frozenset(each.kind for each in hypothesis.faults if self._meets(each, seen.tried))

    def _meets(self, fault: Fault, tried: Situation) -> bool:
        """Whether a fault concerns a try in any of its ways."""
        return any(self._concerns(way, tried) for way in fault.variants)

    def _concerns(self, way: Way, tried: Situation) -> bool:
        effects = (each for each in way if isinstance(each, Effect))
        return any(each.meets(tried.service, tried.client) for each in effects) or bool(
            self._concerning(changes_in(way), tried)
        )

    def _likelihood(self, way: Way, seen: Sequence[Observation]) -> float:
        """Of all that was seen together; what failed is asked first, since few faults explain it. What takes a long
        or a large transfer shows to each by itself, or, as likely, to all alike, since all did the same."""
        by_itself = alike = 1.0
        for each in sorted(seen, key=lambda each: not each.fails):
            ends = self.ends(way, each.tried)
            chance = chance_of(each, ends)
            if not chance:
                return 0.0
            by_itself *= chance
            alike *= chance_of(each, shown_to_the_end(ends)) if shows_late(ends) else chance
        return (by_itself + alike) / 2

    def explained_by(
        self, faults: Sequence[Fault], seen: Sequence[Observation]
    ) -> list[tuple[Fault, dict[Way, tuple[bool, ...]]]]:
        """Which aspects of each observation (:func:`.likelihood.aspects_of`) each way of each fault explains by itself;
        ways that explain nothing that failed are left out."""
        plain = self.aspects((), seen)
        failed = [each.fails for each in seen for _ in range(ASPECTS)]
        if not all(plain):
            failed = [not each for each in plain]
        unexplained = [(each, failed[i * ASPECTS : (i + 1) * ASPECTS]) for i, each in enumerate(seen)]
        telling = [(each, aspects) for each, aspects in unexplained if any(aspects)]
        return [
            (each, {way: self.aspects(way, seen) for way in each.variants if self._explains_any(way, telling)})
            for each in faults
        ]

    def _explains_any(self, way: Way, unexplained: Sequence[tuple[Observation, Sequence[bool]]]) -> bool:
        """Whether a way explains any of those aspects."""
        return any(
            mine and asked
            for each, aspects in unexplained
            for mine, asked in zip(aspects_of(each, self.ends(way, each.tried)), aspects, strict=True)
        )

    def aspects(self, way: Way, seen: Sequence[Observation]) -> tuple[bool, ...]:
        """Which aspects of each observation a way explains, so many of each as it has."""
        return tuple(aspect for each in seen for aspect in aspects_of(each, self.ends(way, each.tried)))


def whole(aspects: Sequence[bool]) -> tuple[bool, ...]:
    """Which observations are explained in all of their aspects."""
    return tuple(all(aspects[i : i + ASPECTS]) for i in range(0, len(aspects), ASPECTS))


def explanations(
    predictions: Predictions,
    faults: Sequence[Fault],
    weights: Mapping[FaultKind, float],
    seen: Sequence[Observation],
    described: frozenset[FaultKind] = frozenset(),
) -> tuple[Explanation, ...]:
    """All that explain everything that was seen, the likeliest first: as described, single faults, else pairs.
    ``described`` are kinds of faults that the site has as it is described."""
    whole = sum(weights[each.kind] for each in faults) or 1.0
    single = [Hypothesis(AS_DESCRIBED, 1.0), *(Hypothesis((each,), weights[each.kind] / whole) for each in faults)]
    alone = (predictions.explanation(every, seen, described=described) for every in single)
    found = [each for each in alone if each is not None]
    if not found:
        pairs = islice(_pairs(predictions, faults, weights, whole, seen), MOST_PAIRS)
        found = [each for every, ways in pairs if (each := predictions.explanation(every, seen, ways)) is not None]
    return ranked(found)


def ranked(found: Iterable[Explanation]) -> tuple[Explanation, ...]:
    """Explanations with the probability that each has among them, the likeliest first."""
    weighed = [(each, each.hypothesis.weight * each.likelihood) for each in found]
    whole = sum(weight for _, weight in weighed)
    ranked = sorted(weighed, key=lambda each: -each[1])
    return tuple(structs.replace(each, probability=weight / whole) for each, weight in ranked)


def _pairs(
    predictions: Predictions,
    faults: Sequence[Fault],
    weights: Mapping[FaultKind, float],
    whole: float,
    seen: Sequence[Observation],
) -> Iterator[tuple[Hypothesis, list[Way]]]:
    """Pairs of which each explains something that the other does not, and both together everything; with the ways of
    both that do."""
    explaining = predictions.explained_by(faults, seen)
    useful = [(_likeliest(fault, ways), ways, _any_of(ways.values())) for fault, ways in explaining if ways]
    found = [
        (Hypothesis((one, other), PAIR_WEIGHT * weights[one.kind] * weights[other.kind] / whole**2), mine, its)
        for (one, mine, all_mine), (other, its, all_its) in combinations(useful, 2)
        if _cover(all_mine, all_its) and not _same_place(one, other)
    ]
    for pair, mine, its in sorted(found, key=lambda each: -each[0].weight):
        one, other = pair.faults
        ways = [(*a, *b) for a, b in product(one.variants, other.variants) if _cover(mine[a], its[b])]
        if ways:
            yield pair, ways


def _cover(one: tuple[bool, ...], other: tuple[bool, ...]) -> bool:
    """Whether either explains each aspect."""
    return all(a or b for a, b in zip(one, other, strict=True))


def _likeliest(fault: Fault, ways: Mapping[Way, tuple[bool, ...]]) -> Fault:
    """The fault with those of its ways that explain most, as far as pairs are tried with."""
    best = sorted(ways, key=lambda way: -sum(ways[way]))
    return structs.replace(fault, variants=tuple(best[:MOST_VARIANTS]))


def _any_of(explained: Iterable[tuple[bool, ...]]) -> tuple[bool, ...]:
    return tuple(map(any, zip(*explained, strict=True)))


def _same_place(one: Fault, other: Fault) -> bool:
    """Whether two faults change the same place, or a place within the other's."""
    mine, its = ({change.place for way in each.variants for change in changes_in(way)} for each in (one, other))
    return any(a[: len(b)] == b or b[: len(a)] == a for a in mine for b in its)


def _ways(faults: tuple[Fault, ...]) -> list[Way]:
    """Each way in which all of the faults may have gone wrong."""
    parts = product(*(each.variants for each in faults))
    return [tuple(change for part in each for change in part) for each in parts]
