"""What was seen, and what follows from it: looks, sessions, ranges, places and surveys, without a server."""

import json
import random
from pathlib import Path
from typing import Any

import msgspec
import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st
from plans import phone_plan_for
from program import AFTER, BEFORE

from eager_lantern.core.findings.surveyed import survey_findings
from eager_lantern.core.model.site import Site
from eager_lantern.core.network.topology import Topology, listens_on
from eager_lantern.core.observed.climb import Climb, PassiveReply, RungSeen
from eager_lantern.core.observed.compared import Outlook, parted, rows
from eager_lantern.core.observed.conclusions import conclusions
from eager_lantern.core.observed.looks import (
    BounceCheck,
    LoginThrottling,
    LoginTry,
    Remark,
    SshFacts,
    TlsFacts,
    bounce_checks,
    remarks,
    ssh_remarks,
    throttling_remarks,
)
from eager_lantern.core.observed.observation import observation_of
from eager_lantern.core.observed.phone import MOST_FIRST, Standing, expected, order_of, phone_position, standing_of
from eager_lantern.core.observed.range_estimate import estimated_range
from eager_lantern.core.observed.rehearsed import FateGroup, Observed, Rehearsed
from eager_lantern.core.observed.survey import NameSeen, OutsideSeen, Survey, SurveyedHost, WayOut
from eager_lantern.core.predict.endpoints import position_of
from eager_lantern.core.predict.session import predict
from eager_lantern.core.values.addresses import Address
from eager_lantern.core.values.ports import PortSet
from eager_lantern.formats.site.site_file import parse_site, read_site
from eager_lantern.formats.site.types import from_text

CASES = Path(__file__).parent / "cases"
SEEN = yaml.safe_load((CASES / "observed.yaml").read_text())
MEANS = yaml.safe_load((CASES / "surveyed.yaml").read_text())
PHONES = yaml.safe_load((CASES / "phones.yaml").read_text())
BESIDE = yaml.safe_load((CASES / "survey-findings.yaml").read_text())
CERTIFICATE = {
    "names": ["tides.example", "*.skerry.example"], "addresses": ["198.51.100.61"], "kind": "EC", "bits": 256,
    "starts": 1767225600, "ends": 1800000000, "key_digest": "", "digest": "",
}  # fmt: skip
TLS = {
    "at": 1780000000, "typed": "tides.example", "version": "TLSv1.3", "cipher": "x", "certificate": CERTIFICATE,
    "distrust": "", "login_in_clear": False, "data_protected": True, "resumes": None, "demands_resuming": None,
    "takes_old": False,
}  # fmt: skip
OFFER = {
    "version": "SSH-2.0-pier", "key_exchanges": ["curve25519-sha256"], "host_keys": ["ssh-ed25519"],
    "ciphers": ["aes256-ctr"], "checksums": ["hmac-sha2-256"],
}  # fmt: skip
SSH = {"kind": "ssh-ed25519", "bits": 0, "fingerprint": "SHA256:a", "expected": "SHA256:a"}


def named(cases: str) -> Any:
    """The cases of a look, one test each."""
    return pytest.mark.parametrize("case", SEEN[cases], ids=lambda case: case["name"])


def held(case: dict[str, Any], found: list[Remark]) -> None:
    """The remarks are poor, and open, where the case says so."""
    assert [each.topic for each in found if each.good is False] == case["poor"]
    assert {each.topic for each in found if each.good is None} >= set(case.get("open", ()))


@named("tls")
def test_what_is_poor_about_tls_is_called_so(case: dict[str, Any]) -> None:
    held(case, list(remarks(msgspec.convert({**TLS, **case["but"]}, TlsFacts))))


@named("ssh")
def test_what_is_poor_about_ssh_is_called_so(case: dict[str, Any]) -> None:
    offer = {key: case["but"].get(key, value) for key, value in OFFER.items()}
    facts = {key: case["but"].get(key, value) for key, value in SSH.items()}
    held(case, list(ssh_remarks(msgspec.convert({**facts, "offer": offer}, SshFacts))))


@named("bounce")
def test_a_server_that_can_be_misused_is_called_so(case: dict[str, Any]) -> None:
    greeting, bounces, strangers = case["seen"]
    assert [each.good for each in bounce_checks(BounceCheck(greeting, bounces, "", strangers, ""))] == case["good"]


@named("ranges")
def test_a_range_is_known_as_well_as_what_was_handed_out_shows(case: dict[str, Any]) -> None:
    ports = [port for each in case["ports"] for port in ([each] if isinstance(each, int) else [each[0]] * each[1])]
    found = estimated_range(ports)
    assert (str(found.seen), found.habit, found.good) == (case["seen"], case["habit"], case["good"])
    assert (str(found.spanned), found.beyond) == (case["spanned"], case["beyond"])


@named("climbs")
def test_a_session_is_observed_as_it_ended(case: dict[str, Any]) -> None:
    rungs = tuple(RungSeen(rung, outcome, "") for rung, outcome in case["rungs"].items())
    climb = Climb("h:21", "tides", "pilot", "passive", rungs, reply=PassiveReply(61200, "198.51.100.61", False))
    stopped = climb.stopped_at
    assert (climb.observed, stopped and stopped.rung) == (case["observed"], case["stopped"])
    seen = observation_of(climb, "pilot", "tides", "x")
    fates = [[each.rung, each.outcomes[0]] for each in seen.fates]
    assert (seen.works, seen.reached, seen.more) == (case["works"], case["reached"], case["more"])
    assert fates == ([case["port"]] if case["port"] else [])


def of_words(case: dict[str, Any]) -> Survey:
    """A survey from the few words of a case."""
    host = SurveyedHost(
        "h", "s", "linux", ways_out=tuple(WayOut(family, "e", "x", tunnel="tunnel" in case) for family in (4,))
    )
    outside = [OutsideSeen(Address.parse(each), means, means) for means, each in case.get("outside", {}).items()]
    names = [
        NameSeen("n", by, by != "resolver", tuple(map(Address.parse, given)), 300)
        for by, given in case.get("names", {}).items()
    ]
    return Survey(host, None, tuple(outside), tuple(names))


@pytest.mark.parametrize("case", MEANS, ids=lambda case: case["name"])
def test_what_the_means_come_to_where_they_differ(case: dict[str, Any]) -> None:
    assert [(each.kind, each.good) for each in conclusions(of_words(case))] == [tuple(each) for each in case["follows"]]


def beside(case: dict[str, Any]) -> tuple[Site, Survey]:
    raw = yaml.safe_load(AFTER.read_text()) | case.get("site", {})
    site = parse_site("beside", json.dumps(raw)).site
    return site, of_host(case)


def of_host(case: dict[str, Any]) -> Survey:
    """A survey whose host is as the case says, and otherwise as the site."""
    plain = {"host": {"name": "h", "system": "s", "kind": "linux", **case.get("host", {})}}
    plain |= {key: case[key] for key in ("outside", "unknown") if key in case}
    return msgspec.convert(plain, Survey, dec_hook=from_text)


@pytest.mark.parametrize("case", BESIDE, ids=lambda case: case["name"])
def test_where_a_survey_parts_from_the_site(case: dict[str, Any]) -> None:
    found = survey_findings(*beside(case), case.get("of", ""))
    assert [(each.kind, each.severity, each.message) for each in found] == [tuple(each) for each in case["finds"]]
    assert [each.advice for each in found if "chmod" in each.advice] == case.get("changes_modes", [])


@named("rehearsed")
def test_where_a_rehearsal_parts_from_the_prediction(case: dict[str, Any]) -> None:
    topology = Topology(read_site(BEFORE).site)
    forecast = predict(topology, topology.site.promises[1], ())
    groups = tuple(FateGroup(PortSet.parse(ports), rung, outcome) for ports, rung, outcome in case["groups"])
    seen = (RungSeen("connect", "ok", ""), *([RungSeen(*case["ends"], "")] if case["ends"] else []))
    observed = Observed(Climb("h:21", "", "x", "passive", seen), groups, PortSet.parse(case.get("untried", "")))
    assert (observed.extent, list(Rehearsed(forecast, observed).differences)) == (case["extent"], case["parts"])


def test_what_works_from_one_place_and_not_from_another_points_at_the_way() -> None:
    ends: dict[str, tuple[Any, Any]] = {
        "here": ("list", "ok"),
        "pier": ("data", "silent"),
        "skerry": ("data", "silent"),
    }
    places = [Outlook(name, (Climb("h:21", "", name, "passive", (RungSeen(*end, ""),)),)) for name, end in ends.items()]
    told = parted(rows(places)[0], places)
    assert told.startswith("The server itself does its part: it works from here. What stops pier and skerry")
    assert parted(rows(places[1:])[0], places[1:]) == ""


def test_the_bound_on_what_lies_beyond_is_kept_as_often_as_it_says() -> None:
    chance, kept = random.Random(61), 0
    for _ in range(400):
        width = chance.randint(1, 600)
        found = estimated_range([61200 + chance.randrange(width) for _ in range(chance.randint(24, 400))])
        kept += 61200 + width - 1 - found.seen.highest <= found.beyond
    assert kept >= 366  # 95 in 100, less what chance takes once in a thousand times


def test_how_wrong_logins_are_slowed_down_is_told_in_words() -> None:
    quick, slow = LoginTry(0.01), LoginTry(3.0)
    assert [each.good for each in throttling_remarks(LoginThrottling((quick,) * 6))] == [False, False]
    assert [each.good for each in throttling_remarks(LoginThrottling((quick, quick, slow)))] == [True]
    assert (LoginThrottling((quick, quick, slow)).slower_from, LoginThrottling((slow, slow)).slower_from) == (3, 1)
    barred = list(throttling_remarks(LoginThrottling((quick, quick), "127.0.0.1:21 refuses the connection")))
    assert [(each.topic, each.good) for each in barred] == [("delay", False), ("barring", True)]
    assert [each.good for each in throttling_remarks(LoginThrottling((LoginTry(0.1, let_in=True),)))] == [False]


@pytest.mark.parametrize(
    ("address", "stands"),
    [
        ("203.0.113.9", "outside"), ("198.51.100.61", "hairpin"), ("10.61.4.1", "hairpin"), ("10.61.4.77", "inside"),
        ("192.168.1.4", "inside"), ("127.0.0.1", "inside"), ("100.64.9.9", "unknown"), ("2001:db8::9", "outside"),
    ],
)  # fmt: skip
def test_where_a_phone_stands_is_read_from_the_address_that_it_comes_by(address: str, stands: Standing) -> None:
    topology = Topology(read_site(AFTER).site)
    assert standing_of(topology, Address.parse(address)) == stands
    network = {"outside": "internet", "unknown": "internet"}.get(stands, "office")
    assert phone_position(topology, Address.parse(address), "").name == network


def test_a_neighbour_by_ipv6_is_inside_though_its_address_is_public() -> None:
    case = next(each for each in PHONES if "IPv6" in each["name"])
    text = case["site"].replace('{name: spit, subnet: "2001:db8:61::/64"}', '{name: spit, subnet: "2001:db8:61::/112"}')
    topology = Topology(parse_site("neighbours", text).site)
    assert standing_of(topology, Address.parse("2001:db8:61::a:b:c")) == "inside"
    assert standing_of(topology, Address.parse("2001:db8:62::1")) == "outside"
    host = {
        "lantern": 1, "site": "Bar", "server": {"name": "bar", "network": "internet", "address": "198.51.100.20"},
        "services": [{"name": "tides", "protocol": "ftp", "control_port": 21, "passive": {"ports": "61200-61209"}}],
    }  # fmt: skip
    alone = Topology(parse_site("alone", json.dumps(host)).site)
    stands = [standing_of(alone, Address.parse(each)) for each in ("198.51.100.20", "198.51.100.21")]
    assert stands == ["inside", "outside"]  # the server itself, and a neighbour


@given(st.sets(st.integers(1, 65_535), min_size=1, max_size=4_000))
def test_every_port_is_tried_once_and_of_many_a_spread_comes_first(numbers: set[int]) -> None:
    ports = PortSet.of(*((each, each) for each in numbers))
    order = order_of(ports)
    assert sorted(order) == sorted(numbers)
    first = order[:MOST_FIRST]
    assert {min(numbers), max(numbers)} <= set(first)
    assert list(first) == sorted(first)


def test_the_page_is_at_ports_that_arrive_and_to_which_a_browser_goes() -> None:
    before = phone_plan_for(BEFORE, "21, 61200-61455")
    assert before is not None
    assert (str(before.ports), str(before.barred), before.pages) == ("61200-61455", "21", (61200, 61327, 61263))
    held = phone_plan_for(AFTER, "61200-61209", "21, 61210")
    assert held is not None
    assert (str(held.ports), str(held.held), str(held.barred), held.pages[:2]) == (
        "61200-61210", "61210", "", (61200, 61209),
    )  # fmt: skip
    none = phone_plan_for(BEFORE, "61400-61401")
    assert none is not None
    assert (none.arrive, none.pages) == (False, (61400, 61401))
    assert phone_plan_for(AFTER, "21") is None


def test_what_the_lamp_lets_in_is_what_is_expected_of_the_ports_that_are_lit() -> None:
    topology = Topology(read_site(BEFORE).site)
    service = topology.site.services[0]
    target, lit = Address.parse("198.51.100.61"), listens_on(service) - PortSet.parse("61300")
    found = expected(topology, position_of(topology, "internet"), target, PortSet.parse("61200-61455"), lit)
    assert (str(found.arrives), found.unknown) == ("61200-61299, 61301-61327", PortSet())
