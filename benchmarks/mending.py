"""The plan of `mend` held against exhaustive search, against what a site was meant to be, and its time against one
check.

Usage: mending.py [SITES] [SEED]. Small random sites are broken by two or three faults each. The exhaustive search knows
nothing of the order of the other: it takes every change that any cure has led to, tries every set of them that costs
less than the plan, and looks whether all promises are kept without harm. The exit code is not 0 if it ever found a
cheaper one. As many sites with foreign entries and up to four faults are mended and held by plain reading against what
was meant, and as many with two to four faults are checked for whether `check` lists every one of them at once.
"""

import random
import sys
import time
from collections.abc import Callable
from functools import partial
from itertools import combinations
from json import dumps, loads
from pathlib import Path
from typing import Any, TypeVar

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from faulty_sites import branches, faulty_site, held_against, places_of, several_faults, undone_cost
from msgspec import to_builtins
from working_sites import NAME, working_site

from eager_lantern.core.diagnosis.diagnosis import settled
from eager_lantern.core.diagnosis.fault import changes_in
from eager_lantern.core.diagnosis.faults import faults_of
from eager_lantern.core.findings.all import findings as reported
from eager_lantern.core.findings.all import of_promises, predicted, studied
from eager_lantern.core.findings.cause import leaves_fewer_ports
from eager_lantern.core.findings.finding import Finding
from eager_lantern.core.findings.server_cures import server_cures
from eager_lantern.core.mending.effect import Before
from eager_lantern.core.mending.mend import mend
from eager_lantern.core.mending.plan import Mending
from eager_lantern.core.model.change import Change, change, changed, value_at
from eager_lantern.core.model.consistency import problems
from eager_lantern.core.model.site import Site
from eager_lantern.core.verdict import judge
from eager_lantern.formats.site.site_file import parse_site
from eager_lantern.formats.weights import shipped_costs

COSTS = shipped_costs()
T = TypeVar("T")
MOST_CHANGES, MOST_DEPTH = 12, 4
GATEWAYS, RULES = 50, 1000


def broken_sites(seed: int, count: int) -> list[Site]:
    """Working sites with two or three faults that the file itself has, so that a promise is broken."""
    chance = random.Random(seed)
    found: list[Site] = []
    while len(found) < count:
        site = settled(parse_site("working", dumps(working_site(chance))).site)
        if judge(site).verdict != "kept":
            continue
        for each in chance.sample(faults_of(site), chance.choice([2, 2, 3])):
            if each.changes_site:
                changes = changes_in(chance.choice(each.variants))
                if not problems(changed(site, *changes)):
                    site = changed(site, *changes)
        if judge(site).verdict == "broken":
            found.append(site)
    return found


def every_cure(site: Site) -> list[Change]:
    """All changes that cures lead to, however deep, as far as they stay few."""
    found: dict[Any, Change] = {}
    waiting: list[tuple[Site, int]] = [(site, 0)]
    while waiting and len(found) <= MOST_CHANGES:
        at, depth = waiting.pop(0)
        known = predicted(at)
        broken = [each for each in of_promises(known) if each.severity == "breaks"]
        for finding in (*broken, *server_cures(known, broken)):
            for cure in finding.cures:
                key = (cure.place, cure.new)
                if key not in found and not problems(changed(at, cure)):
                    found[key] = cure
                    if depth < MOST_DEPTH:
                        waiting.append((changed(at, cure), depth + 1))
    return list(found.values())


def cheaper(site: Site, cost: float) -> tuple[Change, ...] | None:
    """A set of changes that keeps every promise for less than this; None where there is none."""
    cures = every_cure(site)
    for size in range(len(cures) + 1):
        for some in combinations(cures, size):
            if sum(COSTS.of(site, each) for each in some) >= cost - 1e-9:
                continue
            places = [each.place for each in some]
            if len(set(places)) < len(places):
                continue
            try:
                tried = changed(site, *some)
                kept = not problems(tried) and all(each.kept for each in predicted(tried).forecasts)
            except (IndexError, AttributeError, TypeError):  # what is added to a list that another change has not made
                continue
            if kept and Before(site).effect(some).harmless:
                return some
    return None


def against_the_meant(seed: int, count: int) -> bool:
    """Print how plans for sites with foreign entries compare with what was meant; whether none does harm."""
    done, same, dearer, without, lost, needless, ambiguous, alike = 0, 0, 0, 0, 0, 0, 0, 0
    for number in range(seed, seed + count):
        faulty = faulty_site(number)
        meant, found = (parse_site("site", dumps(each)).site for each in (faulty.meant, faulty.found))
        if judge(meant).verdict != "kept" or (verdict := judge(found)).verdict == "kept":
            continue
        plan = mend(found, COSTS).plan
        done += 1
        if plan is None:
            without += 1
            print(f"{number}: no plan", flush=True)
            continue
        advised = [each.cures[0] for each in verdict.findings if each.severity == "breaks" and each.cures]
        if set(map(_identity, advised)) <= set(map(_identity, plan.changes)):
            alike += 1
        else:
            print(f"{number}: check advises another cure", flush=True)
        after = loads(dumps(to_builtins(changed(found, *plan.changes), enc_hook=str)))
        harm = held_against(faulty, after)
        by_hand = undone_cost(faulty) + _of_fewer_ports(meant, found)
        same += plan.cost == by_hand
        if plan.cost > by_hand:
            dearer += 1
            print(f"{number}: costs {plan.cost}, by hand {by_hand}", flush=True)
        if any(place[0] in ("other range", "range slip") for place in faulty.places):
            ambiguous += 1
            continue
        lost, needless = lost + bool(harm[0]), needless + bool(harm[1])
        if any(harm):
            print(f"{number}: does harm", flush=True)
    print(
        f"{done} sites with foreign entries and up to 4 faults: {without} without a plan, {same} as cheap as undoing "
        f"the faults, {dearer} dearer; of {done - without - ambiguous} in which it can be known what was meant "
        f"{lost} lose something that passed, {needless} open something that was not meant; in {alike} every cure of "
        f"check is of the plan"
    )
    return not lost and not needless and alike > 0.9 * (done - without)


def _of_fewer_ports(meant: Site, found: Site) -> float:
    """What it costs besides that the server has fewer ports once its range is as it was meant."""
    place = next((("services", i, "passive", "ports") for i, each in enumerate(found.services) if each.passive), None)
    back = change(found, place, value_at(meant, place)) if place else None
    return COSTS.gives_up["fewer_ports"] if back is not None and leaves_fewer_ports(back) else 0.0


def _identity(made: Change) -> object:
    """What a change is, wherever in a list its entry stands."""
    return tuple(each for each in made.place if isinstance(each, str)), str(made.new)


def hidden_faults(seed: int, count: int) -> bool:
    """Print how many faults of sites with several `check` lists at once, and how many of its findings are of none."""
    faults, listed, findings, others, plain, whole = 0, 0, 0, 0, 0.0, 0.0
    for number in range(seed, seed + count):
        faulty = several_faults(number)
        if faulty is None:
            continue
        site = parse_site("site", dumps(faulty.found)).site
        (first, took), (verdict, looked) = timed(partial(plainly, site)), timed(partial(judge, site))
        plain, whole = plain + took, whole + looked
        found = [each for each in (*first, *verdict.behind) if each.severity == "breaks"]
        faults += len(faulty.places)
        shown = [*verdict.findings, *verdict.behind]
        listed += sum(any(is_of(each, fault, faulty.found) for each in shown) for fault in faulty.places)
        findings += len(found)
        others += sum(not any(is_of(each, fault, faulty.found) for fault in faulty.places) for each in found)
    print(
        f"{faults} faults, 2 to 4 a site: check lists {listed} at once; of {findings} findings {others} are of none; "
        f"looking behind takes {whole / plain:.1f} times a check without"
    )
    return listed == faults and whole < 3 * plain


def plainly(site: Site) -> tuple[Finding, ...]:
    """What `check` finds without looking behind it."""
    return reported(studied(site))


def timed(run: Callable[[], T]) -> tuple[T, float]:
    """What a run comes to, and the faster of two in seconds: other work beside it makes one slower, and not both."""
    times = []
    for _ in range(2):
        began = time.process_time()
        found = run()
        times.append(time.process_time() - began)
    return found, min(times)


def is_of(finding: Finding, fault: tuple[str, ...], site: dict[str, Any]) -> bool:
    """Whether a finding is about the table, key or range that a fault is in."""
    place = places_of(fault, site)
    if not place:
        return finding.kind in AROUND[fault[0]]
    return tuple(finding.place[: len(place)]) == tuple(place)


AROUND = {
    "server moved": ("forward-wrong-host", "no-way-in", "no-forward", "filter-blocks", "active-outgoing-blocked"),
    "other range": ("range-mismatch", "range-typo", "no-forward", "filter-blocks", "forward-wrong-host"),
    "range slip": ("range-mismatch", "range-typo", "no-forward", "filter-blocks", "forward-wrong-host"),
}
"""Faults that show at other places than their own, and as what."""


def many_clients(count: int) -> Site:
    """A working site with so many clients behind routers of their own, and three faults that break all promises."""
    data = working_site(random.Random(9))
    clients = list(data["clients"])
    for i in range(count // 10):
        data["networks"].append({"name": f"branch-{i}", "subnet": f"10.{100 + i}.0.0/24"})
        data["gateways"].append({
            "name": f"branch-router-{i}",
            "outside": {"network": "internet", "address": f"203.0.113.{70 + i}"},
            "inside": {"network": f"branch-{i}", "address": f"10.{100 + i}.0.1"},
            "translate": "outward",
        })  # fmt: skip
        clients += [
            {"name": f"gauge-{i}-{j}", "network": f"branch-{i}", "address": f"10.{100 + i}.0.{10 + j}",
             "reaches": NAME, "modes": ["passive"], "uses_epsv": bool(j % 2)}
            for j in range(10)
        ]  # fmt: skip
    data["clients"] = clients
    data["promises"] = [
        {"client": each["name"], "service": "tide-exchange", "mode": each["modes"][0]} for each in clients
    ]
    forward = data["gateways"][0]["forwards"][1]
    forward["ports"] = forward["ports"].split("-")[0]
    data["names"][0]["addresses"] = ["198.51.100.77"]
    data["server"]["filter"]["incoming"] = {"default": "deny", "rules": []}
    return parse_site("many", dumps(data)).site


def scale() -> bool:
    """Print how long mending many promises with three faults takes, in checks of the same site."""
    ratios = {}
    for count in (100, 400):
        site = many_clients(count)
        began = time.process_time()
        judge(site)
        checked = time.process_time() - began
        began = time.process_time()
        found = mend(site, COSTS)
        ratios[count] = (time.process_time() - began) / checked
        print(f"{count} promises, 3 faults: {ratios[count]:.1f} times as long as a check, {found.verdict}")
    proved = True
    for count in (3, 6):
        site = parse_site("branches", dumps(branches(count))).site
        began = time.process_time()
        judge(site)
        checked = time.process_time() - began
        began = time.process_time()
        found = mend(site, COSTS)
        ratio = (time.process_time() - began) / checked
        least = "the least" if found.least else f"at least {found.at_least:g}"
        print(f"{count} faults that have nothing to do with one another: {ratio:.1f} times, {found.verdict}, {least}")
        proved = proved and found.least and found.verdict == "mended"
    return proved and ratios[100] <= 20 and ratios[400] <= 2 * 20


def large_site() -> Site:
    """Fifty gateways with twenty rules each, and a server behind one of them whose range is forwarded in part."""
    data = working_site(random.Random(9))
    data["gateways"][0]["forwards"][1]["ports"] = data["gateways"][0]["forwards"][1]["ports"].split("-")[0]
    for i in range(GATEWAYS - len(data["gateways"])):
        rules = [
            {"action": "deny", "protocol": "tcp", "ports": 1000 + each, "from": f"192.0.2.{each + 1}"}
            for each in range(RULES // GATEWAYS)
        ]
        data["networks"].append({"name": f"creek-{i}", "subnet": f"10.{100 + i}.0.0/24"})
        data["gateways"].append({
            "name": f"creek-router-{i}",
            "outside": {"network": "internet", "address": f"203.0.113.{20 + i}"},
            "inside": {"network": f"creek-{i}", "address": f"10.{100 + i}.0.1"},
            "translate": "outward",
            "filter": {"inward": {"default": "deny", "rules": rules}},
        })  # fmt: skip
    return parse_site("large", dumps(data)).site


def main(count: int, seed: int) -> int:
    worse, mended, hopeless = 0, 0, 0
    for site in broken_sites(seed, count):
        found: Mending = mend(site, COSTS)
        if found.plan is None:
            hopeless += 1
            continue
        mended += 1
        better = cheaper(site, found.plan.cost)
        if better is not None:
            worse += 1
            print(f"{found.plan.cost}: {[str(each.place) for each in found.plan.changes]}")
            print(f"cheaper: {[(each.place, str(each.new)) for each in better]}")
    print(f"{count} broken sites, seed {seed}: {mended} mended, {hopeless} without a plan, {worse} with a cheaper one")
    large = large_site()
    began = time.perf_counter()
    judge(large)
    checked = time.perf_counter() - began
    began = time.perf_counter()
    result = mend(large, COSTS)
    ratio = (time.perf_counter() - began) / checked
    least = "the least" if result.least else "not known to be the least"
    print(f"{GATEWAYS} gateways, {RULES} rules: {ratio:.1f} times as long as a check, {result.verdict}, {least}")
    harmless, all_listed, scales = against_the_meant(seed, count), hidden_faults(seed, count), scale()
    right = harmless and all_listed and scales and result.verdict == "mended"
    return int(bool(worse) or ratio > 20 or not right)


if __name__ == "__main__":
    given_numbers = [int(each) for each in sys.argv[1:]]
    sys.exit(main(*given_numbers, *(200, 61)[len(given_numbers) :]))
