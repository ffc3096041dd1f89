"""The built program, run as a process on files in a temporary folder."""

import contextlib
import json
import os
import re
import shlex
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any, get_args

import psutil
import pytest
import yaml
from program import AFTER, BEFORE, run, run_bound_by_modes
from test_sites import changed

import eager_lantern
from eager_lantern.cli.app import COMMANDS
from eager_lantern.core.network.flow import Reason

BAD = yaml.safe_load((Path(__file__).parent / "cases" / "bad_input.yaml").read_text())


@pytest.mark.parametrize("case", BAD, ids=lambda case: case["name"])
def test_bad_input_gets_a_line_that_says_what_would_be_right(case: dict[str, Any], tmp_path: Path) -> None:
    text = BEFORE.read_text()
    assert text.count(case["find"]) == 1
    (tmp_path / "x.site.yaml").write_text(text.replace(case["find"], case["put"]))
    done = run("check", cwd=tmp_path)
    first = done.stderr.splitlines()[0]
    assert done.returncode == 2
    assert first.startswith(f"x.site.yaml:{case['line']}: ")
    assert [each for each in case["says"] if each not in first] == []


MESSAGES = yaml.safe_load((Path(__file__).parent / "cases" / "messages.yaml").read_text())


@pytest.mark.parametrize("case", MESSAGES, ids=lambda case: case["name"])
def test_what_is_typed_on_a_first_morning_is_answered_with_what_would_be_right(
    case: dict[str, Any], tmp_path: Path
) -> None:
    if "find" in case:
        assert BEFORE.read_text().count(case["find"]) == 1
        (tmp_path / "x.site.yaml").write_text(BEFORE.read_text().replace(case["find"], case["put"]))
    for name in case.get("files", ()):
        (tmp_path / name).write_text(AFTER.read_text())
    words = case.get("words", ["check"])
    done = [run(*words, cwd=tmp_path) for _ in range(2 if case.get("twice") else 1)][-1]
    assert (done.returncode, done.stdout) == (2, "")
    assert done.stderr.strip().splitlines()[0 if "find" in case else -1] == case["message"]


HELP = [[], ["help"], ["-h"], ["help", "check"], ["check", "-h"], ["explain", "RANGE-MISMATCH"]]


@pytest.mark.parametrize("words", HELP)
def test_help_is_given_however_it_is_asked_for(words: list[str]) -> None:
    done = run(*words)
    assert (done.returncode, done.stderr) == (0, "")
    assert ("What it means" if "explain" in words else "Usage: eager-lantern") in done.stdout


def bomb() -> bytes:
    lines = ["a0: &a0 [x, x, x, x, x, x, x, x, x]"]
    lines += [f"a{i}: &a{i} [{', '.join([f'*a{i - 1}'] * 9)}]" for i in range(1, 12)]
    return "\n".join(lines).encode()


@pytest.mark.parametrize(
    ("content", "says"),
    [
        (b"", "found nothing"),
        (b"# nothing\n", "found nothing"),
        (bytes(range(128, 256)) * 20, "which is no text"),
        (b"\x00\x01\x02", "control character"),
        (b"a: [1", "no YAML"),
        (b"x" * 110_000_000, "110 MB"),
        (bomb(), "once aliases are written out"),
        (b"a: &a [*a]", "inside of what it repeats"),
        (b"[" * 300_000, "more than 40 levels"),
        (b"- " * 300_000, "more than 40 levels"),
        (b"--- {}\n--- {}\n", "second document"),
    ],
    ids=["empty", "comment", "binary", "nul", "broken", "huge", "bomb", "knot", "deep", "deep-list", "two"],
)
def test_a_file_that_is_no_site_file_gets_one_line(content: bytes, says: str, tmp_path: Path) -> None:
    path = tmp_path / "x.site.yaml"
    path.write_bytes(content)
    done = run("check", path)
    assert (done.returncode, done.stdout, len(done.stderr.splitlines())) == (2, "", 1)
    assert done.stderr.startswith(str(path))
    assert says in done.stderr


@pytest.mark.parametrize("name", ["missing.site.yaml", "."])
def test_a_path_that_cannot_be_read_gets_one_line(name: str, tmp_path: Path) -> None:
    done = run("check", name, cwd=tmp_path)
    assert (done.returncode, len(done.stderr.splitlines())) == (2, 1)


def test_a_folder_that_may_not_be_read_gets_one_line(tmp_path: Path) -> None:
    folder = tmp_path / "shut"
    folder.mkdir(mode=0o000)
    try:
        inside, itself = (run_bound_by_modes("check", each) for each in (folder / "x.site.yaml", folder))
    finally:
        folder.chmod(0o700)
    for done in (inside, itself):
        assert (done.returncode, len(done.stderr.splitlines())) == (2, 1)
        assert "found what you may not read" in done.stderr


def test_the_only_site_file_of_the_folder_is_found(tmp_path: Path) -> None:
    assert run("check", cwd=tmp_path).returncode == 2
    (tmp_path / "a.site.yaml").write_text(AFTER.read_text())
    assert run("check", cwd=tmp_path).returncode == 0
    (tmp_path / "b.site.yaml").write_text(AFTER.read_text())
    assert "a.site.yaml, b.site.yaml" in run("check", cwd=tmp_path).stderr


@pytest.mark.parametrize("stdout", ["/dev/full", "closed"])
@pytest.mark.parametrize("words", [f"check {BEFORE}", "--help", "check --help", "--version", "schema"])
def test_a_stdout_that_takes_nothing_is_one_line(words: str, stdout: str) -> None:
    redirected = f">{stdout}" if stdout != "closed" else "| true"
    script = f"set -o pipefail; {sys.executable} -m eager_lantern {words} {redirected}"
    done = subprocess.run(["bash", "-c", script], capture_output=True, text=True)
    assert done.returncode == 2
    assert re.fullmatch(r"eager-lantern: the result could not be written to stdout: .+\n", done.stderr)


@pytest.mark.parametrize(
    ("words", "code"), [("--help", 0), (f"check {BEFORE}", 1), ("check nosuch.site.yaml", 2), ("bogus", 2), ("size", 2)]
)
def test_a_stderr_that_takes_nothing_changes_no_exit_code(words: str, code: int, tmp_path: Path) -> None:
    script = f"{sys.executable} -m eager_lantern {words} 2>/dev/full"
    done = subprocess.run(["bash", "-c", script], stdout=subprocess.PIPE, cwd=tmp_path)
    assert (done.returncode, bool(done.stdout)) == (code, code < 2)
    assert subprocess.run(["bash", "-c", f"{script} >/dev/full"], cwd=tmp_path).returncode == 2


@pytest.mark.sweep
@pytest.mark.parametrize(("number", "code"), [(signal.SIGINT, 130), (signal.SIGTERM, 143), (signal.SIGHUP, 129)])
def test_a_program_that_is_told_to_end_while_it_reads_ends_at_once(number: int, code: int, tmp_path: Path) -> None:
    slow = tmp_path / "slow.site.yaml"
    slow.write_bytes(b"a: [" + b"1, " * 1_500_000 + b"1]\n")
    words = [sys.executable, "-m", "eager_lantern", "check", str(slow)]
    process = subprocess.Popen(words, stderr=subprocess.PIPE, text=True)
    while process.poll() is None and _held(process.pid) < 150_000_000:
        time.sleep(0.001)
    process.send_signal(number)
    assert process.wait(timeout=20) == code
    assert process.stderr
    assert process.stderr.read() == ("eager-lantern: interrupted\n" if number == signal.SIGINT else "")


@pytest.mark.sweep
@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
@pytest.mark.parametrize("share", [0.1, 0.4, 0.8])
def test_a_rehearsal_on_loopback_ends_when_it_is_told_to_whatever_it_waits_for(
    share: float, number: int, tmp_path: Path
) -> None:
    """Its sessions wait for ports that are silent; its servers and relays are threads."""
    words = [sys.executable, "-m", "eager_lantern", "rehearse", str(BEFORE), "--lab", "loopback"]
    process = subprocess.Popen(words, stderr=subprocess.PIPE, env={**os.environ, "TMPDIR": str(tmp_path)}, text=True)
    while process.poll() is None and not list(tmp_path.glob("eager-lantern-lab-*/*")):
        time.sleep(0.01)
    time.sleep(8 * share)
    process.send_signal(number)
    assert process.wait(timeout=60) == (130 if number == signal.SIGINT else 143)
    assert process.stderr
    assert "Traceback" not in process.stderr.read()
    assert list(tmp_path.iterdir()) == []


def _held(pid: int) -> int:
    """The memory that a process has, in bytes: it grows while a large file is read."""
    with contextlib.suppress(psutil.Error):
        return int(psutil.Process(pid).memory_info().rss)
    return 0


def test_ctrl_c_while_it_starts_is_one_line_and_130(tmp_path: Path) -> None:
    process = subprocess.Popen([sys.executable, "-m", "eager_lantern", "check"], stderr=subprocess.PIPE, text=True)
    while process.poll() is None and not _imports(process.pid):
        time.sleep(0.001)
    process.send_signal(signal.SIGINT)
    assert process.wait(timeout=10) in (130, 2)
    assert process.stderr
    assert "Traceback" not in process.stderr.read()


@pytest.mark.parametrize("words", [["check", "pipe.site.yaml"], ["check", "a.site.yaml", "--certificate", "pipe.pem"]])
def test_a_pipe_is_refused_instead_of_waited_for(words: list[str], tmp_path: Path) -> None:
    (tmp_path / "a.site.yaml").write_text(AFTER.read_text())
    for name in ("pipe.site.yaml", "pipe.pem"):
        os.mkfifo(tmp_path / name)
    done = run(*words, cwd=tmp_path)
    assert (done.returncode, "found a pipe or a device; expected a regular file" in done.stderr) == (2, True)


SYSTEM = ["/proc/kmsg", "/proc/self/environ", "/proc/1/mem", "/sys/kernel/notes", "/dev/zero", "/dev/tty", "link"]


@pytest.mark.skipif(not sys.platform.startswith("linux"), reason="needs the files in which Linux shows itself")
@pytest.mark.parametrize("file", SYSTEM)
@pytest.mark.parametrize(
    "words", [["check"], ["adopt", AFTER], ["diagnose", AFTER, "--log"], ["check", AFTER, "--survey"]]
)
def test_a_file_of_the_system_is_no_document_and_is_not_opened(words: list[object], file: str, tmp_path: Path) -> None:
    (tmp_path / "link").symlink_to("/proc/kmsg")
    named = f"field-station={file}" if "--log" in words else file
    done = run(*words, named, cwd=tmp_path)
    assert done.returncode == 2
    assert "of the system" in done.stderr or "a pipe or a device" in done.stderr


def _imports(pid: int) -> bool:
    """Whether the program is past the start of the interpreter: a library of its own is loaded."""
    return "msgspec" in Path(f"/proc/{pid}/maps").read_text()


def test_check_as_json_has_the_form_of_the_design(tmp_path: Path) -> None:
    done = run("check", BEFORE, "--format", "json")
    result = json.loads(done.stdout)
    institute = next(each for each in result["promises"] if each["client"] == "institute")
    stopped = institute["data"].pop("stopped_by")
    assert done.returncode == 1
    assert (result["format"], result["verdict"]) == ("eager-lantern/check/1", "broken")
    assert institute["data"] == {"works": "61200-61327", "fails": "61328-61455", "unknown": "", "share": 0.5}
    assert institute["stops_at"] == {"rung": "data", "outcome": "silent"}
    assert stopped == [
        {
            "ports": "61328-61455",
            "outcome": "silent",
            "at": "harbour-router",
            "rule": None,
            "reason": "no forward",
            "answer": None,
            "line": 16,
        }
    ]
    mismatch = next(each for each in result["findings"] if each["kind"] == "range-mismatch")
    assert mismatch["where"] == {"file": str(BEFORE), "line": 18, "path": "gateways[0].forwards[1].ports"}
    forwards = [each for each in result["ledger"][0]["layers"] if each["name"] == "forwards"]
    assert forwards == [{"name": "forwards", "at": "harbour-router", "ports": "61200-61327", "line": 18}]


def test_check_as_text_is_one_screen_that_names_the_line_to_edit() -> None:
    done = run("check", BEFORE.name, cwd=BEFORE.parent)
    *lines, following = done.stdout.splitlines()
    assert max(map(len, lines)) <= 100
    assert len(lines) <= 42
    assert "\x1b" not in done.stdout
    assert re.search(r"line 18 +range-mismatch", done.stdout)
    assert "every second transfer hangs" in done.stdout
    assert following.startswith("Next: eager-lantern mend saltmarsh-before.site.yaml")


def test_walk_tells_each_hop_and_where_it_stops() -> None:
    result = json.loads(run("walk", BEFORE, "--client", "institute", "--rung", "data", "--format", "json").stdout)
    assert [(each["at"], each["does"], each["line"]) for each in result["steps"]] == [
        ("institute", "send", 60),
        ("institute-wall", "let-out", 33),
        ("institute-wall", "translate", 24),
        ("harbour-router", "stop", 16),
    ]
    assert result["outcome"] == "silent"
    assert result["steps"][2]["flow"] == {
        "protocol": "tcp", "from": "192.0.2.40", "from_port": None, "to": "198.51.100.61", "to_port": 61328,
    }  # fmt: skip


@pytest.mark.parametrize(
    ("words", "code", "says"),
    [
        (["--client", "internet", "--to", "198.51.100.61", "--port", "21"], 0, "It arrives at gauge-store, port 21."),
        (["--client", "internet", "--to", "198.51.100.61", "--port", "22"], 1, "no forward for port 22"),
        (["--client", "office-desk", "--to", "10.61.4.20", "--port", "22"], 0, "by rule “remote-desk”"),
        (["--client", "institute", "--to", "198.51.100.61", "--port", "22"], 1, "connection refused"),
        (["--client", "internet", "--to", "10.61.4.20", "--port", "21"], 1, "no route to 10.61.4.20"),
        (
            ["--client", "old-logger", "--mode", "active", "--rung", "data", "--port", "5000"],
            0,
            "arrives at old-logger",
        ),
        (["--client", "old-loger", "--to", "198.51.100.61", "--port", "21"], 2, "did you mean “old-logger”?"),
        (["--client", "institute", "--rung", "data", "--port", "50000"], 2, "61200-61455"),
        (["--client", "institute", "--service", "tide-exchange", "--port", "61400"], 1, "no forward for port 61400"),
        (["--client", "institute", "--port", "21"], 0, "It arrives at gauge-store, port 21."),
        (["--client", "institute", "--port", "22"], 2, "neither the control port, 21, nor a data port"),
        (["--client", "institute", "--rung", "connect", "--port", "22"], 2, "is not the control port"),
        (["--client", "institute", "--protocol", "udp"], 2, "control of tide-exchange goes over tcp"),
        (["--client", "203.0.113.77", "--to", "gauge-store", "--port", "22"], 1, "no route to 10.61.4.20"),
        (["--client", "10.61.4.90", "--to", "gauge-store", "--port", "22"], 0, "by rule “remote-desk”"),
        (["--client", "10.61.4.20", "--to", "gauge-store", "--port", "22"], 2, "10.61.4.20 is gauge-store"),
        (["--client", "172.16.0.9", "--to", "gauge-store", "--port", "22"], 2, "no network of the site holds"),
        (["--client", "internet", "--to", "tides.saltmarsh.example", "--port", "21"], 0, "arrives at gauge-store"),
        (["--client", "internet", "--to", "harbour-router", "--port", "21"], 0, "arrives at gauge-store"),
        (["--client", "internet", "--to", "harbour-route", "--port", "21"], 2, "did you mean “harbour-router”?"),
        (["--client", "internet", "--to", "harbour-router", "--port", "21", "--mode", "active"], 2, "leave one out"),
        (["--client", "institute", "--to", "gauge", "--port", "21"], 2, "is no address"),
        (["--client", "institute", "--to", "198.51.100.61"], 2, "--port"),
        ([], 2, "--client is needed"),
    ],
)
def test_walk_answers_any_question_about_one_connection(words: list[str], code: int, says: str) -> None:
    done = run("walk", BEFORE, *words)
    assert (done.returncode, says in done.stdout + " ".join(done.stderr.split())) == (code, True)


@pytest.mark.parametrize(
    ("words", "says"),
    [(["chek"], "did you mean “check”?"), (["check", "--fromat", "json"], "--format")],
)
def test_bad_usage_is_answered_with_what_would_be_right(words: list[str], says: str) -> None:
    done = run(*words)
    assert done.returncode == 2
    assert says in done.stdout + done.stderr


FAILED_LOG = (Path(__file__).parent / "cases" / "logs" / "arrows-forward-missing.log").read_text()


@pytest.mark.sweep
@pytest.mark.parametrize("command", COMMANDS)
def test_the_example_of_every_help_runs(command: str, tmp_path: Path) -> None:
    (tmp_path / "saltmarsh.site.yaml").write_text(AFTER.read_text())
    (tmp_path / "planned.yaml").write_text(AFTER.read_text())
    shutil.copy(Path(__file__).parent / "cases" / "forwards.csv", tmp_path)
    (tmp_path / "session.log").write_text(FAILED_LOG)
    shown = run(command, "--help").stdout.partition("Example: ")[2]
    program, *words = shlex.split(shown.partition(" > ")[0].replace("\\\n", " "))
    done = run(*words, cwd=tmp_path, EAGER_LANTERN_PASSWORD="ebb-and-flow-61")
    assert (program, words[0]) == ("eager-lantern", command)
    fails = command in ("visit", "diagnose", "survey")  # nobody has that name or address, and the log failed
    assert (done.returncode, done.stdout == "") == (fails, False)


@pytest.mark.sweep
@pytest.mark.parametrize("command", [each for each in COMMANDS if each not in {"size", "demo", "rehearse", "visit"}])
def test_what_only_size_needs_is_loaded_by_no_other_command(command: str, tmp_path: Path) -> None:
    (tmp_path / "saltmarsh.site.yaml").write_text(AFTER.read_text())
    (tmp_path / "session.log").write_text(FAILED_LOG)
    words = {
        "diagnose": ["--log", "field-station=session.log"],
        "new": ["--site", "x", "--address", "10.61.4.20", "--outside", "198.51.100.61"],
        "walk": ["--client", "institute"],
        "compare": ["saltmarsh.site.yaml", "saltmarsh.site.yaml"],
        "adopt": [
            "saltmarsh.site.yaml",
            Path(__file__).parent / "cases" / "forwards.csv",
            "--device",
            "harbour-router",
        ],
        "lamp": ["--listen", "127.0.0.1", "--lasts", "1 s"],
    }
    trace = [sys.executable, "-X", "importtime", "-m", "eager_lantern", command, *words.get(command, [])]
    done = subprocess.run(trace, capture_output=True, text=True, cwd=tmp_path)
    loaded = {line.rpartition("|")[2].strip().partition(".")[0] for line in done.stderr.splitlines()}
    assert done.returncode == (command in ("diagnose", "survey"))
    assert loaded & {"scipy", "matplotlib", "numpy", "pandas"} == set()


COMPLETED = [
    ("wal", "walk"),
    ("walk --cl", "--client"),
    ("walk x.site.yaml --client o", "old-logger office-desk office"),
    ("walk --service ", "tide-exchange remote-desk"),
    ("visit x.site.yaml --client in", "institute"),
    ("rehearse --keep-open ha", "harbour-router"),
    ("rehearse --capture ga", "gauge-store=gauge-store.pcap"),
    ("size --service t", "tide-exchange"),
    ("explain range-mi", "range-mismatch"),
    ("walk missing.site.yaml --client ", ""),
]


@pytest.mark.parametrize(("typed", "offered"), COMPLETED)
def test_a_real_shell_completes_commands_options_and_names(typed: str, offered: str, tmp_path: Path) -> None:
    (tmp_path / "x.site.yaml").write_text(AFTER.read_text())
    (tmp_path / "eager-lantern").write_text(f'#!/bin/sh\nexec "{sys.executable}" -m eager_lantern "$@"\n')
    (tmp_path / "eager-lantern").chmod(0o755)
    script = f"""
    source <(_EAGER_LANTERN_COMPLETE=source_bash eager-lantern)
    COMP_WORDS=(eager-lantern {typed}{'""' if typed.endswith(" ") else ""}); COMP_CWORD=$((${{#COMP_WORDS[@]}} - 1))
    _eager_lantern_completion eager-lantern; echo "${{COMPREPLY[*]}}"
    """
    path = f"{tmp_path}:{os.environ['PATH']}"
    done = subprocess.run(
        ["bash", "-c", script], capture_output=True, text=True, cwd=tmp_path, env={**os.environ, "PATH": path}
    )
    assert (done.stdout.split(), done.stderr) == (offered.split(), "")


def test_the_demo_tells_the_story_and_leaves_nothing(tmp_path: Path) -> None:
    done = run("demo", TMPDIR=str(tmp_path))
    assert done.returncode == 0
    assert list(tmp_path.iterdir()) == []
    order = [
        "2 of 5 promises broken",
        "range-mismatch",
        "no forward for port 61328",
        "announces its own address in the passive reply",
        "kept by this plan",
        "all 5 promises kept",
        "real sessions in the",
    ]
    assert [text for text in order if text in done.stdout] == sorted(order, key=done.stdout.index)


def test_the_demo_keeps_its_files_and_overwrites_nothing(tmp_path: Path) -> None:
    kept = tmp_path / "saltmarsh"
    assert run("demo", "--keep", kept).returncode == 0
    assert run("check", kept / BEFORE.name).returncode == 1
    again = run("demo", "--keep", kept)
    assert (again.returncode, "found a folder of that name" in again.stderr) == (2, True)


TABLE = yaml.safe_load((Path(__file__).parent / "cases" / "sites.yaml").read_text())
UNREACHED = {"goes in circles"}  # a guard: no site is known that comes to it


def test_each_reason_is_told_by_the_program_and_hides_no_other_site(tmp_path: Path) -> None:
    for i, case in enumerate(TABLE["cases"]):
        (tmp_path / f"{i:03}.site.yaml").write_text(json.dumps(changed(case)))
    done = run("check", tmp_path, "--format", "json")
    sites = json.loads(done.stdout)["sites"]
    assert (done.returncode, done.stderr) == (1, "")
    assert [each["file"] for each in sites if each["error"]] == []
    promises = [promise for site in sites for promise in site["result"]["promises"]]
    assert [each for each in promises if each["kept"] is not True and not each["because"]] == []
    stops = [stop for each in promises for stop in (*each["stopped_by"], *(each["data"] or {}).get("stopped_by", ()))]
    assert {stop["reason"] for stop in stops} == set(get_args(Reason)) - UNREACHED


FAULTY = """
import eager_lantern.core.predict.session as session
whole = session.predict_from
def faulty(topology, promise, stand):
    if topology.site.site == "Faulty Coast":
        raise ValueError("made for this test")
    return whole(topology, promise, stand)
session.predict_from = faulty
import sys
sys.argv = ["eager-lantern", "check", *sys.argv[1:]]
from eager_lantern.__main__ import run
run()
"""


@pytest.mark.parametrize("together", [False, True], ids=["alone", "in a folder"])
def test_a_fault_of_the_program_is_70_names_the_promise_and_spares_other_sites(together: bool, tmp_path: Path) -> None:
    faulty = tmp_path / "b.site.yaml"
    (tmp_path / "a.site.yaml").write_text(AFTER.read_text())
    faulty.write_text(AFTER.read_text().replace("Saltmarsh Tide Survey", "Faulty Coast"))
    words = [sys.executable, "-c", FAULTY, str(tmp_path if together else faulty)]
    done = subprocess.run(words, capture_output=True, text=True)
    assert done.returncode == 70
    assert re.search(r"a fault of the program itself.*b\.site\.yaml.*made for this test", done.stderr)
    assert "field-station → tide-exchange, passive" in done.stderr
    assert ("● kept" in done.stdout) is together


def test_nothing_is_imported_before_interrupts_are_taken_care_of() -> None:
    looks = "import os, sys; had = set(sys.modules); import eager_lantern.__main__; print(*set(sys.modules) - had)"
    own = {**os.environ, "PYTHONPATH": str(Path(eager_lantern.__file__).parent.parent)}
    done = subprocess.run([sys.executable, "-S", "-c", looks], capture_output=True, text=True, env=own)
    assert set(done.stdout.split()) <= {"eager_lantern", "eager_lantern.__main__", "gc"}, done.stderr
    assert done.returncode == 0
