"""The operating system's own packet filter as the referee of the prediction."""

import json
import random
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pytest
import yaml
from hypothesis import HealthCheck, Phase, given, seed, settings
from program import AFTER, BEFORE, DATA
from rich_sites import rich_sites
from side_by_side import compared, rehearsed, rehearsed_on_loopback, told_apart
from test_sites import TABLE, changed

from eager_lantern.core.predict.logins import AT_LOGIN
from eager_lantern.formats.site.site_file import parse_site, read_site
from eager_lantern.lab.kernel import lab as kernel
from eager_lantern.lab.kernel.lab import KernelLab, LabMissing, missing_means
from eager_lantern.lab.kernel.layout import TooLarge, lab_nodes

LACK = missing_means()
FOUND = yaml.safe_load((Path(__file__).parent / "cases" / "found.yaml").read_text())
pytestmark = [pytest.mark.kernel, pytest.mark.skipif(bool(LACK), reason=LACK)]


@pytest.mark.sweep
@settings(max_examples=5, database=None, phases=[Phase.generate], suppress_health_check=list(HealthCheck))
@seed(61)
@given(rich_sites())
def test_kernel_and_prediction_agree_on_random_sites(site: dict[str, Any]) -> None:
    found = compared(site, 120, random.Random(61))
    assert [each for each in found if each.differs] == [], json.dumps(site)


ALL = [(TABLE, case) for case in TABLE["cases"]] + [(FOUND, case) for case in FOUND["cases"]]
NO_LAB = {"not filled in", *AT_LOGIN}
"""Reasons that no lab has: an address that nobody knows, and accounts of the server's own."""
ALL = [
    each for each in ALL if not NO_LAB & {stop[-1] for stop in each[1].get("stops", ())} and "'?'" not in str(each[1])
]


@pytest.mark.sweep
@pytest.mark.parametrize(("table", "case"), ALL, ids=[case["name"] for _, case in ALL])
def test_sessions_in_both_labs_end_as_predicted_for_small_sites(table: dict[str, Any], case: dict[str, Any]) -> None:
    site = parse_site(case["name"], json.dumps(changed(case, table))).site
    with ThreadPoolExecutor() as pool:
        beside = pool.submit(rehearsed_on_loopback, site)
        kernel_saw = rehearsed(site)
    assert (kernel_saw[0].reason, kernel_saw[0].forecast.predicted) == ("", case["predicted"])
    others = beside.result()
    for _ in range(3):  # on a busy machine a session may meet the port of another one
        if any(map(told_apart, kernel_saw, others)):
            others = rehearsed_on_loopback(site)
    for result, other in zip(kernel_saw, others, strict=True):
        # one address of many was tried: where login works for some of them alone, it may be any
        chance = result.forecast.predicted == "partly" and result.forecast.data is None
        assert result.agree is (None if result.forecast.predicted == "unknown" or chance else True), result.differences
        assert told_apart(result, other) == ""


def test_nobody_on_the_internet_has_a_way_to_a_carrier_address_though_a_router_there_has_it() -> None:
    results = rehearsed(read_site(DATA / "creek-carrier.site.yaml").site)
    assert [(each.forecast.predicted, each.agree) for each in results] == [("fails", True), ("works", True)]


@pytest.mark.sweep
def test_where_prediction_and_lab_part_the_packets_tell_where_it_was_lost() -> None:
    predicted, built = read_site(AFTER).site, read_site(BEFORE).site
    apart = [each for each in rehearsed(predicted, built) if each.agree is False]
    assert [(each.forecast.promise.client, each.parted_port) for each in apart] == [
        ("field-station", 61328),
        ("institute", 61328),
    ]
    assert apart[1].differences == ("ports 61328-61455: predicted works, observed silent at data",)
    asked = [(each.node, each.way) for each in apart[1].observations if each.what == "opens" and each.port == 61328]
    hops = [("institute", "out"), ("institute-wall", "in"), ("institute-wall", "out"), ("harbour-router", "in")]
    assert asked == hops


@pytest.mark.sweep
def test_packets_are_told_beside_a_client_on_the_server_host_too() -> None:
    both = {"clients.1": {"name": "page", "network": "office", "on_server": True, "reaches": "localhost"}}
    predicted, built = (
        parse_site("coast", json.dumps(changed({"base": "one-router", "set": both, "drop": drop}))).site
        for drop in ([], ["gateways.0.forwards.1"])
    )
    (apart,) = rehearsed(predicted, built)
    assert (apart.agree, apart.parted_port) == (False, 61200)
    assert {each.node for each in apart.observations} >= {"gauge", "router"}


def test_a_site_too_large_for_the_machine_is_refused_before_anything_is_built(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(kernel, "_free_bytes", lambda: 50_000_000)
    with pytest.raises(TooLarge, match="8 hosts and gateways need about 96 MB, 50 MB are free"):
        KernelLab(lab_nodes(read_site(AFTER).site))


def test_a_rule_set_that_the_kernel_refuses_is_told_by_its_device() -> None:
    nodes = lab_nodes(read_site(AFTER).site)
    from msgspec.structs import replace

    broken = [replace(nodes[0], rules="table inet lantern { chain x { no such rule; } }"), *nodes[1:]]
    with pytest.raises(LabMissing, match="gauge-store"), KernelLab(broken):
        pass


@pytest.mark.parametrize("command", ["unshare", "ip", "nft"])
def test_a_missing_means_is_named_with_its_package(command: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(kernel, "program", lambda name: None if name == command else f"/bin/{name}")
    assert missing_means() == f"{command} is missing: install the package {kernel.MEANS[command]}"
