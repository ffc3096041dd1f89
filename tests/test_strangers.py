"""Files, folders, terminals and neighbours that mean no good."""

import asyncio
import contextlib
import csv
import json
import os
import secrets
import subprocess
import sys
from base64 import b64encode
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from jsonschema import Draft202012Validator
from program import AFTER, BEFORE, run

from eager_lantern.core.sheets.sheet import distinct
from eager_lantern.formats.results.formats import FORMATS
from eager_lantern.formats.site.reference import key_page, key_paths
from eager_lantern.lab.kernel.lab import missing_means
from eager_lantern.live.common.secret import HIDDEN, Secret
from eager_lantern.live.lamp import listener
from eager_lantern.live.lamp.listener import MOST_OF_ONE, MOST_STRANGERS, Lamp
from eager_lantern.live.lamp.sweep import swept
from eager_lantern.live.own_process import allow_open_files
from eager_lantern.live.vantage.local import HERE
from eager_lantern.wire.lamp import question, seen

KERNEL = [pytest.mark.kernel, pytest.mark.skipif(bool(missing_means()), reason="no kernel lab")]
LABS = ["loopback", pytest.param("kernel", marks=KERNEL)]


@pytest.mark.sweep
@pytest.mark.parametrize("lab", LABS)
def test_no_code_of_the_current_folder_is_run_and_no_lab_gets_a_password(lab: str, tmp_path: Path) -> None:
    (tmp_path / "x.site.yaml").write_text(AFTER.read_text())
    spy = f"open({str(tmp_path / 'ran')!r}, 'w').write('yes')\n"
    for name in ("msgspec", "psutil", "pyftpdlib", "socket", "json"):
        (tmp_path / f"{name}.py").write_text(spy)
    done = run("rehearse", "--lab", lab, cwd=tmp_path, EAGER_LANTERN_PASSWORD="kittiwake-61-canary")
    assert (done.returncode, (tmp_path / "ran").exists()) == (0, False)
    from eager_lantern.live.own_process import environment_for_child

    assert not [each for each in environment_for_child() if each.startswith("EAGER_LANTERN_")]


def test_devices_whose_names_are_alike_have_a_file_each_and_old_files_are_told(tmp_path: Path) -> None:
    text = AFTER.read_text().replace("name: carrier-nat", "name: Harbour router\n    system: linux")
    text = text.replace("name: harbour-router", "name: harbour-router\n    system: linux")
    (tmp_path / "x.site.yaml").write_text(text)
    assert run("sheets", tmp_path / "x.site.yaml", "--into", tmp_path / "p").returncode == 0
    rules = sorted(each.name for each in (tmp_path / "p").glob("*.nft"))
    assert rules[-2:] == ["harbour-router-2.nft", "harbour-router.nft"]
    (tmp_path / "p" / "harbour-wall.nft").write_text("old")
    again = run("sheets", tmp_path / "x.site.yaml", "--into", tmp_path / "p", "--force")
    assert "left there by an earlier run, no part of these pages: harbour-wall.nft" in again.stdout
    assert distinct(["a.csv", "A.csv", "a-2.csv", "a.csv"]) == ["a.csv", "A-2.csv", "a-2-2.csv", "a-3.csv"]


def test_a_table_has_no_cell_that_a_spreadsheet_would_run(tmp_path: Path) -> None:
    (tmp_path / "x.site.yaml").write_text(AFTER.read_text().replace("name: control", 'name: "=1+1"'))
    assert run("sheets", tmp_path / "x.site.yaml", "--into", tmp_path / "p").returncode == 0
    cells = [
        cell
        for path in (tmp_path / "p").glob("*.csv")
        for row in csv.reader(path.read_text().splitlines())
        for cell in row
    ]
    assert [each for each in cells if each.startswith(("=", "+", "@", "\t"))] == []
    assert "'=1+1" in cells


CASES = Path(__file__).parent / "cases"
LOG, KEPT = CASES / "logs" / "arrows-forward-missing.log", CASES / "kept-visit.json"
WORDS: dict[str, list[Any]] = {
    "diagnose": ["diagnose", AFTER, "--log", f"field-station={LOG}"],
    "mend": ["mend", BEFORE],
    "adopt": ["adopt", BEFORE, CASES / "forwards.csv", "--device", "harbour-router"],
    "first-site": ["adopt", CASES / "kept-survey.json", "--save", "first.site.yaml"],
    "survey": ["survey", AFTER, "--router", "127.61.7.1", "--resolver", "127.61.7.1"],
    "compare": ["compare", BEFORE, AFTER],
    "compare-visits": ["compare", KEPT, KEPT],
    "check": ["check", BEFORE],
    "check-folder": ["check", BEFORE.parent],
    "walk": ["walk", BEFORE, "--client", "institute"],
    "size": ["size", AFTER, "--arrivals", "1000"],
    "explain": ["explain", "gateways.hairpin"],
    "rehearse": ["rehearse", AFTER, "--lab", "loopback"],
    "sheets": ["sheets", AFTER, "--into", "p"],
    "certificate": ["certificate", AFTER, "--into", "keys", "--self-signed"],
    "new": ["new", "--site", "Skerry Light", "--clients-can", "tls", "--defaults"],
}


@pytest.mark.parametrize("name", WORDS)
def test_a_result_is_valid_by_its_own_published_schema(name: str, tmp_path: Path) -> None:
    schema = json.loads(run("schema", "--of", name).stdout)
    Draft202012Validator.check_schema(schema)
    result = json.loads(run(*WORDS[name], "--format", "json", cwd=tmp_path).stdout)
    assert result["format"] == f"eager-lantern/{name}/1"
    assert [each.message for each in Draft202012Validator(schema).iter_errors(result)] == []
    assert list(Draft202012Validator(schema).iter_errors({**result, "format": "another"})) != []


def test_every_result_has_a_schema() -> None:
    assert set(WORDS) | {"lamp", "lamp-lit", "lamp-phone", "lamp-burnt", "visit", "carry", "carried"} == set(FORMATS)
    assert run("schema", "--of", "chek").returncode == 2


@pytest.mark.parametrize("name", ["check", "walk", "size", "explain"])
def test_an_output_that_is_not_utf_8_takes_every_result(name: str) -> None:
    utf, text, form = (
        run(*WORDS[name], *more, PYTHONIOENCODING=encoding)
        for encoding, more in (("utf-8", []), ("ascii", []), ("cp1252:strict", ["--format", "json"]))
    )
    assert utf.returncode == text.returncode == form.returncode
    assert (text.stderr, text.stdout.isascii(), text.stdout == "") == ("", True, False)
    assert json.loads(form.stdout)["format"] == f"eager-lantern/{name}/1"


def test_characters_that_turn_the_direction_of_reading_are_written_out(tmp_path: Path) -> None:
    path = tmp_path / "x.site.yaml"
    path.write_text(AFTER.read_text().replace("Saltmarsh Tide", "Salt\u202emarsh\u200b Tide"))
    for words in ([], ["--format", "json"], ["--format", "junit"]):
        shown = run("check", path, *words).stdout
        assert [each for each in shown if each in "\u202e\u200b"] == []
    assert json.loads(run("check", path, "--format", "json").stdout)["site"].startswith("Salt\u202emarsh")


ABSENT = """
import asyncio, concurrent.futures, multiprocessing, os, signal, socket, ssl, subprocess, sys, tempfile, threading
import asyncssh, jinja2, matplotlib, numpy, psutil, rich.console, rich.table, typer, typer.core, yaml
import matplotlib.figure, pyftpdlib.handlers, cryptography.x509, OpenSSL.SSL
for module, names in {
    os: "fchmod fchown fork forkpty geteuid getgid getloadavg getpgid getuid getxattr killpg listxattr mkfifo nice "
        "O_CLOEXEC O_NOCTTY O_NOFOLLOW pread sched_getaffinity setns setsid setxattr statvfs uname",
    signal: "SIGALRM SIGCHLD SIGHUP SIGKILL SIGPIPE SIGQUIT SIGUSR1 SIGWINCH setitimer",
    socket: "AF_PACKET MSG_DONTWAIT SO_REUSEPORT recv_fds send_fds",
}.items():
    for name in names.split():
        if hasattr(module, name):
            delattr(module, name)
for name in ("resource", "fcntl", "pwd", "grp", "termios", "tty", "pty", "syslog", "readline", "crypt"):
    sys.modules[name] = None
asyncio.SelectorEventLoop.add_signal_handler = None
ssl.enum_certificates = lambda store: []
sys.platform = "win32"
sys.argv = ["eager-lantern", *sys.argv[1:]]
from eager_lantern.__main__ import run
run()
"""
"""This program on a system that has none of what is POSIX's alone. The packages that it uses are loaded before: they
know their own way on each system, by what was there when they were imported."""

ELSEWHERE: dict[str, list[Any]] = {
    "new": ["new", "--defaults", "--address", "10.61.4.20", "--outside", "198.51.100.61"],
    "lamp": ["lamp", AFTER, "--listen", "127.0.0.1", "--lasts", "1 s", "--ports", "61999"],
    "phone": [
        "lamp",
        AFTER,
        "--listen",
        "127.0.0.1",
        "--lasts",
        "1 s",
        "--ports",
        "61998",
        "--phone",
        "--save",
        "seen",
    ],
    "carry": ["visit", AFTER, "--client", "institute", "--carry", "probe.py"],
    "visit": ["visit", "127.0.0.1", "--port", "9", "--timeout", "1"],
    "sftp": ["visit", "127.0.0.1", "--port", "9", "--timeout", "1", "--sftp"],
    "far": ["visit", "127.0.0.1", "--from", "namespace://quay"],
    "survey": ["survey"],
    "demo": ["demo"],
    "schema": ["schema"],
}
ENDS = {"new": (0, 3), "phone": (3,), "visit": (1,), "sftp": (1,), "far": (3,)}
"""The exit codes of those that end in another than 0 or 1."""


@pytest.mark.sweep
@pytest.mark.parametrize("name", [*WORDS, *ELSEWHERE])
def test_what_needs_no_kernel_of_linux_runs_without_the_parts_that_only_posix_has(name: str, tmp_path: Path) -> None:
    words = list(map(str, {**WORDS, **ELSEWHERE}[name]))
    environment = {**os.environ, "EAGER_LANTERN_PASSWORD": "ebb-and-flow-61"}
    done = subprocess.run(
        [sys.executable, "-c", ABSENT, *words], capture_output=True, text=True, cwd=tmp_path, env=environment
    )
    assert (done.returncode in ENDS.get(name, (0, 1)), "Traceback" in done.stderr) == (True, False), done.stderr
    assert done.stdout != ""
    kernel = subprocess.run([sys.executable, "-c", ABSENT, "rehearse", str(AFTER)], capture_output=True, text=True)
    assert (kernel.returncode, "this system is not Linux" in kernel.stderr) == (3, True)


def test_a_lamp_that_strangers_crowd_answers_who_knows_the_secret_and_says_so(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(listener, "PATIENCE_SECONDS", 600.0)  # on a slow machine all are to be there at once
    secret, nonce = b"flood-and-ebb-tide-61", secrets.token_bytes(16)

    async def crowded() -> bytes:
        lamp = Lamp(secret)
        assert await lamp.light(["127.0.0.1"], [61997], ["tcp"]) == []
        addresses = [f"127.0.0.{i % 3 + 2}" for i in range(MOST_STRANGERS + 20)]
        strangers = [await asyncio.open_connection("127.0.0.1", 61997, local_addr=(each, 0)) for each in addresses]
        reader, writer = await asyncio.open_connection("127.0.0.1", 61997)
        writer.write(question(secret, nonce))
        said = await reader.readline()
        for _, each in strangers:
            each.transport.abort()
        await lamp.put_out()
        return said

    sight = seen(secret, nonce, asyncio.run(crowded()))
    assert sight is not None
    assert sight.crowded >= 20
    assert MOST_OF_ONE < MOST_STRANGERS


def test_in_a_burst_of_strangers_who_knows_the_secret_sweeps_as_ever() -> None:
    """Strangers come without end, hold what they get, and fill the queue of every port; all from an address of their
    own, but for some that stand where the one who knows stands."""
    secret, ports = b"flood-and-ebb-tide-61", list(range(61_700, 61_764))

    async def swept_in_a_burst() -> tuple[int, int, int]:
        allow_open_files(4096)
        lamp, held = Lamp(secret), list[asyncio.StreamWriter]()
        assert await lamp.light(["127.0.0.1"], ports, ["tcp"]) == []

        async def come(i: int) -> None:
            source = "127.0.0.1" if i % 50 == 0 else f"127.0.0.{i % 20 + 2}"
            with contextlib.suppress(OSError):
                made = await asyncio.open_connection("127.0.0.1", ports[i % len(ports)], local_addr=(source, 0))
                held.append(made[1])

        burst = [asyncio.create_task(come(i)) for i in range(2_500)]
        found = await swept(HERE, "127.0.0.1", ports, secret, "tcp", 20.0)
        again = await swept(HERE, "127.0.0.1", ports, secret, "tcp", 20.0)
        await asyncio.gather(*burst)
        for each in held:
            each.transport.abort()
        await lamp.put_out()
        return len(found.with_outcome("ok")), len(again.with_outcome("ok")), lamp.crowded

    first, second, crowded = asyncio.run(swept_in_a_burst())
    assert (first, second) == (len(ports), len(ports))
    assert crowded > 100  # else there was no crowd


def test_a_challenge_that_was_answered_is_not_answered_again() -> None:
    lamp, line = Lamp(b"flood-and-ebb-tide-61"), question(b"flood-and-ebb-tide-61", secrets.token_bytes(16))
    said = [lamp.reply(line, ("192.0.2.9", 40_000), ("127.0.0.1", 61_997)) for _ in range(3)]
    assert [bool(each) for each in said] == [True, False, False]
    assert (lamp.answered, lamp.rejected) == (1, 2)


@pytest.mark.parametrize(
    ("words", "secret", "says"),
    [(["--listen", "store"], "", "a name; expected an address"), ([], "short", "could be guessed: take at least 16")],
)
def test_a_lamp_is_not_lit_at_a_name_or_with_a_secret_that_can_be_guessed(
    words: list[str], secret: str, says: str
) -> None:
    done = run("lamp", AFTER, *words, EAGER_LANTERN_LAMP=secret)
    assert (done.returncode, says in " ".join(done.stderr.split())) == (2, True)


def test_an_administrator_who_is_shut_out_is_a_broken_promise(tmp_path: Path) -> None:
    path = tmp_path / "x.site.yaml"
    path.write_text(AFTER.read_text().replace("from: 10.61.4.0/24}", "from: 10.61.4.0/26}"))
    done = run("check", path, "--format", "json")
    (finding,) = [each for each in json.loads(done.stdout)["findings"] if each["kind"] == "admin-locked-out"]
    assert (done.returncode, finding["severity"]) == (1, "breaks")
    assert finding["where"]["path"] == "server.filter.incoming.rules[2].from"
    assert 'failures="1"' in run("check", path, "--format", "junit").stdout
    run("sheets", path, "--into", tmp_path / "p")
    page = (tmp_path / "p" / "01-gauge-store.md").read_text()
    assert (
        "shuts office-desk out of it" in page,
        "remote-desk, port 22, the way in of office-desk: stays" in page,
    ) == (
        True,
        False,
    )


def test_every_key_of_the_site_file_is_explained_with_an_example() -> None:
    paths = [path for path, _ in key_paths()]
    pages = [key_page(path) for path in paths]
    assert [path for path, page in zip(paths, pages, strict=True) if page is None or not page.means] == []
    assert [page.path for page in pages if page and not page.example and not page.below] == []


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (["gateways.hairpin"], "sent back inside to the server"),
        (["gateways[0].translate"], "none | outward | one-to-one"),
        (["listing", "hangs"], "range-mismatch"),
        (["gateway.hairpn"], "nothing here is called"),
    ],
)
def test_keys_and_symptoms_are_explained(words: list[str], says: str) -> None:
    done = run("explain", *words)
    assert says in done.stdout + " ".join(done.stderr.split())


ECHOED = "kittiwake-61"
ECHOES = {
    "as it is": ECHOED, "in capitals": ECHOED.upper(), "folded": "kitti\r\nwake-61", "parted": "kitti wake-61",
    "percent": "%6bittiwake-61", "escaped": "\\x6bittiwake-61", "escaped line ends": "kitti\\r\\nwake-61",
    "as HTML": "".join(f"&#{ord(each)};" for each in ECHOED),
    "as JSON": "".join(f"\\u{ord(each):04X}" for each in ECHOED),
    "backwards": ECHOED[::-1], "in hexadecimal": ECHOED.encode().hex(), "as bytes": ECHOED.encode().hex(":").upper(),
    "in Base64": b64encode(ECHOED.encode()).decode().rstrip("="), "by dots": ".".join(ECHOED),
    "by letters": "x".join(ECHOED),
    "by three letters": "ebb".join(ECHOED), "backwards and parted": "-".join(ECHOED[::-1]),
}  # fmt: skip


@pytest.mark.parametrize("said", ECHOES.values(), ids=list(ECHOES))
def test_a_password_is_covered_however_it_is_written(said: str) -> None:
    assert Secret(ECHOED).hide_in(f"so? {said} (ok)") == f"so? {HIDDEN} (ok)"


@given(st.binary(max_size=9), st.text(st.characters(codec="utf-8"), min_size=8, max_size=20), st.binary(max_size=9))
def test_base64_of_anything_around_a_password_holds_nothing_that_gives_it_back(
    before: bytes, password: str, after: bytes
) -> None:
    said = Secret(password).hide_in(b64encode(before + password.encode() + after).decode())
    assert HIDDEN in said
    assert len(said.replace(HIDDEN, "")) <= (len(before) + len(after)) * 4 / 3 + 8


@pytest.mark.sweep
@pytest.mark.timeout(100)  # it takes a second; a pattern that tries all ways never ends
@pytest.mark.parametrize("text", ["a" * 65_000, " " * 65_000, "ab" * 32_000, "%61" * 20_000, "YWFh" * 16_000])
@pytest.mark.parametrize("password", ["a" * 64, "a  a  a  a  a  a", "aaaaaaab", "  " * 20])
def test_covering_a_password_is_linear_whatever_the_server_says(password: str, text: str) -> None:
    assert len(Secret(password).hide_in(text)) <= len(text) + 4


def test_a_demo_says_at_once_that_it_cannot_keep_its_files(tmp_path: Path) -> None:
    taken = tmp_path / "taken"
    taken.write_text("")
    for folder, why in ((taken, "found a folder of that name"), (tmp_path / "no" / "where", "found no folder")):
        done = run("demo", "--keep", folder)
        assert (done.returncode, done.stdout, why in done.stderr) == (2, "", True)


@pytest.mark.sweep
def test_files_that_a_killed_lab_has_left_are_swept_by_the_next(tmp_path: Path) -> None:
    stale, mine = tmp_path / "eager-lantern-lab-999999999-x", tmp_path / f"eager-lantern-lab-{os.getpid()}-x"
    for each in (stale, mine):
        each.mkdir()
    assert run("rehearse", AFTER, "--lab", "loopback", TMPDIR=str(tmp_path)).returncode == 0
    assert [each.name for each in tmp_path.iterdir()] == [mine.name]
