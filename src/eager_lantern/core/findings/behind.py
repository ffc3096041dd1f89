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

from collections import Counter
from collections.abc import Mapping, Sequence
from itertools import combinations

from msgspec import Struct
from msgspec.structs import replace

from ..model.change import Change, changed, left_out, value_at
from ..model.consistency import problems
from ..model.site import Forward, Rule, Site
from ..values.ports import PortSet
from ..values.text_value import SitePath
from .all import Studied, breaks_nothing, exposed_places, of_promises, opens_nothing, predicted
from .cause import either, leaves_fewer_ports, words_of
from .finding import Finding, owner_of
from .server_cures import server_cures

MOST_ROUNDS = 5
MOST_CURES = 40


class Behind(Struct, frozen=True):
    """What shows round by round, the cures that were made and of which findings, the site that came of them, and how
    many promises and ways in are not kept then."""

    findings: tuple[Finding, ...]
    cures: tuple[tuple[Change, Finding], ...]
    site: Site
    left: int

    @property
    def changes(self) -> tuple[Change, ...]:
        """The changes that were made, in order."""
        return tuple(each for each, _ in self.cures)

    @property
    def work(self) -> tuple[int, ...]:
        """Changes that others have to make, all changes, those on other devices than the server, entries that come or
        are switched off, ports that the server then uses, and changes of entries, which open something. What is made of
        an entry that a change has added is none more, nor what is set again; moving the server or its control port, or
        leaving it fewer ports, counts twice."""
        changes = self.changes
        several = {place: each for i, each in enumerate(changes)
                   if (place := _place_before(each.place, changes[:i])) is not None}  # fmt: skip
        made = several.values()
        owners = [owner_of(self.site, place) for place in several]
        dear = sum(leaves_fewer_ports(each) or each.place[-1] in ("address", "control_port") for each in made)
        others = sum(each in ("client", "other-device") for each in owners)
        comes = sum(each.adds or each.new is False for each in made)
        ports = sum(len(each.passive.ports) for each in self.site.services if each.passive)
        entries = sum(each.place[0] != "services" for each in made)
        return others, len(made) + dear, sum(each != "server" for each in owners), comes, ports, entries


MOST_SERVER_CURES = 4
"""Changes of the server that are tried for several findings; each costs nearly as much as the check."""


def least_cures(known: Studied, found: Sequence[Finding]) -> tuple[tuple[Finding, ...], Behind]:
    """The findings of a site, with those of their cures that are the least to do together, and what is behind them."""
    readvised, best = _server_first(known, found)
    spared = _spared(known, best)
    readvised = tuple(_as_done(each, best, spared) for each in readvised)
    shown = {(each.kind, each.place) for each in readvised}
    spared = replace(spared, findings=tuple(each for each in best.findings if (each.kind, each.place) not in shown))
    return in_the_end(readvised, spared), spared


def _spared(known: Studied, outlook: Behind) -> Behind:
    """What is to be done, without a change that led on to others and is not needed beside them."""
    cures = outlook.cures
    devices = Counter(each.place[:2] for each in outlook.changes)
    for each in (each for each in outlook.cures if devices[each[0].place[:2]] > 1):  # others led to by it are near
        index = next((i for i, (_, finding) in enumerate(cures) if finding is each[1]), None)
        fewer = left_out([change for change, _ in cures], index) if index is not None else ()
        site = changed(known.topology.site, *fewer)
        if not fewer or problems(site):
            continue
        after = predicted(site)
        if sum(now.kept is not True for now in after.forecasts) <= outlook.left:
            others = [finding for i, (_, finding) in enumerate(cures) if i != index]
            cures = tuple(zip(fewer, others, strict=True))
    site = changed(known.topology.site, *(each for each, _ in cures))
    return replace(outlook, cures=cures, site=site)


def _as_done(finding: Finding, before: Behind, spared: Behind) -> Finding:
    """A finding whose cure is not among what is to be done, with that of its table that does instead; where that cure
    was made and is not needed, what is unwise alone."""
    cure = finding.cures[0] if finding.severity == "breaks" and len(finding.cures) == 1 else None
    if cure is None or spared.left or cure in spared.changes:
        return finding
    table = _table_of(finding.place)
    other = next((each for each in spared.changes if _table_of(each.place) == table), None)
    if other is not None:
        return replace(finding, cures=(other,), advice=words_of(other))
    return replace(finding, severity="risks") if cure in before.changes else finding


def _server_first(known: Studied, found: Sequence[Finding]) -> tuple[tuple[Finding, ...], Behind]:
    """Where one change of the server, or two together, leave less to do than without, they are the cure of all that
    they cure, and what is left is cured as the server is then."""
    broken = [each for each in found if each.severity == "breaks"]
    own = ("services", "server", "names")
    offered = [each for each in server_cures(known, broken) if each.place[0] in own and each.cures]
    offered = offered[:MOST_SERVER_CURES]
    pairs = [(one, other) for one, other in combinations(offered, 2) if one.place != other.place]
    plain = behind(known, found)
    given, best = tuple[Finding, ...](), plain
    open_now = exposed_places(known) if offered else set()
    for offers in [*((each,) for each in offered), *pairs]:
        if not best.left and best.work[:2] < (0, len(offers)):
            break  # so many changes are more already
        site = changed(known.topology.site, *(each.cures[0] for each in offers))
        present = known if problems(site) else predicted(site)
        if present is known or not breaks_nothing(known, present):
            continue
        outlook = _round_by_round(known, found, offers, present)
        is_less = (outlook.left, outlook.work) < (best.left, best.work)
        if is_less and opens_nothing(known, open_now, present):
            given, best = offers, outlook
    return _readvised(known, found, given), _with_spared(known, best, plain, given) if given else best


def _with_spared(known: Studied, best: Behind, plain: Behind, given: Sequence[Finding]) -> Behind:
    """What is behind, with what would have shown there and needs no change of its own now: it is wrong all the same,
    but where it agrees with what the server gets."""
    shown, right = {each.place for each in best.findings}, {str(each.cures[0].new) for each in given}
    spared = [
        replace(each, cures=(), advice="no change of its own, once the server is changed as above")
        for each in plain.findings
        if each.place not in shown and str(value_at(known.topology.site, each.place)) not in right
    ]
    return replace(best, findings=(*best.findings, *spared))


def _readvised(known: Studied, found: Sequence[Finding], given: Sequence[Finding]) -> tuple[Finding, ...]:
    """The findings, and those of changes of the server that are given, each with what is left to do once they are
    made, one after the other."""
    readvised = tuple(found)
    for i, offer in enumerate(given):
        made = given[: i + 1]
        after = predicted(changed(known.topology.site, *(each.cures[0] for each in made)))
        left = {each.place: each for each in of_promises(after) if each.severity == "breaks"}
        more = [each for place, each in left.items() if place not in {each.place for each in readvised}]
        readvised = tuple(
            each if each.severity != "breaks" or _is_made(each, made) else _as_left(each, offer, left, more)
            for each in readvised
        )
        stated = any(each.cures == offer.cures[:1] for each in readvised)
        readvised = readvised if stated else (offer, *readvised)
    return tuple({(each.kind, each.place): each for each in readvised}.values())


def _is_made(finding: Finding, given: Sequence[Finding]) -> bool:
    return any(finding.cures == each.cures[:1] for each in given)


def _as_left(finding: Finding, offer: Finding, left: Mapping[SitePath, Finding], more: Sequence[Finding]) -> Finding:
    """A finding with the cure that is left of it once an offer is taken up: of its place or, where another entry of its
    table, that is not reported yet, turns out to be to blame, of that; else it is cured by the offer."""
    of_table = (each for each in more if _table_of(each.place) == _table_of(finding.place))
    other = left.get(finding.place) or next(of_table, None)
    if other is not None and other.place != finding.place:
        return replace(other, cures=other.cures[:1])
    cure = other or offer
    return replace(finding, cures=cure.cures[:1], advice=cure.advice) if cure.cures else finding


def _table_of(place: SitePath) -> SitePath:
    """The list of rules or forwards that a place is in, else the place."""
    ends = [i for i, each in enumerate(place) if each in ("inward", "outward", "incoming", "outgoing", "forwards")]
    return place[: ends[0] + 1] if ends else place


def behind(known: Studied, first: Sequence[Finding]) -> Behind:
    """What shows where the findings that are known are cured, by their own cures as far as they have some, in the order
    in which it shows. Places are those of the site as it is."""
    return _round_by_round(known, first, (), known)


def _round_by_round(known: Studied, first: Sequence[Finding], given: Sequence[Finding], present: Studied) -> Behind:
    """The same, after the cures of some findings that are given, for the site that comes of them."""
    cures, found, reported = [(each.cures[0], each) for each in given], list[Finding](), {_key(each) for each in first}
    site = present.topology.site
    ranges = [old for each in given if isinstance(old := each.cures[0].old, PortSet)]
    tried: list[Change] = []
    advised = {} if given else {_key(each): each for each in first if each.cures}
    for _ in range(MOST_ROUNDS):
        left = [each for each in of_promises(present) if each.severity == "breaks"]
        left, advised = [advised.get(_key(each), each) for each in left], {}
        for each in left:
            place = _place_before(each.place, [made for made, _ in cures])
            agreed = place is not None and value_at(known.topology.site, place) in ranges  # with what the range was
            if place is not None and (each.kind, place) not in reported and not agreed:
                reported.add((each.kind, place))
                found.append(Finding(each.kind, each.severity, each.message, each.advice, place))
        site, more = _cured(site, left, tried)
        if not more:
            break
        cures += more
        present = predicted(site)
    return Behind(tuple(found), tuple(cures), site, sum(each.kept is not True for each in present.forecasts))


def _key(finding: Finding) -> tuple[str, SitePath]:
    return finding.kind, finding.place


def in_the_end(found: Sequence[Finding], outlook: Behind) -> tuple[Finding, ...]:
    """Findings with what their cures set as it is in the end: for all who turned out to need it, and of several entries
    that could be one, that one."""
    final = _final(outlook)
    return tuple(_in_the_end(each, final) for each in found)


def _in_the_end(finding: Finding, final: Mapping[Change, Change]) -> Finding:
    cure = finding.cures[0] if len(finding.cures) == 1 else None
    whole = final.get(cure, cure) if cure else None
    return finding if whole is None or whole == cure else replace(finding, cures=(whole,), advice=words_of(whole))


def _final(outlook: Behind) -> dict[Change, Change]:
    """Each change that was made, as it would be made at once."""
    final: dict[Change, Change] = {}
    for i, each in enumerate(outlook.changes):
        place = each.place
        for later in outlook.changes[i + 1 :]:
            place = _place_after(place, later)
        final[each] = replace(each, new=value_at(outlook.site, place))
    for each in outlook.changes:
        for first, whole in final.items():
            if first == each:  # only into what was made before it, where it stands as in the site itself
                break
            joined = _as_one(whole.new, final[each].new) if _follows(first, each) else None
            if joined is not None:
                both = replace(whole, new=joined)
                final |= {other: both for other, made in final.items() if made in (whole, final[each])}
                break
    return final


def _follows(one: Change, other: Change) -> bool:
    """Whether two changes add entries to one list, the other at its end: where the one is, it would do as well."""
    return one.adds and other.adds and not other.inserts and one.place[:-1] == other.place[:-1]


def _as_one(one: object, other: object) -> object | None:
    """One entry for two that differ in whom they let through alone, or in the ports alone."""
    if isinstance(one, Rule) and isinstance(other, Rule):
        return _joined_rule(one, other)
    return _joined_forward(one, other) if isinstance(one, Forward) and isinstance(other, Forward) else None


def _joined_rule(one: Rule, other: Rule) -> Rule | None:
    if replace(one, from_=other.from_) == other:
        return replace(one, from_=either(one.from_, other.from_))
    return replace(one, ports=one.ports | other.ports) if replace(one, ports=other.ports) == other else None


def _joined_forward(one: Forward, other: Forward) -> Forward | None:
    if replace(one, from_=other.from_) == other:
        return replace(one, from_=either(one.from_, other.from_))
    alike = one.to_port is None and replace(one, ports=other.ports) == other
    return replace(one, ports=one.ports | other.ports) if alike else None


def _cured(site: Site, found: Sequence[Finding], tried: list[Change]) -> tuple[Site, list[tuple[Change, Finding]]]:
    """The site with one cure of each finding, another than before where one did not help."""
    made: list[tuple[Change, Finding]] = []
    for each in found[:MOST_CURES]:
        cure = next((cure for cure in each.cures if cure not in tried), None)
        if cure is not None and not any(_meet(cure, other) for other, _ in made):
            tried.append(cure)
            after = changed(site, cure)
            if not problems(after):
                site = after
                made.append((cure, each))
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


def _place_after(place: SitePath, made: Change) -> SitePath:
    """Where what is at a place is once a change is made."""
    depth = len(made.place) - 1
    if made.inserts and place[:depth] == made.place[:-1] and len(place) > depth:
        index = int(place[depth])
        return (*place[:depth], index + (int(made.place[-1]) <= index), *place[depth + 1 :])
    return place
