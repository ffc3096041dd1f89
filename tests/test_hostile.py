"""Servers that are broken or hostile: the right rung, in time, in bounded memory, harmless on a screen."""

import asyncio
import re
import sys
import time
import tracemalloc
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from hostile import WAYS, Way, hostile
from plans import plan_of

from eager_lantern.core.observed.climb import Climb, RungSeen
from eager_lantern.formats.keys import key_pem, new_key, self_signed
from eager_lantern.lab.servers.ftp_server import StandIn
from eager_lantern.lab.servers.setup import Guest, StandInSetup
from eager_lantern.live.ftp.visit import visit_ftp
from eager_lantern.views.screen import columns, rendered
from eager_lantern.views.visit import visit_view
from eager_lantern.wire.ftp import ProtocolFault, ReplyReader

PASSWORD = "ebb-and-flow-61"
PATIENCE_SECONDS, MOST_BYTES = 1.0, 24_000_000


CONNECTED: set[str] = set()


def watch(event: str, details: tuple[Any, ...]) -> None:
    """Remember every address that this process connects to."""
    if event == "socket.connect" and isinstance(details[1], tuple):
        CONNECTED.add(details[1][0])


sys.addaudithook(watch)


@pytest.mark.parametrize("way", WAYS, ids=lambda way: way.name)
def test_a_hostile_server_is_told_at_its_rung_and_does_no_harm(way: Way) -> None:
    with hostile(way) as port:
        plan = plan_of(
            "127.0.0.1", port, "station", PASSWORD, security=way.security, extended=way.extended,
            timeout=PATIENCE_SECONDS if way.outcome == "silent" else 5 * PATIENCE_SECONDS, any_certificate=True,
        )  # fmt: skip
        CONNECTED.clear()
        tracemalloc.start()
        started = time.monotonic()
        climb = asyncio.run(visit_ftp(plan))
        lasted, (_, peak) = time.monotonic() - started, tracemalloc.get_traced_memory()
        tracemalloc.stop()
    stopped = climb.stopped_at
    assert stopped is not None
    assert (stopped.rung, stopped.outcome) == (way.rung, way.outcome), stopped.detail
    assert stopped.advice
    assert {"127.0.0.1"} == CONNECTED
    assert lasted < 12 * PATIENCE_SECONDS
    assert peak < MOST_BYTES
    shown = rendered(visit_view(climb), colour=False)
    assert re.search(r"[\x00-\x09\x0b-\x1f\x7f-\x9f]", shown) is None
    assert PASSWORD not in shown


def test_where_tls_is_refused_a_close_look_says_that_there_is_none() -> None:
    with hostile(next(each for each in WAYS if each.name == "TLS offered, then refused")) as port:
        plan = plan_of("127.0.0.1", port, "station", PASSWORD, security="explicit", closely=True, any_certificate=True)
        climb = asyncio.run(visit_ftp(plan))
    (missed,) = climb.missed
    assert (missed.look, "no TLS comes about: AUTH TLS" in missed.reason) == ("closely", True)
    assert "no TLS comes about" in rendered(visit_view(climb), colour=False)


def test_a_session_that_was_not_tried_to_its_end_is_not_said_to_work() -> None:
    rungs = (RungSeen("connect", "ok", ""), RungSeen("greet", "ok", ""), RungSeen("login", "untried", ""))
    climb = Climb("tides.example", "", "here", "passive", rungs)
    assert (climb.observed, climb.kept) == ("unknown", None)
    shown = rendered(visit_view(climb), colour=False)
    assert ("Every rung holds" in shown, "nothing shows that it works" in shown) == (False, True)


def test_a_reply_of_empty_lines_that_never_ends_is_given_up() -> None:
    reader = ReplyReader()
    reader.receive(b"220-ready\r\n")
    with pytest.raises(ProtocolFault, match="given up"):
        reader.receive(b"\n" * 70_000)


BAD = {
    "an expired certificate": ("secure", "wrong", "expired"),
    "a certificate for another name": ("secure", "wrong", "not valid for"),
    "a self-signed certificate": ("secure", "wrong", "self-signed"),
    "demands that sessions are reused": ("list", "refused", "522"),
}


@pytest.mark.parametrize("name", BAD)
def test_bad_tls_is_told_before_the_password_or_at_the_listing(name: str, tmp_path: Path) -> None:
    own, key = "tides.saltmarsh.example", new_key("ec")
    begun = datetime.now(UTC) - (timedelta(days=9) if "expired" in name else timedelta())
    public = self_signed(key, ["x.example" if "another" in name else own], begun, timedelta(days=1))
    trusted, served = tmp_path / "trusted.pem", tmp_path / "served.pem"
    trusted.write_bytes(public)
    served.write_bytes(key_pem(key) + public)
    setup = StandInSetup((Guest("station", PASSWORD, tmp_path),), certificate=served, reuse_required="reused" in name)
    with StandIn(setup) as server:
        plan = plan_of(
            own, server.port, "station", PASSWORD, address="127.0.0.1", timeout=PATIENCE_SECONDS,
            trusts=None if "self-signed" in name else trusted, resumes=False,
        )  # fmt: skip
        stopped = asyncio.run(visit_ftp(plan)).stopped_at
    assert stopped is not None
    assert (stopped.rung, stopped.outcome) == BAD[name][:2]
    assert BAD[name][2] in stopped.detail


def test_there_are_at_least_twenty_five_ways_each_with_its_own_name() -> None:
    assert len({way.name for way in WAYS}) == len(WAYS) >= 25


def test_text_that_has_to_be_written_out_pushes_nothing_off_the_screen() -> None:
    table = columns(widths=(4, None, 8))
    table.add_row("\x1b[31m", "\u202e" * 60, "line 17")
    lines = rendered([table], colour=False, width=80).splitlines()
    assert lines[0].endswith("line 17")
    assert ("".join(lines).count("202e"), max(map(len, lines)) <= 80) == (60, True)
