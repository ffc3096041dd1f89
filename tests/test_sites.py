"""Small sites worked out by hand, each held against the whole prediction."""

import copy
import json
from pathlib import Path
from typing import Any

import pytest
import yaml

from eager_lantern.core.verdict import Verdict, judge
from eager_lantern.files.shipped import finding_pages
from eager_lantern.files.site_file import parse_site

TABLE = yaml.safe_load((Path(__file__).parent / "cases" / "sites.yaml").read_text())


def changed(case: dict[str, Any]) -> dict[str, Any]:
    site = copy.deepcopy(TABLE["bases"][case["base"]])
    if "client" in case or "mode" in case:
        promise = {"client": case.get("client", "gauge"), "service": "tides", "mode": case.get("mode", "passive")}
        site["promises"] = [promise]
    for path, value in case.get("set", {}).items():
        holder, key = within(site, path)
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


@pytest.mark.parametrize("case", TABLE["cases"], ids=lambda case: case["name"])
def test_every_port_of_a_small_site_is_predicted_as_worked_out_by_hand(case: dict[str, Any]) -> None:
    forecast = judged(case).forecasts[0]
    stops = [[str(each.ports), each.outcome, each.at, each.reason] for each in forecast.stops]
    data = forecast.data
    if forecast.promise.holds == "works":
        assert sorted(map(str, stops)) == sorted(str([str(each[0]), *each[1:]]) for each in case.get("stops", []))
        assert forecast.rung == case.get("rung", "data" if "stops" in case else None)
        assert str(data.works if data else "") == str(case.get("works", ""))
    assert forecast.predicted == case["predicted"]
    assert forecast.kept == case.get("kept", {"works": True, "unknown": None}.get(case["predicted"], False))


@pytest.mark.parametrize("case", TABLE["cases"], ids=lambda case: case["name"])
def test_each_cause_is_found_once(case: dict[str, Any]) -> None:
    assert sorted(each.kind for each in judged(case).findings) == sorted(case.get("findings", []))


OWN_SAY = {"another peer", "session reuse", "address refused", "source address may change", "source port may change"}
LAYERED = [case for case in TABLE["cases"] if not any(stop[3] in OWN_SAY for stop in case.get("stops", ()))]


@pytest.mark.parametrize("case", LAYERED, ids=lambda case: case["name"])
def test_ports_that_every_layer_passes_are_the_ports_that_work(case: dict[str, Any]) -> None:
    for ledger in judged(case).ledgers:
        passed = ledger.layers[0].wanted
        for layer in ledger.layers:
            passed = passed & layer.ports
        assert passed == ledger.reachable


KINDS = yaml.safe_load((Path(__file__).parent / "cases" / "findings.yaml").read_text())


def kinds(case: dict[str, Any]) -> set[str]:
    return {each.kind for each in judged({"name": "finding", **case}).findings}


@pytest.mark.parametrize("case", KINDS, ids=lambda case: case["kind"])
def test_a_finding_is_shown_by_its_site_and_not_by_the_near_miss(case: dict[str, Any]) -> None:
    assert case["kind"] in kinds(case["shows"])
    assert case["kind"] not in kinds(case["spares"])


def test_every_finding_has_a_page_and_a_site_that_shows_it() -> None:
    assert {case["kind"] for case in KINDS} == set(finding_pages())
