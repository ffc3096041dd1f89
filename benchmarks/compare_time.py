"""How long `compare` of two states of a site takes beside a `check` of one: the demo's site as processes, and a large
site of 50 devices and 1,000 rules in one process, changed at every tenth device.

Of the processes the median of the ratios of neighbours is the result. Exit code 1 where either is above three.
"""

import statistics
import subprocess
import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))
from mending import large_site
from msgspec.structs import replace

from eager_lantern import __file__ as package
from eager_lantern.core.changes.states import compare
from eager_lantern.core.model.site import Site
from eager_lantern.core.verdict import judge

LIMIT, ROUNDS, EVERY = 3.0, 5, 10
DATA = Path(package).parent / "data"
BEFORE, AFTER = str(DATA / "saltmarsh-before.site.yaml"), str(DATA / "saltmarsh-after.site.yaml")


def seconds(*words: str) -> float:
    started = time.perf_counter()
    subprocess.run([sys.executable, "-m", "eager_lantern", *words], stdout=subprocess.DEVNULL, check=False)
    return time.perf_counter() - started


def otherwise(site: Site) -> Site:
    """The same without the last rule of every tenth device."""
    gateways = list(site.gateways)
    for i in range(1, len(gateways), EVERY):
        inward = gateways[i].filter.inward
        filters = replace(gateways[i].filter, inward=replace(inward, rules=inward.rules[:-1]))
        gateways[i] = replace(gateways[i], filter=filters)
    return replace(site, gateways=tuple(gateways))


def _of_large() -> float:
    large = large_site()
    other = otherwise(large)
    started = time.perf_counter()
    judge(large)
    checked = time.perf_counter() - started
    started = time.perf_counter()
    compare(large, other)
    return (time.perf_counter() - started) / checked


def main() -> int:
    seconds("compare", BEFORE, AFTER), seconds("check", AFTER)
    ratios = [seconds("compare", BEFORE, AFTER) / seconds("check", AFTER) for _ in range(ROUNDS)]
    small = statistics.median(ratios)
    print(f"compare of the demo's two sites: {small:.2f} times as long as a check (at most {LIMIT})")
    ratio = statistics.median(_of_large() for _ in range(3))
    print(f"of a large site, a rule less on each tenth device: {ratio:.2f} times as long as a check (at most {LIMIT})")
    return int(max(small, ratio) > LIMIT)


if __name__ == "__main__":
    sys.exit(main())
