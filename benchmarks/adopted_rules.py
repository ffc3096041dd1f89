"""Random rule sets of hosts and gateways, of nft and iptables, loaded into the kernel, listed by it, adopted, and held
against it connection by connection.

Usage: adopted_rules.py [RULESETS] [SEED] [PROCESSES]. The number of connections that end otherwise than by the adopted
site is the result, and the exit code tells whether there are any.
"""

import json
import random
import sys
import tempfile
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from random_gateways import (
    came_back_otherwise,
    gateway_differences,
    old_gateway_differences,
    random_gateway,
    random_old_gateway,
)
from random_rulesets import FORMS, Tally, differences, old_differences, random_iptables, random_ruleset
from working_sites import working_site

from eager_lantern.formats.site.site_file import parse_site


def share(seeds: list[int]) -> Tally:
    count, unknown, found = 0, 0, list[str]()
    for seed in seeds:
        chance = random.Random(seed)
        with tempfile.TemporaryDirectory() as name:
            for tried, of_unknown, different in (
                differences(random_ruleset(chance), Path(name), chance),
                old_differences(random_iptables(chance), Path(name), chance),
                gateway_differences(random_gateway(chance), Path(name), chance),
                old_gateway_differences(random_old_gateway(chance), Path(name), chance),
            ):
                count += tried
                unknown += of_unknown
                found += [f"seed {seed}: {each}" for each in different]
            site = parse_site("working", json.dumps(working_site(chance))).site
            other = came_back_otherwise(site, Path(name), chance.choice(FORMS))
            found += [f"seed {seed}: {each} comes back otherwise" for each in other]
    return Tally(count, unknown, found)


def main(rulesets: int, seed: int, processes: int) -> int:
    seeds = list(range(seed, seed + rulesets))
    count, unknown, found = 0, 0, list[str]()
    with ProcessPoolExecutor(processes) as pool:
        for tried, of_unknown, different in pool.map(share, [seeds[i::processes] for i in range(processes)]):
            count += tried
            unknown += of_unknown
            found += different
    print(
        f"{rulesets} rule sets each of hosts and gateways, of nft and iptables, from seed {seed}: {count} connections,"
    )
    print(f"{unknown} of them unknown by rules that a site cannot say,")
    print(f"{len(found)} end otherwise than adopted")
    print("\n".join(found[:20]))
    return int(bool(found))


if __name__ == "__main__":
    numbers = [int(each) for each in sys.argv[1:]]
    sys.exit(main(*numbers, *(20, 61, 2)[len(numbers) :]))
