"""Rule sets that the kernel has loaded and listed, some made by programs for it (public interface), read as rules of a
site and held against the kernel again."""

import json
import random
from pathlib import Path
from typing import Any

import pytest
import yaml
from front_ends import GATEWAY, HOST, PROGRAMS, held_against_kernel, made, missing, printed, saved
from program import AFTER, BEFORE, DATA, run
from random_gateways import (
    SIDES,
    came_back_otherwise,
    gateway_differences,
    old_gateway_differences,
    random_gateway,
    random_old_gateway,
)
from random_gateways import SITE as BORDER
from random_rulesets import FORMS, differences, listed, old_differences, random_iptables, random_ruleset
from working_sites import working_site

from eager_lantern.core.changes.adopted import adopted
from eager_lantern.core.predict.access import access, more
from eager_lantern.formats.devices.packet_filter.host import read_ruleset
from eager_lantern.formats.reading import BadInput
from eager_lantern.formats.site.site_file import parse_site, read_site
from eager_lantern.lab.kernel.lab import missing_means
from eager_lantern.live.own_process import program

LACK = missing_means()


@pytest.mark.sweep
@pytest.mark.kernel
@pytest.mark.skipif(bool(LACK), reason=LACK)
@pytest.mark.parametrize("seed", range(8))
def test_what_the_kernel_lists_is_read_as_what_it_does(seed: int, tmp_path: Path) -> None:
    chance = random.Random(seed)
    count, unknown, different = differences(random_ruleset(chance), tmp_path, chance)
    assert count == 48 > unknown
    assert different == []


OLD_LACK = LACK or ("" if program("iptables-restore") else "iptables is missing")


@pytest.mark.kernel
@pytest.mark.skipif(bool(OLD_LACK), reason=OLD_LACK)
@pytest.mark.parametrize("seed", range(8))
def test_what_iptables_saves_is_read_as_what_it_does(seed: int, tmp_path: Path) -> None:
    chance = random.Random(seed)
    count, unknown, different = old_differences(random_iptables(chance), tmp_path, chance)
    assert count == 48 > unknown
    assert different == []


OF_PROGRAMS = {f"{each}-{shape.name}": (each, shape, saved) for each in PROGRAMS for shape in (HOST, GATEWAY)}
OF_PROGRAMS |= {
    "firewalld-printed-host": ("firewalld", HOST, printed),
    "firewalld-printed-gateway": ("firewalld", GATEWAY, printed),
    "ufw-printed-host": ("ufw", HOST, printed),
}


@pytest.mark.sweep
@pytest.mark.kernel
@pytest.mark.timeout(3600)
@pytest.mark.skipif(bool(LACK), reason=LACK)
@pytest.mark.parametrize("case", OF_PROGRAMS)
def test_rules_of_a_program_with_random_options_are_read_as_what_the_kernel_does_with_them(
    case: str, tmp_path: Path
) -> None:
    name, shape, texts = OF_PROGRAMS[case]
    if lack := missing(name):
        pytest.skip(lack)
    for seed in range(2):
        chance, folder = random.Random(f"{case} {seed}"), tmp_path / str(seed)
        folder.mkdir()
        made(name, chance, shape, folder)
        count, _, different = held_against_kernel(folder, texts(folder), chance, shape)
        assert (different, count > 0) == ([], True)


@pytest.mark.kernel
@pytest.mark.skipif(bool(LACK), reason=LACK)
@pytest.mark.parametrize(
    "path", [each for each in sorted(DATA.glob("*.site.yaml")) if "system: linux" in each.read_text()]
)
def test_the_rule_file_that_sheets_writes_for_a_host_is_read_as_its_filter(path: Path, tmp_path: Path) -> None:
    site = read_site(path).site
    if site.server.system != "linux":
        pytest.skip("its server has another system")
    run("sheets", path, "--into", tmp_path / "pages")
    (file,) = (each for each in (tmp_path / "pages").glob("*.nft") if site.server.name in each.name)
    text = listed(file.read_text(), tmp_path, "nft -j")
    (reading, *_) = read_ruleset("listed", text, "in")
    again = adopted(site, site.server.name, "", "in", [reading])
    assert (more(access(site), access(again)), more(access(again), access(site))) == ((), ())


def ruleset(*expressions: list[dict[str, Any]]) -> str:
    chain = {
        "family": "inet",
        "table": "t",
        "name": "c",
        "type": "filter",
        "hook": "input",
        "prio": 0,
        "policy": "drop",
    }
    rules = [
        {"rule": {"family": "inet", "table": "t", "chain": "c", "handle": i, "expr": each}}
        for i, each in enumerate(expressions, start=4)
    ]
    neighbours = {"match": {"op": "==", "left": {"meta": {"key": "l4proto"}}, "right": "ipv6-icmp"}}
    first = {"rule": {"family": "inet", "table": "t", "chain": "c", "handle": 3, "expr": [neighbours, ACCEPT]}}
    return json.dumps({"nftables": [{"chain": chain}, first, *rules]})


DPORT = {"match": {"op": "==", "left": {"payload": {"protocol": "tcp", "field": "dport"}}, "right": 21}}
ICMP = {"match": {"op": "==", "left": {"payload": {"protocol": "icmp", "field": "type"}}, "right": "echo-request"}}
LIMIT, ACCEPT = {"limit": {"rate": 5, "per": "second"}}, {"accept": None}
DROP, REFUSE = {"drop": None}, {"reject": {"type": "tcp reset"}}
PORT_22 = {"match": {**DPORT["match"], "right": 22}}


def test_what_a_rule_in_doubt_may_match_is_unknown_and_what_follows_is_read() -> None:
    (reading, *_) = read_ruleset(
        "listed", ruleset([PORT_22, LIMIT, ACCEPT], [DPORT, ACCEPT], [DPORT, LIMIT, DROP]), "in"
    )
    assert [(each.action, str(each.ports), each.name) for each in reading.rules] == [
        ("unknown", "22", "chain c, handle 4"),
        ("allow", "21", ""),
    ]
    assert [(each.text, each.why.rpartition(": ")[2]) for each in reading.skipped] == [
        ("table t, chain c, handle 4", "what it may match is unknown"),
    ]


@pytest.mark.parametrize(
    ("expressions", "known"),
    [
        ([[DPORT, LIMIT, DROP]], []),
        ([[DPORT, LIMIT, ACCEPT], [DPORT, ACCEPT]], [("allow", "21")]),
        ([[LIMIT, {"log": None}], [DPORT, ACCEPT]], [("allow", "21")]),
        ([[DPORT, LIMIT, {"return": None}], [DPORT, ACCEPT]], [("unknown", "21")]),
        ([[DPORT, {"queue": None}], [DPORT, ACCEPT]], [("unknown", "21"), ("allow", "21")]),
        ([[DPORT, {"nobody knows": 5}, ACCEPT]], [("unknown", "21")]),
        ([[DPORT, LIMIT, REFUSE], [PORT_22, ACCEPT]], [("unknown", "21"), ("allow", "22")]),
    ],
)
def test_a_doubt_counts_only_where_what_follows_does_otherwise(expressions: Any, known: Any) -> None:
    (reading, *_) = read_ruleset("listed", ruleset(*expressions), "in")
    assert [(each.action, str(each.ports)) for each in reading.rules] == known


def test_what_a_site_cannot_say_does_no_harm_where_no_transfer_gets_as_far() -> None:
    (reading, *_) = read_ruleset("listed", ruleset([ICMP, LIMIT, ACCEPT], [DPORT, ACCEPT]), "in")
    assert [(each.action, str(each.ports)) for each in reading.rules] == [("allow", "21")]


def test_what_a_rule_in_doubt_is_called_is_a_name_that_a_site_file_can_have() -> None:
    text = ruleset([PORT_22, LIMIT, ACCEPT]).replace('"c"', json.dumps("c\x1b[31m\u202e\n" * 30))
    (reading, *_) = read_ruleset("listed", text, "in")
    (name,) = (each.name for each in reading.rules)
    assert name.isprintable()
    assert 0 < len(name) <= 80


def test_a_chain_that_jumps_to_itself_ends() -> None:
    jump = {"jump": {"target": "c"}}
    with pytest.raises(BadInput, match="deep"):
        read_ruleset("listed", ruleset([jump], [jump]), "in")


@pytest.mark.parametrize(
    "text", ['{"nftables": [', '{"nftables": 5}', '{"nftables": [{"rule": {}}]}', '{"nftables": []}']
)
def test_what_is_no_rule_set_is_one_line(text: str, tmp_path: Path) -> None:
    (tmp_path / "rules.json").write_text(text)
    done = run("adopt", AFTER, tmp_path / "rules.json", "--device", "gauge-store")
    assert (done.returncode, done.stderr.count("\n")) == (2, 1), done.stderr


OLDER = """# Generated by iptables-save v1.8.9 (nf_tables)
*filter
:INPUT DROP [0:0]
:OUTPUT ACCEPT [0:0]
-A INPUT -i lo -j ACCEPT
-A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
-A INPUT -p icmp -m icmp --icmp-type 8 -m limit --limit 5/sec -j ACCEPT
-A INPUT -s 10.61.4.0/24 -p tcp -m tcp --dport 22 -m comment --comment "remote desk" -j ACCEPT
[3:180] -A INPUT -p tcp -m multiport --dports 21,61200:61455 -j ACCEPT
{more}
COMMIT
"""


def older(more: str, tmp_path: Path, *options: str) -> Any:
    (tmp_path / "v4").write_text(OLDER.format(more=more))
    return run("adopt", AFTER, tmp_path / "v4", *options, "--format", "json")


def test_rules_of_iptables_become_those_of_the_file_and_the_missing_family_is_shut(tmp_path: Path) -> None:
    result = json.loads(older("", tmp_path, "--device", "gauge-store").stdout)
    reading, outgoing = result["configs"]
    assert (reading["direction"], outgoing["direction"]) == ("in", "out")
    rules = [each["value"] for each in reading["read"]]
    assert [(each["action"], each["ports"], each.get("from"), each.get("name")) for each in rules] == [
        ("allow", "22", "10.61.4.0/24", "remote desk"),
        ("allow", "21, 61200-61455", "0.0.0.0/0", None),
    ]
    assert result["comparison"]["verdict"] in ("same", "changed")


@pytest.mark.parametrize(
    ("line", "says"),
    [
        ("-A INPUT -p tcp --dport", "line 10: found a rule that is not understood"),
        ("-A INPUT -s 10.61.4.0/99 -j DROP", "line 10: found a rule that is not understood"),
        ('-A INPUT -m comment --comment "open', "line 10: found a rule that is not understood"),
        ("nonsense", "line 10: found “nonsense”"),
        ("-A INPUT -j INPUT", "more than 16 jumps deep"),
    ],
)
def test_what_is_no_rule_of_iptables_is_told_by_its_line(line: str, says: str, tmp_path: Path) -> None:
    done = older(line, tmp_path, "--device", "gauge-store")
    assert (done.returncode, says in done.stderr.replace("v4:10: ", "line 10: ")) == (2, True), done.stderr


@pytest.mark.parametrize(
    ("line", "what", "ports"),
    [
        ("-A INPUT -p tcp -m tcp --dport 80 -m limit --limit 5/sec -j ACCEPT", "-m limit", "80"),
        ("-A INPUT -i eth1 -p tcp -j ACCEPT", "iifname eth1", "1-65535"),
        ("-A INPUT -p udp -m conntrack --ctstatus ASSURED -j ACCEPT", "--ctstatus", "1-65535"),
        ("-A INPUT -p tcp -m tcp --dport 80 -j NFQUEUE --queue-num 1", "-j NFQUEUE", "80"),
        ("-A INPUT -p tcp -j MARK --set-xmark 0x1/0x1", "", ""),
    ],
)
def test_what_a_rule_of_iptables_in_doubt_may_match_is_unknown(
    line: str, what: str, ports: str, tmp_path: Path
) -> None:
    words = ("--device", "gauge-store", "--direction", "in")
    (reading,) = json.loads(older(line, tmp_path, *words).stdout)["configs"]
    assert [(each["line"], what in each["why"]) for each in reading["skipped"]] == [(10, True)] * bool(what)
    rules = [each["value"] for each in reading["read"]]
    unknown = [each.get("ports", "1-65535") for each in rules if each["action"] == "unknown"]
    assert unknown == [ports] * bool(what)


WORDS = yaml.safe_load((Path(__file__).parent / "cases" / "rulesets.yaml").read_text())


@pytest.mark.parametrize(
    ("case", "form"),
    [(case, form) for case in WORDS for form in (FORMS[1:3] if "nft" in case else ("iptables-save",))],
    ids=lambda each: each["name"] if isinstance(each, dict) else each,
)
def test_rule_sets_as_people_have_them_are_read_as_worked_out_by_hand(
    case: dict[str, Any], form: str, tmp_path: Path
) -> None:
    if "nft" in case and LACK:
        pytest.skip(LACK)
    (tmp_path / "rules").write_text(listed(case["nft"], tmp_path, form) if "nft" in case else case["saved"])
    beside = {tmp_path / each: case[each] for each in ("sets", "routing") if each in case}
    for path, text in beside.items():
        path.write_text(text)
    words = ["adopt", AFTER, tmp_path / "rules", *beside]
    words += ["--device", case["device"], *case.get("words", ())]
    words += ["--direction", "in"] if case["device"] == "gauge-store" else []
    done = run(*words, "--format", "json")
    assert done.returncode in (0, 1), done.stderr
    readings = json.loads(done.stdout)["configs"]
    rules = [each["value"] for one in readings if one["subject"] == "rules" for each in one["read"]]
    told = [f"{each['action']} {each.get('protocol', 'any')} {each.get('ports', 'all')}" for each in rules]
    assert told == case["rules"]
    keys = {each["key"]: each["value"] for one in readings if one["subject"] == "switches" for each in one["read"]}
    assert {key: keys.get(key) for key in case.get("keys", {})} == case.get("keys", {})
    skipped = [each for one in readings for each in one["skipped"] if "is unknown" in each["why"]]
    assert [each["text"].split(", handle")[0] for each in skipped] == case["unknown"]


def test_rules_of_one_family_are_not_taken_for_those_of_a_host_with_both(tmp_path: Path) -> None:
    (tmp_path / "v4").write_text(OLDER.format(more=""))
    text = AFTER.read_text().replace("  address: 10.61.4.20\n", '  address: [10.61.4.20, "2001:db8::20"]\n')
    text = text.replace("subnet: 10.61.4.0/24", 'subnet: ["10.61.4.0/24", "2001:db8::/64"]')
    (tmp_path / "x.site.yaml").write_text(text)
    one = run("adopt", tmp_path / "x.site.yaml", tmp_path / "v4", "--device", "gauge-store")
    assert (one.returncode, "add what ip6tables-save prints" in one.stderr) == (2, True)
    (tmp_path / "v6").write_text(
        OLDER.format(more="").replace("by iptables", "by ip6tables").replace("-s 10.61.4.0/24 ", "")
    )
    both = run("adopt", tmp_path / "x.site.yaml", tmp_path / "v4", tmp_path / "v6", "--device", "gauge-store")
    assert both.returncode in (0, 1), both.stderr


@pytest.mark.sweep
@pytest.mark.kernel
@pytest.mark.skipif(bool(OLD_LACK), reason=OLD_LACK)
@pytest.mark.parametrize("kind", [gateway_differences, old_gateway_differences], ids=["nft", "iptables"])
@pytest.mark.parametrize("seed", range(6))
def test_the_rules_of_a_gateway_are_read_as_what_it_does(seed: int, kind: Any, tmp_path: Path) -> None:
    chance = random.Random(seed)
    make = random_gateway if kind is gateway_differences else random_old_gateway
    count, unknown, different = kind(make(chance), tmp_path, chance)
    assert count == 60 > unknown
    assert different == []


@pytest.mark.kernel
@pytest.mark.skipif(bool(LACK), reason=LACK)
@pytest.mark.parametrize("path", [AFTER, BEFORE, DATA / "creek-carrier.site.yaml"], ids=lambda each: each.stem)
def test_the_rule_files_of_gateways_come_back_as_the_shipped_site(path: Path, tmp_path: Path) -> None:
    assert came_back_otherwise(read_site(path).site, tmp_path, "nft -j") == []


@pytest.mark.kernel
@pytest.mark.skipif(bool(LACK), reason=LACK)
@pytest.mark.parametrize("seed", range(6))
def test_the_rule_files_of_gateways_come_back_as_the_site_that_they_are_of(seed: int, tmp_path: Path) -> None:
    site = parse_site("working", json.dumps(working_site(random.Random(seed)))).site
    assert came_back_otherwise(site, tmp_path, FORMS[seed % len(FORMS)]) == []


ROUTER = """*nat
:PREROUTING ACCEPT [0:0]
:POSTROUTING ACCEPT [0:0]
-A PREROUTING -d 198.51.100.61/32 -p tcp --dport 21 -m comment --comment control -j DNAT --to-destination 10.61.4.20
-A PREROUTING -i out0 -p tcp -m tcp --dport 2222 -j DNAT --to-destination 10.61.4.20:22
{more}
-A POSTROUTING -o out0 -j MASQUERADE
COMMIT
*filter
:FORWARD DROP [0:0]
-A FORWARD -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
-A FORWARD -m conntrack --ctstate DNAT -j ACCEPT
-A FORWARD -i in0 -o out0 -p tcp -m multiport --dports 80,443 -j ACCEPT
COMMIT
"""


def adopted_router(more: str, tmp_path: Path, *options: str) -> Any:
    (tmp_path / "saved").write_text(ROUTER.format(more=more))
    (tmp_path / "x.site.yaml").write_text(json.dumps(BORDER))
    words = ["adopt", tmp_path / "x.site.yaml", tmp_path / "saved", "--device", "router"]
    return run(*words, "--outside", SIDES.outside, *options)


def test_a_gateways_forwards_filters_and_translation_go_into_the_file(tmp_path: Path) -> None:
    done = adopted_router("", tmp_path, "--inside", SIDES.inside, "--write")
    assert done.returncode in (0, 1), done.stderr
    (gateway,) = read_site(tmp_path / "x.site.yaml").site.gateways
    assert [(str(each.ports), str(each.to), str(each.to_port), each.name) for each in gateway.forwards] == [
        ("21", "10.61.4.20", "None", "control"),
        ("2222", "10.61.4.20", "22", ""),
    ]
    assert (gateway.translate, gateway.forwards_pass_filter, gateway.filter.inward.default) == ("outward", True, "deny")
    assert [(str(each.ports), each.action) for each in gateway.filter.outward.rules] == [("80, 443", "allow")]
    assert gateway.filter.outward.default == "deny"


def test_a_gateway_that_hides_the_inside_behind_an_address_of_nobody_is_told_and_nothing_taken(tmp_path: Path) -> None:
    line = "-A POSTROUTING -o out0 -j SNAT --to-source 198.51.100.99"
    done = adopted_router(line, tmp_path, "--inside", SIDES.inside, "--write")
    assert (done.returncode, "none of its own" in done.stderr) == (2, True), done.stderr
    assert json.loads((tmp_path / "x.site.yaml").read_text()) == BORDER


@pytest.mark.parametrize(
    ("kept", "kind", "unknown"),
    [("10.61.4.0/25", "outward", "10.61.4.0/25"), ("203.0.113.64/28", "none", "10.61.4.0/24")],
    ids=["private", "public"],
)
def test_of_an_inside_that_is_translated_in_part_the_other_part_leaves_as_nobody_knows(
    kept: str, kind: str, unknown: str, tmp_path: Path
) -> None:
    (tmp_path / "saved").write_text(ROUTER.format(more=f"-A POSTROUTING -o out0 -s {kept} -j ACCEPT"))
    networks = [{"name": "office", "subnet": ["10.61.4.0/24", "203.0.113.64/28"][: 2 if kind == "none" else 1]}]
    (tmp_path / "x.site.yaml").write_text(json.dumps({**BORDER, "networks": networks}))
    words = ["adopt", tmp_path / "x.site.yaml", tmp_path / "saved", "--device", "router", "--outside", SIDES.outside]
    done = run(*words, "--inside", SIDES.inside, "--write")
    assert done.returncode in (0, 1), done.stderr
    (gateway,) = read_site(tmp_path / "x.site.yaml").site.gateways
    rules = [(each.action, str(each.from_), str(each.ports)) for each in gateway.filter.outward.rules]
    assert (gateway.translate, rules[0], len(rules)) == (kind, ("unknown", unknown, "80, 443"), 2)


@pytest.mark.parametrize(
    ("line", "says", "unknown"),
    [
        ("-A PREROUTING -p tcp --dport 5:99 -j DNAT --to-destination 10.61.4.20:22", "95 ports to one", "5-99"),
        ("-A PREROUTING -p tcp --dport 5 -j DNAT --to-destination 10.61.4.20:22-23", "any port of several", "5"),
        ("-A PREROUTING -i out0 -p tcp --dport 5 -j REDIRECT --to-ports 22", "-j REDIRECT", "5"),
        ("-A PREROUTING -p tcp --dport 5 -m recent --rcheck -j DNAT --to-destination 10.61.4.20", "-m recent", "5"),
        ("-A PREROUTING -d 198.51.100.99 -p tcp --dport 5 -j DNAT --to-destination 10.61.4.20", "198.51.100.99", ""),
        ("-A PREROUTING -p tcp --sport 5 -j DNAT --to-destination 10.61.4.20", "the sender's port", "1-65535"),
    ],
)
def test_outside_ports_that_lead_where_a_site_cannot_say_are_unknown(
    line: str, says: str, unknown: str, tmp_path: Path
) -> None:
    done = adopted_router(line, tmp_path, "--inside", SIDES.inside, "--write", "--format", "json")
    assert done.returncode in (0, 1), done.stderr
    assert any(says in each["why"] for one in json.loads(done.stdout)["configs"] for each in one["skipped"])
    (gateway,) = read_site(tmp_path / "x.site.yaml").site.gateways
    assert str(gateway.unknown_ports.ports) == unknown


def test_a_gateways_rules_are_not_read_before_its_sides_are_named(tmp_path: Path) -> None:
    done = adopted_router("", tmp_path)
    assert (done.returncode, "--inside NAME" in done.stderr) == (2, True)


def test_the_master_switch_and_own_ports_of_a_system_are_read_as_sysctl_prints_them(tmp_path: Path) -> None:
    (tmp_path / "x.site.yaml").write_text(json.dumps(BORDER))
    lines = ("net.ipv4.ip_forward = 0", "net.ipv4.ip_local_port_range = 20000\t29999", "kernel.x = 1", "")
    (tmp_path / "system").write_text("\n".join(lines))
    for device in ("router", "store"):
        done = run("adopt", tmp_path / "x.site.yaml", tmp_path / "system", "--device", device, "--write")
        assert done.returncode in (0, 1), done.stderr
    site = read_site(tmp_path / "x.site.yaml").site
    assert (site.gateways[0].forwarding, str(site.server.local_ports)) == (False, "20000-29999")
    (tmp_path / "system").write_text("net.ipv4.ip_forward = on\n")
    wrong = run("adopt", tmp_path / "x.site.yaml", tmp_path / "system", "--device", "router")
    assert (wrong.returncode, "expected 0 or 1" in wrong.stderr) == (2, True)
    missing = run("adopt", tmp_path / "x.site.yaml", tmp_path / "system", "--device", "store")
    assert (missing.returncode, "found no line with net.ipv4.ip_local_port_range" in missing.stderr) == (2, True)
