"""Servers that are broken or hostile: the right rung, in time, in bounded memory, harmless on a screen."""

import asyncio
import re
import time
import tracemalloc

import pytest
from hostile import WAYS, Way, hostile

from eager_lantern.live.plan import Plan
from eager_lantern.live.secret import Secret
from eager_lantern.live.visit import visit
from eager_lantern.views.screen import rendered
from eager_lantern.views.visit_view import visit_view

PASSWORD = "ebb-and-flow-61"
PATIENCE_SECONDS, MOST_BYTES = 1.0, 24_000_000


@pytest.mark.parametrize("way", WAYS, ids=lambda way: way.name)
def test_a_hostile_server_is_told_at_its_rung_and_does_no_harm(way: Way) -> None:
    with hostile(way) as port:
        plan = Plan(
            "127.0.0.1", port, "station", Secret(PASSWORD), security=way.security, extended=way.extended,
            timeout=PATIENCE_SECONDS, any_certificate=True,
        )  # type: ignore[arg-type]  # fmt: skip
        tracemalloc.start()
        started = time.monotonic()
        climb = asyncio.run(visit(plan))
        lasted, (_, peak) = time.monotonic() - started, tracemalloc.get_traced_memory()
        tracemalloc.stop()
    stopped = climb.stopped_at
    assert stopped is not None
    assert (stopped.rung, stopped.outcome) == (way.rung, way.outcome), stopped.detail
    assert stopped.advice
    assert lasted < 12 * PATIENCE_SECONDS
    assert peak < MOST_BYTES
    shown = rendered(visit_view(climb), colour=False)
    assert re.search(r"[\x00-\x09\x0b-\x1f\x7f-\x9f]", shown) is None
    assert PASSWORD not in shown


def test_there_are_at_least_twenty_five_ways_each_with_its_own_name() -> None:
    assert len({way.name for way in WAYS}) == len(WAYS) >= 25
