"""From observations to the causes that explain them, in groups, and to the next best test."""

from collections.abc import Iterator, Mapping, Sequence
from itertools import combinations
from typing import Literal

from msgspec import Struct
from msgspec.structs import replace

from ..findings.finding import Finding, FindingKind
from ..model.change import Change, changed
from ..model.entries import Typed
from ..model.site import Client, Site
from ..network.topology import Topology
from ..observed.observation import Observation, Situation
from ..predict.endpoints import entrances
from ..values.addresses import Addresses
from ..values.ports import PortSet
from ..values.text_value import SitePath
from ..verdict import judge
from .fault import SECTION_KEYS, Fault, FaultKind, SeenValues, Wording
from .faults import faults_of
from .hypotheses import AS_DESCRIBED, PAIR_WEIGHT, Explanation, Hypothesis, Predictions, explanations, ranked, whole
from .likelihood import UNKNOWN_SHARE
from .next_test import AnsweredTest, TestKind, Weighed, next_test, weighed_by
from .situation import session_of, with_stand_in
from .words import Meaning, Testimony

BARE_MENTION = 10**0.5
"""How much likelier a cause has to make what was seen before that separates it from another: evidence of less is worth
no more than a bare mention (Jeffreys 1961, appendix B)."""


class Knowledge(Struct, frozen=True):
    """How common each kind of fault is, beside the others, what each kind of test costs, how faults are put in words,
    and what words of servers and clients mean."""

    weights: Mapping[FaultKind, float]
    costs: Mapping[TestKind, float]
    wording: Wording
    replies: tuple[Meaning, ...] = ()


class CauseGroup(Struct, frozen=True):
    """Causes that explain what was seen about equally well: nothing of it separates them. Where the site file itself
    predicts it, ``findings`` are what it states about that."""

    probability: float
    causes: tuple[Explanation, ...]
    findings: tuple[Finding, ...] = ()

    @property
    def sides(self) -> tuple[tuple["Open", ...], ...]:
        """Where two faults have to be there at once: what the one may be, and what the other may be, the likeliest
        first; nothing where the causes do not part so. What stands alone on its side is certain."""
        return _sides(self.causes)

    @property
    def count(self) -> int:
        """How many causes there are to look for; of two faults at once those of both sides."""
        return sum(map(len, self.sides)) or len(self.causes)


class Open(Struct, frozen=True):
    """A fault that may be there, and how likely it is."""

    fault: Fault
    probability: float


def _sides(causes: Sequence[Explanation]) -> tuple[tuple[Open, ...], ...]:
    pairs = [each.hypothesis.faults for each in causes]
    if not pairs or any(len(each) != 2 for each in pairs):
        return ()
    side: dict[Fault, int] = {pairs[0][0]: 0}
    for _ in pairs:  # what stands beside a fault of one side is of the other
        for one, other in (*pairs, *((b, a) for a, b in pairs)):
            if one in side and side.setdefault(other, 1 - side[one]) == side[one]:
                return ()
        if all(each in side for pair in pairs for each in pair):
            break
    if not all(each in side for pair in pairs for each in pair):
        return ()
    share: dict[Fault, float] = {}
    for cause, pair in zip(causes, pairs, strict=True):
        for each in pair:
            share[each] = share.get(each, 0.0) + cause.probability
    found = [[Open(each, share[each]) for each in share if side[each] == which] for which in (0, 1)]
    ordered = (tuple(sorted(each, key=lambda one: -one.probability)) for each in found)
    return tuple(sorted(ordered, key=len))


class Diagnosis(Struct, frozen=True):
    """What was seen, what explains it, and what to try next. ``parted`` are sightings that nothing explains
    together, where each can be explained by itself. ``something_else`` is how likely it is that the cause is none of
    those that are known, ``testimonies`` are facts beside what was tried. ``apart`` are a few sightings that failed
    and that the causes do not explain, where they do all the others. ``as_described`` is that nothing was seen to fail,
    and all that was seen came to its end as the site file states; ``inconclusive`` are those of which nothing failed
    and no end was seen."""

    observations: tuple[Observation, ...]
    groups: tuple[CauseGroup, ...]
    test: Weighed | None = None
    parted: tuple[Observation, ...] = ()
    as_described: bool = False
    inconclusive: tuple[Observation, ...] = ()
    something_else: float = 0.0
    testimonies: tuple[Testimony, ...] = ()
    apart: tuple[Observation, ...] = ()

    @property
    def verdict(self) -> Literal["one", "several", "none"]:
        """How many groups of causes there are; none as well where nothing failed and there is no cause to name."""
        return "none" if not self.groups else "one" if len(self.groups) == 1 else "several"


def diagnose(
    site: Site,
    seen: Sequence[Observation],
    known: Knowledge,
    answers: Sequence[AnsweredTest] = (),
    testimonies: tuple[Testimony, ...] = (),
) -> Diagnosis:
    """What explains everything that was seen of a consistent site, and what tests have come to since; where nothing
    does, what explains all but a few."""
    as_typed = settled(site)
    predictions = Predictions(as_typed, known.replies, testimonies)
    faults = tuple(map(known.wording.worded, faults_of(as_typed, _seen_values(seen))))
    found = _diagnosed(predictions, faults, seen, known, answers)
    explaining = [each for group in found.groups for each in group.causes]
    if found.as_described or found.inconclusive or any(each.words >= CONTRADICTED for each in explaining):
        return found
    apart = _few_apart(predictions, faults, known.weights, seen)
    if not apart:
        return found
    rest = _diagnosed(predictions, faults, [each for each in seen if each not in apart], known, answers)
    return replace(rest, observations=tuple(seen), apart=apart) if rest.groups else found


CONTRADICTED = 0.001
"""Words less likely than this contradict a cause."""


def _diagnosed(
    predictions: Predictions,
    faults: tuple[Fault, ...],
    seen: Sequence[Observation],
    known: Knowledge,
    answers: Sequence[AnsweredTest],
) -> Diagnosis:
    """What explains all of it."""
    site, testimonies = predictions.site, predictions.testimonies
    accused = any(each.names for each in testimonies)
    described = _as_described(predictions, seen)
    if described is not None and not accused and not any(each.fails for each in seen):
        settled_tries = {(each.tried.client, each.tried.service) for each in seen if each.settles}
        cut_short = tuple(
            each
            for each in seen
            if not each.settles and not (each.one_sided and (each.tried.client, each.tried.service) in settled_tries)
        )
        return Diagnosis(tuple(seen), (), as_described=not cut_short, inconclusive=cut_short, testimonies=testimonies)
    stated = _by_the_file(site, faults, described, seen) if described is not None else None
    of_file = _kinds_of(stated) if stated is not None else frozenset()
    contrary = any(named and named.isdisjoint(of_file) for named in map(predictions.named, seen))
    if stated is not None and not accused and not contrary:
        return Diagnosis(tuple(seen), (stated,), testimonies=testimonies)
    if stated is not None:  # whatever else it may be explains the words, and not how the try ended
        faults = tuple(each for each in faults if predictions.is_named(each, seen))
    explaining = explanations(predictions, faults, known.weights, seen, of_file)
    found = weighed_by(predictions, explaining, answers)
    groups = tuple(each if stated is None else _with_stated(each, stated) for each in _groups(found))
    if not groups:
        parted = () if explaining else _contradicting(predictions, faults, seen)
        return Diagnosis(tuple(seen), (), parted=parted, something_else=1.0, testimonies=testimonies)
    test = next_test(predictions, found, known.costs, [each.tried for each in seen], answers)
    rest = _something_else(found, seen, answers)
    return Diagnosis(tuple(seen), groups, test, something_else=rest, testimonies=testimonies)


SOMETHING_ELSE = 0.01
"""How often, of all causes, it is none of the kinds that are known."""


def _something_else(
    found: Sequence[Explanation], seen: Sequence[Observation], answers: Sequence[AnsweredTest]
) -> float:
    """How likely it is that the cause is of no known kind, one as rare as theirs: it would show in any way as likely as
    in another, and in no look at a device."""
    tries = sum(each.fails for each in seen) + sum(each.test.tried is not None for each in answers if each.words)
    together = max((len(each.hypothesis.faults) for each in found), default=1)
    once = SOMETHING_ELSE * UNKNOWN_SHARE**tries * max((each.at_best for each in found), default=0.0)
    unknown = once * (PAIR_WEIGHT * SOMETHING_ELSE) ** (together - 1) if together else once
    known = sum(each.hypothesis.weight * each.likelihood for each in found)
    return unknown / (unknown + known) if known else 1.0


def settled(site: Site) -> Site:
    """The site with what each client types written down, so that a change elsewhere does not change it too."""
    topology = Topology(site)
    return replace(site, clients=tuple(_typing(topology, each) for each in site.clients))


def _typing(topology: Topology, client: Client) -> Client:
    ways = entrances(topology, client.network)
    return client if client.reaches is not None or not ways else replace(client, reaches=Typed(Addresses(ways)))


def _as_described(predictions: Predictions, seen: Sequence[Observation]) -> Explanation | None:
    """The site as its file states, where it explains everything by what it states, and not by what it leaves open."""
    ends = [end for each in seen for end in predictions.ends((), each.tried)]
    if any(each.outcome == "unknown" for each in ends):
        return None
    return predictions.explanation(Hypothesis(AS_DESCRIBED, 1.0), seen)


def _by_the_file(
    site: Site, faults: Sequence[Fault], described: Explanation, seen: Sequence[Observation]
) -> CauseGroup:
    """What the file itself predicts to fail needs no further fault: a broken promise has its findings; what nobody
    has promised is a client in the other mode."""
    broken = tuple(each for each in judge(site).findings if each.severity == "breaks")
    failing = tuple(dict.fromkeys(each.tried for each in seen if each.fails))
    broken = tuple(each for each in broken if _bears_on(site, each, failing)) or broken
    strayed = {(kind, each.tried.client) for each in seen if each.fails for kind in _strays(site, each.tried)}
    others = [each for each in faults if (each.kind, each.at) in strayed]
    if others:
        found = [
            Explanation(Hypothesis((each,), 1.0), described.likelihood, described.at_best, ((),)) for each in others
        ]
        return CauseGroup(1.0, ranked(found))
    return CauseGroup(1.0, (replace(described, probability=1.0),), broken)


def _bears_on(site: Site, finding: Finding, failing: Sequence[Situation]) -> bool:
    """Whether any of the tries that failed would end in another way with the cure of a finding."""

    def ends_otherwise(tried: Situation, cure: Change) -> bool:
        before, after = (Topology(with_stand_in(each, tried)) for each in (site, changed(site, cure)))
        return session_of(before, tried) != session_of(after, tried)

    return not finding.cures or any(ends_otherwise(each, cure) for cure in finding.cures for each in failing)


def _with_stated(group: CauseGroup, stated: CauseGroup) -> CauseGroup:
    """A group with what the file itself predicts in place of the site as it is described."""
    described = next((each for each in group.causes if not each.hypothesis.faults), None)
    if described is None:
        return group
    own = (replace(each, probability=each.probability * described.probability) for each in stated.causes)
    causes = (*own, *(each for each in group.causes if each is not described))
    return CauseGroup(group.probability, tuple(sorted(causes, key=lambda each: -each.probability)), stated.findings)


_STATES: Mapping[FindingKind, tuple[FaultKind, ...]] = {
    "tls-not-spoken": ("tls-demanded", "tls-refused", "client-without-tls"),
    "tls-reuse-trap": ("reuse-demanded",),
    "certificate-name-differs": ("certificate-of-other-name",),
    "active-client-names-private": ("client-names-private", "client-other-mode"),
    "account-rights-conflict": ("account-without-right",),
    "account-without-path": ("account-without-folder",),
    "port-taken-by-another": ("other-program-on-port",),
    "range-too-small": ("range-in-use",),
}
"""Which kinds of faults a finding is of, where the site file itself states what a server's words are about."""


def _kinds_of(stated: CauseGroup) -> frozenset[FaultKind]:
    """The kinds of faults that the file itself states."""
    of_findings = (kind for each in stated.findings for kind in _STATES.get(each.kind, ()))
    return frozenset((*of_findings, *(fault.kind for each in stated.causes for fault in each.hypothesis.faults)))


def _strays(site: Site, tried: Situation) -> Iterator[FaultKind]:
    """In what a try is another than what is promised to its client."""
    promised = {each.mode for each in site.promises if (each.client, each.service) == (tried.client, tried.service)}
    if tried.mode is not None and tried.mode not in promised:
        yield "client-other-mode"
    if tried.secured is False:
        yield "client-without-tls"
    own = next((each.address for each in site.clients if each.name == tried.client), Addresses())
    if tried.names is not None and tried.names.kind == "private" and own and tried.names not in own:
        yield "client-names-private"


def _seen_values(seen: Sequence[Observation]) -> SeenValues:
    """What faults may take from what was seen: of data ports the ends of each stretch that is alike."""
    found = [(port, port) for each in seen for fate in each.fates for span in fate.ports.spans for port in span]
    announced = dict.fromkeys(each.announced for each in seen if each.announced is not None)
    dialled = dict.fromkeys(each.tried.dialled for each in seen if each.tried.dialled is not None)
    landed = dict.fromkeys(each.landed for each in seen if each.landed is not None)
    clients = frozenset(each.tried.client for each in seen)
    return SeenValues(PortSet.of(*found), tuple(announced), tuple(dialled), tuple(landed), clients)


def _groups(found: Sequence[Explanation]) -> Iterator[CauseGroup]:
    """The likeliest group first; within it the likeliest cause."""
    alike: list[list[Explanation]] = []
    for each in sorted(found, key=lambda each: -each.at_best):
        if alike and each.at_best * BARE_MENTION > alike[-1][0].at_best:
            alike[-1].append(each)
        else:
            alike.append([each])
    groups = [
        CauseGroup(sum(each.probability for each in causes), tuple(sorted(causes, key=lambda each: -each.probability)))
        for causes in alike
    ]
    yield from sorted(groups, key=lambda each: -each.probability)


FEW = 4
"""Of so many sightings one may stand apart from what explains the others."""


def _few_apart(
    predictions: Predictions, faults: Sequence[Fault], weights: Mapping[FaultKind, float], seen: Sequence[Observation]
) -> tuple[Observation, ...]:
    """The fewest sightings that have to be left out for one fault, or the site as it is described, to explain the rest,
    where these are few and failed (what the file states needs no fault, and comes first); else none. What was seen to
    work is never left out: it excludes what would stop it."""
    named = [_foreign_words(predictions, each) for each in seen]
    aspects: list[tuple[FaultKind | None, tuple[bool, ...]]] = [(None, predictions.aspects((), seen))]
    aspects += [(each.kind, way) for each, ways in predictions.explained_by(faults, seen) for way in ways.values()]
    found = []
    for kind, explained in aspects:
        fits = [well and (not words or kind in words) for well, words in zip(whole(explained), named, strict=True)]
        left = tuple(each for each, good in zip(seen, fits, strict=True) if not good)
        if left and all(each.fails for each in left) and any(each.fails and each not in left for each in seen):
            found.append((kind is not None, len(left), -(weights[kind] if kind else 0.0), left))
    few = [each for each in found if each[1] * FEW <= len(seen)]
    return min(few, key=lambda each: each[:3])[3] if few else ()


def _foreign_words(predictions: Predictions, seen: Observation) -> frozenset[FaultKind]:
    """The kinds of faults that words name, where none of them is in what the try is another than promised."""
    named = predictions.named(seen)
    return named if named.isdisjoint(_strays(predictions.site, seen.tried)) else frozenset()


def _contradicting(
    predictions: Predictions, faults: Sequence[Fault], seen: Sequence[Observation]
) -> tuple[Observation, ...]:
    """The first two sightings that no single fault explains together, where some does each by itself; else the first
    that nothing explains."""
    aspects = [way for _, ways in predictions.explained_by(faults, seen) for way in ways.values()]
    aspects.append(predictions.aspects((), seen))
    explaining = [whole(each) for each in aspects]
    for i, each in enumerate(seen):
        if not any(explained[i] for explained in explaining):
            return (each,)
    for i, j in combinations(range(len(seen)), 2):
        if not any(explained[i] and explained[j] for explained in explaining):
            return seen[i], seen[j]
    return ()


class NamedCause(Struct, frozen=True):
    """One cause, with its cure; ``beside`` are faults that have to be there as well."""

    kind: FaultKind | FindingKind
    at: str
    probability: float
    message: str
    look: str
    cure: str
    place: SitePath
    beside: tuple[Fault, ...] = ()

    @property
    def messages(self) -> tuple[str, ...]:
        """What is wrong, and what else is."""
        return (self.message, *(each.message for each in self.beside))


class Page(Struct, frozen=True):
    """A page of a device's settings, or a part of the server's or a client's: one look at it shows which of its causes
    is there, and what it is. Causes that no observation separates are mostly of few pages."""

    at: str
    section: SitePath
    probability: float
    causes: tuple[NamedCause, ...]


def pages_of(group: CauseGroup) -> tuple[tuple[Page, ...], ...]:
    """Where to look for the causes of a group, the likeliest page first: for two faults at once by the side that they
    are on, else all of them together.

    >>> def cause(kind, at, share, *place):
    ...     return NamedCause(kind, at, share, f"{at}: {kind}", "", "", place)
    >>> off = cause("forward-off", "edge", 0.3, "gateways", 0, "forwards", 0)
    >>> digit = cause("forward-digit-off", "edge", 0.1, "gateways", 0, "forwards", 1)
    >>> shut = cause("default-shut", "store", 0.35, "server", "filter", "incoming", "default")
    >>> [(each.at, each.section[-1], round(each.probability, 2)) for each in _pages([shut, off, digit])]
    [('edge', 'forwards', 0.4), ('store', 'incoming', 0.35)]
    """
    sides = [tuple(_named(each.fault, each.probability) for each in side) for side in group.sides]
    return tuple(map(_pages, sides or [named_causes(group)]))


def _pages(causes: Sequence[NamedCause]) -> tuple[Page, ...]:
    found: dict[tuple[str, SitePath], list[NamedCause]] = {}
    for each in causes:
        found.setdefault((each.at, each.place[:SECTION_KEYS]), []).append(each)
    pages = (
        Page(at, section, sum(each.probability for each in its), tuple(its)) for (at, section), its in found.items()
    )
    return tuple(sorted(pages, key=lambda each: -each.probability))


def _named(fault: Fault, probability: float, beside: tuple[Fault, ...] = ()) -> NamedCause:
    sentences = fault.message, fault.look, fault.cure
    return NamedCause(fault.kind, fault.at, probability, *sentences, fault.place, beside)


_NOT_PROMISED = NamedCause(
    "not-promised",
    "the site file",
    1.0,
    "the site file promises nothing of this, and as it has things it cannot work",
    "eager-lantern check: is there a promise for it?",
    "add the promise to the site file; check then names what keeps it from working",
    ("promises",),
)


def named_causes(group: CauseGroup) -> tuple[NamedCause, ...]:
    """Every cause of a group, the likeliest first."""
    return tuple(_causes(group))


def _causes(group: CauseGroup) -> Iterator[NamedCause]:
    for each in group.causes:
        if each.hypothesis.faults:
            one, *beside = each.hypothesis.faults
            yield _named(one, each.probability, tuple(beside))
        elif not group.findings:
            yield _NOT_PROMISED
        else:
            yield from (_described(finding, each.probability / len(group.findings)) for finding in group.findings)


def _described(finding: Finding, probability: float) -> NamedCause:
    """What the site file has wrong, where the real site is as it states."""
    return NamedCause(
        finding.kind,
        "the site file",
        probability,
        finding.message,
        f"eager-lantern explain {finding.kind}",
        finding.advice,
        finding.place,
    )
