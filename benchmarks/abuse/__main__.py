"""The afternoon of abuse: ``python benchmarks/abuse [PART...] [--minutes N] [--seed N] [--workers N]``.

Parts: files (whole commands on damaged files), writers (killed at any moment), signals, lamp and phones (a crowd of
strangers), network (hostile routers, resolvers and file transfer servers). Exit code 1 where anything was found.
"""

import argparse
import sys
import tempfile
from pathlib import Path

import crowd
import files
import network
import phones
import signals
import writers


def _files(minutes: float, seed: int, workers: int) -> list[str]:
    keep = Path(tempfile.gettempdir()) / "eager-lantern-abuse"
    tally = files.abused(60 * minutes, seed, workers, keep)
    codes = ", ".join(f"{count} ended in {code}" for code, count in sorted(tally.codes.items()))
    print(f"files     {tally.runs} commands on damaged files: {codes}")
    print(f"          longest {tally.most_cpu:.1f} s of CPU, most {tally.most_bytes / 1e6:.0f} MB; seed {seed}")
    return tally.found


PARTS = {"files": _files, "writers": writers.abused, "signals": signals.abused, "lamp": crowd.abused,
         "phones": phones.abused,         "network": network.abused}  # fmt: skip


def main() -> int:
    reads = argparse.ArgumentParser(description=__doc__)
    reads.add_argument("parts", nargs="*", choices=[[], *PARTS], default=list(PARTS))
    reads.add_argument("--minutes", type=float, default=1.0, help="for each part")
    reads.add_argument("--seed", type=int, default=61)
    reads.add_argument("--workers", type=int, default=2)
    given = reads.parse_args()
    found = [each for part in given.parts for each in PARTS[part](given.minutes, given.seed, given.workers)]
    for each in found:
        print(f"FOUND     {each}")
    return int(bool(found))


if __name__ == "__main__":
    sys.exit(main())
