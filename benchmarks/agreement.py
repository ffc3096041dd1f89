"""Random sites, random connections: every prediction held against the kernel's packet filter.

Usage: agreement.py [SITES] [PROBES] [SEED]. The number of disagreements is the result, and the
exit code tells whether there are any; each is printed with the site that shows it.
"""

import json
import random
import sys
import time
from collections import Counter
from pathlib import Path
from typing import Any

from hypothesis import HealthCheck, Phase, given, seed, settings

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from rich_sites import rich_sites
from side_by_side import compared

CHECKS = list(HealthCheck)


def main(count: int, probes: int, start: int) -> int:
    chance = random.Random(start)
    tally: Counter[str] = Counter()
    began = time.perf_counter()

    @settings(
        max_examples=count,
        deadline=None,
        database=None,
        phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )
    @seed(start)
    @given(rich_sites())
    def run(site: dict[str, Any]) -> None:
        tally["sites"] += 1
        for each in compared(site, probes, chance):
            tally[each.predicted] += 1
            if each.differs:
                tally["disagreements"] += 1
                print(f"{each.what}\n  {each.differs}\n  {json.dumps(site)}")

    run()
    connections = sum(tally[each] for each in ("ok", "refused", "silent", "unknown"))
    seconds = time.perf_counter() - began
    print(f"{tally['sites']} sites, {connections} connections, seed {start}")
    print(", ".join(f"{tally[each]} predicted {each}" for each in ("ok", "refused", "silent", "unknown")))
    print(f"disagreements: {tally['disagreements']}")
    print(f"{1000 * seconds / connections:.1f} ms a connection")
    return int(tally["disagreements"] > 0)


if __name__ == "__main__":
    given_numbers = [int(each) for each in sys.argv[1:]]
    sys.exit(main(*given_numbers, *(500, 120, 61)[len(given_numbers) :]))
