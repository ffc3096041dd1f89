"""The cheapest changes that keep every promise: what they may not do, and how they are written into the file."""

import json
import random
import shutil
from pathlib import Path
from typing import Any

import msgspec
import pytest
import yaml
from faulty_sites import branches, entry_of, faulty_site, held_against, places_of, several_faults, undone_cost
from hypothesis import HealthCheck, assume, example, given, settings
from hypothesis import strategies as st
from program import AFTER, BEFORE, DATA, result_of, run
from rich_sites import rich_sites
from test_sites import changed as altered_base
from working_sites import working_site

from eager_lantern.core.diagnosis.diagnosis import settled
from eager_lantern.core.diagnosis.fault import changes_in
from eager_lantern.core.diagnosis.faults import faults_of
from eager_lantern.core.findings.all import predicted
from eager_lantern.core.mending.effect import Before
from eager_lantern.core.mending.mend import mend
from eager_lantern.core.mending.parts import cheapest, parts_of
from eager_lantern.core.mending.plan import Mending, Wishes
from eager_lantern.core.mending.search import Search
from eager_lantern.core.model.change import Change, changed
from eager_lantern.core.model.consistency import problems
from eager_lantern.core.model.site import Site
from eager_lantern.core.sheets.all import Sheets
from eager_lantern.core.sheets.difference import change_pages
from eager_lantern.core.sheets.sheet import Grid, Sheet, SheetPart
from eager_lantern.core.values.ports import PortSet
from eager_lantern.core.verdict import judge
from eager_lantern.formats.site.edits import edited, mended_text
from eager_lantern.formats.site.site_file import parse_site, read_site
from eager_lantern.formats.weights import shipped_costs

COSTS = shipped_costs()
QUICK = settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck))


def is_harmless(site: Site, found: Mending) -> None:
    """No promise is worse than before, all are kept that can be told, and nothing is let in beyond need."""
    if found.plan is None:
        return
    after = changed(site, *found.plan.changes)
    assert problems(after) == []
    for before, then in zip(predicted(site).forecasts, predicted(after).forecasts, strict=True):
        assert then.kept is True or (then.kept is None and before.kept is None)
    assert Before(site).effect(found.plan.changes).harmless


def broken(seed: int) -> Site:
    """A working site with two faults that its own file has."""
    chance = random.Random(seed)
    site = settled(parse_site("working", json.dumps(working_site(chance))).site)
    for each in chance.sample(faults_of(site), 2):
        changes = changes_in(chance.choice(each.variants))
        if each.changes_site and not problems(changed(site, *changes)):
            site = changed(site, *changes)
    return site


@QUICK
@given(st.integers(0, 10_000))
def test_a_plan_breaks_no_promise_and_lets_in_nothing_beyond_need(seed: int) -> None:
    site = broken(seed)
    is_harmless(site, mend(site, COSTS))


def is_held_against_what_was_meant(seed: int) -> None:
    """The plan for a site with foreign entries and faults keeps all promises, costs no more than to undo the faults by
    hand, and by plain reading neither loses what passed nor opens what was not meant. With another range on the server
    the meant one is one of two, and which of them cannot be known."""
    faulty = faulty_site(seed)
    meant, found = (parse_site("site", json.dumps(each)).site for each in (faulty.meant, faulty.found))
    assume(judge(meant).verdict == "kept")
    plan = mend(found, COSTS).plan
    if judge(found).verdict == "kept" or plan is None:
        return
    after = changed(found, *plan.changes)
    assert judge(after).verdict == "kept"
    ambiguous = {place[0] for place in faulty.places} & {"other range", "range slip"}
    lost, needless = held_against(faulty, json.loads(json.dumps(msgspec.to_builtins(after, enc_hook=str))))
    assert ambiguous or (lost, needless) == ([], [])
    twice = len(set(map(entry_of, faulty.places))) < len(set(faulty.places))  # one change can open what the other has
    assert ambiguous or twice or plan.cost <= undone_cost(faulty)


@settings(QUICK, max_examples=12)
@given(st.integers(0, 1_000_000))
def test_a_plan_takes_nothing_away_that_was_meant_and_opens_nothing_that_was_not(seed: int) -> None:
    is_held_against_what_was_meant(seed)


@pytest.mark.sweep
@pytest.mark.parametrize("part", range(5))
@settings(max_examples=30, deadline=None, suppress_health_check=list(HealthCheck))
@given(seed=st.integers(0, 200_000))
def test_many_plans_take_nothing_away_that_was_meant_and_open_nothing_that_was_not(part: int, seed: int) -> None:
    is_held_against_what_was_meant(part * 200_000 + seed)


@pytest.mark.sweep
@settings(QUICK, max_examples=12)
@given(rich_sites())
def test_a_plan_for_any_site_at_all_does_no_harm(data: dict[str, Any]) -> None:
    site = parse_site("random", json.dumps(data)).site
    is_harmless(site, mend(site, COSTS))


def test_faults_that_have_nothing_to_do_with_one_another_are_mended_apart_at_the_least_cost() -> None:
    found = mend(parse_site("branches", json.dumps(branches(6))).site, COSTS)
    assert (found.verdict, found.least, found.tried) == ("mended", True, 3 * 6)
    assert found.plan is not None
    assert (len(found.plan.steps), found.plan.cost) == (6, found.at_least)


@pytest.mark.sweep
@settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.integers(0, 1_000_000))
def test_parts_searched_apart_cost_what_all_of_it_searched_at_once_does(seed: int) -> None:
    site = parse_site("site", json.dumps(faulty_site(seed).found)).site
    start = predicted(site)
    whole = Search(site, COSTS, start, Wishes())
    assume(not whole.arrived(start))
    assume(len(parts_of(start, whole.goals)) > 1)
    apart, at_once = cheapest(site, COSTS, start, Wishes())[1], whole.cheapest(1)
    assert [each.cost for each in apart.plans[:1]] == [each.cost for each in at_once.plans[:1]]
    assert not at_once.complete or apart.complete


def test_a_search_that_is_cut_short_says_so_and_does_no_harm(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("eager_lantern.core.mending.search.MOST_STATES", 1)
    site = read_site(BEFORE).site
    found = mend(site, COSTS)
    assert (found.verdict, found.least) == ("mended", False)
    is_harmless(site, found)


def test_what_opens_more_than_the_promises_need_is_no_plan() -> None:
    site = read_site(AFTER).site
    ports, rules = PortSet.parse("20-21"), ("server", "filter", "incoming", "rules")
    let_in = Change((*rules, 0, "ports"), None, ports)
    forwarded = Change(("gateways", 0, "forwards", 0, "ports"), None, ports)
    effect = Before(site).effect([let_in, forwarded])
    assert {(each.place, str(each.ports)) for each in effect.needless} == {("gauge-store", "20")}


STYLES = {"block": False, "mixed": None, "flow": True}


@pytest.mark.parametrize("style", STYLES)
@QUICK
@given(seed=st.integers(0, 10_000))
def test_only_the_lines_of_a_plan_change_and_they_say_what_it_says(style: str, seed: int) -> None:
    data = json.loads(json.dumps(msgspec.to_builtins(broken(seed), enc_hook=str)))
    text = yaml.safe_dump(data, default_flow_style=STYLES[style], sort_keys=False, width=10_000)
    text = "".join(f"{line}  # remark {i}\n" if line else "\n" for i, line in enumerate(text.splitlines()))
    source = parse_site("x.site.yaml", text)
    found = mend(source.site, COSTS)
    if found.plan is None:
        return
    after = mended_text(source, text, found.plan)
    assert parse_site("x.site.yaml", after).site == changed(source.site, *found.plan.changes)
    marks = [line.rpartition("# remark ")[2] for line in text.splitlines()]
    taken_out = sum(each.new is None for each in found.plan.changes)  # a line goes with its remark
    assert len([each for each in marks if f"# remark {each}\n" not in after]) <= taken_out
    kept = set(text.splitlines()) & set(after.splitlines())
    assert len(text.splitlines()) - len(kept) <= len(found.plan.changes)


BEFORE_IT = object()
"""An entry that comes before the one at the place."""
TEXTS = [
    ("a: {b: 1}", ("a", "c"), None, 2, "a: {b: 1, c: 2}"),
    ("a: {}", ("a", "c"), None, 2, "a: {c: 2}"),
    ("a:\n  b: 1  # one\nd: 3\n", ("a", "c"), None, 2, "a:\n  b: 1  # one\n  c: 2\nd: 3\n"),
    ("a:\n- b: 1\n  # last\nd: 3", ("a", 1), None, {"b": 2}, "a:\n- b: 1\n- b: 2\n  # last\nd: 3"),
    ("a: [1]", ("a", 1), None, 2, "a: [1, 2]"),
    ("a: {b: 1, c: 2}", ("a", "c"), 2, None, "a: {b: 1}"),
    ("a: {b: 1, c: 2}", ("a", "b"), 1, None, "a: {c: 2}"),
    ("a:\n  b: 1\n  c: 2\n", ("a", "b"), 1, None, "a:\n  c: 2\n"),
    ("a:\n- b  # one\nd: 3", ("a",), ("b",), ("b", "c"), "a:\n- b  # one\n- c\nd: 3"),
    ("a:\n- b\nd: 3", ("a",), ("b",), ("e", "c"), "a:\n- e\n- c\nd: 3"),
    ("a: '1-2'", ("a",), "1-2", "3-4", "a: '3-4'"),
    ('a: "21"', ("a",), "21", "22, 23", 'a: "22, 23"'),
    ("a: x", ("a",), "x", "yes", 'a: "yes"'),
    ("a: x", ("a",), "x", "2001:db8::1", 'a: "2001:db8::1"'),
    ("a: {b: 1}", ("a", "c", "d", 0), None, "e", "a: {b: 1, c: {d: [e]}}"),
    ("a: [c, d]", ("a", 1), BEFORE_IT, "b", "a: [c, b, d]"),
    ("a:\n  - c\n  # of d\n  - d", ("a", 1), BEFORE_IT, {"b": 1}, "a:\n  - c\n  - {b: 1}\n  # of d\n  - d"),
    ("a:\n- c  # one", ("a", 0), BEFORE_IT, "b", "a:\n- b\n- c  # one"),
    ("- c\n- d", (0,), BEFORE_IT, "b", "- b\n- c\n- d"),
    ("a: [{c: '1', b: 2}]", ("a", 1), None, {"b": 3, "d": 5, "c": "4"}, "a: [{c: '1', b: 2}, {c: '4', b: 3, d: 5}]"),
    ("a: []", ("a", 0), None, {"b": 1, "name": "x"}, "a: [{name: x, b: 1}]"),
    ("a:\n- c: 1\n  b: 2\nd: 0", ("a", 1), None, {"b": 3, "c": 4}, "a:\n- c: 1\n  b: 2\n- c: 4\n  b: 3\nd: 0"),
    ("a:\n  - c: 1\n    b: 2", ("a", 0), BEFORE_IT, {"b": 3}, "a:\n  - b: 3\n  - c: 1\n    b: 2"),
]


@pytest.mark.parametrize(("text", "place", "old", "new", "says"), TEXTS, ids=[each[4] for each in TEXTS])
def test_an_edit_keeps_the_style_of_what_is_around(text: str, place: Any, old: Any, new: Any, says: str) -> None:
    change = Change(place, None, new, inserts=True) if old is BEFORE_IT else Change(place, old, new)
    assert edited(text, (change,)) == says


def test_the_demo_site_is_mended_in_two_lines(tmp_path: Path) -> None:
    path = tmp_path / "x.site.yaml"
    shutil.copyfile(BEFORE, path)
    shown = run("mend", path, "--format", "json")
    result = result_of(shown.stdout)
    assert (shown.returncode, result["verdict"], result["written"]) == (1, "mended", False)
    assert path.read_text() == BEFORE.read_text()
    assert run("mend", path, "--write").returncode == 0
    pairs = list(zip(BEFORE.read_text().splitlines(), path.read_text().splitlines(), strict=True))
    assert [new.strip() for old, new in pairs if old != new] == [
        "- {name: data, protocol: tcp, ports: 61200-61455, to: 10.61.4.20}",
        "passive: {ports: 61200-61455, announce: 198.51.100.61, announce_inside: own}",
    ]
    assert run("check", path).returncode == 0
    again = run("mend", path, "--write")
    assert (again.returncode, "nothing to mend" in again.stdout) == (0, True)


def test_only_the_cures_of_a_kind_are_proposed_where_one_is_named() -> None:
    result = result_of(run("mend", BEFORE, "--cause", "range-mismatch", "--format", "json").stdout)
    assert [each["cures"] for each in result["plan"]["changes"]] == ["range-mismatch"]
    wrong = run("mend", BEFORE, "--cause", "range-mismach")
    assert (wrong.returncode, "did you mean “range-mismatch”" in wrong.stderr) == (2, True)


def test_a_cause_on_a_device_is_undone_there_as_the_file_has_it_if_the_file_is_right() -> None:
    done = run("mend", AFTER, "--cause", "forward-missing", "--format", "json")
    result = result_of(done.stdout)
    assert (done.returncode, result["plan"], result["patch"]) == (1, None, "")
    told = [(each["at"], each["line"], each["cure"]) for each in result["on_devices"]]
    assert told == [
        ("harbour-router", 17, "enter tcp 21 → 10.61.4.20 at harbour-router"),
        ("harbour-router", 18, "enter tcp 61200-61455 → 10.61.4.20 at harbour-router"),
    ]
    wrong = [run("mend", path, "--cause", kind) for path, kind in ((BEFORE, "forward-off"), (AFTER, "not-promised"))]
    assert [each.returncode for each in wrong] == [2, 2]
    assert "breaks promises itself" in wrong[0].stderr
    assert "can have that" in wrong[1].stderr


RULE = "- {name: control, action: allow, protocol: tcp, ports: 21}"


def altered(tmp_path: Path, rule: str) -> Path:
    """The working demo site with another rule for the control port."""
    text = AFTER.read_text()
    assert text.count(RULE) == 1
    (tmp_path / "x.site.yaml").write_text(text.replace(RULE, rule))
    return tmp_path / "x.site.yaml"


@pytest.mark.parametrize("name", ["admin", "", "controller of heating"])
def test_a_rule_that_serves_something_else_stays_and_one_is_added_beside_it(name: str, tmp_path: Path) -> None:
    path = altered(tmp_path, f"- {{action: allow, name: {json.dumps(name)}, protocol: tcp, ports: 443}}")
    result = result_of(run("mend", path, "--format", "json").stdout)
    (change,) = [each["change"] for each in result["plan"]["changes"]]
    assert (change["from"], change["to"]["ports"]) == (None, "21")


def test_a_rule_whose_port_is_a_slip_is_corrected(tmp_path: Path) -> None:
    path = altered(tmp_path, "- {action: allow, protocol: tcp, ports: 12}")
    result = result_of(run("mend", path, "--format", "json").stdout)
    assert [(each["change"]["from"], each["change"]["to"]) for each in result["plan"]["changes"]] == [("12", "21")]


def test_what_check_cannot_tell_is_not_called_mended(tmp_path: Path) -> None:
    path = altered(tmp_path, "- {action: unknown, protocol: tcp, ports: 21}")
    done = run("mend", path)
    assert (done.returncode, "cannot tell: " in done.stdout, "nothing to mend" in done.stdout) == (3, True, False)


def test_where_nothing_in_the_file_helps_it_says_what_would() -> None:
    done = run("mend", DATA / "creek-carrier.site.yaml")
    assert done.returncode == 1
    assert "no change of the file helps" in done.stdout
    assert "yours to do: get a public address from the provider" in done.stdout


def test_what_no_change_of_the_file_cures_is_all_that_is_called_incurable() -> None:
    found = mend(read_site(DATA / "creek-carrier.site.yaml").site, COSTS)
    assert (found.verdict, found.plan, {each.kind for each in found.incurable}) == (
        "impossible", None, {"outside-address-not-public"},
    )  # fmt: skip
    assert all(each.kept is False for each in found.remaining)
    assert found.remaining != ()


def test_a_promise_that_was_unknown_before_may_stay_so_and_no_other_may() -> None:
    rule = "        - {name: remote-desk, action: allow"
    odd = "        - {name: odd, action: unknown, protocol: tcp, ports: 22, from: 10.61.4.90}\n"
    doubted = BEFORE.read_text().replace(rule, odd + rule)
    site = parse_site("doubted", doubted).site
    before, found = predicted(site), mend(site, COSTS)
    assert found.plan is not None
    assert None in {each.kept for each in before.forecasts}
    after = predicted(changed(site, *found.plan.changes))
    for then, now in zip(before.forecasts, after.forecasts, strict=True):
        assert now.kept is (None if then.kept is None else True)


def test_what_stands_in_an_alias_is_left_to_its_author(tmp_path: Path) -> None:
    path = tmp_path / "x.site.yaml"
    text = BEFORE.read_text().replace("ports: 61200-61327", "ports: &r 61200-61327")
    path.write_text(text.replace('ports: "80, 443"', "ports: *r"))
    done = run("mend", path, "--write")
    assert (done.returncode, done.stdout) == (2, "")
    assert "expected a change by hand" in done.stderr


def test_a_client_beside_the_server_is_sent_straight_to_it_where_the_router_hides_it() -> None:
    raw = working_site(random.Random(9))
    site = parse_site("beside", json.dumps(raw)).site
    found = mend(site, shipped_costs())
    assert found.plan is not None
    (step,) = found.plan.steps
    assert (step.finding.kind, step.change.place[::2]) == ("peer-address-changes", ("clients", "reaches"))


RANGE, PART = ("data", "TCP", "2-9"), ("data", "TCP", "2-5")
ROWS = [
    ([RANGE], [RANGE], [], []),
    ([PART], [RANGE], ["change row 1 (“data”): ports 2-5 → 2-9"], ["change row 1 back (“data”): ports 2-9 → 2-5"]),
    ([PART], [("a", "UDP", "1"), PART], ["add as row 1: name: a, protocol: UDP, ports: 1"], ["take row 1 out (“a”)"]),
    ([PART, ("-", "UDP", "1")], [PART], ["take row 2 out (UDP 1)"], ["add as row 2: protocol: UDP, ports: 1"]),
    (
        [("a", "TCP", "1"), ("b", "TCP", "2"), PART],
        [("a", "UDP", "1"), PART],
        ["change row 1 (“a”): protocol TCP → UDP", "take row 2 out (“b”)"],
        ["add as row 2: name: b, protocol: TCP, ports: 2", "change row 1 back (“a”): protocol UDP → TCP"],
    ),
]


@pytest.mark.parametrize(("before", "after", "steps", "back"), ROWS)
def test_what_changes_on_a_page_is_said_row_by_row_and_how_to_take_it_back(
    before: list[Any], after: list[Any], steps: list[str], back: list[str]
) -> None:
    def page(rows: list[Any]) -> Sheets:
        part = SheetPart("Forwards", grid=Grid(("name", "protocol", "ports"), tuple(rows)))
        return Sheets("x", "", (Sheet("router", "gateway", "", (part,)),))

    parts = [part for each in change_pages(page(before), page(after)) for part in each.parts]
    assert [list(each.steps) for each in parts] == ([steps, back] if steps else [])


def test_a_plan_states_what_to_enter_where_and_the_pages_of_a_change_are_written_alone(tmp_path: Path) -> None:
    shown = run("mend", BEFORE, "--format", "json")
    entered = {each["name"]: each["parts"][0] for each in result_of(shown.stdout)["entered"]}
    assert entered["harbour-router"]["steps"] == [
        "change row 2 (“data”): outside and inside ports 61200-61327 → 61200-61455"
    ]
    assert run("sheets", AFTER, "--since", BEFORE, "--into", tmp_path / "pages").returncode == 0
    pages = list((tmp_path / "pages").glob("*-harbour-router*.md"))
    assert [each.read_text().count("61200-61327") for each in pages] == [2]
    assert run("sheets", AFTER, "--since", AFTER, "--into", tmp_path / "none").returncode == 0
    assert [each.name for each in (tmp_path / "none").glob("*.md")] == ["00-what-changes.md"]


MENDED = yaml.safe_load((Path(__file__).parent / "cases" / "mended.yaml").read_text())


@pytest.mark.parametrize("case", MENDED, ids=lambda case: case["name"])
def test_a_small_site_is_mended_as_a_careful_engineer_would(case: dict[str, Any]) -> None:
    site = parse_site("small", json.dumps(altered_base(case))).site
    wishes = Wishes(**{key: frozenset(each) for key, each in case.get("wishes", {}).items()})
    found = mend(site, COSTS, wishes)
    assert found.verdict == case.get("verdict", "mended")
    made = [] if found.plan is None else list(found.plan.changes)
    shown = [[".".join(map(str, each.place)), msgspec.to_builtins(each.new, enc_hook=str)] for each in made]
    shown = json.loads(json.dumps(shown))
    assert sorted(shown, key=str) == sorted(case.get("changes", []), key=str)
    helps = [] if found.elsewhere is None else list(found.elsewhere.changes)
    assert [".".join(map(str, each.place)) for each in helps] == case.get("elsewhere", [])
    harms = [each for plan in found.harmful for each in plan.changes]
    assert "harmful" not in case or [".".join(map(str, each.place)) for each in harms] == case["harmful"]
    if found.verdict == "mended" and "wishes" not in case:
        cures = {each.cures[0] for each in judge(site).findings if each.severity == "breaks" and each.cures}
        assert {without_index(each) for each in cures} <= {without_index(each) for each in made}


def test_what_check_advises_is_whole_where_the_server_has_data_by_udp_as_well() -> None:
    passive = {"ports": "61200-61230", "protocols": ["tcp", "udp"], "announce": "198.51.100.61"}
    forward = {"name": "data", "protocol": "udp", "ports": "61200-61203", "to": "10.61.4.20"}
    allowed = {"server.filter": {"incoming": {"default": "allow"}}, "services.0.passive": passive}
    case = {"name": "both", "base": "one-router", "set": allowed | {"gateways.0.forwards.1": forward}}
    verdict = judge(parse_site("both", json.dumps(altered_base(case))).site)
    assert [each.advice for each in verdict.findings if each.severity == "breaks"] == [
        "set passive ports of tides to 61200-61203",
        "add under forwards: {name: tides, protocol: tcp, ports: 61200-61203, to: 10.61.4.20, from: 203.0.113.50}",
    ]


def without_index(made: Change) -> object:
    """What a change is, wherever in its list an entry stands once others have come before it."""
    return tuple(each for each in made.place if isinstance(each, str)), str(made.new)


def test_a_plan_that_takes_away_what_passes_is_shown_as_none_and_made_where_that_is_allowed(tmp_path: Path) -> None:
    path = tmp_path / "x.site.yaml"
    text = AFTER.read_text().replace("  address: 10.61.4.20\n", "  address: 10.61.4.27\n")
    vpn = "- {name: vpn, protocol: udp, ports: 1194, to: 10.61.4.27}"
    text = text.replace("    forwards:\n", f"    forwards:\n      {vpn}\n")
    data = "        - {name: data, action: allow"
    path.write_text(text.replace(data, f"        - {{name: vpn, action: allow, ports: 1194}}\n{data}"))
    shown = run("mend", path, "--never", "harbour-router")
    assert shown.returncode == 1
    assert "This would keep every promise, and is no plan:" in shown.stdout
    assert "gauge-store: udp port 1194, from carrier, internet" in shown.stdout
    result = result_of(run("mend", path, "--allow-loss", "--format", "json").stdout)
    assert [(each["change"]["to"], each["undo"]) for each in result["plan"]["changes"]] == [
        ("10.61.4.20", "set address: 10.61.4.27")
    ]
    assert {(each["host"], each["ports"]) for each in result["plan"]["takes_away"]} == {("gauge-store", "1194")}


def test_other_plans_are_shown_with_what_they_cost_and_a_device_that_is_left_alone_is_in_none(tmp_path: Path) -> None:
    path = tmp_path / "x.site.yaml"
    path.write_text(BEFORE.read_text().replace("{from_port: 20}", "{from_port: 20}\n    load: {burst: 8}"))
    shown = run("mend", path, "--at-most", "2")
    assert "Plan 2 costs " in shown.stdout
    result = result_of(run("mend", path, "--never", "harbour-router", "--format", "json").stdout)
    assert {each["device"] for each in result["plan"]["changes"]} == {"gauge-store"}
    wrong = run("mend", path, "--only", "harbour-rooter")
    assert (wrong.returncode, "did you mean “harbour-router”" in wrong.stderr) == (2, True)


def test_a_line_that_is_changed_no_longer_claims_to_be_as_a_device_was_read(tmp_path: Path) -> None:
    path = tmp_path / "x.site.yaml"
    forward = "ports: 61200-61327, to: 10.61.4.20}"
    path.write_text(BEFORE.read_text().replace(forward, f"{forward}   # as router.txt line 3, 2026-11-02"))
    assert run("mend", path, "--write").returncode == 0
    assert "# changed since; before as router.txt line 3, 2026-11-02" in path.read_text()


@settings(max_examples=15, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.integers(0, 100_000))
@example(48691)  # a change of the server spares the change of a carrier's rule that has a slip
def test_a_check_lists_every_fault_at_once_though_they_hide_one_another(seed: int) -> None:
    faulty = several_faults(seed)
    assume(faulty is not None)
    assert faulty is not None
    verdict = judge(parse_site("site", json.dumps(faulty.found)).site)
    found = [each.place for each in (*verdict.findings, *verdict.behind) if each.severity == "breaks"]
    stated = [place for fault in faulty.places if (place := places_of(fault, faulty.found))]
    assert [place for place in stated if not any(each[: len(place)] == place for each in found)] == []
