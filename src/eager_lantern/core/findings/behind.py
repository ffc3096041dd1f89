"""What would stop a promise next, behind what stops it first.

Theory: faults that hide one another
====================================
A session shows the first thing that stops it, and so does its prediction: with the master switch of a router off,
nobody sees that one of its forwards has a digit wrong. Whoever mends the first meets the second, and is off to the
devices again. So the cures of all findings are made on the model, and the site that comes of it is looked at again,
round by round, until every promise is kept or nothing is left to cure. What is found then was there all along:

>>> from eager_lantern.api import judge, parse_site
>>> verdict = judge(parse_site("pier", '''
... lantern: 1
... site: Pier
... networks: [{name: office, subnet: 10.61.4.0/24}]
... gateways:
...   - name: router
...     outside: {network: internet, address: 198.51.100.61}
...     inside: {network: office, address: 10.61.4.1}
...     translate: outward
...     forwarding: false
...     forwards: [{ports: 22, to: 10.61.4.7}]
... server: {name: store, network: office, address: 10.61.4.20}
... services: [{name: tides, protocol: sftp, control_port: 22}]
... clients: [{name: gauge, network: internet, address: 203.0.113.50, reaches: 198.51.100.61}]
... promises: [{client: gauge, service: tides}]
... ''').site)
>>> [each.message for each in verdict.findings if each.severity == "breaks"]
['router has forwarding switched off, so none of its forwards counts']
>>> [each.message for each in verdict.behind]
['forward of router leads to 10.61.4.7, but store has 10.61.4.20']

A cure that puts an entry before others moves those that follow; their places are counted back. What is wrong with an
entry that a cure has made is no fault of the site, and is left out.
"""

from collections.abc import Sequence

from ..model.change import Change, changed
from ..model.consistency import problems
from ..model.site import Site
from ..values.text_value import SitePath
from .all import Studied, of_promises, predicted
from .finding import Finding

MOST_ROUNDS = 5
MOST_CURES = 40


def behind(known: Studied, first: Sequence[Finding]) -> tuple[Finding, ...]:
    """Findings that show where those that are known are cured, in the order in which they show. Their places are those
    of the site as it is."""
    site, made, found = known.topology.site, list[Change](), list[Finding]()
    reported = {(each.kind, each.place) for each in first}
    present = [each for each in of_promises(known) if each.severity == "breaks"]
    tried: dict[tuple[str, SitePath], int] = {}
    for _ in range(MOST_ROUNDS):
        site, more = _cured(site, present, tried)
        if not more:
            break
        made += more
        after = predicted(site)
        present = [each for each in of_promises(after) if each.severity == "breaks"]
        for each in present:
            place = _place_before(each.place, made)
            if place is not None and (each.kind, place) not in reported:
                reported.add((each.kind, place))
                found.append(Finding(each.kind, each.severity, each.message, each.advice, place))
        if not present:
            break
    return tuple(found)


def _cured(site: Site, found: Sequence[Finding], tried: dict[tuple[str, SitePath], int]) -> tuple[Site, list[Change]]:
    """The site with one cure of each finding, another than before where one did not help."""
    made: list[Change] = []
    for each in found[:MOST_CURES]:
        number = tried.get((each.kind, each.place), 0)
        tried[each.kind, each.place] = number + 1
        if number < len(each.cures) and not any(_meet(each.cures[number], other) for other in made):
            after = changed(site, each.cures[number])
            if not problems(after):
                site = after
                made.append(each.cures[number])
    return site, made


def _meet(one: Change, other: Change) -> bool:
    """Whether two changes are of one list that grows by one of them, or of places of which one is in the other."""
    a, b = (each.place[:-1] if each.adds else each.place for each in (one, other))
    grows = one.adds or other.adds
    return a == b if not grows else a[: len(b)] == b or b[: len(a)] == a


def _place_before(place: SitePath, made: Sequence[Change]) -> SitePath | None:
    """Where a place was before changes were made; None for what is in an entry that one of them has made."""
    for each in reversed(made):
        depth = len(each.place) - 1
        if not each.adds or place[:depth] != each.place[:-1] or len(place) <= depth:
            continue
        index, new = place[depth], each.place[-1]
        assert isinstance(index, int)
        assert isinstance(new, int)
        if index == new:
            return None
        if each.inserts and index > new:
            place = (*place[:depth], index - 1, *place[depth + 1 :])
    return place
