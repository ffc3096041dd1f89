"""The lamp: its protocol, who gets an answer, and what a sweep finds."""

import contextlib
import json
import os
import random
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from program import AFTER, result_of, run, run_bound_by_modes

from eager_lantern.wire.lamp import LINE_BYTES, Sight, answer, nonce_of, question, seen

SECRET, NONCE = b"flood-and-ebb-tide-61", bytes(range(16))
SIGHT = Sight("2001:db8:ffff:ffff:ffff:ffff:ffff:ffff", 65535, "2001:db8:eeee:eeee:eeee:eeee:eeee:eeee", 65535)


@given(st.binary(min_size=1), st.binary(min_size=16, max_size=16), st.ip_addresses(), st.integers(1, 65535))
def test_who_knows_the_secret_learns_what_the_lamp_saw(secret: bytes, nonce: bytes, address: Any, port: int) -> None:
    sight = Sight(str(address), port, "192.0.2.1", 21)
    assert nonce_of(secret, question(secret, nonce)) == nonce
    assert seen(secret, nonce, answer(secret, nonce, sight)) == sight


def test_an_answer_is_never_longer_than_its_question() -> None:
    assert len(answer(SECRET, NONCE, SIGHT)) <= len(question(SECRET, NONCE)) == LINE_BYTES


def test_a_quarter_of_a_million_damaged_lines_get_no_answer_and_are_believed_by_nobody() -> None:
    chance = random.Random(61)
    lines = [
        question(SECRET, NONCE),
        answer(SECRET, NONCE, SIGHT),
        b"",
        b"GET / HTTP/1.0\r\n\r\n",
        bytes(LINE_BYTES),
    ]
    for _ in range(250_000):
        line = bytearray(chance.choice(lines))
        for _ in range(chance.randint(1, 3)):
            at = chance.randint(0, max(0, len(line) - 1))
            line[at : at + chance.randint(0, 2)] = chance.randbytes(chance.randint(0, 2))
        damaged = bytes(line)
        assert nonce_of(SECRET, damaged) is None or damaged.rstrip() == lines[0].rstrip()
        assert seen(SECRET, NONCE, damaged) is None or damaged == lines[1]
    assert nonce_of(b"another", lines[0]) is None
    assert seen(SECRET, bytes(16), lines[1]) is None


WORKER = int(os.environ.get("PYTEST_XDIST_WORKER", "gw0").removeprefix("gw"))
FIRST = 62400 + 60 * WORKER  # tests run side by side
MOVED = FIRST + 40
SITE = {
    "lantern": 1, "site": "Quay", "server": {"name": "store", "network": "quay", "address": "127.0.0.1"},
    "networks": [{"name": "quay", "subnet": "127.0.0.0/8"}],
    "services": [{"name": "tides", "protocol": "ftp", "control_port": FIRST,
                  "passive": {"ports": f"{FIRST + 1}-{FIRST + 12}", "protocols": ["tcp", "udp"]}}],
    "clients": [{"name": "here", "network": "quay", "address": "127.0.0.2", "reaches": "127.0.0.1"}],
    "promises": [{"client": "here", "service": "tides", "mode": "passive"}],
}  # fmt: skip


@pytest.fixture
def site(tmp_path: Path) -> Path:
    path = tmp_path / "quay.site.yaml"
    path.write_text(json.dumps(SITE))
    return path


@contextlib.contextmanager
def burning(site: Path, *words: str) -> Iterator["subprocess.Popen[str]"]:
    """A lamp as a process, once it has said that it is lit."""
    command = [sys.executable, "-m", "eager_lantern", "lamp", str(site), *words]
    environment = {**os.environ, "EAGER_LANTERN_LAMP": SECRET.decode()}
    with subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as lamp:
        assert lamp.stdout is not None
        lamp.said = "".join(iter(lamp.stdout.readline, "From outside, run\n"))  # type: ignore[attr-defined]
        try:
            yield lamp
        finally:
            lamp.kill()


def swept(site: Path, secret: str = SECRET.decode()) -> dict[str, Any]:
    done = run("visit", site, "--lamp", "--format", "json", EAGER_LANTERN_LAMP=secret)
    found = {(each["protocol"], each["target"]): each for each in result_of(done.stdout)["places"][0]["sweeps"][1:]}
    return {protocol: each for (protocol, _), each in found.items()}


def test_a_sweep_sees_every_lit_port_and_a_port_that_another_process_holds(site: Path) -> None:
    held = FIRST + 5
    with socket.create_server(("127.0.0.1", held)), burning(site, "--lasts", "60 s") as lamp:
        found = swept(site)
        others = f"{FIRST + 1}-{FIRST + 4}, {FIRST + 6}-{FIRST + 12}"
        assert (found["tcp"]["ok"], found["udp"]["ok"]) == (others, f"{FIRST + 1}-{FIRST + 12}")
        assert found["tcp"]["silent"] == str(held)
        assert found["tcp"]["seen_from"] == ["127.0.0.1"]
        assert swept(site, "another secret")["tcp"]["wrong"] == others
        lamp.send_signal(signal.SIGINT)
        assert lamp.stdout is not None
        told = lamp.said + lamp.stdout.read()  # type: ignore[attr-defined]
    assert f"TCP port {held}: address already in use: {Path(sys.executable).name[:6]}" in told
    assert "challenges answered" in told
    assert SECRET.decode() not in told


def test_a_stranger_gets_not_a_byte(site: Path) -> None:
    with burning(site, "--lasts", "60 s"):
        for says in (b"USER anonymous\r\n", question(b"another", NONCE), b"x" * 10_000):
            with socket.create_connection(("127.0.0.1", FIRST + 1), timeout=10) as stranger:
                try:
                    stranger.sendall(says)
                    stranger.shutdown(socket.SHUT_WR)
                    assert stranger.recv(100) == b""
                except TimeoutError:
                    raise
                except OSError:  # whoever is sent away while still talking is reset, at whichever call that reaches
                    continue


def test_it_ends_by_itself(site: Path) -> None:
    started = time.monotonic()
    done = run("lamp", site, "--lasts", "1 s")
    assert (done.returncode, time.monotonic() - started < 30) == (0, True)
    assert "EAGER_LANTERN_LAMP=" in done.stdout  # made up, and shown to who lit it


def test_a_program_reads_when_it_is_lit_with_which_secret_and_how_it_went(site: Path) -> None:
    words = ["--lasts", "1 s", "--ports", str(FIRST + 1), "--listen", "127.0.0.1", "--format", "json"]
    lit, burnt = map(result_of, run("lamp", site, *words).stdout.splitlines())
    assert (lit["ports"], lit["protocols"], lit["seconds"], len(lit["secret"])) == (
        str(FIRST + 1),
        ["tcp", "udp"],
        1,
        32,
    )
    assert (lit["unlit"], burnt["answered"], burnt["crowded"]) == ([], 0, 0)


def test_a_forward_that_moves_a_port_is_seen(site: Path) -> None:
    data = json.loads(site.read_text())
    data["services"][0] |= {"passive": {"ports": str(MOVED)}}
    data["services"][0]["control_port"] = MOVED + 1
    site.write_text(json.dumps(data))
    relay = socket.create_server(("127.0.0.1", MOVED))

    def moved() -> None:
        with contextlib.suppress(OSError):
            while True:
                peer = relay.accept()[0]
                with socket.create_connection(("127.0.0.1", MOVED + 1)) as onward:
                    onward.sendall(peer.recv(LINE_BYTES))
                    peer.sendall(onward.recv(LINE_BYTES))
                    peer.close()

    threading.Thread(target=moved, daemon=True).start()
    with burning(site, "--lasts", "60 s", "--ports", str(MOVED + 1)):
        assert swept(site)["tcp"]["rewritten"] == {str(MOVED): MOVED + 1}
        shown = run("visit", site, "--lamp", EAGER_LANTERN_LAMP=SECRET.decode()).stdout
    relay.close()
    assert f"port {MOVED} arrives as {MOVED + 1}: a forward moves it" in shown


def test_a_privileged_port_without_the_privilege_is_a_line_and_the_rest_is_lit(site: Path) -> None:
    if Path("/proc/sys/net/ipv4/ip_unprivileged_port_start").read_text().strip() == "0":
        pytest.skip("every port is open to every process on this machine")
    words = ["setpriv", "--bounding-set", "-net_bind_service", "--inh-caps", "-all"] if os.getuid() == 0 else []
    command = [
        *words,
        sys.executable,
        "-m",
        "eager_lantern",
        "lamp",
        str(site),
        "--lasts",
        "1 s",
        "--ports",
        f"21, {FIRST}",
    ]
    done = subprocess.run(command, capture_output=True, text=True, timeout=180)
    assert (done.returncode, f"Lit: port {FIRST}" in done.stdout) == (0, True)
    assert "TCP port 21: ports below 1024 need a privilege" in done.stdout


def test_a_lamp_without_its_secret_is_a_clear_line(site: Path) -> None:
    done = run("visit", site, "--lamp")
    assert (done.returncode, "EAGER_LANTERN_LAMP" in done.stderr) == (2, True)
    assert run_bound_by_modes("lamp", site, "--lasts", "0 s").returncode == 2


def test_on_another_host_than_the_server_it_says_so() -> None:
    done = run("lamp", AFTER, "--lasts", "1 s")
    assert (done.returncode, "run it on the server host" in " ".join(done.stdout.split())) == (3, True)
