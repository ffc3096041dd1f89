"""Random sites in the kernel lab: every prediction held against the operating system's packet filter.

Usage: agreement.py [SITES] [CONNECTIONS] [SEED] [PROCESSES], CONNECTIONS being those of a site
beside its sessions. The number of disagreements is the result, and the exit code tells whether
there are any; for each a minimal site file that still shows it is written to the working folder.
"""

import json
import random
import sys
import time
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

from hypothesis import HealthCheck, Phase, given, seed, settings

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from rich_sites import rich_sites
from shrinking import shrunk
from side_by_side import Compared, compared

OUTCOMES = ("ok", "refused", "silent", "unknown")
EXTENTS = ("works", "partly", "fails")
MOST_SHRUNK = 3


def share(count: int, probes: int, start: int) -> tuple[Counter[str], list[tuple[Compared, dict[str, Any]]]]:
    """So many sites of a seed: what was predicted how often, and what differs with its site."""
    chance = random.Random(start)
    tally: Counter[str] = Counter()
    differing: list[tuple[Compared, dict[str, Any]]] = []

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
            tally[f"{each.kind} {each.predicted}"] += 1
            if each.differs:
                differing.append((each, site))

    run()
    return tally, differing


def main(count: int, probes: int, start: int, processes: int) -> int:
    began = time.perf_counter()
    tally: Counter[str] = Counter()
    differing: list[tuple[Compared, dict[str, Any]]] = []
    with ProcessPoolExecutor(processes) as pool:
        counts = [count // processes + (i < count % processes) for i in range(processes)]
        for part, found in pool.map(share, counts, [probes] * processes, range(start, start + processes)):
            tally += part
            differing += found
    seconds = time.perf_counter() - began
    connections = sum(tally[f"connection {each}"] for each in OUTCOMES)
    sessions = sum(tally[f"session {each}"] for each in (*EXTENTS, "unknown"))
    print(f"{tally['sites']} sites, {connections} connections and {sessions} sessions, seed {start}")
    print("connections: " + ", ".join(f"{tally[f'connection {each}']} predicted {each}" for each in OUTCOMES))
    print("sessions: " + ", ".join(f"{tally[f'session {each}']} predicted {each}" for each in (*EXTENTS, "unknown")))
    print(f"disagreements: {len(differing)}")
    print(f"{1000 * seconds / connections:.1f} ms a connection, sessions and all, {seconds:.0f} s in all")
    for each, _ in differing:
        print(f"{each.what}\n  {each.differs}", flush=True)
    for i, (each, site) in enumerate(differing[:MOST_SHRUNK]):
        path = Path(f"disagreement-{start}-{i}.site.yaml")
        path.write_text(json.dumps(shrunk(site, each), indent=1))
        print(f"{path} shows: {each.what}")
    return int(bool(differing))


if __name__ == "__main__":
    given_numbers = [int(each) for each in sys.argv[1:]]
    sys.exit(main(*given_numbers, *(500, 240, 61, 3)[len(given_numbers) :]))
