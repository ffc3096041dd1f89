"""The first site file: asked for at a terminal, and by options."""

import itertools
from pathlib import Path
from typing import Any

import pexpect
import pytest
from program import run, run_bound_by_modes

from eager_lantern.cli.taken import taken_now
from eager_lantern.core.changes.states import compared_overlay
from eager_lantern.core.changes.steps import Overlay
from eager_lantern.core.interview.learnt import VisitFacts, learnt_of
from eager_lantern.core.interview.questions import BEHIND, PROTOCOLS, Question, first_stage, refusal, remark
from eager_lantern.core.network.topology import Topology
from eager_lantern.core.observed.survey import ListeningSocket, OwnAddress, Survey, SurveyedHost, WayOut
from eager_lantern.core.predict.exposure import open_in_clear
from eager_lantern.core.values.addresses import Address, AddressSet
from eager_lantern.core.values.ports import PortSet
from eager_lantern.core.verdict import judge
from eager_lantern.formats.devices.register import files_of
from eager_lantern.formats.reading import BadInput
from eager_lantern.formats.results.base import as_json
from eager_lantern.formats.results.survey import survey_result
from eager_lantern.formats.site.new_site import new_site, shipped_questions
from eager_lantern.formats.site.site_file import all_filled_in, parse_site

TOLD = {
    "site": "Skerry Light", "clients_can": "tls", "address": "10.61.8.20", "client_count": "12",
    "outside": "198.51.100.88", "typed": "skerry.saltmarsh.example", "account": "keeper",
}  # fmt: skip


def options(**told: str) -> list[str]:
    return [word for key, value in told.items() for word in (f"--{key.replace('_', '-')}", value)]


def at_terminal(folder: Path) -> "pexpect.spawn[str]":
    import sys

    words = ["-m", "eager_lantern", "new", "--save", "asked.site.yaml"]
    return pexpect.spawn(sys.executable, words, cwd=str(folder), encoding="utf-8", timeout=30, dimensions=(50, 120))


def test_asked_at_a_terminal_it_writes_a_site_that_check_calls_kept_as_by_options(tmp_path: Path) -> None:
    child = at_terminal(tmp_path)
    answers: dict[str, str] = {}
    asked: list[str] = []
    for question in shipped_questions():
        if question.applies(answers):
            child.expect_exact(question.words.text)
            child.expect_exact("› ")
            asked.append(question.key)
            child.sendline(TOLD.get(question.key, ""))
            answers[question.key] = question.read(TOLD.get(question.key) or question.propose(answers))
    child.expect(pexpect.EOF)
    child.close()
    assert child.exitstatus == 0
    assert "all 4 promises kept" in child.before
    assert set(TOLD) <= set(asked)
    assert run("check", "asked.site.yaml", cwd=tmp_path).returncode == 0
    assert run("new", *options(**TOLD), "--save", "given.site.yaml", cwd=tmp_path).returncode == 0
    assert (tmp_path / "asked.site.yaml").read_text() == (tmp_path / "given.site.yaml").read_text()


def test_a_wrong_answer_is_told_at_once_and_asked_again(tmp_path: Path) -> None:
    child = at_terminal(tmp_path)
    for answer, then in (
        ("", "1 to 80 characters"),
        ("Skerry", "What can all its clients do?"),
        ("tsl", "implicit or plain"),
    ):
        child.expect_exact("› ")
        child.sendline(answer)
        child.expect_exact(then)
    child.close(force=True)


@pytest.mark.parametrize(("key", "code"), [("\x03", 130), ("\x04", 2)], ids=["ctrl-c", "end of input"])
def test_interrupted_it_has_written_nothing(key: str, code: int, tmp_path: Path) -> None:
    child = at_terminal(tmp_path)
    child.expect_exact("› ")
    child.sendline("Skerry Light")
    child.expect_exact("› ")
    child.send(key)
    child.expect(pexpect.EOF)
    child.close()
    assert (child.exitstatus, list(tmp_path.iterdir())) == (code, [])


def answered(**told: str) -> dict[str, str]:
    answers: dict[str, str] = {}
    for question in shipped_questions():
        if question.applies(answers):
            answers[question.key] = question.read(told.get(question.key) or question.propose(answers))
    return answers


PLACES = [("10.61.8.20", "198.51.100.88"), ("2001:db8:61::20", "2001:db8:9::1"), ("203.0.113.20", "198.51.100.88")]
CHOICES = itertools.product(
    PROTOCOLS, BEHIND, PLACES, ["", "skerry.saltmarsh.example"], ["static", "dynamic"], ["yes", "no"], ["22", "none"]
)


def test_whatever_is_chosen_the_site_keeps_its_promises_or_is_refused() -> None:
    broken, written = [], 0
    for can, behind, (address, outside), typed, lease, either, admin in CHOICES:
        desk = "2001:db8:5::7" if ":" in address else "203.0.113.140"
        told = {
            "site": "Skerry: #1", "clients_can": can, "behind": behind, "address": address, "outside": outside,
            "typed": typed, "outside_lease": lease, "ranges": either, "inside": either,
            "admin_port": admin, "account": "yes, no",
            "system": "windows" if admin == "none" else "linux",
            "ipv6": "2001:db8:61::20" if either == "yes" else "none", "inside_first": either,
            "admin_from": "" if behind in ("router", "firewall") else desk,
        }  # fmt: skip
        answers = answered(**told)
        if not refusal(answers):
            text = new_site(answers)
            written += 1
            stages = [new_site(first_stage(answers))] if answers.get("inside_first") == "yes" else []
            if any(judge(parse_site("new", each).site).verdict != "kept" for each in (text, *stages)):
                broken.append(answers)
    assert broken == []
    assert written > 300


@pytest.mark.parametrize("behind", BEHIND)
def test_an_address_that_nobody_knows_is_never_made_up_and_gets_into_no_filter(behind: str) -> None:
    own = "203.0.113.20" if behind in ("nothing", "firewall") else "10.61.8.20"
    told = {"site": "Skerry", "behind": behind, "address": own, "outside": "unknown", "admin_from": "unknown"}
    source = parse_site("new", new_site(answered(**told)))
    assert judge(source.site).verdict == "unknown"
    assert not [each.name for each in files_of(source.site) if "192." in each.text or "0.0.0." in each.text]
    assert not [each.name for each in files_of(source.site) if each.owner == source.site.server.name]
    with pytest.raises(BadInput, match=r"found \?"):
        all_filled_in(source, "")


@pytest.mark.parametrize(
    ("told", "says"),
    [
        ({"site": ""}, "1 to 80"),
        ({"address": "10.61.8.999"}, "10.61.8.999"),
        ({"clients_can": "tsl"}, "ssh, tls, implicit or plain"),
        ({"client_count": "0"}, "1 or more"),
        ({"client_count": "99999"}, "ports together that are clear"),
        ({"ports": "61455-61200"}, "ends before it starts"),
        ({"ports": "20-21"}, "above 1023"),
        ({"ports": "50000:51000"}, "expected a range with a plain hyphen: 50000-51000"),
        ({"ports": "552000"}, "found 552000, which is no port"),
        ({"ports": "5100"}, "expected the first and the last port of a range, as in 5100-5119"),
        ({"typed": "http://x.example/"}, "expected the name or address alone: x.example"),
        ({"typed": "x.example:2121"}, "which is asked for itself; expected x.example"),
        ({"outside": "198.51.100.88, 198.51.100.89"}, "found 2 addresses"),
        ({"client_count": "10", "burst": "11"}, "more than all 10 clients"),
        ({"ranges": "no", "ports": "50000-50999"}, "1000 entries of one port each"),
        ({"account": "a, b", "folder": "/srv/a"}, "found 1 for 2 accounts"),
        ({"account": "a, b", "rights": "list; read; write"}, "found rights for 3 of 2 accounts"),
        ({"system": "windows", "folder": "/srv/a"}, "as in C:\\Transfers\\keeper"),
        ({"folder": "C:\\in"}, "on a server that runs linux"),
        ({"ipv6": "fd00::1"}, "expected a public IPv6 address"),
        ({"clients_can": "ssh", "ports": "61200-61210"}, "--client-count has no meaning with --clients-can ssh"),
        ({"device_inside": "10.61.8.20"}, "has already"),
        ({"outside": "2001:db8::1"}, "different families"),
        ({"behind": "nothing"}, "found “nothing” with the answers before it; expected router or cloud"),
        ({"clients_can": "plain", "typed": "x"}, "no meaning"),
        ({"folder": "in"}, "whole path"),
        ({"rights": "list, fly"}, "found the right “fly”"),
        ({"admin_port": "none", "admin_from": "10.0.0.0/8"}, "no meaning"),
    ],
)  # fmt: skip
def test_answers_without_sense_get_one_clear_line(told: dict[str, str], says: str, tmp_path: Path) -> None:
    done = run("new", *options(**{**TOLD, **told}), cwd=tmp_path)
    assert (done.returncode, done.stdout, list(tmp_path.iterdir())) == (2, "", [])
    assert says in " ".join(done.stderr.replace("│", " ").split())


def test_without_a_terminal_what_is_missing_is_named(tmp_path: Path) -> None:
    done = run("new", "--site", "Skerry Light", cwd=tmp_path)
    assert (done.returncode, "--address is needed" in done.stderr) == (2, True)


def test_nothing_is_overwritten_unless_forced_and_a_shut_folder_is_told(tmp_path: Path) -> None:
    (tmp_path / "skerry-light.site.yaml").write_text("mine")
    again = run("new", *options(**TOLD), cwd=tmp_path)
    assert (again.returncode, (tmp_path / "skerry-light.site.yaml").read_text()) == (2, "mine")
    assert run("new", *options(**TOLD), "--force", cwd=tmp_path).returncode == 0
    assert [each.name for each in tmp_path.iterdir()] == ["skerry-light.site.yaml"]
    shut = tmp_path / "shut"
    shut.mkdir(mode=0o555)
    refused = run_bound_by_modes("new", *options(**TOLD), "--save", shut / "a.site.yaml")
    assert (refused.returncode, "found that it cannot be written (permission denied)" in refused.stderr) == (2, True)


def test_every_question_is_an_option_of_the_same_name() -> None:
    shown = run("new", "--help").stdout
    named: list[Question] = list(shipped_questions())
    assert [each.key for each in named if f"--{each.key.replace('_', '-')}" not in shown] == []


SURVEYED = Survey(
    SurveyedHost(
        "skerry", "Debian 12", "linux",
        (
            OwnAddress(Address.parse("10.61.8.20"), "e0", "x", AddressSet.parse("10.61.8.0/24"), True),
            OwnAddress(Address.parse("10.99.0.2"), "e1", "x"),
        ),
        (WayOut(4, "e0", "x", source=Address.parse("10.61.8.20")),),
        (ListeningSocket("tcp", 2121, "x", program="proftpd"), ListeningSocket("tcp", 990, "x", program="ftpd"),
         ListeningSocket("tcp", 22, "x", program="sshd"), ListeningSocket("udp", 21, "x", program="ftpd")),
    ),
    Address.parse("10.61.8.1"),
)  # fmt: skip


def test_a_survey_answers_what_it_has_seen_of_the_host_that_goes_out() -> None:
    found = {key: each.answer for key, each in learnt_of([("s.json", SURVEYED)], []).items()}
    assert found == {
        "site": "skerry", "server": "skerry", "system": "linux", "address": "10.61.8.20", "subnet": "10.61.8.0/24",
        "lease": "dynamic", "behind": "router", "device_inside": "10.61.8.1", "control_port": "990",
    }  # fmt: skip
    bare = SurveyedHost("skerry", "x", "bsd", (OwnAddress(Address.parse("203.0.113.9"), "e0", "x", lease=False),))
    found = {key: each.answer for key, each in learnt_of([("s.json", Survey(bare, None))], []).items()}
    assert found == {
        "site": "skerry", "server": "skerry", "system": "other", "address": "203.0.113.9", "lease": "static",
        "behind": "nothing",
    }  # fmt: skip


@pytest.mark.parametrize(
    ("facts", "answers", "doubted"),
    [
        ({"port": 21}, {"control_port": "21"}, set()),
        ({"port": 2121}, {"control_port": "2121"}, {"control_port"}),
        ({"announced": Address.parse("10.61.8.20")}, {"address": "10.61.8.20"}, set()),
        (
            {"announced": Address.parse("198.51.100.88")},
            dict.fromkeys(("outside", "typed"), "198.51.100.88"),
            {"outside", "typed"},
        ),
        ({"ports": PortSet.parse("61200, 61300"), "sure": True}, {"ports": "61200-61300"}, set()),
        ({"ports": PortSet.parse("61200, 61300")}, {"ports": "61200-61300"}, {"ports"}),
        ({"typed": "skerry.example", "means": "tls"}, {"typed": "skerry.example", "clients_can": "tls"}, set()),
    ],
)
def test_a_visit_answers_what_it_has_seen_and_doubts_the_rest(
    facts: dict[str, Any], answers: dict[str, str], doubted: set[str]
) -> None:
    found = learnt_of([], [("v.json", VisitFacts(**facts))])
    assert {key: each.answer for key, each in found.items()} == answers
    assert {key for key, each in found.items() if each.doubt} == doubted


@pytest.mark.parametrize(
    ("key", "answer", "begins"),
    [
        ("outside", "unknown", "A ? is written"), ("admin_from", "unknown", "A ? is written"),
        ("outside", "100.64.0.9", "100.64.0.9 is a carrier's"),
        ("outside", "198.51.100.88", ""), ("clients_can", "plain", "Never a login in clear"),
        ("clients_can", "tls", ""),
        ("lease", "dynamic", "Let the router reserve it"), ("lease", "static", ""), ("system", "dynamic", ""),
        ("outside_lease", "dynamic", "Let clients type a name"), ("outside_lease", "reserved", ""),
    ],
)  # fmt: skip
def test_an_answer_that_asks_for_trouble_is_remarked_at_once(key: str, answer: str, begins: str) -> None:
    said = remark(key, answer)
    assert said.startswith(begins)
    assert bool(said) == bool(begins)


SHARED = {**TOLD, "outside": "198.51.100.88", "share": "21000-21099, 61200-61999"}


@pytest.mark.parametrize(
    ("told", "says"),
    [
        ({**SHARED, "outside_port": "21021", "ports": "61200-61231"}, ""),
        ({**SHARED, "outside_port": "2121", "ports": "61200-61231"}, "outside port 2121 is not all among your ports"),
        ({**SHARED, "outside_port": "21021", "ports": "62000-62031"}, "ports 62000-62031 is not all among your ports"),
        (
            {**TOLD, "clients_can": "plain", "behind": "nothing", "admin_port": "none"},
            "a login in clear across the internet",
        ),
        ({**TOLD, "behind": "firewall"}, "10.61.8.20 is a private address"),
        ({**TOLD, "outside": "2001:db8::1"}, "2001:db8::1 outside and 10.61.8.20 inside are of different families"),
        ({**TOLD, "admin_from": "2001:db8::/64"}, "from 2001:db8::/64 nobody administers 10.61.8.20"),
        (TOLD, ""),
    ],
)
def test_answers_that_no_site_can_have_are_refused_with_the_reason(told: dict[str, str], says: str) -> None:
    reason = refusal(answered(**told))
    assert reason.startswith(says)
    assert bool(reason) == bool(says)


def test_between_a_first_stage_and_the_next_no_login_in_clear_is_open_to_the_internet() -> None:
    answers = answered(**TOLD, inside_first="yes", inside="yes")
    overlay = Overlay(*(parse_site("stage", new_site(each)).site for each in (first_stage(answers), answers)))
    found = compared_overlay(overlay)
    assert found.order.is_safe
    made = [edit for step in found.order.steps for edit in step]
    for done in range(len(made)):
        assert not open_in_clear(Topology(overlay.between(made[: done + 1])))


def test_what_a_survey_has_seen_is_proposed_and_what_is_given_counts_more(tmp_path: Path) -> None:
    own = OwnAddress(Address.parse("10.61.4.20"), "e0", "x")
    kept = survey_result(Survey(SurveyedHost("gauge-store", "x", "windows", (own,))), "", taken_now())
    (tmp_path / "seen.json").write_bytes(as_json(kept).encode())
    words = options(site="Skerry", outside="198.51.100.88", server="store")
    done = run("new", *words, "--defaults", "--from-survey", "seen.json", "--save", "new.site.yaml", cwd=tmp_path)
    assert (done.returncode, done.stderr) == (0, "")
    site = parse_site("new", (tmp_path / "new.site.yaml").read_text()).site
    assert (site.server.name, site.server.system, str(site.server.address)) == ("store", "windows", "10.61.4.20")
    assert (site.server.category, site.accounts[0].home) == ("private", "C:\\Transfers\\station")
