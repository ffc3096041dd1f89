"""The plan of `mend` held against exhaustive search, and its time on a large site against one check.

Usage: mending.py [SITES] [SEED]. Small random sites are broken by two or three faults each. The exhaustive search knows
nothing of the order of the other: it takes every change that any cure has led to, tries every set of them that costs
less than the plan, and looks whether all promises are kept. The exit code tells whether it ever found a cheaper one.
"""

import random
import sys
import time
from itertools import combinations
from json import dumps
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from working_sites import working_site

from eager_lantern.core.diagnosis.diagnosis import settled
from eager_lantern.core.diagnosis.fault import changes_in
from eager_lantern.core.diagnosis.faults import faults_of
from eager_lantern.core.findings.all import predicted, untried
from eager_lantern.core.mending.mend import mend
from eager_lantern.core.mending.plan import Mending
from eager_lantern.core.model.change import Change, changed
from eager_lantern.core.model.consistency import problems
from eager_lantern.core.model.site import Site
from eager_lantern.core.verdict import judge
from eager_lantern.formats.site.site_file import parse_site
from eager_lantern.formats.weights import shipped_costs

COSTS = shipped_costs()
MOST_CHANGES, MOST_DEPTH = 18, 4
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
        for finding in untried(predicted(at)):
            for cure in finding.cures if finding.severity == "breaks" else ():
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
            except (IndexError, AttributeError, TypeError):  # what is added to a list that another change has not made
                continue
            if not problems(tried) and all(each.kept for each in predicted(tried).forecasts):
                return some
    return None


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
    return int(bool(worse) or ratio > 20 or result.verdict != "mended")


if __name__ == "__main__":
    given_numbers = [int(each) for each in sys.argv[1:]]
    sys.exit(main(*given_numbers, *(200, 61)[len(given_numbers) :]))
