"""The next best test: of all that can be tried, the one worth most for what it costs.

Theory: what a test is worth
============================
Several causes are left, each with a probability. A test is a session, or a look at one device, and under each cause it
comes to one of its outcomes, or to several with some chance. A good test is one whose outcome nobody can foretell and
every cause foretells: then seeing it says which cause it was.

Both halves are entropies (Shannon 1948, section 6). How uncertain the outcome is, over all causes mixed by their
probabilities, less how uncertain it would still be if the cause were known: that is the mutual information of test and
cause, in bits, and one bit halves what is left. A test that comes to the same under every cause is worth
nothing, however surprising; one that scatters by itself is worth little, since its scatter says nothing of the cause.

Two equally likely causes, parted for certain; then one of them scatters as well; then both alike:

>>> round(information([(0.5, {"ok": 1.0}), (0.5, {"silent": 1.0})]), 3)
1.0
>>> round(information([(0.5, {"ok": 0.5, "silent": 0.5}), (0.5, {"silent": 1.0})]), 3)
0.311
>>> round(information([(0.5, {"ok": 0.5, "silent": 0.5}), (0.5, {"ok": 0.5, "silent": 0.5})]), 3)
0.0

Tests differ in what they cost (a minute on the server, or a call to somebody far away), so they are ranked by bits for
their cost. That looks one test ahead only. The best order of all would need a search over every sequence of outcomes;
`benchmarks/diagnosis.py` makes it where there are few causes, and this greedy order costs a few percent more.
"""

from collections.abc import Hashable, Iterator, Mapping, Sequence
from math import log2
from typing import Literal

from msgspec import Struct

from ..model.entries import Typed
from ..model.site import INTERNET, Client, Mode, Promise, Service, Site
from ..network.topology import Topology, free_address
from ..observed.observation import Situation, ending_phrase
from ..predict.endpoints import entrances
from ..values.addresses import Addresses
from ..values.outcomes import Outcome, Rung
from ..values.text_value import SitePath
from .hypotheses import Explanation, Predictions, ranked

TestKind = Literal["visit", "other-mode", "from-inside", "from-outside", "on-server", "look", "look-elsewhere"]
LEAST_BITS = 0.005
MOST_ASKED = 120
"""Explanations that a test is weighed by, the likeliest first."""
ON_SERVER, INSIDE, OUTSIDE = "the server itself", "anybody inside", "anybody outside"


class Showing(Struct, frozen=True):
    """What a test may come to, how likely that is, and the causes that it would leave, each in a sentence."""

    words: str
    chance: float
    leaves: tuple[str, ...]


class Test(Struct, frozen=True):
    """Something that can be tried: a session, or a look at one device, server or client."""

    kind: TestKind
    tried: Situation | None
    at: str
    section: SitePath = ()
    look: str = ""

    @property
    def key(self) -> Hashable:
        """What makes it this test and no other."""
        return self.tried, self.at, self.section


class AnsweredTest(Struct, frozen=True):
    """A test that was made, and which of its outcomes it came to; an empty one is not known."""

    test: Test
    words: str


class Weighed(Struct, frozen=True):
    """A test with its worth, in bits, and what each of its outcomes would mean."""

    test: Test
    bits: float
    outcomes: tuple[Showing, ...]


Spread = Mapping[Hashable, float]
"""What may be seen, and how likely each is."""


def information(causes: Sequence[tuple[float, Spread]]) -> float:
    """How much a test narrows down the cause, in bits: the probability of each cause, and what would be seen."""
    whole = sum(probability for probability, _ in causes) or 1.0
    mixed: dict[Hashable, float] = {}
    for probability, spread in causes:
        for key, chance in spread.items():
            mixed[key] = mixed.get(key, 0.0) + probability / whole * chance
    left = sum(probability / whole * _entropy(spread) for probability, spread in causes)
    return max(0.0, _entropy(mixed) - left)


def _entropy(spread: Spread) -> float:
    return -sum(each * log2(each) for each in spread.values() if each > 0)


def next_test(
    predictions: Predictions,
    found: Sequence[Explanation],
    costs: Mapping[TestKind, float],
    done: Sequence[Situation],
    answers: Sequence[AnsweredTest] = (),
) -> Weighed | None:
    """The test with the most information for its cost; None where nothing parts the causes."""
    asked = found[:MOST_ASKED]
    best: Weighed | None = None
    tested = {each.test.key for each in answers}
    for test, spreads in spreads_of(predictions, asked, done):
        if test.key in tested:
            continue
        bits = information([(each.probability, spread) for each, spread in zip(asked, spreads, strict=True)])
        if bits >= LEAST_BITS and (best is None or bits / costs[test.kind] > best.bits / costs[best.test.kind]):
            best = Weighed(test, bits, tuple(_showings(asked, spreads)))
    return best


def spreads_of(
    predictions: Predictions, causes: Sequence[Explanation], done: Sequence[Situation]
) -> Iterator[tuple[Test, list[Spread]]]:
    """Everything that can be tried and was not yet, and what each of the causes would show by it."""
    for test in _tests(predictions.site, causes, done):
        yield test, [_spread(predictions, each, test) for each in causes]


def weighed_by(
    predictions: Predictions, found: Sequence[Explanation], answers: Sequence[AnsweredTest]
) -> tuple[Explanation, ...]:
    """What explains the outcomes of tests as well, each as likely as it makes them."""
    for answer in answers:
        if answer.words:
            chances = [_spread(predictions, each, answer.test).get(answer.words, 0.0) for each in found]
            found = [each.seen_again(chance) for each, chance in zip(found, chances, strict=True) if chance]
    return ranked(found)


def _showings(asked: Sequence[Explanation], spreads: Sequence[Spread]) -> Iterator[Showing]:
    keys = dict.fromkeys(key for each in spreads for key in each)
    whole = sum(each.probability for each in asked) or 1.0
    outcomes = [
        Showing(
            str(key),
            sum(each.probability * spread.get(key, 0) for each, spread in zip(asked, spreads, strict=True)) / whole,
            tuple(each.message for each, spread in zip(asked, spreads, strict=True) if spread.get(key)),
        )
        for key in keys
    ]
    yield from sorted(outcomes, key=lambda each: -each.chance)


def _spread(predictions: Predictions, each: Explanation, test: Test) -> Spread:
    """What a test would show if the cause were this one."""
    if test.tried is None:
        faults = [fault for fault in each.hypothesis.faults if (fault.at, fault.section) == (test.at, test.section)]
        return {faults[0].message if faults else "all matches the site file": 1.0}
    found: dict[Hashable, float] = {}
    for way in each.variants:
        for end in predictions.ends(way, test.tried):
            words = _showing_text(end.rung, end.outcome) + (", another address announced" if end.elsewhere else "")
            found[words] = found.get(words, 0.0) + end.chance / len(each.variants)
    return found


def _showing_text(rung: Rung | None, outcome: Outcome) -> str:
    return "it works" if rung is None else ending_phrase(rung, (outcome,))


def _tests(site: Site, found: Sequence[Explanation], done: Sequence[Situation]) -> Iterator[Test]:
    for tried, kind in _tries(site):
        if tried not in done:
            yield Test(kind, tried, tried.client)
    own = {each.name for each in site.gateways} | {site.server.name}
    looks: dict[tuple[str, SitePath], str] = {}  # the likeliest fault of a section states what to look at there
    for each in found:
        for fault in each.hypothesis.faults:
            looks.setdefault((fault.at, fault.section), fault.look)
    for (at, section), look in looks.items():
        yield Test("look" if at in own else "look-elsewhere", None, at, section, look)


def _tries(site: Site) -> Iterator[tuple[Situation, TestKind]]:
    """Sessions of every client that is promised some, in the mode of the promise and in the other one; and of who
    stands on the server's network or on the server itself."""
    for each in site.promises:
        service = next(service for service in site.services if service.name == each.service)
        if each.holds == "works" and service.protocol != "other":
            yield from _of_promise(each, service)
    for service in site.services:
        if service.protocol != "other":
            for client, kind in _standing_clients(site):
                mode = _mode_if_ftp(service, "passive")
                yield Situation(client.name, service.name, mode, reports=True, stands_in=client), kind


def _of_promise(promise: Promise, service: Service) -> Iterator[tuple[Situation, TestKind]]:
    other: Mode = "active" if promise.mode == "passive" else "passive"
    yield Situation(promise.client, service.name, promise.mode, reports=True), "visit"
    if service.protocol == "ftp":
        yield Situation(promise.client, service.name, other, reports=True), "other-mode"
        if promise.mode == "passive":
            yield Situation(promise.client, service.name, "passive", extended=True, reports=True), "other-mode"


def _mode_if_ftp(service: Service, mode: Mode) -> Mode | None:
    return mode if service.protocol == "ftp" else None


def _standing_clients(site: Site) -> Iterator[tuple[Client, TestKind]]:
    """Who can always be: on the server itself, at another address of its network, and, with a phone off the Wi-Fi,
    outside."""
    server = site.server
    here = Client(name=ON_SERVER, network=server.network, on_server=True, reaches=Typed(name="localhost"))
    yield here, "on-server"
    family = server.address.each[0].family
    free = free_address(Topology(site), server.network, family)
    if free is not None and not any(each.network == server.network for each in site.clients):
        reached = Typed(Addresses(server.address.each[:1]))
        yield Client(name=INSIDE, network=server.network, address=Addresses((free,)), reaches=reached), "from-inside"
    phone = anybody_outside(site)
    if phone is not None:
        yield phone, "from-outside"


def anybody_outside(site: Site) -> Client | None:
    """Somebody on the internet with an address of nobody and no filter, as a phone on its carrier's network is; None
    where the server has no address there."""
    topology = Topology(site)
    doors = entrances(topology, INTERNET)
    own = free_address(topology, INTERNET, doors[0].family) if doors else None
    if own is None:
        return None
    return Client(name=OUTSIDE, network=INTERNET, address=Addresses((own,)), reaches=Typed(Addresses(doors)))
