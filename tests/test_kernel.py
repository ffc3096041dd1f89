"""The operating system's own packet filter as the referee of the prediction."""

import json
import random
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, Phase, given, seed, settings
from program import AFTER
from random_sites import sites
from side_by_side import compared

from eager_lantern.files.site_file import read_site
from eager_lantern.lab.kernel import missing_means, observed
from eager_lantern.lab.kernel_plan import lab_nodes
from eager_lantern.lab.probes import Probe, Seen

LACK = missing_means()
pytestmark = [pytest.mark.kernel, pytest.mark.skipif(bool(LACK), reason=LACK)]


@settings(
    max_examples=12, deadline=None, database=None, phases=[Phase.generate], suppress_health_check=list(HealthCheck)
)
@seed(61)
@given(sites())
def test_kernel_and_prediction_agree_on_random_sites(site: dict[str, Any]) -> None:
    found = compared(site, 120, random.Random(61))
    assert [each for each in found if each.differs] == [], json.dumps(site)


def probe(sender: str, to: str, port: int, source: str) -> Probe:
    return Probe(sender, "tcp", source, 5000, to, port)


def test_the_demo_site_lets_through_in_the_kernel_what_is_predicted() -> None:
    site = read_site(AFTER).site
    probes = [
        probe("field-station", "198.51.100.61", 21, "100.64.7.12"),
        probe("field-station", "198.51.100.61", 61455, "100.64.7.12"),
        probe("field-station", "198.51.100.61", 61199, "100.64.7.12"),
        probe("institute", "198.51.100.61", 61200, "10.90.3.14"),
        probe("institute", "198.51.100.61", 61456, "10.90.3.14"),
        probe("old-logger", "198.51.100.61", 22, "203.0.113.140"),
        probe("office-desk", "10.61.4.20", 22, "10.61.4.90"),
    ]
    seen = observed(site, probes, [21, 22, 61199, 61200, 61455, 61456])
    assert [each.outcome for each in seen] == ["ok", "ok", "silent", "ok", "refused", "silent", "ok"]
    assert (seen[0].at, seen[0].source, seen[3].source) == ("gauge-store", "203.0.113.9", "192.0.2.40")
    assert isinstance(seen[0], Seen)


def test_a_lab_leaves_nothing_behind() -> None:
    def namespaces() -> set[str]:
        return {str(each.readlink()) for each in Path("/proc").glob("[0-9]*/ns/net") if each.is_symlink()}

    before = namespaces()
    observed(read_site(AFTER).site, [], [21])
    assert namespaces() <= before


def test_what_the_lab_does_not_build_is_said() -> None:
    site = read_site(Path(__file__).parent / "cases" / "whole.site.yaml").site
    with pytest.raises(ValueError, match="harbour-router: helpers, pools and idle timeouts are not built yet"):
        lab_nodes(site)
