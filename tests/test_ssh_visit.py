"""Sessions of SSH file transfer with real servers, good and bad."""

import asyncio
import json
import socket
import threading
from collections.abc import AsyncIterator
from pathlib import Path
from typing import Any, get_args

import asyncssh
import pytest
from far_host import far_host, needs_ssh
from plans import changed, plan_of
from program import run
from ssh_server import ssh_server

from eager_lantern.core.model.site import Right
from eager_lantern.core.observed.climb import Climb
from eager_lantern.core.observed.looks import ssh_remarks
from eager_lantern.core.values.outcomes import SSH_RUNGS
from eager_lantern.lab.servers.setup import Guest, SshSetup
from eager_lantern.lab.servers.ssh_server import SshStandIn, write_host_key
from eager_lantern.live.common.visit_plan import FolderLook
from eager_lantern.live.ssh.visit import visit_ssh

PASSWORD = "ebb-and-flow-61"
KEY = asyncssh.generate_private_key("ssh-ed25519")
PRINT = KEY.get_fingerprint()


def climbed(port: int, **changes: Any) -> dict[str, str]:
    base = {"address": "127.0.0.1", "host_key": PRINT, "timeout": 1.5, "password": PASSWORD, **changes}
    climb: Climb = asyncio.run(
        visit_ssh(plan_of("skerry.saltmarsh.example", port, "keeper", base.pop("password"), **base))
    )
    assert [each.rung for each in climb.rungs] == list(SSH_RUNGS)
    assert not [each.advice for each in climb.rungs if "TLS" in each.advice or "certificate" in each.advice]
    return {each.rung: each.outcome for each in climb.rungs if each.outcome != "untried"}


def test_every_rung_holds_and_nothing_is_left_behind(tmp_path: Path) -> None:
    tries: list[str] = []
    with ssh_server(tmp_path, PASSWORD, tries, KEY) as port:
        assert climbed(port) == dict.fromkeys(SSH_RUNGS, "ok")
    assert (tries, list(tmp_path.iterdir())) == ([PASSWORD], [])


@pytest.mark.parametrize("expected", ["", "SHA256:another"])
def test_another_host_key_than_the_expected_one_gets_no_password(expected: str, tmp_path: Path) -> None:
    tries: list[str] = []
    with ssh_server(tmp_path, PASSWORD, tries, KEY) as port:
        found = climbed(port, host_key=expected)
    assert (list(found.items())[-1], tries) == (("host-key", "wrong"), [])


def test_a_wrong_password_is_tried_once_and_refused_at_login(tmp_path: Path) -> None:
    tries: list[str] = []
    with ssh_server(tmp_path, "another", tries, KEY) as port:
        found = climbed(port)
    assert (list(found.items())[-1], tries) == (("login", "refused"), [PASSWORD])


def test_an_account_that_may_not_write_is_refused_at_send(tmp_path: Path) -> None:
    with ssh_server(tmp_path / "gone", PASSWORD, [], KEY) as port:
        assert list(climbed(port).items())[-1][0] in ("list", "send")


@pytest.mark.parametrize(
    ("says", "rung", "outcome"),
    [
        (b"220 this is FTP\r\n", "greet", "silent"),  # lines before the version are allowed (RFC 4253, section 4.2)
        (b"SSH-1.5-old\r\n", "greet", "wrong"),
        (b"x" * 200_000 + b"\r\n", "greet", "wrong"),
        (b"hello\r\n" * 5000, "greet", "wrong"),
        (b"SSH-2.0-x\r\n" + b"\x00" * 5000, "secure", "wrong"),
        (b"SSH-2.0-x\r\n", "secure", "silent"),
        (b"", "greet", "silent"),
        (None, "greet", "wrong"),
    ],
    ids=["ftp", "ssh-1", "long line", "endless banner", "garbage", "keys never come", "sends nothing", "hangs up"],
)
def test_what_is_no_good_ssh_server_stops_at_the_rung_it_reached(says: bytes | None, rung: str, outcome: str) -> None:
    listener = socket.create_server(("127.0.0.1", 0))
    held = []

    def serve() -> None:
        peer = listener.accept()[0]
        held.append(peer)
        if says is None:
            peer.close()
        else:
            peer.sendall(says)

    threading.Thread(target=serve, daemon=True).start()
    found = climbed(listener.getsockname()[1])
    listener.close()
    assert list(found.items())[-1] == (rung, outcome)


@pytest.mark.parametrize("without", ["", "w", "m", "r"])
def test_every_right_of_an_account_is_tried_and_everything_made_is_removed_again(without: str, tmp_path: Path) -> None:
    store = tmp_path / "store"
    store.mkdir()
    host_key, shown = write_host_key(tmp_path)
    guest = Guest("keeper", PASSWORD, store, rights="elradfmwMT".replace(without or "-", ""))
    everything: frozenset[Right] = frozenset(get_args(Right))
    with SshStandIn(SshSetup((guest,), (("127.0.0.1", 0),), host_key)) as server:
        base = plan_of("127.0.0.1", server.port, "keeper", PASSWORD, host_key=shown, writes=False)
        seen = asyncio.run(visit_ssh(changed(base, tries_rights=True, rights=everything, confined=True))).rights
    assert seen is not None
    denied = {each.right for each in seen.rights if each.fits is False}
    assert denied == {"": set(), "w": {"write"}, "m": {"make-folders"}, "r": {"read"}}[without]
    assert (seen.confined, seen.left_behind, list(store.iterdir())) == (True, (), [])


def test_rights_over_ssh_are_tried_in_each_folder_that_the_account_is_to_see(tmp_path: Path) -> None:
    store = tmp_path / "store"
    (store / "tables").mkdir(parents=True)
    host_key, shown = write_host_key(tmp_path)
    with SshStandIn(SshSetup((Guest("keeper", PASSWORD, store),), (("127.0.0.1", 0),), host_key)) as server:
        base = plan_of("127.0.0.1", server.port, "keeper", PASSWORD, host_key=shown, writes=False)
        folders = (FolderLook("/tables", frozenset({"list"})), FolderLook("/none", frozenset()))
        seen = asyncio.run(visit_ssh(changed(base, tries_rights=True, folders=folders))).rights
    assert seen is not None
    fits = {(each.folder, each.right): each.fits for each in seen.rights}
    assert (fits["/tables", "list"], fits["/tables", "write"], fits["/none", "write"]) == (True, False, True)
    assert ([each.name for each in store.iterdir()], list((store / "tables").iterdir())) == (["tables"], [])


@pytest.mark.parametrize("name", [b"../../etc/passwd", b"/etc/passwd", b"\x1b]0;owned\x07"])
def test_a_listing_with_names_that_lead_elsewhere_is_wrong_and_nothing_is_sent(
    name: bytes, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    async def scandir(self: asyncssh.SFTPServer, path: bytes) -> AsyncIterator[asyncssh.SFTPName]:
        yield asyncssh.SFTPName(name, attrs=asyncssh.SFTPAttrs())

    monkeypatch.setattr(asyncssh.SFTPServer, "scandir", scandir)
    with ssh_server(tmp_path, PASSWORD, [], KEY) as port:
        found = climbed(port)
    assert (list(found.items())[-1], list(tmp_path.iterdir())) == (("list", "wrong"), [])


def test_wrong_logins_are_made_as_nobody_and_counted(tmp_path: Path) -> None:
    tries: list[str] = []
    with ssh_server(tmp_path, PASSWORD, tries, KEY) as port:
        plan = plan_of("127.0.0.1", port, "keeper", PASSWORD, host_key=PRINT, writes=False, login_tries=3)
        pace = asyncio.run(visit_ssh(plan)).pace
    assert pace is not None
    assert (len(pace.tries), any(each.let_in for each in pace.tries)) == (3, False)
    assert (tries.count(PASSWORD), len(tries)) == (1, 4)


OLD = """HostKeyAlgorithms +ssh-rsa
KexAlgorithms +diffie-hellman-group1-sha1
Ciphers +aes128-cbc
MACs +hmac-md5"""


@needs_ssh[0]
@needs_ssh[1]
@pytest.mark.parametrize("extra", ["", OLD])
def test_what_a_real_server_offers_is_told_and_what_is_old_is_poor(extra: str, tmp_path: Path) -> None:
    with far_host(tmp_path, extra) as host:
        port = int(host.place.rpartition(":")[2])
        plan = plan_of("127.0.0.1", port, "nobody-here", PASSWORD, any_certificate=True, closely=True)
        facts = asyncio.run(visit_ssh(plan)).ssh
    assert facts is not None
    poor = {each.topic for each in ssh_remarks(facts) if each.good is False}
    assert poor == ({"key exchange", "ciphers", "checksums"} if extra else set())
    assert (facts.kind, facts.fingerprint[:7]) == ("ssh-ed25519", "SHA256:")


def test_visit_of_a_host_and_of_a_site_go_the_same_way(tmp_path: Path) -> None:
    data = {
        "lantern": 1, "site": "Skerry", "server": {"name": "store", "network": "quay", "address": "127.0.0.1"},
        "networks": [{"name": "quay", "subnet": "127.0.0.0/8"}],
        "services": [{"name": "lights", "protocol": "sftp", "control_port": 22, "host_key": PRINT}],
        "accounts": [{"name": "keeper", "service": "lights", "clients": ["desk"]}],
        "clients": [{"name": "desk", "network": "quay", "address": "127.0.0.2", "reaches": "127.0.0.1"}],
        "promises": [{"client": "desk", "service": "lights"}],
    }  # fmt: skip
    store, seen = tmp_path / "store", tmp_path / "seen.json"
    store.mkdir()
    with ssh_server(store, PASSWORD, [], KEY) as port:
        data["services"][0]["control_port"] = port  # type: ignore[index]
        (tmp_path / "skerry.site.yaml").write_text(json.dumps(data))
        words = ["--sftp", "--port", port, "--user", "keeper", "--host-key", PRINT]
        host = run("visit", "127.0.0.1", *words, EAGER_LANTERN_PASSWORD=PASSWORD)
        site = run("visit", "--save", seen, cwd=tmp_path, EAGER_LANTERN_PASSWORD=PASSWORD)
    assert (host.returncode, site.returncode) == (0, 0)
    assert "the same bytes came back" in host.stdout
    assert "desk → lights" in site.stdout
    beside = run("check", "--seen", seen, cwd=tmp_path)
    assert (beside.returncode, "host-key" in beside.stdout) == (0, True)
    assert PASSWORD not in host.stdout + host.stderr + site.stdout + site.stderr + seen.read_text()
