"""Rule sets that the kernel has loaded and listed, read as rules of a site and held against the kernel again."""

import json
import random
from pathlib import Path
from typing import Any

import pytest
from program import AFTER, DATA, run
from random_rulesets import differences, listed, random_ruleset

from eager_lantern.core.adoption.adopt import adopted
from eager_lantern.core.comparison.access import access, more
from eager_lantern.files.nft_ruleset import read_ruleset
from eager_lantern.files.problem import BadInput
from eager_lantern.files.site_file import read_site
from eager_lantern.lab.kernel.lab import missing_means

LACK = missing_means()


@pytest.mark.kernel
@pytest.mark.skipif(bool(LACK), reason=LACK)
@pytest.mark.parametrize("seed", range(12))
def test_what_the_kernel_lists_is_read_as_what_it_does(seed: int, tmp_path: Path) -> None:
    chance = random.Random(seed)
    count, different = differences(random_ruleset(chance), tmp_path, chance)
    assert count == 48
    assert different == []


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
    text = listed(file.read_text(), tmp_path, numeric=False)
    reading = read_ruleset("listed", text, "in")
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
    return json.dumps({"nftables": [{"chain": chain}, *rules]})


DPORT = {"match": {"op": "==", "left": {"payload": {"protocol": "tcp", "field": "dport"}}, "right": 21}}
ICMP = {"match": {"op": "==", "left": {"payload": {"protocol": "icmp", "field": "type"}}, "right": "echo-request"}}
LIMIT, ACCEPT = {"limit": {"rate": 5, "per": "second"}}, {"accept": None}


def test_a_rule_that_a_site_cannot_say_is_told_by_its_handle_and_nothing_is_read() -> None:
    with pytest.raises(BadInput, match="chain c, handle 5: a site cannot say what “limit” does"):
        read_ruleset("listed", ruleset([DPORT, ACCEPT], [DPORT, LIMIT, ACCEPT], [LIMIT, ACCEPT]), "in")


def test_what_a_site_cannot_say_does_no_harm_where_no_transfer_gets_as_far() -> None:
    reading = read_ruleset("listed", ruleset([ICMP, LIMIT, ACCEPT], [DPORT, ACCEPT]), "in")
    assert [(each.action, str(each.ports)) for each in reading.rules] == [("allow", "21")]


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
