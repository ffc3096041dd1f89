"""Ten thousand strangers at a lamp, while somebody who knows the secret sweeps its ports."""

import asyncio
import contextlib
import time

from eager_lantern.live.lamp.listener import Lamp
from eager_lantern.live.lamp.sweep import swept
from eager_lantern.live.own_process import allow_open_files
from eager_lantern.live.vantage.local import HERE
from eager_lantern.wire.lamp import question

SECRET, PORTS, STRANGERS = b"flood-and-ebb-tide-61", list(range(30_000, 30_128)), 10_000


async def _swept(crowd: bool) -> tuple[int, float, int, int]:
    """How many ports answer who knows the secret, in how many seconds; how many there was no place for; and to how many
    strangers a byte was said."""
    allow_open_files(16_000)
    lamp, held, heard = Lamp(SECRET), list[asyncio.StreamWriter](), 0
    assert not await lamp.light(["127.0.0.1"], PORTS, ["tcp"])
    replayed = question(SECRET, bytes(16))

    async def come(i: int) -> None:
        nonlocal heard
        with contextlib.suppress(OSError):
            source = (f"127.0.{1 + i % 9}.{1 + i % 200}", 0)
            reader, writer = await asyncio.open_connection("127.0.0.1", PORTS[i % len(PORTS)], local_addr=source)
            held.append(writer)
            if i % 3 == 0:
                writer.write(b"LANTERN1 ask " + b"0" * 243)
            if i % 3 == 1 and i > 10:  # a challenge that was answered before
                writer.write(replayed)
            heard += len(await reader.read(1))

    lamp.reply(replayed, ("192.0.2.1", 1), ("127.0.0.1", 1))
    burst = [asyncio.create_task(come(i)) for i in range(STRANGERS if crowd else 0)]
    await asyncio.sleep(0)
    started = time.perf_counter()
    found = await swept(HERE, "127.0.0.1", PORTS, SECRET, "tcp", 30.0)
    took = time.perf_counter() - started
    for each in burst:
        each.cancel()
    await asyncio.gather(*burst, return_exceptions=True)
    for writer in held:
        writer.transport.abort()
    await lamp.put_out()
    return len(found.with_outcome("ok")), took, lamp.crowded, heard


def abused(minutes: float, seed: int, workers: int) -> list[str]:
    """Alone, then in the crowd."""
    alone, in_crowd = asyncio.run(_swept(crowd=False)), asyncio.run(_swept(crowd=True))
    print(f"lamp      {STRANGERS} strangers: {in_crowd[0]} of {len(PORTS)} ports answer in {in_crowd[1]:.1f} s")
    print(f"          ({alone[1]:.1f} s alone); no place for {in_crowd[2]}, {in_crowd[3]} bytes to strangers")
    found = []
    if in_crowd[0] != len(PORTS):
        found.append(f"lamp: {len(PORTS) - in_crowd[0]} ports do not answer who knows the secret")
    if in_crowd[3]:
        found.append(f"lamp: {in_crowd[3]} bytes were said to strangers")
    return found
