"""How long it takes to read a rule set of 10,000 rules, beside the kernel's own command that lists it.

Both are timed in the same run; the ratio is printed, and above 3 the exit code is 1. Printed beside it is the whole of
`adopt` with its comparison and the patch of the file.
"""

import statistics
import subprocess
import sys
import tempfile
import time
from itertools import pairwise
from pathlib import Path

from eager_lantern.files.rulesets.host import read_ruleset

RULES, ROUNDS, LIMIT = 10_000, 5, 3.0
SITE = """lantern: 1
site: Border
networks: [{name: office, subnet: 10.61.4.0/24}]
server:
  name: store
  network: office
  address: 10.61.4.20
  filter:
    incoming:
      default: deny
      rules:
        - {action: allow, protocol: tcp, ports: 22}
"""


def ruleset() -> str:
    """So many rules for what arrives, no two alike."""
    lines = (
        f"ip saddr 10.{i // 250}.{i % 250}.0/24 tcp dport {1000 + i % 5000} {'accept' if i % 3 else 'drop'}"
        for i in range(RULES)
    )
    body = "\n".join(lines)
    return f"table inet harbour {{ chain arriving {{ type filter hook input priority 0; policy drop;\n{body}\n}}\n}}\n"


def main() -> int:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "rules.nft").write_text(ruleset())
        (folder / "border.site.yaml").write_text(SITE)
        listed = "date +%s.%N; nft -j list ruleset >list; " * ROUNDS
        script = f"cd {name}; nft -f rules.nft; {listed} date +%s.%N"
        done = subprocess.run(["unshare", "-n", "sh", "-ec", script], capture_output=True, text=True, check=True)
        times = [float(each) for each in done.stdout.split()]
        listing = statistics.median(b - a for a, b in pairwise(times))
        text = (folder / "list").read_text()
        reading = statistics.median(_seconds(text) for _ in range(ROUNDS))
        whole = statistics.median(_whole(name) for _ in range(ROUNDS))
    print(f"{RULES:,} rules listed by nft in {listing:.2f} s, read in {reading:.2f} s: ratio {reading / listing:.2f}")
    print(f"the whole of adopt, with comparison and patch: {whole:.1f} s, ratio {whole / listing:.1f}")
    return int(reading / listing > LIMIT)


def _whole(folder: str) -> float:
    words = [sys.executable, "-m", "eager_lantern", "adopt", "border.site.yaml", "list", "--device", "store"]
    started = time.perf_counter()
    subprocess.run(words, cwd=folder, stdout=subprocess.DEVNULL, check=False)
    return time.perf_counter() - started


def _seconds(text: str) -> float:
    started = time.perf_counter()
    assert len(read_ruleset("list", text, "in")[0].told) == RULES
    return time.perf_counter() - started


if __name__ == "__main__":
    sys.exit(main())
