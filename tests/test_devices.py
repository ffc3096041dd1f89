"""The register of device formats: each is recognised, read, written and documented; what is written reads back."""

import json
from pathlib import Path
from typing import Any

import pytest
import yaml
from hypothesis import HealthCheck, Phase, given, settings
from program import AFTER
from rich_sites import rich_sites

from eager_lantern.core.changes.adopted import DeviceConfig, Direction, ParsedValue, adopted
from eager_lantern.core.changes.steps import Overlay
from eager_lantern.core.model.site import Filter, Rule, Site
from eager_lantern.core.network.filters import compiled, rulings
from eager_lantern.core.network.flow import Flow
from eager_lantern.core.values.addresses import Address, AddressSet
from eager_lantern.core.values.ports import PortSet
from eager_lantern.formats.devices.format import DeviceTarget
from eager_lantern.formats.devices.register import endings, files_of, formats, read_files, recognised
from eager_lantern.formats.reading import BadInput
from eager_lantern.formats.site.site_file import parse_site, read_site

ROOT = Path(__file__).parents[1]
CASES = yaml.safe_load((ROOT / "tests" / "cases" / "devices.yaml").read_text())
KEPT_SURVEY = (ROOT / "tests" / "cases" / "kept-survey.json").read_text()
SITE = read_site(AFTER).site
QUICK = settings(deadline=None, max_examples=25, phases=[Phase.generate], suppress_health_check=list(HealthCheck))


def text_of(case: dict[str, Any]) -> str:
    """The text of a case; a whole survey stands in a file of its own."""
    return KEPT_SURVEY if case["text"] == "SURVEY" else str(case["text"])


@pytest.mark.parametrize("name", [each.name for each in formats()])
def test_a_format_is_recognised_alone_and_states_what_its_text_means(name: str) -> None:
    case = CASES["formats"][name]
    text, target = text_of(case), DeviceTarget(SITE, case["device"])
    assert [each.name for each in formats() if each.recognises("given", text)] == [name]
    found: dict[str, Any] = {}
    for config in read_files({"given": text, **case.get("beside", {})}, target):
        if config.direction == "out":
            continue
        for each in config.values:
            if config.subject in ("forwards", "rules"):
                found.setdefault(config.subject, []).append(str(each.value.ports))
            else:
                found[".".join(each.key)] = str(each.value)
    assert {key: found.get(key) for key in case["states"]} == case["states"]


def test_every_format_has_a_case_and_a_line_in_the_docs() -> None:
    page = (ROOT / "docs" / "devices.md").read_text()
    assert sorted(CASES["formats"]) == [each.name for each in formats()]
    assert [each.name for each in formats() if f"| `{each.name}` | {each.title} | {each.obtained} |" not in page] == []


def with_services() -> Site:
    """The demo with its service, another of FTP and one of SSH, and two accounts of the last."""
    raw = yaml.safe_load(AFTER.read_text())
    raw["services"][0]["name"] = "tides"
    raw["services"] += [
        {"name": "archive", "protocol": "ftp", "control_port": 2121, "passive": {"ports": "50000-50009"}},
        {"name": "nest", "protocol": "sftp", "control_port": 8022},
    ]
    raw["accounts"] = [{"name": name, "service": "nest"} for name in ("tide", "gauge")]
    raw["promises"] = []
    return parse_site("several", json.dumps(raw)).site


@pytest.mark.parametrize("case", CASES["settings"], ids=lambda case: case["name"])
def test_settings_of_several_servers_and_of_some_accounts_are_read_for_the_service(case: dict[str, Any]) -> None:
    target = DeviceTarget(with_services(), "gauge-store", service=case["service"])
    (config,) = read_files(case["files"], target)
    found = {".".join(each.key): str(each.value) for each in config.values}
    assert {key: found.get(key) for key in case["states"]} == case["states"]
    assert [each.text for each in config.skipped if not each.text.startswith("chroot")] == case["skips"]
    assert config.protocol == case.get("protocol", "sftp" if case["service"] == "nest" else "ftp")


@pytest.mark.parametrize("case", CASES["relatives"], ids=lambda case: case["says"][:40])
def test_what_is_close_to_a_format_is_told_what_to_give_instead(case: dict[str, str]) -> None:
    with pytest.raises(BadInput) as refused:
        recognised("given.txt", case["text"])
    assert case["says"] in str(refused.value)


def test_two_files_with_the_same_rules_are_refused_instead_of_one_being_ignored() -> None:
    text = CASES["formats"]["tables"]["text"]
    with pytest.raises(BadInput, match=r"found forwards, which a\.csv has as well"):
        read_files({"a.csv": text, "b.csv": text}, DeviceTarget(SITE, "harbour-router"))


@QUICK
@given(rich_sites())
def test_what_formats_write_of_a_service_reads_back_as_the_service(raw: dict[str, Any]) -> None:
    site = parse_site("rich", json.dumps(raw)).site
    ends = tuple(endings())
    for each in files_of(site):
        assert each.name.endswith(ends)
        if each.name.endswith(".nft"):  # what loads it is the kernel: tests/test_rulesets.py has it listed
            continue
        (config,) = read_files({each.name: each.text}, DeviceTarget(site, site.server.name))
        assert ("control_port",) in [value.key for value in config.values]
        again = adopted(site, site.server.name, each.owner, "in", [config])
        differs = [edit for edit in Overlay(site, again).edits if edit.path[-1:] != ("confined",)]
        assert [(edit.path, edit.old, edit.new) for edit in differs] == []


@pytest.mark.parametrize("direction", ["in", "out"])
@pytest.mark.parametrize(
    ("device", "sides"),
    [
        ("gauge-store", ("incoming", "outgoing")),
        ("office-desk", ("incoming", "outgoing")),
        ("harbour-router", ("inward", "outward")),
    ],
)
def test_rules_go_into_the_filter_that_they_are_of_and_into_no_other(
    device: str, sides: tuple[str, str], direction: Direction
) -> None:
    rule = Rule(action="allow", protocol="tcp", ports=PortSet.single(2222))
    config = DeviceConfig("x", "rules", (ParsedValue((), rule, 1),))
    assert (config.forwards, config.rules) == ((), (rule,))
    before = read_site(AFTER).site
    after = adopted(before, device, "", direction, [config])
    for name, side in zip(("in", "out"), sides, strict=True):
        tables = [getattr(_filter_of(site, device), side) for site in (before, after)]
        assert tables[1].rules == ((rule,) if name == direction else tables[0].rules)


def _filter_of(site: Site, device: str) -> Any:
    return next(each.filter for each in (*site.gateways, site.server, *site.clients) if each.name == device)


LISTS = yaml.safe_load((Path(__file__).parent / "cases" / "rule-lists.yaml").read_text())
LISTED = [pytest.param(kind, case, id=f"{kind}: {case['name']}") for kind, cases in LISTS.items() for case in cases]
AS_NEW = {
    "Name": "x", "DisplayName": "x", "Enabled": "True", "Profile": "Any", "Direction": "Inbound", "Protocol": "Any",
    "LocalPort": "Any", "RemotePort": "Any", "LocalAddress": "Any", "RemoteAddress": "Any", "Program": "Any",
    "Service": "Any", "InterfaceType": "Any",
}  # fmt: skip
HOST = """{"lantern": 1, "site": "a host", "networks": [{"name": "quay", "subnet": "10.61.4.0/24, 2001:db8:61::/64"}],
"server": {"name": "tide", "network": "quay", "address": "10.61.4.20, 2001:db8:61::20"%s},
"services": [{"name": "tides", "protocol": "sftp", "control_port": 22}], "promises": []}"""


def ended(configs: list[DeviceConfig], point: str, category: str | None) -> str:
    """What a filter that was read does with a connection."""
    way = "out" if point.startswith("out ") else "in"
    protocol, port, _, other, *came = point.removeprefix("out ").split()
    there = Address.parse(other)
    here = Address.parse("10.61.4.20" if there.family == 4 else "2001:db8:61::20")
    source, target = (there, here) if way == "in" else (here, there)
    return at_the_filter(configs, way, protocol, source, target, int(port), int(came[1]) if came else 40000, category)


def at_the_filter(
    configs: list[DeviceConfig], way: str, protocol: Any, source: Address, target: Address, port: int,
    came: int = 40000, category: str | None = None,
) -> str:  # fmt: skip
    """What the rules of a direction do with a connection."""
    (read,) = [each for each in configs if each.subject == "rules" and each.direction == way]
    assert read.default is not None
    table = compiled(Filter(default=read.default.default, rules=read.rules), (), category, {})
    flow = Flow(protocol, AddressSet.single(source), PortSet.single(came), target, PortSet.single(port))
    found = {each.action for each in rulings(table, flow)}
    return "unknown" if "unknown" in found else "allowed" if found == {"allow"} else "blocked"


@pytest.mark.parametrize(("kind", "case"), LISTED)
def test_a_list_of_rules_means_what_its_provider_documents(kind: str, case: dict[str, Any]) -> None:
    data = [AS_NEW | each for each in case["rules"]] if kind == "windows" else case["data"]
    texts = {"rules.json": json.dumps(data)}
    if "machine" in case:
        texts["machine.json"] = json.dumps(case["machine"])
    assert {recognised(name, text).name for name, text in texts.items()} == {kind}
    category = case.get("profile")
    site = parse_site("host", HOST % (f', "category": "{category}"' if category else "")).site
    configs = read_files(texts, DeviceTarget(site, "tide"))
    points = [(state, point) for state in ("allowed", "blocked", "unknown") for point in case.get(state, ())]
    assert [(ended(configs, point, category), point) for _, point in points] == points


EXPORTS = yaml.safe_load((Path(__file__).parent / "cases" / "router-exports.yaml").read_text())
ROUTER = """{"lantern": 1, "site": "a router", "networks": [{"name": "quay", "subnet": "10.61.4.0/24"}], "gateways": [
{"name": "router", "outside": {"network": "internet", "address": "198.51.100.61"},
"inside": {"network": "quay", "address": "10.61.4.1"}, "translate": "outward"}],
"server": {"name": "tide", "network": "quay", "address": "10.61.4.20"},
"services": [{"name": "tides", "protocol": "sftp", "control_port": 22}], "promises": []}"""


def through_the_router(configs: list[DeviceConfig], point: str) -> str:
    """What forwards and filter that were read do with a connection to the outside address, or one that leaves."""
    protocol, number, _, other = point.removeprefix("out ").split()
    port, there, here = int(number), Address.parse(other), Address.parse("10.61.4.20")
    if point.startswith("out "):
        return at_the_filter(configs, "out", protocol, here, there, port)
    switches = {each.key: each.value for config in configs if config.subject == "switches" for each in config.values}
    if port in switches[("unknown_ports",)].ports:
        return "unknown"
    for each in (forward for config in configs for forward in config.forwards):
        mine = each.enabled and each.protocol == protocol and port in each.ports
        if mine and (each.from_ is None or there.number in each.from_):
            if switches.get(("forwards_pass_filter",)):
                return "allowed"
            return at_the_filter(configs, "in", protocol, there, each.to, port + each.offset)
    return "blocked"


@pytest.mark.parametrize("case", EXPORTS, ids=lambda case: case["name"])
def test_an_export_of_a_router_means_what_the_router_does(case: dict[str, Any]) -> None:
    assert recognised("export", case["text"]).name == case["format"]
    target = DeviceTarget(parse_site("router", ROUTER).site, "router", inside=case.get("inside", ""))
    configs = read_files({"export": case["text"]}, target)
    switches = {each.key[0]: each.value for config in configs if config.subject == "switches" for each in config.values}
    assert {key: switches.get(key) for key in case.get("switches", {})} == case.get("switches", {})
    points = [(state, point) for state in ("allowed", "blocked", "unknown") for point in case.get(state, ())]
    assert [(through_the_router(configs, point), point) for _, point in points] == points
