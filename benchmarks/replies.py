"""A million replies through the state machine, against splitting the same bytes into lines.

Prints the ratio of the times, and how much memory the state machine held at most.
"""

import time
import tracemalloc

from eager_lantern.wire.ftp import Control

REPLIES = 1_000_000
BATCH = 1000
ONE = b"226-Transfer of one reading\r\n of the coast\r\n226 done\r\n"


def machine(batches: int) -> float:
    control = Control()
    control.receive(b"220 ready\r\n")
    asked = 0
    started = time.perf_counter()
    for _ in range(batches):
        for _ in range(BATCH):
            control.command("NOOP")
            asked += len(control.receive(ONE))
    assert asked == batches * BATCH
    return time.perf_counter() - started


def lines(batches: int) -> float:
    started = time.perf_counter()
    count = 0
    for _ in range(batches):
        for _ in range(BATCH):
            count += len(ONE.splitlines())
    assert count == 3 * batches * BATCH
    return time.perf_counter() - started


def main() -> None:
    batches = REPLIES // BATCH
    ours, plain = machine(batches), lines(batches)
    tracemalloc.start()
    machine(20)
    peak = tracemalloc.get_traced_memory()[1]
    print(f"{REPLIES} replies      {ours:.2f} s in the state machine, {plain:.2f} s split into lines")
    print(f"ratio                 {ours / plain:.1f}")
    print(f"held at most          {peak / 1000:.0f} kB")


if __name__ == "__main__":
    main()
