"""Causes from what was seen: session logs, kept results, answers; and the tests that part them."""

import json
import re
import subprocess
import sys
from functools import cache
from pathlib import Path
from typing import Any

import pytest
import yaml
from msgspec.structs import replace
from program import AFTER, BEFORE, DATA, result_of, run
from test_sites import changed as with_set

from eager_lantern.core.diagnosis.diagnosis import Diagnosis, diagnose, settled
from eager_lantern.core.diagnosis.fault import Fault
from eager_lantern.core.diagnosis.faults import faults_of
from eager_lantern.core.diagnosis.hypotheses import Predictions
from eager_lantern.core.diagnosis.next_test import AnsweredTest, _spread
from eager_lantern.core.observed.observation import FAILED, Observation, PortFate, Situation
from eager_lantern.core.values.ports import PortSet
from eager_lantern.formats.evidence.session_logs import read_session_logs
from eager_lantern.formats.shipped import shipped_text
from eager_lantern.formats.site.site_file import parse_site, read_site
from eager_lantern.formats.weights import shipped_knowledge

CASES = Path(__file__).parent / "cases"
LOGS = yaml.safe_load((CASES / "logs.yaml").read_text())
ENDS = yaml.safe_load((CASES / "log-ends.yaml").read_text())
PLAIN = DATA / "plain.site.yaml"
SITE = read_site(AFTER).site
FAULTS = tuple(map(shipped_knowledge().wording.worded, faults_of(settled(SITE))))
PREDICTED = Predictions(settled(SITE))
TRIES = tuple(
    Situation(each.client, each.service, each.mode, reports=True) for each in SITE.promises if each.holds == "works"
)


def seen_with(fault: Fault, tries: tuple[Situation, ...] = TRIES) -> tuple[Observation, ...]:
    """What sessions would see of a fault, each at the data port in the middle of how it most likely ends."""
    return tuple(_seen(fault, each) for each in tries)


def _seen(fault: Fault, tried: Situation) -> Observation:
    end = max(PREDICTED.ends(fault.variants[0], tried), key=lambda each: each.chance)
    ports = list(end.ports)
    port = PortSet.single(ports[len(ports) // 2]) if ports and end.rung in (None, "data", "list") else PortSet()
    drawn = tried.mode == "passive"
    fates = (PortFate(port, end.rung, (end.outcome,), drawn=drawn),) if port and drawn else ()
    works = end.rung is None
    outcomes = () if works else (end.outcome,)
    announced = end.announced if drawn else None
    return Observation(tried, "x", None, end.rung, outcomes, works, False, end.elsewhere, announced, fates)


def first(found: Diagnosis) -> set[tuple[str, Any]]:
    """The causes of the first group, by kind and place."""
    return {(each.kind, each.place) for cause in found.groups[0].causes for each in cause.hypothesis.faults}


def test_every_fault_of_a_site_that_has_every_key_is_put_in_words() -> None:
    """Among its clients is one that stands on the server and has its filter."""
    site = parse_site("every-key.site.yaml", shipped_text("every-key.site.yaml")).site
    worded = [shipped_knowledge().wording.worded(each) for each in faults_of(settled(site))]
    assert {each.kind for each in worded} >= {"rule-off", "forward-off", "announce-private", "account-locked"}
    assert all(each.message and each.look and each.cure for each in worded)


@cache
def diagnosed(*seen: Observation) -> Diagnosis:
    return diagnose(SITE, seen, shipped_knowledge())


@pytest.mark.parametrize("fault", FAULTS, ids=lambda each: f"{each.kind} {each.message}"[:70])
def test_a_fault_that_shows_is_in_the_first_group(fault: Fault) -> None:
    seen = seen_with(fault)
    found = diagnosed(*seen)
    if not any(each.fails for each in seen):
        assert found.as_described
    else:
        assert (fault.kind, fault.place) in first(found)
        assert sum(each.probability for each in found.groups) == pytest.approx(1)
        assert found.verdict == ("several" if found.groups[1:] else "one")


def test_a_fault_of_a_client_changes_nothing_for_another() -> None:
    """Not even where a server has to take a foreign address for it to show at all."""
    of_clients = [each for each in FAULTS if each.place[0] == "clients"]
    assert {each.kind for each in of_clients} >= {"client-names-private", "client-other-mode"}
    tries = [replace(each, mode=mode) for each in TRIES for mode in ("passive", "active")]
    for fault in of_clients:
        for tried in (each for each in tries if each.client != fault.at):
            for way in fault.variants:
                assert PREDICTED.ends(way, tried) == PREDICTED.ends((), tried), (fault.kind, fault.at, tried.client)


def told(fault: Fault) -> Diagnosis:
    """What is known once every advised test was made of a site with this fault, each test once."""
    seen = seen_with(fault, TRIES[:1])
    answers: list[AnsweredTest] = []
    found = diagnosed(*seen)
    while found.test is not None:
        assert found.test.test.key not in {each.test.key for each in answers}
        cause = next(each for group in found.groups for each in group.causes if each.hypothesis.faults == (fault,))
        spread = _spread(PREDICTED, cause, found.test.test)
        answers.append(AnsweredTest(found.test.test, max(spread, key=lambda key: spread[key])))
        found = diagnose(SITE, seen, shipped_knowledge(), answers)
    return found


@pytest.mark.parametrize(
    "fault",
    [each for each in FAULTS if seen_with(each, TRIES[:1])[0].fails][::4],
    ids=lambda each: f"{each.kind} {each.place}",
)
def test_the_advised_tests_lead_to_the_cause_and_to_no_other_place(fault: Fault) -> None:
    found = told(fault)
    assert {(each.kind, each.at) for each in _faults(found)} == {(fault.kind, fault.at)}


def _faults(found: Diagnosis) -> list[Fault]:
    return [each for group in found.groups for cause in group.causes for each in cause.hypothesis.faults]


def test_two_faults_at_once_are_found_where_none_alone_explains_it() -> None:
    desk, station = TRIES[3], TRIES[0]
    seen = (
        Observation(station, "a", "name", "connect", ("silent",)),
        Observation(desk, "b", "greet", "login", ("refused",)),
    )
    found = diagnosed(*seen)
    assert all(len(cause.hypothesis.faults) == 2 for group in found.groups for cause in group.causes)
    assert {"forward-missing", "account-mistyped"} in [
        {each.kind for each in cause.hypothesis.faults} for cause in found.groups[0].causes
    ]


def test_sightings_that_exclude_each_other_are_named_and_nothing_is_guessed() -> None:
    station = TRIES[0]
    seen = (Observation(station, "early", works=True), Observation(station, "late", "name", "connect", ("refused",)))
    found = diagnosed(*seen)
    assert (found.verdict, found.groups, [each.source for each in found.parted]) == ("none", (), ["early", "late"])


def test_ports_that_carry_data_and_ports_that_do_not_part_a_range_in_part_from_a_missing_one() -> None:
    fates = (PortFate(PortSet.parse("61210"), drawn=True), PortFate(PortSet.parse("61440"), "data", FAILED, drawn=True))
    found = diagnosed(Observation(TRIES[0], "x", "announce", "data", FAILED, fates=fates))
    kinds = {kind for kind, _ in first(found)}
    assert "forward-in-part" in kinds
    assert "forward-missing" not in {each.kind for each in _faults(found)}


def logged(case: dict[str, Any], tmp_path: Path, *more: str) -> subprocess.CompletedProcess[str]:
    site = tmp_path / "x.site.yaml"
    base = yaml.safe_load(AFTER.read_text())
    site.write_text(json.dumps(with_set({"base": "x", "set": case.get("set", {})}, {"bases": {"x": base}})))
    return run("diagnose", site, "--log", f"{case['client']}={CASES / 'logs' / case['log']}", *more)


@pytest.mark.parametrize("case", LOGS, ids=lambda case: case["log"])
def test_the_cause_is_named_from_a_log_of_any_layout(case: dict[str, Any], tmp_path: Path) -> None:
    done = logged(case, tmp_path, "--format", "json")
    result = result_of(done.stdout)
    causes = {(each["kind"], each["where"]["path"]) for each in result["groups"][0]["causes"]}
    assert (case["cause"], case["at"]) in causes
    assert done.returncode == 1
    shown = logged(case, tmp_path, "--all").stdout
    assert case.get("never", "\0") not in done.stdout + done.stderr + shown
    assert result["next"] is None or result["next"]["information"] > 0


@pytest.mark.parametrize("case", ENDS, ids=lambda case: case["log"])
def test_a_recorded_log_is_read_as_the_session_ended(case: dict[str, Any]) -> None:
    (seen,) = read_session_logs(CASES / "logs" / case["log"], read_site(PLAIN).site, "a client outside")
    found = seen.works, seen.reached, seen.rung, list(seen.outcomes)
    assert found == (case["works"], case["reached"], case["rung"], case["outcomes"])


@pytest.mark.lab
def test_what_a_lab_saw_of_the_faulty_site_names_both_of_its_lines(tmp_path: Path) -> None:
    seen = tmp_path / "lab.json"
    seen.write_text(run("rehearse", BEFORE, "--lab", "loopback", "--format", "json").stdout)
    result = result_of(run("diagnose", AFTER, "--seen", seen, "--format", "json").stdout)
    pairs = [{each["kind"], *(part["kind"] for part in each.get("with", ()))} for each in result["groups"][0]["causes"]]
    assert {"announce-private", "forward-in-part"} in pairs


@pytest.mark.lab
def test_results_that_show_the_promises_kept_are_told_as_that_and_those_of_another_site_are_refused(
    tmp_path: Path,
) -> None:
    seen = tmp_path / "lab.json"
    seen.write_text(run("rehearse", AFTER, "--lab", "loopback", "--format", "json").stdout)
    done = run("diagnose", AFTER, "--seen", seen)
    assert done.returncode == 0
    assert "as the site file promises" in done.stdout
    seen.write_text(seen.read_text().replace("old-logger", "buoy"))
    done = run("diagnose", AFTER, "--seen", seen)
    assert done.returncode == 2
    assert "found buoy → tide-exchange; expected what Saltmarsh Tide Survey promises" in done.stderr


def test_a_lamp_that_sees_a_part_of_the_range_leaves_the_server_out_of_it(tmp_path: Path) -> None:
    swept = {
        "target": "198.51.100.61", "protocol": "tcp", "ok": "21, 61200-61327", "refused": "", "silent": "61328-61455",
        "wrong": "", "unknown": "", "crowded": "", "rewritten": {}, "seen_from": ["192.0.2.40"],
    }  # fmt: skip
    place = {"place": "here", "client": "institute", "predicted": "", "ledger": None, "sweeps": [swept]}
    seen = tmp_path / "lamp.json"
    seen.write_text(json.dumps({"format": "eager-lantern/lamp/1", "places": [place]}))
    result = result_of(run("diagnose", AFTER, "--seen", seen, "--format", "json").stdout)
    kinds = {each["kind"] for group in result["groups"] for each in group["causes"]}
    assert {"forward-in-part", "rule-in-part"} <= kinds
    assert kinds & {"range-changed", "service-not-running", "announce-private"} == set()
    stated = result_of(run("diagnose", BEFORE, "--seen", seen, "--format", "json").stdout)["groups"]
    assert [each["kind"] for each in stated[0]["causes"]] == ["range-mismatch"]  # what is announced bears on no lamp
    beside = run("check", AFTER, "--seen", seen).stdout
    assert re.search(r"measured end to end +▆+·+ 61200-61327 +128\n", beside)  # drawn, though no layer ends there


def test_what_a_visit_saved_is_read_again_with_the_port_that_it_was_told(tmp_path: Path) -> None:
    rungs = [{"rung": each, "outcome": "ok", "detail": ""} for each in ("name", "connect", "greet", "secure", "login")]
    rungs += [{"rung": "announce", "outcome": "wrong", "detail": ""}, {"rung": "data", "outcome": "ok", "detail": ""}]
    reply = {"port": 61300, "address": "10.61.4.20", "extended": False}
    promise = {"client": "field-station", "service": "tide-exchange", "mode": "passive", "target": "198.51.100.61",
               "rungs": [*rungs, {"rung": "list", "outcome": "ok", "detail": ""}], "reply": reply}  # fmt: skip
    taken = {"time": "2026-11-26T08:00:00+00:00", "host": "skerry", "tool": "0.1.0"}
    seen = tmp_path / "visit.json"
    seen.write_text(json.dumps({"format": "eager-lantern/visit/1", "taken": taken, "promises": [promise]}))
    result = result_of(run("diagnose", AFTER, "--seen", seen, "--format", "json").stdout)
    assert [each["kind"] for each in result["groups"][0]["causes"]] == ["announce-private"]
    assert "port 61300 carried data" in result["observations"][0]["message"]


BAD: list[tuple[str, str, str]] = [
    ("--seen", "220 hello\n", "The log of a session belongs to diagnose --log"),
    ("--seen", '{"format": "eager-lantern/visit/2"}', "of another version of this program; expected version 1"),
    (
        "--seen",
        '{"format": "eager-lantern/check/1"}',
        "found the format “eager-lantern/check/1”; expected a result of visit",
    ),
    ("--seen", '{"format": "eager-lantern/visit/1", "promises": 3}', "found a damaged result of visit"),
    ("--seen", "[1, 2]", "found JSON without a format"),
    ("--log", "a shopping list\nbread\n", "no command or reply of FTP"),
]


@pytest.mark.parametrize(("option", "text", "says"), BAD, ids=lambda each: str(each)[:30])
def test_what_is_no_observation_is_told_with_its_file(option: str, text: str, says: str, tmp_path: Path) -> None:
    path = tmp_path / "given.txt"
    path.write_text(text)
    done = run("diagnose", AFTER, option, f"field-station={path}")
    assert (done.returncode, done.stdout) == (2, "")
    assert done.stderr.startswith(f"{path}:")
    assert says in done.stderr


def _answered(folder: Path, numbers: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-m", "eager_lantern", "diagnose", "--ask"],
        input="\n".join([*numbers.split(), ""]),
        capture_output=True,
        text=True,
        cwd=folder,
        timeout=120,
    )


def test_without_a_site_file_answers_lead_to_causes_in_words(tmp_path: Path) -> None:
    asked = _answered(
        tmp_path, "3 1 1 1 1 1 3 1 1"
    )  # outside at all unknown; outside, FTP, passive; let in, never a listing; it hangs; inside yes
    assert asked.returncode == 1
    assert "the router has no forward for the data range" in asked.stdout
    assert "61200" not in asked.stdout + asked.stderr
    assert "eager-lantern new" in asked.stdout


def test_what_works_for_others_outside_leaves_the_place_of_the_one_for_whom_it_fails(tmp_path: Path) -> None:
    """The router's forward is not asked about once a phone outside got through it."""
    asked = _answered(tmp_path, "1 1 2 2 1")  # works for some; outside, SFTP; no greeting, it hangs
    assert "●  anybody outside → the SFTP service" in asked.stdout
    assert "the network of a client outside lets only few ports out" in asked.stdout
    assert "the router has no forward for" not in asked.stdout
    nobody = _answered(tmp_path, "2 1 2 2 1")
    assert "the router has no forward for" in nobody.stdout
    assert "the network of a client outside lets only few ports out" not in nobody.stdout


def test_a_visit_of_a_host_asks_whose_it_was_and_leads_to_a_command_to_type(
    tmp_path: Path,
) -> None:
    rungs = [{"rung": "name", "outcome": "ok", "detail": ""}, {"rung": "connect", "outcome": "refused", "detail": ""},
             {"rung": "list", "outcome": "untried", "detail": ""}]  # fmt: skip
    promise = {"client": "here", "service": "", "mode": "passive", "target": "tides.example", "rungs": rungs}
    taken = {"time": "2026-11-26T08:00:00+00:00", "host": "skerry", "tool": "0.1.0"}
    (tmp_path / "v.json").write_text(
        json.dumps({"format": "eager-lantern/visit/1", "taken": taken, "promises": [promise]})
    )
    whose = run("diagnose", "--seen", "v.json", cwd=tmp_path)
    assert (whose.returncode, "write CLIENT=v.json" in whose.stderr) == (2, True)
    done = run("diagnose", "--seen", "a client outside=v.json", cwd=tmp_path)
    assert "the service does not run" in done.stdout
    assert "  eager-lantern visit SERVER-ADDRESS --port 21\n" in done.stdout


def test_without_a_site_file_a_log_fills_in_the_first_answers_of_one(tmp_path: Path) -> None:
    done = run(
        "diagnose", "--log", f"a client outside={CASES / 'logs' / 'wrapped-private-announced.log'}", cwd=tmp_path
    )
    assert "one cause\n  ◆   the service announces its own address in the passive reply" in done.stdout
    (told,) = (line.split() for line in done.stdout.splitlines() if line.startswith("  eager-lantern new"))
    written = run(
        *told[1:], "--site", "Skerry", "--outside", "198.51.100.88", "--typed", "skerry.example", cwd=tmp_path
    )
    assert "address: 10.61.4.20" in (tmp_path / "skerry.site.yaml").read_text(), written.stderr


def test_a_file_that_comes_back_cut_short_may_be_a_line_that_loses_full_packets(tmp_path: Path) -> None:
    well = [
        {"rung": rung, "outcome": "ok", "detail": ""} for rung in ("connect", "greet", "login", "data", "list", "send")
    ]
    rungs = [*well, {"rung": "fetch", "outcome": "wrong", "detail": "other bytes came back"}]
    promise = {"client": "field-station", "service": "tide-exchange", "mode": "passive", "target": "x", "rungs": rungs}
    taken = {"time": "2026-11-26T08:00:00+00:00", "host": "skerry", "tool": "0.1.0"}
    seen = tmp_path / "v.json"
    seen.write_text(json.dumps({"format": "eager-lantern/visit/1", "taken": taken, "promises": [promise]}))
    result = result_of(run("diagnose", AFTER, "--seen", seen, "--format", "json").stdout)
    assert "full-packets-lost" in {each["kind"] for each in result["groups"][0]["causes"]}


def test_without_a_site_file_an_sftp_listing_that_hangs_outside_is_a_line_that_loses_full_packets(
    tmp_path: Path,
) -> None:
    asked = _answered(
        tmp_path, "3 1 2 1 1 3 1 1"
    )  # outside at all unknown; outside, SFTP; greeted, let in, never a listing; it hangs; inside yes
    assert "full packets are lost at the outside line of the router" in asked.stdout
    assert "eager-lantern new --clients-can ssh" in asked.stdout


def test_nothing_seen_and_nobody_to_ask_is_a_question_of_usage() -> None:
    done = run("diagnose", AFTER)
    assert done.returncode == 2
    assert "--seen" in done.stderr


def test_what_shows_in_large_transfers_to_each_of_several_clients_counts_once() -> None:
    lost = next(each for each in FAULTS if each.kind == "full-packets-lost")
    ways = [Observation(each, "x", "data", "send", ("silent",)) for each in TRIES[:2]]
    one, both = (diagnosed(*ways[:n]) for n in (1, 2))
    likelihoods = [_explained_by(found, lost) for found in (one, both)]
    assert likelihoods == [pytest.approx(0.75), pytest.approx(0.625)]


def _explained_by(found: Diagnosis, fault: Fault) -> float:
    every = [each for group in found.groups for each in group.causes]
    return max(each.at_best for each in every if each.hypothesis.faults == (fault,))


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("cut after the login", "220 Tide exchange\nUSER station\n331 go on\nPASS ***\n230 come in\n"),
        ("cut at the greeting", "220 Tide exchange\n"),
        ("cut after the passive reply and a farewell", '230 in\nPWD\n257 "/"\nQUIT\n221 Goodbye\n'),
    ],
)
def test_a_log_that_ends_before_a_transfer_does_is_inconclusive_and_says_where(
    name: str, text: str, tmp_path: Path
) -> None:
    (tmp_path / "cut.log").write_text(text)
    done = run("diagnose", AFTER, "--log", "field-station=cut.log", cwd=tmp_path)
    assert (done.returncode, "as promised" in done.stdout, "inconclusive" in done.stdout) == (3, False, True), name
    assert "shows no transfer that came to its end" in done.stdout
    whole = text + "PASV\n227 (198,51,100,61,239,16)\nLIST\n150 here\n226 done\n"
    (tmp_path / "whole.log").write_text(whole if "221" not in whole else whole.replace("QUIT\n221 Goodbye\n", ""))
    both = run(
        "diagnose", AFTER, "--log", "field-station=cut.log", "--log", "field-station=whole.log", "--format", "json",
        cwd=tmp_path,
    )  # fmt: skip
    result = result_of(both.stdout)
    assert (both.returncode, result["as_promised"], result["inconclusive"]) == (3, False, ["cut.log"])
    alone = run("diagnose", AFTER, "--log", "field-station=whole.log", cwd=tmp_path)
    assert (alone.returncode, "as promised" in alone.stdout) == (0, True)


def test_two_faults_at_once_are_told_side_by_side_and_what_is_alone_is_certain(tmp_path: Path) -> None:
    (tmp_path / "login.log").write_text(
        "220 Tides\nAUTH TLS\n234 go\nUSER desk\n331 go\nPASS x\n530 Login incorrect.\n"
    )
    said = "220 Tides\nAUTH TLS\n234 go\nUSER station\n230 in\nPASV\n227 (198,51,100,61,239,16)\nLIST\nTimeoutError\n"
    (tmp_path / "data.log").write_text(said)
    logs = ("--log", "field-station=data.log", "--log", "office-desk=login.log")
    shown = " ".join(run("diagnose", AFTER, *logs, cwd=tmp_path).stdout.split())
    assert "two faults at once" in shown
    assert shown.index("One of:") < shown.index("Besides it one of:") < shown.index("something else")
    replaced = said.replace("227 (198,51,100,61", "227 (10,61,4,20").replace(
        "LIST", "Using server address instead\nLIST"
    )
    (tmp_path / "data.log").write_text(replaced)
    shown = " ".join(run("diagnose", AFTER, *logs[:2], cwd=tmp_path).stdout.split())
    certain = shown.index("Certain: ◆ tide-exchange announces its own address in the passive reply")
    assert certain < shown.index("Besides it one of:") < shown.index("no forward for ports")
