"""Clients alike are worked out together: each must get what it gets when it is worked out by itself."""

import copy
import json
import re
from typing import Any

from hypothesis import HealthCheck, event, given, settings
from hypothesis import strategies as st
from random_sites import address, ranges
from rich_sites import rich_sites

from eager_lantern.core.findings.all import studied
from eager_lantern.core.network.topology import Topology
from eager_lantern.core.predict.ledger import measure
from eager_lantern.core.predict.session import predict
from eager_lantern.formats.site.site_file import parse_site

SEVERAL = 4


@st.composite
def crowded_sites(draw: st.DrawFn) -> dict[str, Any]:
    """A random site, one client of which stands there several times; filters may know some of them from others."""
    site = draw(rich_sites())
    promise = site["promises"][0]
    model = next(each for each in site["clients"] if each["name"] == promise["client"])
    taken = set(re.findall(r"[0-9.]+", json.dumps(site)))
    free = [each for i in range(30, 52) if (each := address(model["network"], i)) not in taken]
    for i, four in enumerate(free[: SEVERAL - 1], 1):
        twin = copy.deepcopy(model)
        six = f", 2001:db8:77::{i}" if model["network"] == "internet" and ":" in str(model.get("address")) else ""
        twin.update(name=f"twin-{i}", address=four + six)
        site["clients"].append(twin)
        site["promises"].append({**promise, "client": twin["name"]})
    if draw(st.booleans()):
        told_apart = {"action": draw(st.sampled_from(["deny", "refuse"])), "from": free[0]}
        if draw(st.booleans()):
            told_apart["ports"] = draw(ranges)
        for owner, way in [(site["server"], "incoming"), *((each, "inward") for each in site["gateways"])]:
            owner.get("filter", {}).get(way, {}).get("rules", []).insert(0, told_apart)
    return site


@settings(max_examples=40, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])
@given(crowded_sites())
def test_a_client_among_others_alike_is_told_what_it_is_told_alone(raw: dict[str, Any]) -> None:
    site = parse_site("random", json.dumps(raw)).site
    topology = Topology(site)
    for i, study in enumerate(studied(site).promises):
        assert study == measure(topology, predict(topology, site.promises[i], ("promises", i)))
        event(f"{study.forecast.promise.mode}, {study.forecast.predicted}")
