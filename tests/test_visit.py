"""Real sessions: with the shipped stand-in, with a real daemon, and with servers that misbehave."""

import asyncio
import contextlib
import copy
import itertools
import json
import os
import random
import re
import signal
import socket
import ssl
import subprocess
import sys
import threading
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any, get_args

import pexpect
import pytest
import trustme
from daemon import ANNOUNCE, PASSWORD, TLS, USER, daemon, free_port, needs_daemon
from plans import plan_of
from program import AFTER, result_of, run
from pyftpdlib.authorizers import DummyAuthorizer
from scripted import GREETING, PLAIN, RESET, Scripted, scripted

from eager_lantern.core.model.site import Right
from eager_lantern.core.observed.climb import Climb, RightsSeen
from eager_lantern.core.observed.looks import (
    TlsFacts,
    bounce_checks,
    remarks,
)
from eager_lantern.core.observed.range_estimate import RangeSeen, estimated_range
from eager_lantern.core.values.outcomes import RUNGS
from eager_lantern.core.values.ports import PortSet
from eager_lantern.lab.servers.ftp_server import StandIn
from eager_lantern.lab.servers.setup import Guest, StandInSetup
from eager_lantern.lab.servers.ssh_server import write_self_signed
from eager_lantern.live.common.channel import packets_note
from eager_lantern.live.common.ladder import PREFIX
from eager_lantern.live.common.visit_plan import FolderLook, VisitPlan, not_everybodys
from eager_lantern.live.ftp.session import Listener, Session
from eager_lantern.live.ftp.sweep import sweep
from eager_lantern.live.ftp.visit import visit_ftp
from eager_lantern.views.screen import rendered
from eager_lantern.views.visit import range_view, visit_view
from eager_lantern.wire.ftp import Endpoint

NAME = "tides.saltmarsh.example"
WAYS = [(mode, extended) for mode in ("passive", "active") for extended in (False, True)]


def plan(port: int, **changes: Any) -> VisitPlan:
    usual = {"name": NAME, "password": PASSWORD, "address": "127.0.0.1", "security": "none", "timeout": 1}
    return plan_of(port=port, user=USER, **usual | changes)


def climbed(wanted: VisitPlan) -> Climb:
    return asyncio.run(visit_ftp(wanted))


def outcomes(climb: Climb) -> dict[str, str]:
    return {each.rung: each.outcome for each in climb.rungs}


@pytest.mark.parametrize(("mode", "extended"), WAYS)
@pytest.mark.parametrize("security", ["none", "explicit"])
def test_every_rung_holds_with_the_stand_in(mode: str, extended: bool, security: str, tmp_path: Path) -> None:
    trusted, served = write_self_signed(tmp_path, NAME)
    store = tmp_path / "store"
    store.mkdir()
    certificate = served if security == "explicit" else None
    guests = (Guest(USER, PASSWORD, store),)
    setup = StandInSetup(guests, passive_ports=PortSet.parse("61410-61455"), certificate=certificate)
    with StandIn(setup) as server:
        climb = climbed(plan(server.port, mode=mode, extended=extended, security=security, trusts=trusted, timeout=5))
    assert (climb.observed, climb.stopped_at) == ("works", None)
    assert [each.rung for each in climb.rungs] == list(RUNGS)
    assert list(store.iterdir()) == []


class TestDaemon:
    pytestmark = needs_daemon

    @pytest.mark.parametrize(("mode", "extended"), WAYS)
    @pytest.mark.parametrize("security", ["none", "explicit"])
    def test_every_rung_holds_with_a_real_daemon(
        self, mode: str, extended: bool, security: str, daemon_folder: Path
    ) -> None:
        trusted, served = write_self_signed(daemon_folder, NAME)
        extra = TLS.format(folder=daemon_folder, certificate=served) if security == "explicit" else ""
        with daemon(daemon_folder, extra) as port:
            climb = climbed(plan(port, mode=mode, extended=extended, security=security, trusts=trusted, timeout=10))
        assert (climb.observed, climb.stopped_at) == ("works", None)
        assert list((daemon_folder / "store").iterdir()) == []

    def test_every_rung_holds_under_implicit_tls(self, daemon_folder: Path) -> None:
        trusted, served = write_self_signed(daemon_folder, NAME)
        implicit = TLS.replace("TLSRequired on", "TLSRequired on\nTLSOptions UseImplicitSSL")
        with daemon(daemon_folder, implicit.format(folder=daemon_folder, certificate=served)) as port:
            climb = climbed(plan(port, security="implicit", trusts=trusted, timeout=10))
        assert (climb.observed, climb.stopped_at) == ("works", None)

    def test_a_wrong_password_stops_at_login_and_is_not_shown(self, daemon_folder: Path) -> None:
        with daemon(daemon_folder) as port:
            climb = climbed(plan(port, password="low-tide", timeout=10))
        assert climb.stopped_at
        assert (climb.stopped_at.rung, climb.stopped_at.outcome) == ("login", "refused")
        assert "low-tide" not in repr(climb)

    def test_an_account_that_may_not_write_still_lists(self, daemon_folder: Path) -> None:
        with daemon(daemon_folder, "<Limit WRITE>\nDenyAll\n</Limit>") as port:
            climb = climbed(plan(port, timeout=10))
        assert (climb.observed, outcomes(climb)["list"], outcomes(climb)["send"]) == ("partly", "ok", "refused")

    def test_an_announced_address_of_another_host_is_reported(self, daemon_folder: Path) -> None:
        with daemon(daemon_folder, f"{ANNOUNCE} 10.61.4.20") as port:
            climb = climbed(plan(port, timeout=10))
        assert climb.stopped_at
        assert (climb.stopped_at.rung, climb.stopped_at.outcome, climb.observed) == ("announce", "wrong", "partly")
        assert "10.61.4.20 (private)" in climb.stopped_at.detail


MISBEHAVIOUR: list[tuple[str, dict[str, bytes], str, str, str]] = [
    ("another protocol", {GREETING: b"SSH-2.0-OpenSSH_9\r\n"}, "greet", "wrong", "no FTP reply"),
    ("sends nothing", {GREETING: b""}, "greet", "silent", "no answer within"),
    ("sends away", {GREETING: b"421 too many\r\n"}, "greet", "refused", "421 too many"),
    ("never stops talking", {GREETING: b"220-x\r\n" * 20_000}, "greet", "wrong", "more than 65536 bytes"),
    ("refuses the login", {"PASS": b"530 no\r\n"}, "login", "refused", "530 no"),
    ("wants TLS", {"USER": b"530 TLS required\r\n"}, "login", "refused", "--security explicit"),
    ("repeats the password", {"PASS": b"530 " + PASSWORD.encode() + b"\r\n"}, "login", "refused", "530 ••••"),
    ("hides a title change", {"PASS": b"530 \x1b]0;x\x07\r\n"}, "login", "refused", "\\x1b]0;x\\x07"),
    ("has no passive mode", {"PASV": b"502 no\r\n"}, "announce", "refused", "502 no"),
    ("garbles the reply", {"PASV": b"227 (1,2,3)\r\n"}, "announce", "wrong", "no address and port"),
    ("names a closed port", {"PASV": b"227 (127,0,0,1,0,1)\r\n"}, "data", "refused", "data port 1"),
    ("refuses to list", {"LIST": b"550 no\r\n"}, "list", "refused", "550 no"),
    ("refuses to store", {"STOR": b"553 no\r\n"}, "send", "refused", "553 no"),
]


@pytest.mark.parametrize(
    ("script", "rung", "outcome", "says"), [each[1:] for each in MISBEHAVIOUR], ids=[each[0] for each in MISBEHAVIOUR]
)
def test_a_misbehaving_server_is_named_at_its_rung(
    script: dict[str, bytes], rung: str, outcome: str, says: str
) -> None:
    with scripted(script) as server:
        climb = climbed(plan(server.port))
    stopped = climb.stopped_at
    assert stopped
    assert (stopped.rung, stopped.outcome) == (rung, outcome)
    assert says in stopped.detail
    assert stopped.advice


def test_an_announced_address_is_followed_only_when_asked() -> None:
    with socket.create_server(("127.0.0.2", 0)) as other:
        high, low = divmod(other.getsockname()[1], 256)
        with scripted({"PASV": f"227 (127,0,0,2,{high},{low})\r\n".encode()}) as server:
            other.settimeout(0.2)
            kept, half = climbed(plan(server.port)), climbed(plan(server.port, announced="follow"))
            with pytest.raises(TimeoutError):
                other.accept()
            said: list[str] = []

            def noticed(text: str) -> None:
                said.append(text)
                with pytest.raises(TimeoutError):  # it is said before anything is sent there
                    other.accept()

            wanted = replace(plan(server.port, announced="follow", even_private=True), notice=noticed)
            followed = climbed(wanted)
            other.accept()
    assert outcomes(kept)["announce"] == outcomes(half)["announce"] == "wrong"
    assert "127.0.0.2, a loopback address: not followed (--even-private" in half.rungs[5].detail
    assert said == ["data goes to 127.0.0.2, which only the server's reply names"]
    assert (outcomes(followed)["announce"], outcomes(followed)["data"]) == ("ok", "ok")


@pytest.mark.parametrize(
    ("address", "what"),
    [
        ("198.51.100.61", ""),
        ("2001:db8::61", ""),
        ("10.61.4.20", "a private address"),
        ("fd00::1", "a private address"),
        ("169.254.1.1", "a link-local address"),
        ("fe80::1", "a link-local address"),
        ("169.254.169.254", "the address of a cloud's metadata service"),
        ("168.63.129.16", "the address of a cloud's metadata service"),
        ("fd00:ec2::254", "the address of a cloud's metadata service"),
        ("127.0.0.1", "a loopback address"),
        ("100.64.7.12", "a carrier's shared (carrier-grade NAT) address"),
        ("0.0.0.0", "an unspecified address"),
        ("224.0.0.1", "a multicast address"),
    ],
)
def test_an_address_that_is_not_everybodys_is_called_what_it_is(address: str, what: str) -> None:
    assert not_everybodys(address) == what


def test_a_private_address_without_a_passive_reply_to_follow_is_no_option() -> None:
    done = run("visit", "tides.saltmarsh.example", "--even-private")
    assert (done.returncode, "it goes with --follow-announced" in done.stderr) == (2, True)


def test_a_certificate_for_another_name_stops_before_the_password(tmp_path: Path) -> None:
    trusted, served = write_self_signed(tmp_path, "other.saltmarsh.example")
    with StandIn(StandInSetup((Guest(USER, PASSWORD, tmp_path),), certificate=served)) as server:
        climb = climbed(plan(server.port, security="explicit", trusts=trusted))
        anyway = climbed(plan(server.port, security="explicit", any_certificate=True, timeout=5))
    assert climb.stopped_at
    assert (climb.stopped_at.rung, climb.stopped_at.outcome) == ("secure", "wrong")
    assert anyway.observed == "works"


def test_a_closed_port_and_a_name_without_address_are_told_apart() -> None:
    with socket.socket() as unused:
        unused.bind(("127.0.0.1", 0))
        refused = climbed(plan(unused.getsockname()[1]))
    nameless = climbed(plan(21, name="gauge.invalid", address=None, timeout=8))
    assert refused.stopped_at
    assert nameless.stopped_at
    assert (refused.stopped_at.rung, refused.stopped_at.outcome) == ("connect", "refused")
    assert nameless.stopped_at.rung == "name"


def test_nobody_waits_for_a_resolver_that_hangs(monkeypatch: pytest.MonkeyPatch) -> None:
    held, ended = threading.Event(), threading.Event()

    def hangs(*_: object, **__: object) -> None:
        held.wait(20)
        ended.set()
        raise socket.gaierror

    monkeypatch.setattr(socket, "getaddrinfo", hangs)
    stopped = climbed(plan(21, name="slow.saltmarsh.example", address=None, timeout=0.2)).stopped_at
    waited = ended.is_set()
    held.set()
    assert stopped
    assert (stopped.rung, stopped.outcome, waited) == ("name", "silent", False)


def test_an_active_connection_that_the_server_cannot_open_is_refused_not_silent() -> None:
    with scripted({"PORT": b"200 ok\r\n", "LIST": b"150 here\r\n425 no way there\r\n"}) as server:
        stopped = climbed(plan(server.port, mode="active", timeout=30)).stopped_at
    assert stopped
    assert (stopped.rung, stopped.outcome) == ("data", "refused")


def called_back(server: Scripted, source: str) -> bytes:
    """What a server answers to LIST that connects to the named port from this address."""
    *_, high, low = next(each for each in server.heard if each.startswith("PORT")).split(",")
    with socket.create_connection(("127.0.0.1", int(high) * 256 + int(low)), source_address=(source, 0)) as data:
        data.sendall(b"-rw-r--r-- 1 o g 12 Nov 23 12:00 tide.csv\r\n")
    return b"150 here\r\n226 done\r\n"


def test_active_data_from_another_peer_is_not_taken_for_the_servers() -> None:
    with scripted({"PORT": b"200 ok\r\n"}) as server:
        server.replies = {"LIST": lambda: called_back(server, "127.0.0.2")}
        stopped = climbed(plan(server.port, mode="active", extended=False)).stopped_at
    assert stopped
    assert (stopped.rung, stopped.outcome) == ("data", "wrong")
    assert "came from 127.0.0.2, the server is 127.0.0.1" in stopped.detail


def test_a_late_reply_answers_no_later_command() -> None:
    async def asked_after_a_transfer(port: int) -> int:
        session = Session(plan(port, mode="active", extended=False))
        await session.enter("127.0.0.1")
        listener = await Listener.on("127.0.0.1", session.plan)
        await session.name_port(Endpoint("127.0.0.1", listener.port))
        await session.send("LIST")
        await session.opening()
        await session.arrival(listener)  # by then the completion has come, and nobody has asked for it
        return (await session.ask("TYPE", "I")).code

    with scripted({"PORT": b"200 ok\r\n"}) as server:
        server.replies = {"LIST": lambda: called_back(server, "127.0.0.1")}
        assert asyncio.run(asked_after_a_transfer(server.port)) == 200


def test_a_port_of_a_sweep_that_breaks_the_session_does_not_take_the_next_ones_along() -> None:
    with contextlib.ExitStack() as opened:
        listening = [opened.enter_context(socket.create_server(("127.0.0.1", 0))) for _ in range(4)]
        ports = [each.getsockname()[1] for each in listening]
        named, lists = itertools.cycle(ports), itertools.count(1)

        def taken(listener: socket.socket) -> None:
            with contextlib.suppress(OSError):
                while True:
                    listener.accept()[0].close()

        for each in listening:
            threading.Thread(target=taken, args=(each,), daemon=True).start()
        server = opened.enter_context(scripted({"PASV": b""}))
        server.replies = {
            "PASV": lambda: "227 here (127,0,0,1,{},{})\r\n".format(*divmod(next(named), 256)).encode(),
            "LIST": lambda: RESET if next(lists) == 2 else b"150 here\r\n226 done\r\n",
        }
        tried = asyncio.run(sweep(plan(server.port, extended=False), "127.0.0.1", ports, lambda news: None))
    # on a slow machine another port may be the one that is being listed by then
    assert sorted(tried[port].outcome for port in ports) == ["ok", "ok", "ok", "wrong"]


def visiting(server: Scripted, *words: str) -> "subprocess.Popen[str]":
    command = [sys.executable, "-m", "eager_lantern", "visit", "127.0.0.1", "--port", str(server.port)]
    command += ["--security", "none", "--user", USER, *words]
    environment = {"EAGER_LANTERN_PASSWORD": PASSWORD, "PATH": "/usr/bin:/bin"}
    return subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=environment)


@pytest.mark.parametrize("moment", ["in the transfer", "before the reply"])
def test_ctrl_c_removes_what_was_sent(moment: str) -> None:
    script = {"STOR": b"" if moment == "before the reply" else b"150 send\r\n"}
    with scripted(script, holds="STOR") as server:
        process = visiting(server, "--timeout", "30")
        assert server.waited_for("STOR")
        assert moment == "before the reply" or server.moving.wait(10)
        process.send_signal(signal.SIGINT)
        _, stderr = process.communicate(timeout=20)
        sent = next(each.split()[1] for each in server.heard if each.startswith("STOR"))
        assert sent.startswith(PREFIX)
        assert server.waited_for(f"DELE {sent}", 1)
    assert (process.returncode, stderr) == (130, "eager-lantern: interrupted\n")


def asked(port: int) -> "pexpect.spawn[str]":
    """A visit at a terminal that asks for the password."""
    words = ["-m", "eager_lantern", "visit", "127.0.0.1", "--port", str(port), "--security", "none", "--user", USER]
    environment = {"PATH": "/usr/bin:/bin", "TERM": "dumb"}
    terminal = pexpect.spawn(sys.executable, words, env=environment, encoding="utf-8", timeout=20)
    terminal.expect(f"Password of {USER}.*: ")
    return terminal


def test_a_password_that_is_typed_lets_in_and_is_not_shown(tmp_path: Path) -> None:
    with StandIn(StandInSetup((Guest(USER, PASSWORD, tmp_path),))) as server:
        terminal = asked(server.port)
        terminal.sendline(PASSWORD)
        shown = terminal.read()
        terminal.close()
    assert (terminal.exitstatus, PASSWORD in shown) == (0, False)


def test_ctrl_c_at_the_question_for_the_password_ends_the_visit_at_once() -> None:
    terminal = asked(21)
    terminal.sendintr()
    terminal.expect("interrupted")
    terminal.expect(pexpect.EOF)
    terminal.close()
    assert terminal.exitstatus == 130


@pytest.mark.parametrize(
    ("typed", "told"),
    [
        ("ftp://station:sesame@h:2121/", "eager-lantern visit h --port 2121 --user station"),
        ("sftp://pilot@[2001:db8::61]", "eager-lantern visit 2001:db8::61 --sftp --user pilot"),
        ("h:2121", "eager-lantern visit h --port 2121"),
        ("10.61", "which has 2 numbers; expected four"),
        ("sites/tides", "neither a host name or address nor a site file"),
        ("h\x1b[2J", "neither a host name or address nor a site file"),
    ],
)
def test_what_is_no_host_is_answered_with_how_to_type_it(typed: str, told: str) -> None:
    done = run("visit", typed, "--lamp")
    assert (done.returncode, told in " ".join(done.stderr.split())) == (2, True)
    assert "sesame" not in done.stderr
    assert "\x1b" not in done.stderr


def test_the_password_appears_nowhere() -> None:
    with scripted({"PASS": f"530 {PASSWORD} is wrong\r\n".encode()}) as server:
        for form in ("text", "json"):
            process = visiting(server, "--format", form)
            shown = "".join(process.communicate(timeout=20))
            assert process.returncode == 1
            assert "530" in shown
            assert PASSWORD not in shown


@pytest.mark.parametrize("content", [f"machine 127.0.0.1 login {USER} password {PASSWORD}", f"machine x {PASSWORD}"])
def test_netrc_is_read_and_never_quoted(content: str, tmp_path: Path) -> None:
    path = tmp_path / "netrc"
    path.write_text(content + "\n")
    path.chmod(0o600)
    with scripted({}) as server:
        words = ("visit", "127.0.0.1", "--port", server.port, "--security", "none", "--user", USER, "--timeout", 2)
        done = run(*words, NETRC=str(path))
    assert done.returncode == (0 if "login" in content else 2)
    assert PASSWORD not in done.stdout + done.stderr
    assert (f"PASS {PASSWORD}" in server.heard) == ("login" in content)


def test_a_password_is_asked_for_where_there_is_none() -> None:
    done = run("visit", "127.0.0.1", "--user", USER, NETRC="/nonexistent")
    assert done.returncode == 2
    assert "EAGER_LANTERN_PASSWORD" in done.stderr


def test_a_site_is_visited_as_one_of_its_clients(tmp_path: Path) -> None:
    _, served = write_self_signed(tmp_path, NAME)
    with StandIn(StandInSetup((Guest("reader", PASSWORD, tmp_path),), certificate=served)) as server:
        words = ["visit", AFTER, "--client", "institute", "--at", "127.0.0.1", "--port", server.port]
        words += ["--trust", tmp_path / "certificate.pem", "--format", "json"]
        done = run(*words, EAGER_LANTERN_PASSWORD=PASSWORD)
    result = result_of(done.stdout)
    promise = result["promises"][0]
    assert done.returncode == 0
    assert result["format"] == "eager-lantern/visit/1"
    assert (promise["client"], promise["service"], promise["observed"]) == ("institute", "tide-exchange", "works")
    assert [each["rung"] for each in promise["rungs"]] == list(RUNGS)
    announced = next(each["detail"] for each in promise["rungs"] if each["rung"] == "announce")
    assert re.search(r"229 .*\|\|\|[0-9]+\|", announced)


def facts(setup: dict[str, Any], folder: Path, names: tuple[str, ...], **changes: Any) -> TlsFacts:
    """What a close look at TLS finds on a stand-in with a certificate for these names."""
    trusted, served = write_self_signed(folder, *names)
    guests = (Guest(USER, PASSWORD, folder),)
    with StandIn(StandInSetup(guests, certificate=served, **setup)) as server:
        options = {"security": "explicit", "trusts": trusted, "closely": True, "timeout": 5, **changes}
        seen = climbed(plan(server.port, **options)).tls
    assert seen is not None
    return seen


def test_a_close_look_at_good_tls_finds_nothing_poor(tmp_path: Path) -> None:
    seen = facts({}, tmp_path, (NAME,))
    assert (seen.version, seen.distrust, seen.login_in_clear) == ("TLSv1.3", "", False)
    assert (seen.data_protected, seen.resumes, seen.demands_resuming) == (True, True, False)
    assert {each.topic for each in remarks(seen) if each.good is False} == set()


def test_a_close_look_finds_what_is_poor_and_what_is_demanded(tmp_path: Path) -> None:
    setup = {"tls_required": False, "reuse_required": True}
    seen = facts(setup, tmp_path, ("\x1b[31mother.example",), trusts=None, any_certificate=True)
    assert "self-signed certificate" in seen.distrust
    assert (seen.version, seen.login_in_clear, seen.resumes, seen.demands_resuming) == ("TLSv1.2", True, True, True)
    assert {each.topic for each in remarks(seen) if each.good is False} >= {"trust", "name", "clear login"}
    shown = rendered(visit_view(Climb("x", "", "", "passive", (), tls=seen)), colour=False)
    assert ("other.example" in shown, "\x1b" in shown) == (True, False)


@pytest.mark.parametrize(("sends", "good"), [("all", True), ("its own", False), ("another's", False)])
def test_the_certificates_that_a_server_sends_are_told_and_a_missing_one_is_poor(
    sends: str, good: bool, tmp_path: Path
) -> None:
    root = trustme.CA()
    middle, other = root.create_child_ca(), root.create_child_ca()
    leaf = middle.issue_cert(NAME)
    above = {"all": leaf.cert_chain_pems[1:], "its own": [], "another's": [other.cert_pem]}[sends]
    parts = [leaf.private_key_pem, leaf.cert_chain_pems[0], *above]
    served, trusted = tmp_path / "served.pem", tmp_path / "root.pem"
    served.write_bytes(b"".join(each.bytes() for each in parts))
    root.cert_pem.write_to_path(trusted)
    with StandIn(StandInSetup((Guest(USER, PASSWORD, tmp_path),), certificate=served)) as server:
        options = {"security": "explicit", "trusts": trusted, "closely": True, "timeout": 5}
        seen = climbed(plan(server.port, **options)).tls
    assert seen is not None
    assert [each.good for each in remarks(seen) if each.topic in ("trust", "chain")] == [good, good]


@pytest.mark.filterwarnings("ignore:ssl.TLSVersion.TLSv1:DeprecationWarning")
@pytest.mark.parametrize("least", ["TLSv1", "TLSv1_2"])
def test_versions_that_are_not_to_be_used_are_told_where_the_server_takes_them(least: str, tmp_path: Path) -> None:
    _, served = write_self_signed(tmp_path, NAME)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.minimum_version = ssl.TLSVersion[least]
    context.set_ciphers("ALL:@SECLEVEL=0")
    context.load_cert_chain(served)
    listener = socket.create_server(("127.0.0.1", 0))

    def serve(accepted: socket.socket) -> None:
        with contextlib.suppress(OSError), context.wrap_socket(accepted, server_side=True) as peer:
            peer.sendall(b"220 ready\r\n")
            while peer.recv(1000):
                peer.sendall(b"530 no\r\n")

    def accept() -> None:
        while True:
            threading.Thread(target=serve, args=(listener.accept()[0],), daemon=True).start()

    threading.Thread(target=accept, daemon=True).start()
    options = {"security": "implicit", "any_certificate": True, "closely": True}
    seen = climbed(plan(listener.getsockname()[1], **options)).tls
    assert seen is not None
    assert seen.takes_old is (least == "TLSv1")


def test_one_login_try_is_all_that_a_close_look_costs(tmp_path: Path) -> None:
    _, served = write_self_signed(tmp_path, NAME)
    tried: list[str] = []
    with StandIn(StandInSetup((Guest(USER, PASSWORD, tmp_path),), certificate=served)) as server:
        handler = server._servers[0].handler
        handler.ftp_PASS = lambda self, line, known=handler.ftp_PASS: (tried.append(line), known(self, line))[1]
        options = {"security": "explicit", "any_certificate": True, "closely": True}
        assert climbed(plan(server.port, **options)).tls is not None
    assert tried == [PASSWORD]


def ranged(folder: Path, order: tuple[int, ...]) -> RangeSeen:
    """The range that a visit finds on a stand-in that hands out these ports, over and over."""
    guests = (Guest(USER, PASSWORD, folder, ports=order),)
    with StandIn(StandInSetup(guests, passive_ports=PortSet.parse("62300-62399"))) as server:
        seen = climbed(plan(server.port, range_connections=3, timeout=5)).range
    assert seen is not None
    return seen


def test_a_range_handed_out_in_turn_is_known_exactly_once_it_has_come_round(tmp_path: Path) -> None:
    seen = ranged(tmp_path, tuple(range(62300, 62340)))
    assert (seen.estimate.habit, str(seen.estimate.seen), seen.estimate.good) == ("in turn", "62300-62339", True)
    assert (str(seen.answers), str(seen.refuses | seen.silent), seen.cut_short) == ("62300-62339", "", "")


def test_a_range_handed_out_at_random_is_asked_for_until_hardly_any_is_unseen(tmp_path: Path) -> None:
    chance = random.Random(61)
    seen = ranged(tmp_path, tuple(chance.randint(62300, 62363) for _ in range(5000)))
    assert (seen.estimate.habit, seen.estimate.good) == ("at random", True)
    assert len(PortSet.parse("62300-62363") - seen.estimate.seen) <= 3
    assert seen.estimate.beyond <= 3


FIRST = 62_200 + 20 * int(os.environ.get("PYTEST_XDIST_WORKER", "gw0").removeprefix("gw"))
"""Data ports of this worker alone: tests run side by side."""


def test_a_range_other_than_the_planned_one_is_told(small: tuple[Path, dict[str, Any]]) -> None:
    path, data = small
    data["services"][0]["passive"]["ports"] = f"{FIRST + 2}-{FIRST + 11}"
    path.write_text(json.dumps(data))
    shown = " ".join(
        run(
            "visit", path, "--security", "none", "--mode", "passive", "--find-range", 2, EAGER_LANTERN_PASSWORD=PASSWORD
        ).stdout.split()
    )
    assert f"ports {FIRST}-{FIRST + 1} handed out beyond it" in shown
    assert f"ports {FIRST + 8}-{FIRST + 11} of it never seen" in shown


SMALL = {
    "lantern": 1, "site": "Quay", "server": {"name": "store", "network": "quay", "address": "127.0.0.1"},
    "networks": [{"name": "quay", "subnet": "127.0.0.0/8"}],
    "services": [
        {"name": "tides", "protocol": "ftp", "control_port": 1, "passive": {"ports": f"{FIRST}-{FIRST + 7}"}},
        {"name": "desk", "protocol": "other", "control_port": 2},
    ],
    "accounts": [{"name": USER, "service": "tides", "clients": ["here"]}],
    "clients": [
        {"name": "here", "network": "quay", "address": "127.0.0.2", "reaches": "127.0.0.1",
         "modes": ["passive", "active"]},
        {"name": "away", "network": "quay", "address": "203.0.113.7", "reaches": "127.0.0.1"},
    ],
    "promises": [
        {"client": "here", "service": "tides", "mode": "passive"},
        {"client": "here", "service": "tides", "mode": "active"},
        {"client": "here", "service": "desk"},
    ],
}  # fmt: skip


@pytest.fixture
def small(tmp_path: Path) -> Iterator[tuple[Path, dict[str, Any]]]:
    """A site whose server runs here, and its description to change."""
    data = copy.deepcopy(SMALL)
    data["networks"][0]["subnet"] = "127.0.0.0/8, 203.0.113.0/24"
    ports = PortSet.of((FIRST, FIRST + 7))
    desk = socket.create_server(("127.0.0.1", 0))
    with desk, StandIn(StandInSetup((Guest(USER, PASSWORD, tmp_path),), passive_ports=ports)) as server:
        data["services"][0]["control_port"] = server.port
        data["services"][1]["control_port"] = desk.getsockname()[1]
        yield tmp_path / "quay.site.yaml", data


def test_a_site_is_visited_for_every_promise_of_who_stands_here(small: tuple[Path, dict[str, Any]]) -> None:
    path, data = small
    path.write_text(json.dumps(data))
    done = run("visit", path, "--security", "none", EAGER_LANTERN_PASSWORD=PASSWORD)
    assert (done.returncode, "all 3 promises kept" in done.stdout, "as here" in done.stdout) == (0, True, True)


def test_a_kept_visit_stands_beside_the_prediction_rung_by_rung(small: tuple[Path, dict[str, Any]]) -> None:
    path, data = small
    path.write_text(json.dumps(data))
    kept = path.with_name("seen.json")
    assert run("visit", path, "--security", "none", "--save", kept, EAGER_LANTERN_PASSWORD=PASSWORD).returncode == 0
    assert run("visit", path, "--security", "none", "--save", kept, EAGER_LANTERN_PASSWORD=PASSWORD).returncode == 2
    alike = run("check", path, "--seen", kept)
    assert (alike.returncode, "3 seen as predicted" in alike.stdout) == (0, True)
    data["server"]["filter"] = {"incoming": {"default": "deny", "rules": [
        {"action": "allow", "protocol": "tcp", "ports": data["services"][0]["control_port"]}]}}  # fmt: skip
    path.write_text(json.dumps(data, indent=1))
    result = result_of(run("check", path, "--seen", kept, "--format", "json").stdout)
    parted = {each["mode"]: (each["predicted"], each["parts_at"]) for each in result["seen"]}
    assert parted == {"passive": ("fails", "data"), "active": ("works", None), "": ("fails", "connect")}
    apart = run("check", path, "--seen", kept)
    assert (apart.returncode, "bring the file up to date" in " ".join(apart.stdout.split())) == (1, True)


@pytest.mark.parametrize("content", ["", "{}", "[1]", '{"format": "x"}', "\x00", '{"format": 1, "taken": 2}'])
def test_what_is_no_kept_visit_gets_one_line(content: str, tmp_path: Path) -> None:
    (tmp_path / "seen.json").write_text(content)
    done = run("check", AFTER, "--seen", tmp_path / "seen.json")
    assert (done.returncode, done.stdout, len(done.stderr.splitlines())) == (2, "", 1)


def test_nothing_secret_is_kept(small: tuple[Path, dict[str, Any]]) -> None:
    path, data = small
    path.write_text(json.dumps(data))
    run("visit", path, "--security", "none", "--save", path.with_name("seen.json"), EAGER_LANTERN_PASSWORD=PASSWORD)
    assert [each for each in path.parent.rglob("*") if each.is_file() and PASSWORD in each.read_text()] == []


def tried(folder: Path, letters: str, **changes: Any) -> RightsSeen:
    """The rights that a visit finds of an account of the stand-in with these, in the library's letters."""
    with StandIn(StandInSetup((Guest(USER, PASSWORD, folder, rights=letters),))) as server:
        climb = climbed(plan(server.port, tries_rights=True, timeout=5, **changes))
    seen, tidied = climb.rights, outcomes(climb)["tidy"]
    assert seen is not None
    assert tidied == ("ok" if "d" in letters else "refused")
    return seen


def test_every_right_is_tried_and_everything_made_is_removed_again(tmp_path: Path) -> None:
    everything: frozenset[Right] = frozenset(get_args(Right))
    seen = tried(tmp_path, "elradfmw", rights=everything, confined=True)
    assert {each.right: each.fits for each in seen.rights} == dict.fromkeys(everything, True)
    assert (seen.confined, seen.left_behind, list(tmp_path.iterdir())) == (True, (), [])


def test_rights_other_than_the_site_says_are_told(tmp_path: Path) -> None:
    (tmp_path / "in").mkdir()
    seen = tried(tmp_path, "elrw", rights=frozenset({"list", "write", "remove"}))
    found = {each.right: (each.seen, each.fits) for each in seen.rights}
    assert found["read"] == (True, False)
    assert found["remove"] == (False, False)
    assert found["make-folders"] == (False, True)
    assert found["list"] == (True, True)
    assert [name.endswith("-rights.txt") for name in seen.left_behind] == [True]


def test_rights_are_tried_in_each_folder_that_the_account_is_to_see(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    add_user = DummyAuthorizer.add_user

    def with_folder(self: Any, user: str, password: str, home: str, **options: Any) -> None:
        add_user(self, user, password, home, **options)
        (tmp_path / "tables").mkdir()
        self.override_perm(user, str(tmp_path / "tables"), "elr")

    monkeypatch.setattr(DummyAuthorizer, "add_user", with_folder)
    few: frozenset[Right] = frozenset({"list", "remove"})
    folders = (FolderLook("/tables", few), FolderLook("/none"))
    seen = tried(tmp_path, "elradfmw", rights=frozenset(get_args(Right)), folders=folders)
    fits = {(each.folder, each.right): each.fits for each in seen.rights}
    assert {fits["", each] for each in get_args(Right)} == {True}
    assert (fits["/tables", "list"], fits["/tables", "write"], fits["/tables", "remove"]) == (True, True, None)
    assert [each.seen for each in seen.rights if each.folder == "/none"][:2] == [False, False]
    assert [each.name for each in tmp_path.iterdir()] == ["tables"]


def test_an_account_that_is_not_confined_is_seen_to_get_out() -> None:
    script = {"PWD": b'257 "/srv/tides/in" is here\r\n', "CWD": b"250 moved\r\n", "DELE": b"250 gone\r\n"}
    with scripted(script) as server:
        server.script["PWD"] = b'257 "/srv/tides/in"\r\n'
        told = iter([b'257 "/srv/tides/in"\r\n', b'257 "/"\r\n'])
        server.replies = {"PWD": lambda: next(told)}
        seen = climbed(plan(server.port, tries_rights=True, confined=True)).rights
    assert seen is not None
    assert (seen.confined, seen.confined_detail) == (False, "it begins in /srv/tides/in and reaches /")


@pytest.mark.parametrize("security", ["none", "explicit"])
@pytest.mark.parametrize("careless", [False, True])
def test_the_caution_of_a_server_is_tried_with_addresses_of_this_machine(
    careless: bool, security: str, tmp_path: Path
) -> None:
    _, served = write_self_signed(tmp_path, NAME)
    habits = {"accepts_other_address": careless, "peer_must_match": not careless, "tls_required": False}
    guests = (Guest(USER, PASSWORD, tmp_path),)
    with StandIn(StandInSetup(guests, certificate=served, **habits)) as server:  # type: ignore[arg-type]
        options = {"tries_caution": True, "any_certificate": True, "timeout": 5, "writes": False}
        climb = climbed(plan(server.port, security=security, **options))
    assert climb.caution is not None
    assert (climb.caution.bounces, climb.caution.takes_strangers) == (careless, careless)
    assert {each.good for each in bounce_checks(climb.caution) if each.topic != "greeting"} == {not careless}
    assert climb.observed == "works"


def test_wrong_logins_are_made_as_nobody_on_one_connection_until_it_is_ended(tmp_path: Path) -> None:
    tried: list[str] = []
    with StandIn(StandInSetup((Guest(USER, PASSWORD, tmp_path),))) as server:
        handler = server._servers[0].handler
        handler.auth_failed_timeout = 0.1
        handler.ftp_USER = lambda self, line, known=handler.ftp_USER: (tried.append(line), known(self, line))[1]
        pace = climbed(plan(server.port, login_tries=5, writes=False, timeout=5)).pace
    assert pace is not None
    assert (len(pace.tries), pace.ended_after, pace.stopped) == (5, 3, "")
    assert (tried.count(USER), len(tried)) == (1, 6)


def test_a_server_that_resets_the_connection_after_wrong_logins_has_ended_it() -> None:
    asked = iter([PLAIN["USER"]] * 4 + [RESET] + [PLAIN["USER"]] * 2)
    let_in = iter([PLAIN["PASS"]])
    with scripted({}) as server:
        server.replies = {"USER": lambda: next(asked), "PASS": lambda: next(let_in, b"530 no\r\n")}
        pace = climbed(plan(server.port, login_tries=5, writes=False)).pace
    assert pace is not None
    assert (len(pace.tries), pace.ended_after, pace.stopped) == (5, 3, "")


@pytest.mark.parametrize(("stalls", "untried"), [({3}, False), (set(range(5, 999)), True)])
def test_a_control_connection_that_stalls_in_a_sweep_leaves_ports_untried_at_worst(
    stalls: set[int], untried: bool, tmp_path: Path
) -> None:
    ports, asked = range(31_640, 31_648), itertools.count(1)
    setup = StandInSetup((Guest(USER, PASSWORD, tmp_path),), passive_ports=PortSet.parse("31640-31647"))
    with StandIn(setup) as server:
        handler = server._servers[0].handler
        handler.ftp_PASV = lambda self, line, known=handler.ftp_PASV: next(asked) in stalls or known(self, line)
        tried = asyncio.run(
            sweep(plan(server.port, timeout=0.5, extended=False), "127.0.0.1", ports, lambda news: None)
        )
    assert {each.outcome for each in tried.values()} == {"ok"}
    assert (set(tried) < set(ports)) == untried


def test_a_site_file_of_somebody_else_gets_no_password_in_clear_unless_that_is_typed(
    small: tuple[Path, dict[str, Any]], tmp_path: Path
) -> None:
    path, data = small
    path.write_text(json.dumps(data))
    refused = run("visit", path, EAGER_LANTERN_PASSWORD=PASSWORD)
    assert (refused.returncode, "in clear: type --security none" in refused.stderr) == (2, True)
    typed = run("visit", path, "--security", "none", EAGER_LANTERN_PASSWORD=PASSWORD)
    assert (typed.returncode, "IN CLEAR: everybody on the way can read it" in typed.stderr) == (0, True)
    (tmp_path / "netrc").write_text(f"machine 127.0.0.1 login {USER} password {PASSWORD}\n")
    (tmp_path / "netrc").chmod(0o600)
    of_host = run("visit", path, "--security", "none", NETRC=str(tmp_path / "netrc"))
    assert (of_host.returncode, "nothing proves that 127.0.0.1 is it" in of_host.stderr) == (2, True)


def test_looks_that_fail_are_told_with_their_reason() -> None:
    with scripted({"PASS": b"530 Authentication failed\r\n"}) as server:
        climb = climbed(plan(server.port, tries_rights=True, tries_caution=True, range_connections=2))
    missed = {each.look: each.reason for each in climb.missed}
    assert missed == dict.fromkeys(("rights", "bounce", "range"), "the login was rejected")
    login = next(each for each in climb.rungs if each.rung == "login")
    assert "wants TLS" not in login.detail


class Told:
    """A socket that knows the segment size of its connection, and perhaps the path MTU."""

    family = socket.AF_INET

    def __init__(self, segment: int, path: int | None) -> None:
        self.segment, self.path = segment, path

    def getsockopt(self, level: int, name: int) -> int:
        if level == socket.IPPROTO_TCP:
            return self.segment
        if self.path is None:
            raise OSError
        return self.path


@pytest.mark.parametrize(
    ("segment", "path", "says"),
    [(1448, 1500, ""), (1348, 1400, "packets of 1400 bytes"), (1360, None, "segments of 1360 bytes"), (1460, None, "")],
)
def test_the_first_rung_tells_of_packets_smaller_than_usual(segment: int, path: int | None, says: str) -> None:
    told: Any = Told(segment, path)
    assert says in packets_note(told) if says else packets_note(told) == ""


@pytest.mark.parametrize(
    ("handed_out", "planned", "says"),
    [
        ([61200, 61201, 61202, 61203] * 20, "", "eager-lantern new --ports 61200-61203"),
        ([61200, 61201, 61202, 61203] * 20, "61300-61303", "set the server to 61300-61303"),
        ([61200, 61500], "", "set a fixed range on the server"),
    ],
)
def test_a_range_that_was_found_ends_with_what_to_write_where(handed_out: list[int], planned: str, says: str) -> None:
    seen = RangeSeen(estimated_range(handed_out), PortSet.of((61200, 61203)), PortSet(), PortSet(), (), "")
    view = range_view(seen, PortSet.parse(planned) if planned else PortSet())
    assert says in " ".join(rendered(view, colour=False).split())


def test_on_the_server_itself_no_advice_speaks_of_routers_that_play_a_part() -> None:
    done = run("visit", "localhost", "--port", free_port())
    assert "Nothing listens on this port here." in " ".join(done.stdout.split())
    assert "does the forward lead to this host" not in " ".join(done.stdout.split())
