"""The program `rehearse` as its users run it: both labs, a daemon, a shell, packets, and sudden ends."""

import contextlib
import json
import os
import pty
import secrets
import signal
import socket
import struct
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path

import pytest
from daemon import needs_daemon
from far_host import needs_ssh
from plans import plan_of
from program import AFTER, BEFORE, run
from test_sites import TABLE, changed

from eager_lantern.core.network.topology import Topology
from eager_lantern.core.observed.climb import Climb, RungSeen
from eager_lantern.core.observed.rehearsed import ARRIVES, FateGroup, Observed, Rehearsed
from eager_lantern.core.predict.session import predict
from eager_lantern.core.values.ports import PortSet
from eager_lantern.formats.site.site_file import read_site
from eager_lantern.lab.kernel.lab import missing_means
from eager_lantern.lab.tasks import tasks
from eager_lantern.live.common.visit_plan import VisitPlan
from eager_lantern.live.ftp.sweep import PortTried

LACK = missing_means()
SKERRY = Path(__file__).parent / "cases" / "skerry.site.yaml"
needs_kernel = [pytest.mark.kernel, pytest.mark.skipif(bool(LACK), reason=LACK)]
PROGRAM = [sys.executable, "-m", "eager_lantern", "rehearse"]
BARE = ["setpriv", "--bounding-set=-all", "--inh-caps=-all", "--no-new-privs"] if os.getuid() == 0 else []
SHORT = """
lantern: 1
site: Short Pier
networks: [{name: office, subnet: 10.61.4.0/24}]
gateways:
  - name: pier-router
    outside: {network: internet, address: 198.51.100.61}
    inside: {network: office, address: 10.61.4.1}
    translate: outward
    ftp_helper: true
    forwards: [{ports: "21", to: 10.61.4.20}]
server: {name: pier-store, network: office, address: 10.61.4.20}
services: [{name: tides, protocol: ftp, control_port: 21, passive: {ports: 61200-61203}}]
clients: [{name: gauge, network: internet, address: 203.0.113.50, reaches: 198.51.100.61}]
promises: [{client: gauge, service: tides, mode: passive}]
"""


@pytest.fixture
def short(tmp_path: Path) -> Path:
    path = tmp_path / "short.site.yaml"
    path.write_text(SHORT)
    return path


def marked(token: str) -> list[Path]:
    """The processes that were started with a token in their environment, or by one that was."""
    found = []
    for each in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError):  # a process that has just ended
            if token.encode() in (each / "environ").read_bytes() and (each / "exe").exists():
                found.append(each)
    return found


def network_of(process: Path) -> str:
    """The network namespace of a process; empty for one that has just ended."""
    try:
        return str((process / "ns" / "net").readlink())
    except OSError:
        return ""


def comes_true(sign: Callable[[], bool], seconds: float = 60) -> None:
    deadline = time.monotonic() + seconds
    while not sign():
        assert time.monotonic() < deadline, "it never came true"
        time.sleep(0.02)


ANYBODY = """
lantern: 1
site: Long Pier
networks: [{name: office, subnet: 10.61.4.0/24}]
gateways:
  - name: pier-router
    outside: {network: internet, address: 198.51.100.61}
    inside: {network: office, address: 10.61.4.1}
    translate: outward
    forwards: [{ports: "21, 61200-61203", to: 10.61.4.20}]
server: {name: pier-store, network: office, address: 10.61.4.20}
services:
  - {name: tides, protocol: ftp, control_port: 21, passive: {ports: 61200-61203, announce: 198.51.100.61}}
  - {name: gauge-clock, protocol: other, control_port: 8123}
clients:
  - {name: gauge, network: internet, reaches: 198.51.100.61}
  - {name: desk, network: office, address: 10.61.4.90, reaches: 10.61.4.20}
promises:
  - {client: gauge, service: tides, mode: passive}
  - {client: internet, service: tides, holds: shut}
  - {client: desk, service: gauge-clock}
"""


@pytest.mark.parametrize("lab", [pytest.param("kernel", marks=needs_kernel), "loopback"])
def test_clients_without_an_address_and_other_services_are_tried_too(lab: str, tmp_path: Path) -> None:
    path = tmp_path / "anybody.site.yaml"
    path.write_text(ANYBODY)
    done = run("rehearse", path, "--lab", lab, "--format", "json")
    promises = json.loads(done.stdout)["promises"]
    assert [(each["predicted"], each["observed"], each["agree"]) for each in promises] == [
        ("works", "works", True),
        ("works", "works", True),
        ("works", "works", True),
    ]
    assert promises[2]["reason"] == "its port is tried, not what is spoken there"


def test_a_port_that_another_program_has_on_every_address_is_named_with_what_to_do(tmp_path: Path) -> None:
    path = tmp_path / "anybody.site.yaml"
    with socket.create_server(("0.0.0.0", 0)) as other:
        port = other.getsockname()[1]
        path.write_text(ANYBODY.replace("8123", str(port)))
        done = run("rehearse", path, "--lab", "loopback")
    assert (done.returncode, done.stdout) == (3, "")
    assert f"port {port} is taken on this machine by a program that listens on every address: end it" in done.stderr


@pytest.mark.sweep
@pytest.mark.parametrize("lab", [pytest.param("kernel", marks=needs_kernel), "loopback"])
def test_every_lab_agrees_with_check_on_the_faulty_site(lab: str) -> None:
    done = subprocess.run(
        [*(BARE if lab == "loopback" else []), *PROGRAM, str(BEFORE), "--lab", lab, "--format", "json"],
        capture_output=True, text=True, timeout=280, stdin=subprocess.DEVNULL,
    )  # fmt: skip
    assert done.returncode == 1, done.stderr
    promises = json.loads(done.stdout)["promises"]
    assert [each["agree"] for each in promises] == [True] * 5
    assert [each["observed"] for each in promises] == ["fails", "partly", "works", "works", "fails"]
    assert promises[1]["data"]["stopped"] == [{"ports": "61328-61455", "rung": "data", "outcome": "silent"}]
    assert promises[1]["data"]["works"] == "61200-61327"


def test_the_loopback_lab_says_what_it_cannot_show(short: Path) -> None:
    done = run("rehearse", short, "--lab", "loopback")
    assert done.returncode == 3
    assert "it shows no helpers" in done.stdout
    promise = json.loads(run("rehearse", short, "--lab", "loopback", "--format", "json").stdout)["promises"][0]
    assert promise["agree"] is None
    assert promise["reason"].startswith("pier-router reads FTP control connections")


@pytest.mark.parametrize("lab", [pytest.param("kernel", marks=needs_kernel), "loopback"])
def test_whoever_has_no_address_in_the_site_file_gets_one_to_name_in_active_mode(lab: str, tmp_path: Path) -> None:
    path = tmp_path / "anybody.site.yaml"
    active = ANYBODY.replace("service: tides, mode: passive}", "service: tides, mode: active}")
    path.write_text(active.replace("reaches: 198.51.100.61}", "reaches: 198.51.100.61, modes: [active]}"))
    done = run("rehearse", path, "--lab", lab, "--format", "json")
    promise = json.loads(done.stdout)["promises"][0]
    assert (promise["predicted"], promise["observed"], promise["agree"]) == ("unknown", "works", None)


@pytest.mark.parametrize("lab", [pytest.param("kernel", marks=needs_kernel), "loopback"])
def test_two_labs_at_once_do_not_meet(lab: str, tmp_path: Path) -> None:
    path = tmp_path / "anybody.site.yaml"
    path.write_text(ANYBODY)
    command = [*PROGRAM, str(path), "--lab", lab]
    labs = [subprocess.Popen(command, stdout=subprocess.PIPE, text=True) for _ in range(2)]
    assert [each.communicate(timeout=180)[0].count("yes") for each in labs] == [3, 3]


def mounted() -> list[str]:
    """What is mounted here, but for network namespaces with names: other tests have these, and no lab."""
    return [each for each in Path("/proc/self/mounts").read_text().splitlines() if " /run/netns" not in each]


class TestKernel:
    pytestmark = needs_kernel

    def test_the_helper_of_the_kernel_lets_every_data_port_in(self, short: Path) -> None:
        done = run("rehearse", short, "--format", "json")
        assert (done.returncode, done.stderr) == (0, "")
        promise = json.loads(done.stdout)["promises"][0]
        assert promise["data"]["works"] == "61200-61203"
        assert [each["outcome"] for each in promise["rungs"] if each["rung"] in ("list", "send", "fetch")] == ["ok"] * 3

    @pytest.mark.parametrize("namespaces", [1, 2, 3, 6], ids=["starts", "builds", "has a node", "stands"])
    def test_nothing_is_left_when_the_program_is_killed(self, namespaces: int, tmp_path: Path) -> None:
        mounts, token = mounted(), f"lantern-test-{secrets.token_hex(8)}"
        with subprocess.Popen(
            [*PROGRAM, str(BEFORE)],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            env={**os.environ, "TMPDIR": str(tmp_path), "MARK": token},
        ) as program:
            comes_true(lambda: len({network_of(each) for each in marked(token)} - {""}) >= namespaces)
            program.send_signal(signal.SIGKILL)
        comes_true(lambda: marked(token) == [])
        assert namespaces < 3 or list(tmp_path.iterdir()) == []
        assert mounted() == mounts

    def test_packets_of_a_host_are_captured(self, short: Path, tmp_path: Path) -> None:
        target = tmp_path / "store.pcap"
        assert run("rehearse", short, "--capture", f"pier-store={target}").returncode == 0
        raw = target.read_bytes()
        magic, major, minor, _, _, _, link = struct.unpack_from("<IHHIIII", raw)
        assert (magic, major, minor, link) == (0xA1B2C3D4, 2, 4, 1)
        assert b"stand-in ready" in raw
        again = run("rehearse", short, "--capture", f"pier-store={target}")
        assert (again.returncode, again.stderr) == (2, f"{target}: found a file of that name; expected a new name\n")

    def test_a_shell_in_the_lab_stands_where_it_was_asked_to(self, short: Path) -> None:
        child, terminal = pty.fork()
        if child == 0:
            os.environ["SHELL"] = "/bin/sh"
            os.execv(sys.executable, [*PROGRAM, str(short), "--keep-open", "pier-store"])
        seen = b""
        os.set_blocking(terminal, False)
        asked = False
        deadline = time.monotonic() + 60
        while time.monotonic() < deadline:
            try:
                seen += os.read(terminal, 4096)
            except BlockingIOError:
                time.sleep(0.05)
            except OSError:  # the terminal is closed
                break
            if b"A shell as pier-store" in seen and not asked:
                os.write(terminal, b"ip -brief address show eth0; exit 0\n")
                asked = True
        assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0
        assert b"10.61.4.20/32" in seen

    @pytest.mark.parametrize("site", [AFTER])
    @pytest.mark.daemon
    @needs_daemon[1]
    def test_sessions_with_a_real_daemon_agree(self, site: Path) -> None:
        done = run("rehearse", site, "--daemon", "--format", "json")
        promises = json.loads(done.stdout)["promises"]
        assert (done.returncode, [each["agree"] for each in promises]) == (0, [True] * 5)
        greeted = [rung["detail"] for rung in promises[0]["rungs"] if rung["rung"] == "greet"]
        assert "ProFTPD" in greeted[0]

    @pytest.mark.parametrize(
        ("without", "observed"),
        [
            ("", ["works"] * 5),
            ("data6", ["works", "fails", "works", "works", "works"]),
            ("ssh", ["works", "works", "works", "fails", "works"]),
        ],
    )
    @pytest.mark.daemon
    @needs_daemon[1]
    @needs_ssh[1]
    def test_two_real_daemons_behind_a_translating_gateway_agree_over_both_families(
        self, without: str, observed: list[str], tmp_path: Path
    ) -> None:
        lines = SKERRY.read_text().splitlines()
        site = tmp_path / "skerry.site.yaml"
        site.write_text("\n".join(each for each in lines if f"name: {without}," not in each or not without))
        done = run("rehearse", site, "--daemon", "--format", "json")
        promises = json.loads(done.stdout)["promises"]
        assert [(each["observed"], each["agree"]) for each in promises] == [(each, True) for each in observed]
        greetings = [rung["detail"] for each in promises for rung in each["rungs"] if rung["rung"] == "greet"]
        assert [("ProFTPD" in each, "OpenSSH" in each) for each in greetings[:3]] == [(True, False)] * 3
        assert all("OpenSSH" in each for each in greetings[3:] if each)


@pytest.mark.parametrize("lab", [pytest.param("kernel", marks=needs_kernel), "loopback"])
@pytest.mark.parametrize(("rights", "ends"), [("[list, write]", ("tidy", "untried")), ("[list]", ("list", "ok"))])
def test_ssh_file_transfer_is_rehearsed_as_far_as_the_account_may_go(
    rights: str, ends: tuple[str, str], lab: str, tmp_path: Path
) -> None:
    site = tmp_path / "skerry.site.yaml"
    site.write_text(
        SKERRY.read_text().replace("service: lights, clients", f"service: lights, rights: {rights}, clients")
    )
    promise = json.loads(run("rehearse", site, "--lab", lab, "--format", "json").stdout)["promises"][3]
    rungs = {each["rung"]: each["outcome"] for each in promise["rungs"]}
    assert (promise["observed"], rungs[ends[0]]) == ("works", ends[1])


@pytest.mark.parametrize(("untried", "agree"), [("61328-61455", None), ("", False)])
def test_a_session_that_may_have_met_a_port_that_was_not_tried_decides_nothing(
    untried: str, agree: bool | None
) -> None:
    topology = Topology(read_site(BEFORE).site)
    forecast = next(each for each in (predict(topology, one, ()) for one in topology.site.promises) if each.data)
    assert forecast.data is not None
    works = FateGroup(forecast.data.works, *ARRIVES)
    climb = Climb("store:21", "", "gauge", "passive", (RungSeen("list", "ok", ""), RungSeen("fetch", "silent", "")))
    seen = Rehearsed(forecast, Observed(climb, (works,), PortSet.parse(untried)))
    assert seen.agree is agree


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (["--keep-open", "pier-stor"], "there is no “pier-stor”; did you mean “pier-store”?"),
        (["--keep-open", "pier-store"], "needs a terminal"),
        (["--capture", "pier-store"], "write NAME=FILE"),
        (["--capture", "piet-store=x.pcap"], "did you mean “pier-store”?"),
        (["--lab", "loopback", "--daemon"], "belong to the kernel lab"),
    ],
)
def test_a_slip_on_the_command_line_is_told(words: list[str], told: str, short: Path) -> None:
    done = run("rehearse", short, *words)
    assert done.returncode == 2
    assert told in " ".join(done.stderr.replace("│", " ").split())


def test_what_no_host_of_a_site_can_try_is_said_and_not_taken_for_shut(tmp_path: Path) -> None:
    case = next(each for each in TABLE["beyond_a_lab"] if each["name"].startswith("shut"))
    path = tmp_path / "beyond.site.yaml"
    path.write_text(json.dumps(changed(case)))
    promise = json.loads(run("rehearse", path, "--lab", "loopback", "--format", "json").stdout)["promises"][0]
    assert (promise["predicted"], promise["agree"]) == ("works", None)
    assert promise["reason"] == "it is open only to sources that no host of the site has"


@pytest.mark.parametrize(("works", "tries"), [(True, 2), (False, 1)], ids=["to-work", "to-fail"])
def test_silence_is_heard_twice_before_it_belies_a_session_that_is_to_work(
    works: bool, tries: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    patience: list[float] = []

    async def climbed(plan: VisitPlan, report: object) -> Climb:
        patience.append(plan.limits.timeout)
        return Climb(
            "store", "tides", "desk", "passive", (RungSeen("connect", "ok" if len(patience) > 1 else "silent", ""),)
        )

    monkeypatch.setattr(tasks, "_climber", lambda ssh: climbed)
    plan = plan_of("store.example", 21, "tide", "")
    climb, _ = tasks.RunSession((plan,), works=works).run(tasks.HostAccess(), print)
    assert (len(patience), climb.stopped_at is None) == (tries, works)
    assert patience[-1] == plan.limits.timeout * (tasks.MORE_PATIENCE if works else 1)


def test_silence_is_heard_twice_of_a_data_port_that_is_to_work_and_once_of_others(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    asked: list[tuple[float, tuple[int, ...]]] = []

    async def swept(plan: VisitPlan, address: str, ports: tuple[int, ...], report: object) -> dict[int, PortTried]:
        asked.append((plan.limits.timeout, ports))
        return {port: PortTried("list", "silent" if len(asked) == 1 and port > 61200 else "ok", "") for port in ports}

    monkeypatch.setattr(tasks, "sweep", swept)
    plan = plan_of("store.example", 21, "tide", "")
    works = PortSet.parse("61200-61201")
    found = tasks.RunSweep(plan, (61200, 61201, 61202), works).run(tasks.HostAccess(), print)
    assert asked[1:] == [(plan.limits.timeout * tasks.MORE_PATIENCE, (61201,))]
    assert [each.outcome for each in found.values()] == ["ok", "ok", "silent"]
