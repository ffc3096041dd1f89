"""Small sites worked out by hand, each held against the whole prediction."""

import copy
import json
import re
from pathlib import Path
from typing import Any, get_args
from unittest.mock import ANY

import pytest
import yaml
from msgspec import Struct

from eager_lantern.core.findings.all import findings, studied
from eager_lantern.core.findings.finding import FindingKind
from eager_lantern.core.model.site import Refusal
from eager_lantern.core.network.flow import Reason
from eager_lantern.core.network.topology import Topology
from eager_lantern.core.predict.access import with_unknown_open
from eager_lantern.core.predict.endpoints import position_of
from eager_lantern.core.predict.forecast import Stop, because, blame, error_of
from eager_lantern.core.predict.kinds import kinds_of_client
from eager_lantern.core.predict.walk import NoSuchWalk, addresses_at, position_at, walk_to
from eager_lantern.core.sheets.all import sheets_of
from eager_lantern.core.values.addresses import Address, Family
from eager_lantern.core.values.ports import PortSet
from eager_lantern.core.values.text_value import dotted
from eager_lantern.core.verdict import Verdict, judge
from eager_lantern.formats.devices.register import files_of
from eager_lantern.formats.results.base import plain
from eager_lantern.formats.results.check import check_result
from eager_lantern.formats.shipped import finding_pages, usual_names
from eager_lantern.formats.site.site_file import parse_site
from eager_lantern.views.check import Shown, check_view
from eager_lantern.views.screen import rendered

TABLE = yaml.safe_load((Path(__file__).parent / "cases" / "sites.yaml").read_text())
CASES = [*TABLE["cases"], *TABLE["beyond_a_lab"]]


def changed(case: dict[str, Any], table: dict[str, Any] = TABLE) -> dict[str, Any]:
    site, case = copy.deepcopy((table["bases"][case["base"]], case))
    if "client" in case or "mode" in case:
        promise = {"client": case.get("client", "gauge"), "service": "tides", "mode": case.get("mode", "passive")}
        site["promises"] = [promise]
    for path, value in case.get("set", {}).items():
        holder, key = within(site, path)
        if isinstance(holder, list) and key == len(holder):
            holder.append(value)
        else:
            holder[key] = value
    for path, value in case.get("add", {}).items():
        holder, key = within(site, path)
        holder[key].append(value)
    for path, value in case.get("put", {}).items():
        holder, key = within(site, path)
        holder[key].insert(0, value)
    for path in case.get("drop", ()):
        holder, key = within(site, path)
        del holder[key]
    return site


def within(site: Any, path: str) -> tuple[Any, Any]:
    *way, last = [int(part) if part.isdigit() else part for part in path.split(".")]
    for part in way:
        site = site[part]
    return site, last


def judged(case: dict[str, Any]) -> Verdict:
    return judge(parse_site(case["name"], json.dumps(changed(case))).site)


@pytest.mark.parametrize("case", CASES, ids=lambda case: case["name"])
def test_every_port_of_a_small_site_is_predicted_as_worked_out_by_hand(case: dict[str, Any]) -> None:
    forecast = judged(case).forecasts[0]
    stops = [[str(each.ports), each.outcome, each.at, each.reason] for each in forecast.stops]
    data = forecast.data
    if forecast.promise.holds == "works":
        assert sorted(map(str, stops)) == sorted(str([str(each[0]), *each[1:]]) for each in case.get("stops", []))
        assert forecast.rung == case.get("rung", "data" if "stops" in case else None)
        assert str(data.works if data else "") == str(case.get("works", ""))
    assert next((each.answer for each in forecast.stops if each.answer), None) == case.get("answer", ANY)
    assert because(forecast) == case.get("says", ANY)
    assert (forecast.predicted, forecast.place) == (case["predicted"], ("promises", 0))
    assert forecast.kept == case.get("kept", {"works": True, "unknown": None}.get(case["predicted"], False))


REASONS = (*get_args(Reason), None)


def test_every_reason_is_told_in_a_clause_of_its_own_with_who_stops_it() -> None:
    told = [blame(Stop(PortSet.single(21), "silent", "pier-store", None, each, None), "10.9.9.9") for each in REASONS]
    assert len(set(told)) == len(REASONS)
    assert [each for each in told if not re.search("pier-store|10.9.9.9|private (source )?address|circles", each)] == []


@pytest.mark.parametrize(
    ("answer", "family", "told_in", "error"),
    [
        ("reset", 4, 4, "connection refused"),
        ("port-unreachable", 6, 6, "connection refused"),
        ("host-unreachable", 4, 4, "no route to host"),
        ("host-unreachable", 6, 6, "no route to host"),
        ("host-unreachable", 6, 4, "network is unreachable"),
        ("prohibited", 4, 4, "no route to host"),
        ("prohibited", 6, 6, "permission denied"),
    ],
)
def test_a_refusal_is_called_what_a_client_sees(answer: Refusal, family: Family, told_in: Family, error: str) -> None:
    assert error_of(answer, family, told_in) == error


def test_an_address_to_walk_to_is_that_of_a_name_a_host_or_a_gateways_outside() -> None:
    case = {"base": "one-router", "set": {"names": [{"name": "tides.example", "addresses": ["198.51.100.61"]}]}}
    topology = Topology(parse_site("walk", json.dumps(changed(case))).site)
    outside = dict.fromkeys(("router", "tides.example"), "198.51.100.61")
    expected = {**outside, "store": "10.61.4.20", "192.0.2.7": "192.0.2.7"}
    assert {each: str(addresses_at(topology, each)[0]) for each in expected} == expected
    with pytest.raises(NoSuchWalk, match=r"no address, and no host.*did you mean “router”"):
        addresses_at(topology, "rooter")


def test_whoever_walks_from_an_address_stands_where_it_is() -> None:
    topology = Topology(parse_site("walk", json.dumps(changed({"base": "one-router"}))).site)
    found = {each: position_at(topology, each) for each in ("10.61.4.90", "10.61.4.77", "192.0.2.9", "office")}
    assert [(each.name, each.network) for each in found.values()] == [
        ("desk", "office"), ("10.61.4.77", "office"), ("192.0.2.9", "internet"), ("office", "office"),
    ]  # fmt: skip
    assert str(found["10.61.4.77"].sources) == "10.61.4.77"
    for text, says in (("10.61.4.20", "is store: a walk starts"), ("10.9.9.9", "no network of the site holds")):
        with pytest.raises(NoSuchWalk, match=says):
            position_at(topology, text)


@pytest.mark.parametrize("case", CASES, ids=lambda case: case["name"])
def test_each_cause_is_found_once(case: dict[str, Any]) -> None:
    assert sorted(each.kind for each in judged(case).findings) == sorted(case.get("findings", []))


FOUND = yaml.safe_load((Path(__file__).parent / "cases" / "found.yaml").read_text())


@pytest.mark.parametrize("case", FOUND["cases"], ids=lambda case: case["name"])
def test_what_the_kernel_has_shown_is_predicted(case: dict[str, Any]) -> None:
    forecast = judge(parse_site(case["name"], json.dumps(changed(case, FOUND))).site).forecasts[0]
    assert forecast.predicted == case["predicted"]


OWN_SAY = {"another peer", "session reuse", "address refused", "source address may change", "source port may change"}
OWN_SAY |= {
    "no announced address",
    "no common family",
    "reads it twice",
    "read apart",
    "TLS demanded",
    "EPSV unknown",
    "answers go elsewhere",
}
LAYERED = [case for case in TABLE["cases"] if not any(stop[3] in OWN_SAY for stop in case.get("stops", ()))]


@pytest.mark.parametrize("case", LAYERED, ids=lambda case: case["name"])
def test_ports_that_every_layer_passes_are_the_ports_that_work(case: dict[str, Any]) -> None:
    for ledger in judged(case).ledgers:
        passed = ledger.layers[0].wanted
        for layer in ledger.layers:
            passed = passed & layer.ports
        assert passed == ledger.reachable


SURVEYED = yaml.safe_load((Path(__file__).parent / "cases" / "survey-findings.yaml").read_text())
KINDS = yaml.safe_load((Path(__file__).parent / "cases" / "findings.yaml").read_text())


def kinds(case: dict[str, Any]) -> set[str]:
    return {each.kind for each in judged({"name": "finding", **case}).findings}


@pytest.mark.parametrize("case", KINDS, ids=lambda case: case["kind"])
def test_a_finding_is_shown_by_its_site_and_not_by_the_near_miss(case: dict[str, Any]) -> None:
    verdict = judged({"name": "finding", **case["shows"]})
    found = {(each.kind, dotted(each.place), each.advice) for each in verdict.findings}
    assert (case["kind"], case["at"], case["advises"]) in found
    assert case["kind"] not in kinds(case["spares"])


def test_every_finding_has_a_page_and_a_site_that_shows_it() -> None:
    of_files = {each for each in finding_pages() if each.startswith("certificate-")}  # in test_certificate.py
    of_files |= {"filter-differs"} | {kind for case in SURVEYED for kind, *_ in case["finds"]}  # in test_survey.py
    assert set(finding_pages()) == set(get_args(FindingKind))
    assert {case["kind"] for case in KINDS} == set(finding_pages()) - of_files


def reached(case: dict[str, Any]) -> set[tuple[str, str, str, str, str]]:
    """Who reaches what, by the JSON of a check."""
    source = parse_site("reach", json.dumps(changed(case)))
    found = plain(check_result(judge(source.site), source.line, "reach"))["reaches"]
    return {tuple(each[key] for key in ("network", "from", "host", "protocol", "ports")) for each in found}


def test_everybody_who_reaches_the_server_is_known_as_exact_sets() -> None:
    assert reached({"base": "one-router"}) == {("internet", "any", "store", "tcp", "21, 61200-61203")}
    only_some = {"gateways.0.forwards.1.from": "203.0.113.0/28", "gateways.0.forwards.0.to_port": 61200}
    assert reached({"base": "one-router", "set": only_some}) == {
        ("internet", "any", "store", "tcp", "61200"),
        ("internet", "203.0.113.0/28", "store", "tcp", "61200-61203"),
    }
    assert reached({"base": "rented"}) == {("internet", "any", "store", each, "1-65535") for each in ("tcp", "udp")}
    assert reached({"base": "two-routers"}) == {
        ("internet", "any", "store", "tcp", "21, 61200-61203"),
        ("between", "any", "store", "tcp", "21, 61200-61203"),
        ("office", "any", "guest", "tcp", "1-65535"),
        ("office", "any", "guest", "udp", "1-65535"),
    }


def test_an_inside_network_that_is_routed_reaches_what_the_filter_lets_in() -> None:
    case = {"base": "routed-six", "set": {"gateways.0.filter.inward.rules.0.to": "2001:db8:61::/80"}}
    assert reached(case) == {("internet", "any", "store", "tcp", "21, 61200-61203")}
    assert reached({"base": "routed-six", "set": {"gateways.0.filter.inward.rules.0.action": "deny"}}) == set()


def test_the_text_stays_one_screen_however_much_is_wrong() -> None:
    case = {"base": "one-router", "set": {
        "gateways.0.forwards.1.to": "10.61.4.2", "services.0.tls": {"mode": "none"}, "server.lease": "dynamic",
        "services.0.load": {"burst": 9}, "server.local_ports": "60000-62000", "services.1.control_port": 61203,
        "accounts": [{"name": each, "service": "tides", "home": "/", "confined": False} for each in ("root", "admin")],
    }}  # fmt: skip
    source = parse_site("wrong", json.dumps(changed(case)))
    verdict = judge(source.site)
    shown = Shown("wrong", source.line, usual_names)
    lines = rendered(check_view(verdict, shown), colour=False).splitlines()
    assert len(verdict.findings) > 9
    assert len(lines) <= 45
    assert f"and {len(verdict.findings) - 5} more, risks at most (--all shows them)" in "\n".join(lines)


@pytest.mark.parametrize(
    ("case", "sender", "to", "port", "end"),
    [
        # Each of these was once predicted otherwise than the kernel decides.
        (
            {"base": "one-router", "set": {"gateways.0.forwards.0.to": "203.0.113.50"}},
            "gauge", "198.51.100.61", 21, ("unknown", "leads back out", "router"),
        ),
        (
            {"base": "mobile-gauge", "set": {"gateways.1.translate": "none"}},
            "gauge", "198.51.100.61", 21, ("silent", "no way back", "internet"),
        ),
        (
            {"base": "routed-six", "set": {"gateways.0.filter.inward": {"default": "allow"}}},
            "gauge", "2001:db8:61::1", 21, ("silent", "the device itself", "wall"),
        ),
    ],
    ids=["a forward back to the outside", "a private source on the internet", "a router's inside address, routed to"],
)  # fmt: skip
def test_what_the_kernel_has_taught(
    case: dict[str, Any], sender: str, to: str, port: int, end: tuple[str, str, str]
) -> None:
    topology = Topology(parse_site("taught", json.dumps(changed(case))).site)
    (journey,) = walk_to(topology, position_of(topology, sender), (Address.parse(to),), port, "tcp", None)
    assert (journey.outcome, journey.reason, journey.end.at) == end


def made(site: dict[str, Any], change: dict[str, Any]) -> dict[str, Any]:
    """A site as YAML has it, with a change of a finding made by hand: set, added, or taken out."""
    site = copy.deepcopy(site)
    *way, last = [int(part) if part.isdigit() else part for part in re.findall(r"[^.\[\]]+", change["path"])]
    holder: Any = site
    for part, following in zip(way, [*way[1:], last], strict=True):
        if isinstance(part, str) and part not in holder:
            holder[part] = [] if isinstance(following, int) else {}
        holder = holder[part]
    if change["inserts"] or (isinstance(last, int) and last == len(holder)):
        holder.insert(last, change["to"])
    elif change["to"] is None:
        del holder[last]
    else:
        holder[last] = change["to"]
    return site


CURED = [
    *({"name": f"{each['kind']} {i}", **each["shows"]} for i, each in enumerate(KINDS)),
    *(each for each in TABLE["cases"] if each.get("findings")),
]


@pytest.mark.parametrize("case", CURED, ids=lambda case: case["name"])
def test_a_finding_is_gone_when_its_change_is_made_and_breaks_no_promise(case: dict[str, Any]) -> None:
    raw = changed(case)
    source = parse_site("cured", json.dumps(raw))
    before = plain(check_result(judge(source.site), source.line, "cured"))
    for finding in before["findings"]:
        if finding["change"] is None:
            continue
        mended = parse_site("cured", json.dumps(made(raw, finding["change"])))
        after = plain(check_result(judge(mended.site), mended.line, "cured"))
        key = (finding["kind"], finding["where"]["path"])
        assert key not in {(each["kind"], each["where"]["path"]) for each in after["findings"]}
        kept = [(one["kept"], two["kept"]) for one, two in zip(before["promises"], after["promises"], strict=True)]
        assert [pair for pair in kept if pair[0] is not False and pair[1] is not True and pair[0] is not pair[1]] == []


def test_no_change_is_told_that_opens_what_ought_to_be_shut() -> None:
    wide = {"services.1.keep_open_for": ["gauge"], "clients.0": {"name": "gauge", "network": "internet"}}
    rule = {"action": "allow", "ports": 22, "from": "10.61.4.0/24"}
    forward = {"ports": 22, "to": "10.61.4.20"}
    case = {
        "base": "one-router",
        "set": wide,
        "add": {"server.filter.incoming.rules": rule, "gateways.0.forwards": forward},
    }
    shut = next(each for each in judged({"name": "wide", **case}).findings if each.kind == "admin-locked-out")
    assert (dotted(shut.place), shut.cures) == ("server.filter.incoming.rules[2].from", ())


def test_what_is_open_and_ought_to_be_shut_is_mended_next() -> None:
    case = next(each for each in TABLE["cases"] if each["name"].startswith("shut to the internet, and open"))
    source = parse_site("open", json.dumps(changed(case)))
    shown = rendered(check_view(judge(source.site), Shown("open", source.line, usual_names)), colour=False)
    assert shown.rstrip().endswith("Next: eager-lantern mend open")


def test_what_one_change_of_the_server_cures_has_that_as_the_cure_of_each_finding() -> None:
    case = {"name": "finding", "base": "one-router", "set": {"services.0.passive.ports": "50000-50003"}}
    found = [each for each in judged(case).findings if each.severity == "breaks"]
    assert [(each.kind, each.advice) for each in found] == [
        ("range-mismatch", "set passive ports of tides to 61200-61203"),
    ] * 2


WITHOUT_A_CHANGE = {
    "account-broad", "account-privileged", "account-rights-conflict", "account-without-path",
    "active-ports-rest", "filter-off", "forward-table-full", "not-filled-in",
    "outside-address-not-public", "provider-blocks-port",
    "range-overlaps-local-ports", "range-overlaps-service", "range-too-small", "range-too-wide", "rule-unknown",
}  # fmt: skip


def test_every_kind_that_one_change_cures_is_shown_with_it() -> None:
    cured = set()
    for case in KINDS:
        source = parse_site("finding", json.dumps(changed({"name": "finding", **case["shows"]})))
        found = plain(check_result(judge(source.site), source.line, "finding"))["findings"]
        cured |= {each["kind"] for each in found if each["change"] is not None}
    assert {case["kind"] for case in KINDS} - cured == WITHOUT_A_CHANGE


def stands(site: Any, place: tuple[str | int, ...]) -> bool:
    """Whether a place names keys and entries that a site has."""
    for key in place:
        if isinstance(key, int):
            if not isinstance(site, tuple) or key >= len(site):
                return False
            site = site[key]
        else:
            name = f"{key}_" if key == "from" else key
            if not isinstance(site, Struct) or name not in site.__struct_fields__:
                return False
            site = getattr(site, name)
    return True


EVERY = [*CASES, *({"name": f"{each['kind']} {i}", **each["shows"]} for i, each in enumerate(KINDS))]


@pytest.mark.parametrize("case", EVERY, ids=lambda case: case["name"])
def test_every_place_that_is_told_stands_in_the_site(case: dict[str, Any]) -> None:
    known = studied(parse_site("places", json.dumps(changed(case))).site)
    forecasts = known.forecasts
    journeys = [
        *(j for each in forecasts for j in each.control),
        *(j for each in forecasts if each.data for j in each.data.journeys),
    ]
    layers = [layer for each in (*known.promises, *known.ways_in) for layer in (*each.control, *each.data)]
    told = {
        *(each.place for each in findings(known)), *(step.place for each in journeys for step in each.steps),
        *(stop.place for each in forecasts for stop in each.stops), *(layer.place for layer in layers),
    }  # fmt: skip
    assert [place for place in told if place is not None and not stands(known.topology.site, place)] == []


FIELDS = yaml.safe_load((Path(__file__).parent / "cases" / "fields.yaml").read_text())
EFFECTS = yaml.safe_load((Path(__file__).parent / "cases" / "effects.yaml").read_text())


@pytest.mark.parametrize("kind", EFFECTS)
def test_a_key_changes_pages_and_rule_files_where_its_row_states_so(kind: str) -> None:
    case, rows = EFFECTS[kind], FIELDS[kind]
    assert [key.rstrip("_") if key == "from_" else key for key in rows] == list(case["keys"])
    for (key, value), row in zip(case["keys"].items(), rows.values(), strict=True):
        below = {
            each if "." in each else f"{case['at']}.{each}": given
            for each, given in case["before"].get(key, {}).items()
        }
        linux = {"gateways.0.system": "linux", "server.system": "linux"}
        base = {"base": "one-router", "set": linux | below}
        before, after = changed(base), changed(base | {"set": base["set"] | {f"{case['at']}.{key}": value}})
        shows = {"predicted": judged_of, "pages": pages_of, "rules": rule_files_of}
        for column, texts in shows.items():
            claimed = row[column] is True or str(row[column]).startswith("by ")
            differs = texts(before) != texts(after)
            assert differs == claimed or (column == "predicted" and differs), (key, column, row[column])


def judged_of(site: dict[str, Any]) -> Any:
    verdict = judge(parse_site("x.site.yaml", yaml.safe_dump(site)).site)
    return [(each.control, each.data) for each in verdict.forecasts]


def pages_of(site: dict[str, Any]) -> Any:
    return plain(sheets_of(judge(parse_site("x.site.yaml", yaml.safe_dump(site)).site), "x.site.yaml", {}, {}))


def rule_files_of(site: dict[str, Any]) -> Any:
    written = files_of(parse_site("x.site.yaml", yaml.safe_dump(site)).site)
    return [each.text for each in written if each.name.endswith(".nft")]


def site_of(**parts: Any) -> Any:
    return parse_site("small", json.dumps(changed({"base": "one-router", **parts}))).site


def test_a_forward_that_moves_its_ports_is_switched_off_whole_where_one_of_them_opens_too_much() -> None:
    moving = {"ports": "2221-2223", "to": "10.61.4.20", "to_port": 21}
    opened = {"gateways.0.forwards": moving, "server.filter.incoming.rules": {"action": "allow", "ports": 22}}
    straight = {**opened, "gateways.0.forwards": {"ports": "22-23", "to": "10.61.4.20"}}
    cures = [
        {dotted(each.place): str(each.new) for found in findings(studied(site_of(add=add))) for each in found.cures}
        for add in (opened, straight)
    ]
    assert [each.get("gateways[0].forwards[2].enabled") for each in cures] == ["False", None]
    assert cures[1]["gateways[0].forwards[2].ports"] == "23"


@pytest.mark.parametrize(("required", "clear"), [(False, {False, True}), (True, {False})])
def test_clients_come_without_tls_as_well_where_the_service_leaves_it_the_choice(
    required: bool, clear: set[bool]
) -> None:
    found = kinds_of_client(site_of(set={"services.0.tls.required": required}))
    assert {each.clear for each in found} == clear


@pytest.mark.parametrize(("stated", "opened"), [("unknown", "inside"), ("kept", "kept"), ("outside", "outside")])
def test_where_all_that_is_unknown_is_let_pass_what_is_known_stays(stated: str, opened: str) -> None:
    found = with_unknown_open(site_of(set={"gateways.0.hairpin": True, "gateways.0.hairpin_source": stated}))
    assert found.gateways[0].hairpin_source == opened


def test_what_stops_the_data_of_active_mode_is_found_behind_a_control_connection_that_is_stopped() -> None:
    shut = {"gateways.0.forwards.0.enabled": False, "server.filter.outgoing": {"default": "deny", "rules": []}}
    found = findings(studied(site_of(mode="active", set=shut)))
    assert [each.kind for each in found if each.severity == "breaks"] == ["forward-off", "active-outgoing-blocked"]
