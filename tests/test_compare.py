"""Two states of a site held against each other: what is reported, the order of steps, the command as it is typed."""

import copy
import json
import os
import random
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace
from plain import Packet, arrive
from program import AFTER, BEFORE, result_of, run
from random_sites import NETWORKS, PORTS, held, sites
from test_sites import changed as changed_base
from working_sites import working_site

from eager_lantern.core.changes.moves import moves
from eager_lantern.core.changes.order import ordered
from eager_lantern.core.changes.states import Comparison, compare
from eager_lantern.core.changes.steps import Overlay
from eager_lantern.core.diagnosis.diagnosis import settled
from eager_lantern.core.diagnosis.faults import faults_of
from eager_lantern.core.findings.all import studied
from eager_lantern.core.mending.mend import mend
from eager_lantern.core.model.change import change, changed
from eager_lantern.core.model.consistency import problems
from eager_lantern.core.model.site import Filter, Promise, Rule, Site
from eager_lantern.core.predict.access import Reached, access, as_access, doors, more, other_doors
from eager_lantern.core.predict.passage import named, parts, passage
from eager_lantern.core.values.addresses import Address, Addresses
from eager_lantern.core.values.ports import PortSet
from eager_lantern.core.verdict import judge
from eager_lantern.formats.site.site_file import parse_site, read_site
from eager_lantern.formats.weights import shipped_costs

QUICK = settings(max_examples=30, deadline=None, suppress_health_check=list(HealthCheck))
FROM_PORTS = (5000, 60000)
Point = tuple[str, str, str, str, int]
"""Network, host, transport, source and port of the host."""


@st.composite
def pairs_of_sites(draw: st.DrawFn) -> tuple[dict[str, Any], dict[str, Any]]:
    """A site, and the same with forwards and filters of another."""
    before, other = draw(sites()), draw(sites())
    after = copy.deepcopy(before)
    for mine, theirs in zip(after["gateways"], other["gateways"], strict=False):
        for key in draw(st.lists(st.sampled_from(["forwards", "filter", "unmatched"]), unique=True)):
            mine[key] = theirs[key]
    if draw(st.booleans()):
        after["server"]["filter"] = other["server"]["filter"]
    return before, after


def points(site: dict[str, Any], network: str, source: str) -> Iterator[tuple[Point, Point]]:
    """What a sender reaches of hosts elsewhere and of the server, one packet after the other, by the plain reading: the
    port of the host, of those that are asked for directly as well, and the address and port that were asked for."""
    home = {each["name"]: each["network"] for each in (site["server"], *site["clients"])}
    for to in sorted({each for each in held(site) if ":" not in each}):
        for protocol in ("tcp", "udp"):
            for port in range(1, PORTS + 2):
                for source_port in FROM_PORTS:
                    packet = Packet(protocol, source, source_port, to, port)
                    end = arrive(site, network, packet, None, {"name": network}, [])
                    known = end.outcome == "ok" and end.packet.port <= PORTS + 1
                    if known and (home[end.at] != network or end.at == "store"):
                        asked = (network, to, protocol, source, port)
                        yield (network, end.at, protocol, source, end.packet.port), asked


def is_told(reached: tuple[Reached, ...], point: Point) -> bool:
    network, host, protocol, source, port = point
    return any(
        (each.network, each.host, each.protocol) == (network, host, protocol)
        and Address.parse(source).number in each.sources
        and port in each.ports
        for each in reached
    )


@pytest.mark.sweep
@QUICK
@given(pairs_of_sites(), st.sampled_from([*NETWORKS]), st.integers(0, 1))
def test_gains_and_losses_are_what_single_packets_tell(
    both: tuple[dict[str, Any], dict[str, Any]], network: str, number: int
) -> None:
    read = [parse_site("random", json.dumps(each)).site for each in both]
    before, after = (named(passage(each, parts(*read))) for each in read)
    source = {"internet": "203.0.113.200", "a": "10.1.0.201", "b": "192.0.2.60", "c": "10.3.0.201", "d": "192.0.2.120"}
    sender = both[0]["clients"][[*NETWORKS].index(network)]["address"] if number else source[network]
    ways_then, ways_now = (set(points(each, network, sender)) for each in both)
    then, now = ({behind for behind, _ in each} for each in (ways_then, ways_now))
    gained, lost = more(before, after), more(after, before)
    assert {each for each in now if is_told(gained, each)} == now - then
    assert {each for each in then if is_told(lost, each)} == then - now
    assert not {each for each in then if is_told(gained, each)}
    asked_then = {asked for _, asked in ways_then}
    opened = other_doors(doors(read[1]), doors(read[0]), as_access(gained))
    assert not {each for each in asked_then if is_told(opened, each)}
    assert {asked for behind, asked in ways_now if asked not in asked_then and not is_told(gained, behind)} == {
        asked for _, asked in ways_now if is_told(opened, asked)
    }


def other_state(seed: int) -> tuple[Site, Site]:
    """A working site and the same with up to three things otherwise, and a way in that has to stay open."""
    chance = random.Random(seed)
    data = working_site(chance)
    data["services"].append({"name": "desk-in", "protocol": "other", "control_port": 22, "keep_open_for": ["desk"]})
    incoming = data["server"]["filter"]["incoming"]
    incoming.setdefault("rules", []).append(
        {"name": "desk-in", "action": "allow", "protocol": "tcp", "ports": 22, "from": "10.61.4.0/24"}
    )
    before = after = settled(parse_site("working", json.dumps(data)).site)
    for each in chance.sample([each for each in faults_of(before) if each.changes_site], 3):
        way = chance.choice(each.variants)
        if not problems(changed(after, *way)):
            after = changed(after, *way)
    return (after, before) if chance.random() < 0.5 else (before, after)


def kept(site: Site) -> set[Promise]:
    """The promises that are kept, and the ways in that are open."""
    return {each.promise for each in studied(site).forecasts if each.kept is True}


@QUICK
@given(st.integers(0, 100_000))
def test_after_every_step_of_the_order_holds_what_holds_in_both(seed: int) -> None:
    before, after = other_state(seed)
    found = compare(before, after)
    both = kept(before) & kept(after)
    made = {i for i, each in enumerate(found.edits) if not found.device(each)}
    overlay = Overlay(before, after)
    for step in found.order.steps:
        made |= set(step)
        between = overlay.between(made)
        assert problems(between) == []
        assert both <= kept(between)
    assert overlay.between(made) == after
    assert found.order.is_safe or found.order.complete


@QUICK
@given(st.integers(0, 100_000))
def test_nothing_is_lost_exactly_where_all_that_was_kept_is_kept(seed: int) -> None:
    before, after = other_state(seed)
    worse = kept(before) - kept(after)
    assert (compare(before, after).verdict in ("lost", "unknown")) == bool(worse)


def changed_file(folder: Path, *pairs: tuple[str, str]) -> Path:
    text = AFTER.read_text()
    for old, new in pairs:
        assert old in text
        text = text.replace(old, new)
    path = folder / "changed.site.yaml"
    path.write_text(text)
    return path


def swapped() -> Comparison:
    """A server that moves its range: no single edit of forward, rule and range leaves a transfer whole."""
    before = read_site(AFTER).site
    text = AFTER.read_text().replace("61200-61455", "61500-61755")
    return compare(before, parse_site("moved", text).site)


def test_a_step_of_hundreds_of_changes_is_shown_in_part(tmp_path: Path) -> None:
    rules = "".join(f"        - {{action: allow, protocol: udp, ports: {20000 + i}}}\n" for i in range(320))
    wider = changed_file(tmp_path, ("        - {name: control,", f"{rules}        - {{name: control,"))
    short, long = run("compare", AFTER, wider).stdout, run("compare", AFTER, wider, "--all").stdout
    assert "308 more changes with them (--all shows them)" in short
    assert "--all" not in long
    assert long.count("add rule") == 320


def test_what_a_route_leads_to_through_a_translating_gateway_is_reached() -> None:
    gateway = {"name": "inner", "outside": {"network": "office", "address": "10.61.4.9"}, "translate": "outward",
               "inside": {"network": "store", "address": "10.62.0.1"}}  # fmt: skip
    desk = {"name": "desk", "network": "office", "address": "10.61.4.30"}
    site = {
        "lantern": 1,
        "site": "Quay",
        "networks": [{"name": "office", "subnet": "10.61.4.0/24"}, {"name": "store", "subnet": "10.62.0.0/24"}],
        "gateways": [gateway, {"name": "border", "outside": {"network": "internet", "address": "198.51.100.61"},
                               "inside": {"network": "office", "address": "10.61.4.1"}, "translate": "outward",
                               "routes": [{"to": "10.62.0.0/24", "via": "inner"}]}],
        "server": {"name": "shelf", "network": "store", "address": "10.62.0.20"},
        "clients": [desk],
    }  # fmt: skip
    routed = access(parse_site("quay", json.dumps(site)).site)
    assert ("office", "shelf", "tcp") in routed


def test_of_more_edits_than_are_looked_at_those_of_a_device_are_made_together() -> None:
    devices = ["router" if each % 3 else "store" for each in range(60)]
    found = ordered(range(60), devices, lambda made: True, 40)
    assert [{devices[each] for each in step} for step in found.steps] == [{"store"}, {"router"}]
    assert sorted(each for step in found.steps for each in step) == list(range(60))
    assert not found.complete


def test_what_can_only_be_done_at_once_is_said_to_be() -> None:
    found = swapped()
    assert not found.order.is_safe
    assert found.order.complete
    assert max(map(len, found.order.steps)) > 1


def test_a_loss_is_told_with_its_reason_and_ends_with_one() -> None:
    done = run("compare", AFTER, BEFORE)
    assert done.returncode == 1
    assert "◆ lost" in done.stdout
    assert "harbour-router has no forward for ports 61328-61455" in " ".join(done.stdout.split())


def test_what_leaves_is_compared_as_well_as_what_comes_in(tmp_path: Path) -> None:
    rules = "[{action: allow, protocol: tcp, ports: 443}, {action: allow, protocol: tcp, ports: 21, to: 203.0.113.30}]"
    gateway = f"    filter: {{outward: {{default: deny, rules: {rules}}}}}\n    forwards:\n"
    before = changed_file(tmp_path, ("    forwards:\n", gateway))
    narrower = before.read_text().replace("ports: 443", "ports: 8443").replace("to: 203.0.113.30", "to: 203.0.113.31")
    (tmp_path / "after.site.yaml").write_text(narrower)
    result = result_of(run("compare", before, tmp_path / "after.site.yaml", "--format", "json").stdout)
    turned = {
        kind: {(each["network"], each["host"], each["ports"]) for each in result[kind]} for kind in ("lost", "gained")
    }
    assert ("office", "203.0.113.30 on internet", "21, 443") in turned["lost"]
    assert ("office", "203.0.113.31 on internet", "21, 8443") in turned["gained"]
    assert not any(network == "internet" for kind in turned.values() for network, _, _ in kind)


def test_an_outside_port_that_moves_is_told_though_what_is_behind_is_reached_before_and_after(tmp_path: Path) -> None:
    moved = changed_file(tmp_path, ("tcp, ports: 21, to: 10.61.4.20", "tcp, ports: 2121, to: 10.61.4.20, to_port: 21"))
    result = result_of(run("compare", AFTER, moved, "--format", "json").stdout)
    told = [{(each["host"], each["ports"]) for each in result[kind]} for kind in ("doors_opened", "doors_closed")]
    assert told == [{("198.51.100.61", "2121")}, {("198.51.100.61", "21")}]
    shown = run("compare", AFTER, moved).stdout
    assert "Outside ports that lead in no longer" in shown
    assert "known no more" not in shown


def test_an_outside_port_that_perhaps_leads_in_no_more_is_told_though_another_leads_to_what_is_behind_it(
    tmp_path: Path,
) -> None:
    second = "    forwards:\n      - {protocol: tcp, ports: 2121, to: 10.61.4.20, to_port: 21}\n"
    before = changed_file(tmp_path, ("    forwards:\n", second))
    after = tmp_path / "after.site.yaml"
    after.write_text(before.read_text().replace(second, "    unknown_ports: 2121\n" + second))
    result = result_of(run("compare", before, after, "--format", "json").stdout)
    told = {kind: {(each["host"], each["ports"]) for each in result[f"doors_{kind}"]} for kind in ("closed", "unknown")}
    assert told == {"closed": set(), "unknown": {("198.51.100.61", "2121")}}
    assert (result["lost"], result["unknown"]) == ([], [])
    shown = " ".join(run("compare", before, after).stdout.split())
    assert "nobody knows any more whether they lead in" in shown
    assert "some is known no more" in shown.split("Promises")[0]


def test_a_gain_that_nobody_asked_for_is_told_apart(tmp_path: Path) -> None:
    wider = changed_file(tmp_path, ("ports: 61200-61455, to:", "ports: 61200-61500, to:"),
                         ("tcp, ports: 61200-61455}", "tcp, ports: 61200-61500}"))  # fmt: skip
    result = result_of(run("compare", AFTER, wider, "--format", "json").stdout)
    assert result["verdict"] == "changed"
    assert {(each["host"], each["ports"]) for each in result["unasked"]} == {("gauge-store", "61456-61500")}


@pytest.mark.parametrize(
    ("edit", "lost", "unknown"),
    [
        (("data, action: allow", "data, action: unknown"), set(), {"61200-61455"}),
        (("rules:\n        - {name: control,",
          "rules:\n        - {action: unknown, ports: 80}\n        - {name: control,"), set(), {"80"}),
        (("    forwards:\n", "    unknown_ports: 61400-61500\n    forwards:\n"), set(), {"61400-61455"}),
        (("    forwards:\n", "    unknown_ports: 61400-61500\n    forwards_pass_filter: false\n"
          "    filter: {inward: {default: deny, rules: [{action: allow, protocol: tcp, ports: 1-61399}]}}\n"
          "    forwards:\n"), set(), {"61400-61455"}),
        (("data, action: allow", "data, action: deny"), {"61200-61455"}, set()),
    ],
)  # fmt: skip
def test_what_nobody_knows_any_more_is_told_apart_from_what_is_lost(
    edit: tuple[str, str], lost: set[str], unknown: set[str], tmp_path: Path
) -> None:
    result = result_of(run("compare", AFTER, changed_file(tmp_path, edit), "--format", "json").stdout)
    assert {each["ports"] for each in result["lost"]} == lost
    assert {each["ports"] for each in result["unknown"]} == unknown


def test_what_is_unknown_in_both_is_never_the_same(tmp_path: Path) -> None:
    rule = "- {action: unknown, protocol: tcp, ports: 443}"
    one = changed_file(tmp_path, ("        - {name: control,", f"        {rule}\n        - {{name: control,"))
    done = run("compare", one, one)
    assert done.returncode == 3
    assert "◌ Not known in either state" in done.stdout
    text = one.read_text().replace("ports: 443", "ports: 21, from: 203.0.113.0/24")
    (tmp_path / "two.site.yaml").write_text(text)
    done = run("compare", tmp_path / "two.site.yaml", tmp_path / "two.site.yaml")
    assert done.returncode == 3
    assert "◌ not known" in done.stdout


def lines_of(*rules: str) -> Filter:
    return Filter(default="deny", rules=tuple(Rule(action="allow", ports=PortSet.parse(each)) for each in rules))


@pytest.mark.parametrize(
    ("old", "new", "expected"),
    [
        (("21", "443"), ("22", "443"), [("21", "22")]),
        (("443", "21", "80"), ("443", "22", "80"), [("21", "22")]),
        (("21", "80"), ("22", "81"), [("21", "22"), ("80", "81")]),
        (("21",), ("20", "21"), [(None, "20")]),
        (("21", "80"), ("22",), [("21", "22"), ("80", None)]),
    ],
)
def test_a_rule_without_a_name_whose_ports_change_is_one_change(
    old: tuple[str, ...], new: tuple[str, ...], expected: list[tuple[str | None, str | None]]
) -> None:
    overlay = Overlay(lines_of(*old), lines_of(*new))
    ports = [tuple(None if each is None else str(each.ports) for each in (e.old, e.new)) for e in overlay.edits]
    assert sorted(ports, key=str) == sorted(expected, key=str)
    assert overlay.between(range(len(overlay.edits))) == lines_of(*new)
    assert overlay.between(()) == lines_of(*old)


def test_while_an_address_moves_both_lead_in(tmp_path: Path) -> None:
    before = read_site(AFTER).site
    text = AFTER.read_text().replace("198.51.100.61", "198.51.100.99")
    found = compare(before, parse_site("moved", text).site)
    assert [(each.name, str(each.old), str(each.new)) for each in found.moves] == [
        ("tides.saltmarsh.example", "198.51.100.61", "198.51.100.99")
    ]
    assert found.bridge is not None
    assert found.bridge.holds
    assert [found.device(each) for each in found.bridge.edits] == ["harbour-router", "institute-wall", "gauge-store"]
    for typed in ("198.51.100.61", "198.51.100.99"):
        named = replace(found.bridge.site.names[0], addresses=Addresses((Address.parse(typed),)))
        assert kept(replace(found.bridge.site, names=(named,))) >= kept(before)
    (tmp_path / "moved.site.yaml").write_text(text)
    done = run("compare", AFTER, tmp_path / "moved.site.yaml")
    assert "lower the TTL of tides.saltmarsh.example to 5 min" in " ".join(done.stdout.split())
    assert "set outside.address from 198.51.100.61 to 198.51.100.99, 198.51.100.61" in " ".join(done.stdout.split())


def test_who_types_an_address_that_moves_goes_by_the_new_one_only_once_both_lead_in() -> None:
    typed = AFTER.read_text().replace(
        "10.90.3.14, reaches: tides.saltmarsh.example", "10.90.3.14, reaches: 198.51.100.61"
    )
    before = parse_site("typed", typed).site
    found = compare(before, parse_site("moved", typed.replace("198.51.100.61", "198.51.100.99")).site)
    assert [each.clients for each in found.moves if not each.name] == [("institute",)]
    assert found.bridge is not None
    assert found.bridge.holds
    assert "clients" not in {each.path[0] for each in found.bridge.edits}


def test_a_name_of_two_addresses_moves_where_one_of_them_does() -> None:
    before, after = (
        replace(site, names=(replace(site.names[0], addresses=Addresses.parse(f"198.51.100.61, {other}")),))
        for site, other in ((read_site(AFTER).site, "198.51.100.62"), (read_site(AFTER).site, "198.51.100.99"))
    )
    assert [each.name for each in moves(before, after)] == ["tides.saltmarsh.example"]
    assert moves(before, before) == ()


def test_a_way_in_that_a_promise_states_as_well_is_listed_as_one() -> None:
    site = read_site(AFTER).site
    for holds, listed in (("works", 1), ("shut", 0)):
        stated = replace(site, promises=(Promise(client="office-desk", service="remote-desk", holds=holds),))
        also = [each for each in compare(stated, stated).ways_in if each.promise in stated.promises]
        assert len(also) == listed


def test_what_can_be_done_singly_is_before_what_can_only_be_done_at_once() -> None:
    before = read_site(AFTER).site
    text = AFTER.read_text().replace("61200-61455", "61500-61755")
    rule = "        - {name: control,"
    alone = text.replace(rule, f"        - {{action: deny, protocol: udp, ports: 4}}\n{rule}")
    first, *others = compare(before, parse_site("moved", alone).site).order.steps
    assert (len(first), max(map(len, others)) > 1) == (1, True)


def test_where_no_state_has_both_addresses_that_is_said(tmp_path: Path) -> None:
    named = {"clients.0.reaches": "tides.coast.example",
             "names": [{"name": "tides.coast.example", "addresses": "198.51.100.61", "ttl": "1 h"}]}  # fmt: skip
    text = json.dumps(changed_base({"name": "old", "base": "one-router", "set": named}))
    (tmp_path / "old.site.yaml").write_text(text)
    other_line = text.replace("198.51.100.61", "198.51.100.99").replace('"router"', '"other"')
    (tmp_path / "new.site.yaml").write_text(other_line.replace('10.61.4.1"', '10.61.4.2"'))
    shown = " ".join(run("compare", tmp_path / "old.site.yaml", tmp_path / "new.site.yaml").stdout.split())
    assert "lower the TTL of tides.coast.example to 5 min, and wait 1 h, what it is now" in shown
    assert "no state in which both addresses lead in keeps what holds" in shown
    assert "found a second path between “internet” and “office”" in shown


def test_the_administrators_own_way_in_is_lost_where_the_file_drops_it(tmp_path: Path) -> None:
    without = changed_file(tmp_path, (", keep_open_for: [office-desk]", ""))
    done = run("compare", AFTER, without, "--format", "json")
    result = result_of(done.stdout)
    assert (done.returncode, result["verdict"]) == (1, "lost")
    assert [each["turn"] for each in result["ways_in"]] == ["dropped"]


def test_the_same_file_at_two_revisions(tmp_path: Path) -> None:
    site = tmp_path / "pier.site.yaml"
    shutil.copy(BEFORE, site)
    git = ["git", "-c", "user.name=tides", "-c", "user.email=tides@saltmarsh.example"]
    subprocess.run([*git, "init", "-q"], cwd=tmp_path, check=True)
    subprocess.run([*git, "add", "."], cwd=tmp_path, check=True)
    subprocess.run([*git, "commit", "-qm", "as it was"], cwd=tmp_path, check=True)
    shutil.copy(AFTER, site)
    done = run("compare", "HEAD:pier.site.yaml", "pier.site.yaml", "--format", "json", cwd=tmp_path)
    result = result_of(done.stdout)
    assert (result["before"], result["verdict"]) == ("HEAD:pier.site.yaml", "changed")
    assert [each["turn"] for each in result["promises"]].count("gained") == 2
    wrong = run("compare", "HEAD~7:pier.site.yaml", "pier.site.yaml", cwd=tmp_path)
    assert (wrong.returncode, wrong.stderr.count("\n")) == (2, 1)
    assert "nor one at a revision of git" in wrong.stderr


PLANTED = (
    "core.fsmonitor", "core.hooksPath", "core.sshCommand", "core.gitProxy", "core.askPass", "core.pager", "core.editor",
    "core.alternateRefsCommand", "sequence.editor", "credential.helper", "diff.external", "diff.x.textconv",
    "diff.x.command", "filter.x.smudge", "filter.x.clean", "filter.x.process", "gpg.program", "gpg.ssh.program",
    "merge.x.driver", "mergetool.x.cmd", "difftool.x.cmd", "pager.cat-file", "alias.cat-file", "interactive.diffFilter",
    "uploadpack.packObjectsHook", "remote.origin.uploadpack", "remote.origin.vcs", "submodule.x.update", "man.x.cmd",
    "browser.x.cmd", "web.browser", "trailer.x.command", "sendemail.sendmailCmd", "tar.x.command", "rebase.exec",
)  # fmt: skip
"""What a repository's configuration can have git run."""


@pytest.mark.parametrize("name", ["HEAD:pier.site.yaml", ":pier.site.yaml", ":0:pier.site.yaml", "HEAD:gone.site.yaml"])
def test_nothing_that_a_strangers_repository_plants_is_run(name: str, tmp_path: Path) -> None:
    mark, planted = tmp_path / "mark", tmp_path / "planted"
    planted.write_text(f"#!/bin/sh\ntouch {mark}\n")
    planted.chmod(0o755)
    shutil.copy(BEFORE, tmp_path / "pier.site.yaml")
    git = ["git", "-c", "user.name=tides", "-c", "user.email=tides@saltmarsh.example"]
    for words in (["init", "-q"], ["add", "pier.site.yaml"], ["commit", "-qm", "as it was"]):
        subprocess.run([*git, *words], cwd=tmp_path, check=True)
    (tmp_path / ".gitattributes").write_text("* filter=x diff=x merge=x\n")
    hooks = tmp_path / ".git" / "hooks"
    for hook in ("post-index-change", "fsmonitor-watchman", "post-checkout", "pre-auto-gc", "reference-transaction"):
        shutil.copy(planted, hooks / hook)
    values = {key: str(hooks if key == "core.hooksPath" else planted) for key in PLANTED}
    values |= {"alias.cat-file": f"!{planted}", "extensions.partialClone": "origin", "remote.origin.promisor": "true"}
    for key, value in {**values, "remote.origin.url": str(tmp_path)}.items():
        subprocess.run(["git", "config", key, value], cwd=tmp_path, check=True)
    done = run("compare", name, "pier.site.yaml", cwd=tmp_path)
    assert not mark.exists()
    assert done.returncode == (0 if name == "HEAD:pier.site.yaml" else 2), done.stderr
    assert name in done.stderr or done.returncode == 0


def test_a_program_of_the_current_folder_is_never_taken_for_git(tmp_path: Path) -> None:
    planted = tmp_path / "git"
    planted.write_text(f"#!/bin/sh\ntouch {tmp_path}/mark\n")
    planted.chmod(0o755)
    done = run("compare", "HEAD:pier.site.yaml", AFTER, cwd=tmp_path, PATH=f".:{tmp_path}:{os.environ['PATH']}")
    assert (done.returncode, (tmp_path / "mark").exists()) == (2, False)


def visited(path: Path, listing: str) -> Path:
    rungs = [
        {"rung": "connect", "outcome": "ok", "detail": ""},
        {"rung": "list", "outcome": listing, "detail": "files"},
    ]
    promise = {"client": "pilot", "service": "tides", "mode": "passive", "target": "tides.example", "rungs": rungs}
    taken = {"time": "2026-11-26T08:00:00+00:00", "host": "skerry", "tool": "0.1.0"}
    path.write_text(json.dumps({"format": "eager-lantern/visit/1", "taken": taken, "promises": [promise]}))
    return path


def test_two_visits_part_where_the_later_one_stops(tmp_path: Path) -> None:
    well, ill = visited(tmp_path / "well.json", "ok"), visited(tmp_path / "ill.json", "silent")
    done = run("compare", well, ill, "--format", "json")
    (session,) = result_of(done.stdout)["sessions"]
    assert (done.returncode, session["turn"], session["was"]["outcome"], session["is"]["outcome"]) == (
        1, "lost", "ok", "silent",
    )  # fmt: skip
    assert run("compare", ill, well).returncode == 0


@pytest.mark.parametrize(
    ("form", "said"), [("sarif", '"ruleId": "promise-lost"'), ("table", "| 1 | harbour-router |"), ("text", "Order of")]
)
def test_every_form_tells_of_the_change(form: str, said: str) -> None:
    assert said in run("compare", AFTER, BEFORE, "--format", form).stdout


def test_a_site_and_a_visit_are_not_compared(tmp_path: Path) -> None:
    done = run("compare", AFTER, visited(tmp_path / "well.json", "ok"))
    assert (done.returncode, "not of one kind" in done.stderr) == (2, True)


def test_a_site_beside_a_survey_is_held_against_itself_as_it_was_found() -> None:
    survey = Path(__file__).parent / "cases" / "kept-survey.json"
    done = run("compare", AFTER, survey, "--format", "json")
    result = result_of(done.stdout)
    assert (done.returncode, result["verdict"]) == (1, "lost")
    lost = {(each["client"], each["service"]) for each in result["promises"] if each["turn"] == "lost"}
    assert lost == {("field-station", "tide-exchange"), ("institute", "tide-exchange")}
    assert run("compare", survey, AFTER).returncode == 0
    assert run("compare", survey, survey).returncode == 2


SHARED = """
lantern: 1
site: Pier
networks: [{name: office, subnet: 10.61.4.0/24}]
server: {name: store, network: office, address: 10.61.4.20}
services:
  - {name: tides, protocol: ftp, control_port: 21, passive: {ports: 61200-61203, announce: 10.61.4.77}}
habits: [{name: app, trusts_announced: false}]
clients:
  - {name: gauge, network: office, address: 10.61.4.9, habits: app, reaches: 10.61.4.20}
  - {name: buoy, network: office, address: 10.61.4.10, habits: app, trusts_announced: false, reaches: 10.61.4.20}
promises: [{client: gauge, service: tides, mode: passive}, {client: buoy, service: tides, mode: passive}]
"""


def test_a_habit_that_changes_is_one_edit_and_changes_who_has_it_and_has_no_word_of_its_own() -> None:
    before = parse_site("before", SHARED).site
    after = parse_site("after", SHARED.replace("name: app, trusts_announced: false", "name: app")).site
    assert changed(before, change(before, ("habits", 0, "trusts_announced"), True)) == after
    comparison = compare(before, after)
    assert [(each.path, each.old, each.new) for each in comparison.edits] == [
        (("habits", "app", "trusts_announced"), False, True)
    ]
    assert [(each.promise.client, each.turn) for each in comparison.promises] == [("gauge", "lost"), ("buoy", "same")]


def test_a_cure_of_a_client_goes_before_its_habits() -> None:
    broken = parse_site("broken", SHARED.replace("name: app, trusts_announced: false", "name: app")).site
    cured = changed(broken, change(broken, ("clients", 0, "trusts_announced"), False))
    assert (judge(broken).verdict, judge(cured).verdict) == ("broken", "kept")
    plan = mend(broken, shipped_costs()).plan
    assert plan is not None
    assert judge(changed(broken, *plan.changes)).verdict == "kept"
