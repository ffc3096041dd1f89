"""A sweep over 4,096 lit ports, against as many bare asyncio connections to the same ports, in one run.

Both take turns, and the median of the ratios of neighbours is the result, so that a machine that slows
down meanwhile does not count.
"""

import asyncio
import resource
import statistics
import time

from eager_lantern.live.lamp.asking import AT_ONCE
from eager_lantern.live.lamp.listener import Lamp
from eager_lantern.live.lamp.sweep import swept
from eager_lantern.live.vantage.local import HERE

PORTS = range(24_000, 28_096)
SECRET = b"flood-and-ebb-tide-61"
ROUNDS = 4
LIMIT = 1.5


async def bare() -> None:
    """Connect, send as many bytes as a question has, wait for the end; as many at once as a sweep."""
    turns = asyncio.Semaphore(AT_ONCE)

    async def one(port: int) -> None:
        async with turns:
            reader, writer = await asyncio.open_connection("127.0.0.1", port)
            writer.write(bytes(256))
            await writer.drain()
            await reader.read()
            writer.close()

    await asyncio.gather(*map(one, PORTS))


async def measured() -> tuple[list[tuple[float, float]], int]:
    """Seconds of a sweep and of bare connections, in turn for several rounds, and the ports that arrived."""
    lamp = Lamp(SECRET)
    assert not await lamp.light(["127.0.0.1"], list(PORTS), ["tcp"])
    pairs, arrived = [], 0
    for _ in range(ROUNDS):
        started = time.perf_counter()
        arrived = len((await swept(HERE, "127.0.0.1", list(PORTS), SECRET, "tcp", 5.0)).with_outcome("ok"))
        between = time.perf_counter()
        await bare()
        pairs.append((between - started, time.perf_counter() - between))
    await lamp.put_out()
    return pairs, arrived


def main() -> int:
    pairs, arrived = asyncio.run(measured())
    ours, theirs = (statistics.median(each) for each in zip(*pairs, strict=True))
    ratio = statistics.median(ours / theirs for ours, theirs in pairs)
    print(f"sweep of {len(PORTS)} ports       {ours:.2f} s, {arrived} arrived")
    print(f"bare connections           {theirs:.2f} s")
    print(f"ratio                      {ratio:.2f} (at most {LIMIT})")
    print(
        f"memory at most             {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1000:.0f} MB, lamp included"
    )
    return int(ratio > LIMIT or arrived < len(PORTS))


if __name__ == "__main__":
    raise SystemExit(main())
