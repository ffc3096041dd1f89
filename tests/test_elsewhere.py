"""Visits made from another host, through a real SSH server."""

import ast
import asyncio
import os
import shlex
import shutil
import signal
import socket
import subprocess
import sys
import time
import tracemalloc
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import asyncssh
import pexpect
import psutil
import pytest
from far_host import FarHost, far_host, needs_ssh
from hostile import WAYS, hostile
from hypothesis import given, settings
from hypothesis import strategies as st
from plans import plan_of
from program import BEFORE, result_of, run
from ssh_server import ssh_server

from eager_lantern.core.observed.compared import Sweep
from eager_lantern.core.values.ports import PortSet
from eager_lantern.formats.site.site_file import read_site
from eager_lantern.lab.kernel.lab import missing_means
from eager_lantern.lab.kernel.layout import lab_nodes
from eager_lantern.lab.servers.ftp_server import StandIn
from eager_lantern.lab.servers.setup import Guest, StandInSetup
from eager_lantern.live.ftp.visit import visit_ftp
from eager_lantern.live.lamp.listener import Lamp
from eager_lantern.live.lamp.sweep import swept
from eager_lantern.live.vantage import agent as far_end
from eager_lantern.live.vantage.agent import BANNER, Frames, own_addresses, packed
from eager_lantern.live.vantage.base import checked_place, second_of
from eager_lantern.live.vantage.far import FarVantage
from eager_lantern.live.vantage.local import HERE

LACK = missing_means()
PASSWORD, PASSIVE = "ebb-and-flow-61", PortSet.parse("31660-31667")
INET = (socket.AF_INET, socket.AF_INET6)
SOURCE = Path(far_end.__file__)
OLD = next(
    (str(each) for each in [*Path.home().glob(".pyenv/versions/3.9*/bin/python3"), shutil.which("python3.9")] if each),
    None,
)


@pytest.fixture(scope="module")
def host(tmp_path_factory: pytest.TempPathFactory) -> Iterator[FarHost]:
    with pytest.MonkeyPatch.context() as patch, far_host(tmp_path_factory.mktemp("far")) as found:
        patch.setenv("PATH", found.path)
        patch.setenv("EAGER_LANTERN_PASSWORD", PASSWORD)
        yield found


@pytest.fixture
def server(tmp_path: Path) -> Iterator[StandIn]:
    (tmp_path / "store").mkdir()
    with StandIn(StandInSetup((Guest("station", PASSWORD, tmp_path / "store"),), passive_ports=PASSIVE)) as found:
        yield found


def words_for(server: StandIn, *more: object) -> list[object]:
    return ["visit", "127.0.0.1", "--port", server.port, "--user", "station", "--security", "none", *more]


def gone(host: FarHost) -> bool:
    deadline = time.monotonic() + 5
    while host.far_ends() and time.monotonic() < deadline:
        time.sleep(0.05)
    return not host.far_ends()


def in_lab(host: str, serves: str, *words: str, first: str = "true") -> tuple[dict[str, Any], int]:
    """What the program prints as a host of the kernel lab of the faulty site, after a first command there."""
    command = " ".join([first, "&&", "eager-lantern", "visit", str(BEFORE), *words, "--format", "json", "2>/dev/null"])
    shell = [str(Path(__file__).with_name("lab_shell.py")), str(BEFORE), host, serves, command]
    path = f"{Path(sys.executable).parent}:{os.environ['PATH']}"
    said, code = pexpect.run(
        shlex.join([sys.executable, *shell]), timeout=90, withexitstatus=True, env={**os.environ, "PATH": path}
    )
    return result_of(said), code


class TestLab:
    pytestmark = [*needs_ssh, pytest.mark.kernel, pytest.mark.skipif(bool(LACK), reason=LACK)]

    def test_a_lamp_swept_through_the_packet_filter_measures_the_predicted_ledger_of_each_place(self) -> None:
        number = [each.name for each in lab_nodes(read_site(BEFORE).site)].index("field-station")
        places = ["here", "ssh://pilot@field-station", f"namespace://n{number}", "ssh://pilot@nowhere.invalid"]
        found, code = in_lab(
            "institute", "lamp", "--lamp", *(f"--from {place}" for place in [*places, "namespace://none"])
        )
        inner, outer, named, nowhere, none = found["places"]
        half = "61200-61327"
        for each, client, arrives, silent, source in [
            (inner, "institute", half, "61328-61455", "192.0.2.40"),
            (outer, "field-station", "", "61200-61455", "203.0.113.9"),  # it is told a private address
            (named, "field-station", "", "61200-61455", "203.0.113.9"),
        ]:
            ledger, control, data = each["ledger"], *each["sweeps"]
            assert (each["client"], ledger["reachable"], ledger["measured"]) == (client, arrives, arrives)
            assert (data["ok"], data["silent"], control["seen_from"]) == (arrives, silent, [source])
        assert nowhere["trouble"].startswith("out of reach: ssh reports")
        assert none["trouble"].startswith("out of reach: ip netns reports: Cannot open network namespace")
        assert code == 1

    def test_each_place_sees_the_site_as_the_client_that_stands_there(self, tmp_path: Path) -> None:
        places = ["here", "ssh://pilot@institute", "ssh://pilot@field-station"]
        words = [word for place in places for word in ("--from", place)]
        found, code = in_lab(
            "office-desk",
            "serve",
            *words,
            "--user",
            "station",
            "--any-certificate",
            "--timeout 4",
            f"--save {tmp_path}/seen",
        )
        stands = {each["place"]: each["client"] for each in found["promises"]}
        assert stands == {
            "here": "office-desk", "pilot@institute": "institute", "pilot@field-station": "field-station",
        }  # fmt: skip
        ends = {each["client"]: each["rungs"] for each in found["promises"]}
        announced = {client: {r["rung"]: r["outcome"] for r in rungs}["announce"] for client, rungs in ends.items()}
        assert announced == {"office-desk": "ok", "institute": "ok", "field-station": "wrong"}
        assert code == 1
        beside = run("check", BEFORE, "--seen", tmp_path / "seen").stdout
        assert ("● 3 seen as predicted" in beside, "seen from pilot@field-station" in beside) == (True, True)

    def test_the_caution_of_a_server_is_tried_with_the_second_address_of_another_host(self) -> None:
        words = ["--from", "ssh://pilot@office-desk", "--bounce", "--any-certificate", "--user", "station"]
        found, code = in_lab("office-desk", "serve", *words, first="ip addr add 10.61.4.91/32 dev eth0")
        seen = found["promises"][0]["caution"]
        assert (seen["bounces"], seen["takes_strangers"], code) == (False, False, 0)
        assert [told.count("10.61.4.91") for told in (seen["bounce_detail"], seen["stranger_detail"])] == [1, 1]


class TestFarHost:
    pytestmark = needs_ssh

    @pytest.mark.parametrize("mode", ["passive", "active"])
    def test_every_rung_holds_from_another_host_and_nothing_is_left_there(
        self, mode: str, host: FarHost, server: StandIn
    ) -> None:
        words = words_for(server, "--mode", mode, "--from", host.place, "--rights", "--bounce", "--find-range", "1")
        done = run(*words, "--format", "json", EAGER_LANTERN_PASSWORD=PASSWORD)
        found = result_of(done.stdout)
        assert (done.returncode, done.stderr) == (0, "")
        assert [each["observed"] for each in found["promises"]] == ["works"]
        assert found["promises"][0]["place"] == host.place.removeprefix("ssh://")
        assert found["promises"][0]["caution"]["bounces"] is False
        assert gone(host)

    def test_ssh_file_transfer_is_visited_from_another_host(self, host: FarHost, tmp_path: Path) -> None:
        key = asyncssh.generate_private_key("ssh-ed25519")
        with ssh_server(tmp_path, PASSWORD, [], key) as port:
            words = ["--sftp", "--port", port, "--user", "keeper", "--host-key", key.get_fingerprint()]
            done = run("visit", "127.0.0.1", *words, "--from", host.place, EAGER_LANTERN_PASSWORD=PASSWORD)
        assert (done.returncode, "the same bytes came back" in done.stdout) == (0, True)

    def test_several_places_get_a_column_each_and_one_out_of_reach_is_told(
        self, host: FarHost, server: StandIn
    ) -> None:
        nowhere = "ssh://pilot@127.0.0.1:1"
        places = [word for place in ("here", host.place, nowhere) for word in ("--from", place)]
        done = run(*words_for(server, *places), EAGER_LANTERN_PASSWORD=PASSWORD)
        heads = done.stdout.splitlines()[3].split()
        assert heads == ["here", host.place.removeprefix("ssh://"), nowhere.removeprefix("ssh://")]
        assert done.returncode == 3
        assert "out of reach: ssh reports: connect to host 127.0.0.1 port 1: Connection refused" in done.stdout

    def test_a_wrong_password_is_tried_once_however_many_places_visit(self, host: FarHost, server: StandIn) -> None:
        tried: list[str] = []
        handler = server._servers[0].handler
        handler.auth_failed_timeout = 0.1
        handler.ftp_PASS = lambda self, line, known=handler.ftp_PASS: (tried.append(line), known(self, line))[1]
        words = words_for(server, "--from", host.place, "--from", "here", "--format", "json")
        done = run(*words, EAGER_LANTERN_PASSWORD="not-it")
        ends = [
            {r["rung"]: r["outcome"] for r in each["rungs"]}["login"] for each in result_of(done.stdout)["promises"]
        ]
        assert (done.returncode, sorted(ends), tried) == (1, ["refused", "unknown"], ["not-it"])

    @pytest.mark.sweep
    def test_a_hostile_server_does_the_same_to_a_visit_from_another_host(self, host: FarHost) -> None:
        async def climbed() -> dict[str, tuple[str, str]]:
            async with FarVantage(host.place) as place:
                found = {}
                for way in WAYS:
                    with hostile(way) as port:
                        plan = plan_of(
                            "127.0.0.1", port, "station", PASSWORD, security=way.security,
                            extended=way.extended, timeout=0.6 if way.outcome == "silent" else 5,
                            any_certificate=True, vantage=place,
                        )  # fmt: skip
                        stopped = (await visit_ftp(plan)).stopped_at
                        found[way.name] = (stopped.rung, stopped.outcome) if stopped else ("", "")
                return found

        tracemalloc.start()
        found = asyncio.run(climbed())
        peak = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        assert found == {way.name: (way.rung, way.outcome) for way in WAYS}
        assert peak < 24_000_000

    def test_silence_is_not_believed_of_a_place_that_is_gone(self, host: FarHost) -> None:
        async def climbed() -> Any:
            way = next(each for each in WAYS if each.name == "a byte a second")
            with hostile(way) as port:
                async with FarVantage(host.place) as place:
                    plan = plan_of("127.0.0.1", port, "station", PASSWORD, timeout=3, vantage=place)
                    climbing = asyncio.create_task(visit_ftp(plan))
                    await asyncio.sleep(1)
                    for each in host.far_ends():
                        each.send_signal(signal.SIGSTOP)
                    found = await climbing
                    for each in host.far_ends():
                        each.kill()
            return found

        stopped = asyncio.run(climbed()).stopped_at
        assert (stopped.rung, stopped.outcome) == ("greet", "unknown")
        assert "out of reach" in stopped.detail

    def test_ctrl_c_removes_what_was_sent_from_another_host(self, host: FarHost) -> None:
        way = next(each for each in WAYS if each.name == "hangs up while a file is sent")
        said: list[str] = []

        def stored(peer: Any) -> None:
            said.append("STOR")
            peer.sendall(b"150 send\r\n")

        def removed(peer: Any) -> None:
            said.append("DELE")
            peer.sendall(b"250 gone\r\n")

        held = type(way)("held", "", "", {"STOR": stored, "DELE": removed})
        with hostile(held) as port:
            words = ["visit", "127.0.0.1", "--port", str(port), "--user", "station", "--security", "none"]
            command = [sys.executable, "-m", "eager_lantern", *words, "--from", host.place, "--timeout", "30"]
            with subprocess.Popen(
                command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
            ) as process:
                while "STOR" not in said and process.poll() is None:
                    time.sleep(0.02)
                os.killpg(process.pid, signal.SIGINT)  # as a terminal does: ssh gets it too
                process.wait(timeout=30)
        assert said == ["STOR", "DELE"]

    def test_ctrl_c_at_a_question_of_ssh_leaves_the_terminal_as_it_was(self, tmp_path: Path) -> None:
        with far_host(tmp_path, "PasswordAuthentication yes\nKbdInteractiveAuthentication no") as found:
            with (tmp_path / "client").open("a") as configuration:
                configuration.write("  PubkeyAuthentication no\n")
            environment = {**os.environ, "PATH": found.path, "PS1": "ready> "}
            shell = pexpect.spawn("sh", env=environment, encoding="utf-8", timeout=20)
            shell.sendline(f"{sys.executable} -m eager_lantern visit 127.0.0.1 --from {found.place}")
            shell.expect("password:")
            shell.sendintr()
            shell.expect("interrupted")
            shell.sendline(f"stty -a > {tmp_path}/settings; exit")
            shell.expect(pexpect.EOF)
        assert " echo " in (tmp_path / "settings").read_text()

    @pytest.mark.parametrize("protocol", ["tcp", "udp"])
    def test_a_lamp_is_seen_from_another_host_as_from_here(self, protocol: Any, host: FarHost) -> None:
        ports = range(31_610, 31_640)

        async def both() -> list[Sweep]:
            lamp = Lamp(b"shared")
            await lamp.light(["127.0.0.1"], ports[:20], [protocol])
            async with FarVantage(host.place) as place:
                found = [await swept(each, "127.0.0.1", ports, b"shared", protocol, 1.0) for each in (HERE, place)]
            await lamp.put_out()
            return found

        here, there = asyncio.run(both())
        assert [each.outcome for each in here.ports] == ["ok"] * 20 + ["refused"] * 10
        assert [(each.port, each.outcome) for each in there.ports] == [(each.port, each.outcome) for each in here.ports]

    @pytest.mark.skipif(OLD is None, reason="needs a Python 3.9 beside the one that runs the tests")
    def test_an_old_python_ends_a_command_that_takes_too_long(self) -> None:
        script = (
            f"import runpy; far = runpy.run_path({str(SOURCE)!r}); far['output_of'].__globals__['RUN_SECONDS'] = 0.2"
        )
        script += "; import asyncio; print(asyncio.run(far['output_of'](['sleep', '60'])))"
        done = subprocess.run([OLD or "", "-c", script], capture_output=True, text=True, timeout=30)
        assert (done.stdout, done.stderr) == ("(-1, b'')\n", "")

    @pytest.mark.skipif(OLD is None, reason="needs a Python 3.9 beside the one that runs the tests")
    def test_an_old_python_is_enough(self, server: StandIn, tmp_path: Path) -> None:
        (tmp_path / "old").mkdir()
        (tmp_path / "python3").symlink_to(OLD or "")
        first = f'ForceCommand PATH={tmp_path}:$PATH; eval "$SSH_ORIGINAL_COMMAND"'
        with far_host(tmp_path / "old", first) as found:
            done = run(*words_for(server, "--from", found.place), EAGER_LANTERN_PASSWORD=PASSWORD, PATH=found.path)
        assert (done.returncode, done.stderr) == (0, "")

    @pytest.mark.parametrize(
        ("instead", "told"),
        [
            ("exit 127", "python3 (3.9 or newer) is not there"),
            ("exit 97", "its python3 is older than 3.9"),
            ("echo hello; cat /dev/zero", "what answers there is not the program that was sent"),
            (f"echo {BANNER.decode().strip()}; head -c 99999 /dev/urandom", "what answers there is not the program"),
        ],
    )
    def test_a_host_that_cannot_carry_a_visit_is_told(
        self, instead: str, told: str, server: StandIn, tmp_path: Path
    ) -> None:
        (tmp_path / "poor").mkdir()
        with far_host(tmp_path / "poor", f"ForceCommand {instead}") as found:
            done = run(*words_for(server, "--from", found.place), EAGER_LANTERN_PASSWORD=PASSWORD, PATH=found.path)
        assert (done.returncode, told in " ".join(done.stdout.split())) == (3, True)


def its_own_ssh(folder: Path, does: str) -> None:
    (folder / "ssh").write_text(f"#!/bin/sh\n{does}\n")
    (folder / "ssh").chmod(0o755)


def test_what_ssh_says_last_is_told_though_it_comes_late(tmp_path: Path) -> None:
    its_own_ssh(tmp_path, "exec 1>&-; sleep 0.3; echo 'ssh: no route to the pier' >&2; exit 255")
    done = run("visit", "h", "--from", "ssh://pier", PATH=f"{tmp_path}:{os.environ['PATH']}")
    assert (done.returncode, "ssh reports: no route to the pier" in done.stdout) == (3, True)


@pytest.mark.parametrize("terminal", [True, False])
def test_only_where_ssh_may_ask_something_places_are_reached_one_after_the_other(
    terminal: bool, tmp_path: Path
) -> None:
    its_own_ssh(tmp_path, f"echo begins >> {tmp_path}/told; sleep 2; echo ends >> {tmp_path}/told")
    command = [sys.executable, "-m", "eager_lantern", "visit", "h", "--from", "ssh://pier", "--from", "ssh://skerry"]
    environment = {**os.environ, "PATH": f"{tmp_path}:{os.environ['PATH']}"}
    if terminal:
        pexpect.run(shlex.join(command), env=environment)
    else:
        subprocess.run(command, env=environment, start_new_session=True, capture_output=True, check=False)
    assert (tmp_path / "told").read_text().split() == (
        ["begins", "ends"] * 2 if terminal else ["begins"] * 2 + ["ends"] * 2
    )


@pytest.mark.skipif(sys.platform != "linux", reason="needs the addresses that Linux lists")
def test_the_far_end_knows_the_addresses_of_its_host() -> None:
    of_system = {each.address for found in psutil.net_if_addrs().values() for each in found if each.family in INET}
    assert {each for each in of_system if "%" not in each} <= set(own_addresses())


@pytest.mark.parametrize(
    ("own", "addresses", "second"),
    [
        ("127.0.0.1", [], "127.0.0.2"),
        ("192.0.2.7", ["127.0.0.1", "192.0.2.7", "fd00::7", "169.254.1.1"], None),
        ("10.1.0.7", ["10.1.0.7", "9.9.9.9", "10.2.0.9", "10.1.0.8"], "10.1.0.8"),
        ("fd00::7", ["::1", "fe80::7", "2606:4700::7", "fd00::9"], "fd00::9"),
        ("::1", ["::1", "fd00::9"], "fd00::9"),
    ],
)
def test_a_second_address_is_of_the_same_family_and_scope(own: str, addresses: list[str], second: str | None) -> None:
    assert second_of(own, addresses) == second


def test_the_far_end_needs_an_old_python_and_its_library_only() -> None:
    tree = ast.parse(SOURCE.read_text(), feature_version=(3, 9))
    names = {each.name for node in ast.walk(tree) if isinstance(node, ast.Import) for each in node.names}
    names |= {node.module or "." for node in ast.walk(tree) if isinstance(node, ast.ImportFrom)}
    assert names <= sys.stdlib_module_names


@settings(max_examples=100)
@given(st.lists(st.tuples(st.dictionaries(st.text(max_size=5), st.integers()), st.binary(max_size=99))), st.data())
def test_frames_come_out_as_they_went_in_however_they_are_cut(sent: list[Any], data: st.DataObject) -> None:
    raw = b"".join(packed(head, body) for head, body in sent)
    frames, found = Frames(), []
    while raw:
        size = data.draw(st.integers(1, len(raw)))
        found += frames.receive(raw[:size])
        raw = raw[size:]
    assert found == sent


@pytest.mark.parametrize(
    "text",
    [
        "namespace://-x",
        "namespace://a/b",
        "namespace://",
        "ssh://-oProxyCommand=x",
        "ssh://pilot@-x",
        "http://a",
        "ssh://a b",
        "ssh://a@b@c",
        "ssh://h:port",
        "pilot@h",
        "",
    ],
)
def test_what_is_no_place_is_told_before_anything_is_run(text: str) -> None:
    with pytest.raises(ValueError, match="is no place"):
        checked_place(text)
