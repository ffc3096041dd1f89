"""A password that passes through every command and every failure is found nowhere afterwards."""

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from far_host import far_host, needs_ssh
from hostile import WAYS, hostile
from program import AFTER, run
from scripted import scripted

from eager_lantern.cli.app import COMMANDS
from eager_lantern.lab.servers.ftp_server import StandIn
from eager_lantern.lab.servers.setup import Guest, SshSetup, StandInSetup
from eager_lantern.lab.servers.ssh_server import SshStandIn, write_host_key, write_self_signed

CANARY = "kittiwake-61-canary"
EVERYTHING = ["--closely", "--rights", "--bounce", "--find-range", "2"]


def traces(folder: Path, *done: "subprocess.CompletedProcess[str]") -> list[str]:
    """Where the canary is found: in what was printed, or in a file of the folder."""
    printed = [str(each.args[3:5]) for each in done if CANARY in each.stdout + each.stderr]
    files = [path for path in folder.rglob("*") if path.is_file() and CANARY.encode() in path.read_bytes()]
    return [*printed, *map(str, files)]


@pytest.mark.sweep
def test_no_command_prints_or_keeps_it(tmp_path: Path) -> None:
    (tmp_path / "saltmarsh.site.yaml").write_text(AFTER.read_text())
    words: dict[str, list[str]] = {
        "new": ["--site", "x", "--address", "10.61.4.20", "--outside", "198.51.100.61"],
        "walk": ["--client", "institute"], "lamp": ["--lasts", "1 s", "--listen", "127.0.0.1"],
        "rehearse": ["--lab", "loopback"], "visit": ["nowhere.example", "--user", "station"],
    }  # fmt: skip
    outside = tmp_path / "made"
    outside.mkdir()
    done = [
        run(command, *words.get(command, []), cwd=tmp_path, EAGER_LANTERN_PASSWORD=CANARY, TMPDIR=str(outside))
        for command in COMMANDS
    ]
    assert traces(tmp_path, *done) == []


@pytest.mark.sweep
@pytest.mark.parametrize("security", ["none", "explicit", "implicit"])
def test_a_visit_that_looks_at_everything_neither_prints_nor_keeps_it(security: str, tmp_path: Path) -> None:
    store = tmp_path / "store"
    store.mkdir()
    _, served = write_self_signed(tmp_path, "tides.saltmarsh.example")
    setup: dict[str, Any] = {"certificate": served, "tls_required": False}
    if security == "implicit":
        setup["tls"] = "implicit"
    with StandIn(StandInSetup((Guest("station", CANARY, store),), **setup)) as server:
        words = ["127.0.0.1", "--port", server.port, "--user", "station", "--security", security, "--any-certificate"]
        kept = ["--save", tmp_path / "seen.json", *EVERYTHING]
        good = run("visit", *words, *kept, EAGER_LANTERN_PASSWORD=CANARY)
        shown = run("visit", *words, "--format", "json", *EVERYTHING, EAGER_LANTERN_PASSWORD=CANARY)
        wrong = run("visit", *words, EAGER_LANTERN_PASSWORD=f"{CANARY}-not")
    assert (good.returncode, json.loads(shown.stdout)["format"]) == (0, "eager-lantern/visit/1")
    assert wrong.returncode == 1
    assert traces(tmp_path, good, shown, wrong) == []


@needs_ssh[0]
@needs_ssh[1]
@pytest.mark.parametrize("password", [CANARY, f"{CANARY}-not"])
def test_a_visit_from_another_host_over_ssh_file_transfer_leaves_it_nowhere(password: str, tmp_path: Path) -> None:
    for name in ("store", "far", "kept"):
        (tmp_path / name).mkdir()
    host_key, shown = write_host_key(tmp_path)
    setup = SshSetup((Guest("keeper", CANARY, tmp_path / "store"),), (("127.0.0.1", 0),), host_key)
    with SshStandIn(setup) as server, far_host(tmp_path / "far") as host:
        words = ["127.0.0.1", "--sftp", "--port", server.port, "--user", "keeper", "--host-key", shown]
        more = [
            "--from",
            host.place,
            "--from",
            "here",
            "--save",
            tmp_path / "kept" / "seen.json",
            "--closely",
            "--rights",
        ]
        done = run("visit", *words, *more, EAGER_LANTERN_PASSWORD=password, PATH=host.path)
    assert done.returncode == (0 if password == CANARY else 1)
    assert traces(tmp_path, done) == []


@pytest.mark.parametrize(
    "way", [each for each in WAYS if each.rung in ("login", "announce", "list")][:8], ids=lambda way: way.name
)
def test_a_hostile_server_does_not_get_it_printed(way: Any, tmp_path: Path) -> None:
    with hostile(way) as port:
        words = ["127.0.0.1", "--port", port, "--user", "station", "--security", way.security, "--timeout", "1"]
        done = run("visit", *words, "--save", tmp_path / "seen.json", EAGER_LANTERN_PASSWORD=CANARY)
    assert (done.returncode, traces(tmp_path, done)) == (1, [])


def test_it_is_not_in_the_list_of_processes() -> None:
    environment = {**os.environ, "EAGER_LANTERN_PASSWORD": CANARY}
    words = [sys.executable, "-m", "eager_lantern", "visit", "127.0.0.1", "--user", "station", "--security", "none"]
    with scripted({"PASS": b""}) as server:
        words += ["--port", str(server.port), "--timeout", "30"]
        with subprocess.Popen(words, env=environment, stdout=subprocess.DEVNULL) as visiting:
            assert server.waited_for(f"PASS {CANARY}")
            listed = Path(f"/proc/{visiting.pid}/cmdline").read_bytes()
            visiting.kill()
    assert b"eager_lantern" in listed
    assert CANARY.encode() not in listed
