"""Scripts for filters that other programs run (public interface of those): what they enter is what the site states."""

import random
import re
import shutil
import subprocess
from json import dumps
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, Phase, assume, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace
from program import AFTER
from rich_sites import rich_sites

from eager_lantern.core.changes.adopted import DeviceConfig
from eager_lantern.core.model.site import Filter, Server, Site
from eager_lantern.core.network.filters import compiled, rulings
from eager_lantern.core.network.flow import Flow
from eager_lantern.core.values.addresses import Address, AddressSet
from eager_lantern.core.values.ports import PortSet
from eager_lantern.formats.devices.format import DeviceTarget
from eager_lantern.formats.devices.packet_filter.nftables import LOADER, listening
from eager_lantern.formats.devices.register import files_of, read_files
from eager_lantern.formats.devices.windows.records import Record
from eager_lantern.formats.devices.windows.rules import Profile, filters_of
from eager_lantern.formats.devices.windows.script import PROFILES
from eager_lantern.formats.site.site_file import parse_site, read_site

QUICK = settings(deadline=None, max_examples=200, phases=[Phase.generate], suppress_health_check=list(HealthCheck))
SLOW = settings(QUICK, max_examples=10)
PROBES = 200


_COMMAND = re.compile(r"  New-NetFirewallRule (.+) \| Out-Null")
_WORD = re.compile(r"-(\w+) (\$group|\w+(?:, \w+)*|'(?:[^']|'')*'|@\('[^']*'(?:, '[^']*')*\))(?: |$)")


def rules_of_script(text: str) -> list[Record]:
    """A strict reader of what a script for Windows may be made of. Raises ValueError for any other line."""
    found = []
    body = text.partition("-not $TakeBack) {\n")[2].partition("\n}\n")[0]
    for number, line in enumerate(body.splitlines(), 1):
        if line.startswith("  #"):
            continue
        command = _COMMAND.fullmatch(line)
        if command is None or _WORD.sub("", command[1]):
            raise ValueError(f"line {number} is no command of this script: {line[:80]}")
        words = {
            key.lower(): ",".join(re.findall(r"'([^']*)'", value)) or value for key, value in _WORD.findall(command[1])
        }
        name = words.pop("displayname")
        fields = {key: value for key, value in words.items() if key not in ("group", "name")}
        found.append(Record(number, {**fields, "name": name, "enabled": "True"}))
    return found


def site_on(system: str, data: dict[str, Any]) -> Site:
    """A site with a server on that system, whose file states all of its filter."""
    data["server"]["system"] = system
    for table in data["server"].get("filter", {}).values():
        table["rules"] = [each for each in table.get("rules", []) if each["action"] != "unknown"]
    return parse_site("random", dumps(data)).site


def numbers(sets: list[AddressSet | None], chance: random.Random) -> Address:
    """An address at or beside an end of a range, so that every rule is met and missed."""
    ends = [end for each in sets if each for span in each.spans for end in (span[0] - 1, *span, span[1] + 1)]
    known = [each for each in ends if each in AddressSet.parse("0.0.0.0/0, ::/0")]
    return Address(chance.choice([*known, Address.parse("203.0.113.7").number]))


def differences(
    mine: Filter, theirs: Filter, server: Server, category: str, known: dict[str, PortSet], way: str
) -> list[str]:
    """Random connections that two filters do not treat alike."""
    chance = random.Random(7)
    rules = [*mine.rules, *theirs.rules]
    found = []
    tables = [compiled(each, (), category, known) for each in (mine, theirs)]
    ports = [end for each in rules for span in each.ports.spans for end in (span[0], span[1], min(span[1] + 1, 65535))]
    for _ in range(PROBES):
        other = numbers([each.from_ if way == "in" else each.to for each in rules], chance)
        own = [each for each in server.address.each if each.family == other.family]
        if not own:
            continue
        source, target = (other, own[0]) if way == "in" else (own[0], other)
        port, came = chance.choice([*ports, 4021]), chance.choice([20, 500, 5000, 40000])
        flow = Flow(
            chance.choice(["tcp", "udp"]), AddressSet.single(source), PortSet.single(came), target, PortSet.single(port)
        )
        ends = [{each.action == "allow" for each in rulings(table, flow)} for table in tables]
        if ends[0] != ends[1]:
            found.append(f"{flow.protocol} {source}:{came} → {target}:{port}: {ends}")
    return found


def filter_of(configs: list[DeviceConfig], way: str) -> Filter:
    """The filter that was read for a direction."""
    (config,) = [each for each in configs if each.subject == "rules" and each.direction == way]
    assert config.default is not None
    return Filter(default=config.default.default, rules=config.rules)


@QUICK
@given(data=rich_sites())
def test_a_script_for_windows_makes_rules_that_mean_what_the_file_states(data: dict[str, Any]) -> None:
    site = site_on("windows", data)
    both = site.server.filter
    (script,) = [each for each in files_of(site) if each.name.endswith(".ps1")]
    assert script.text.isascii()
    records = rules_of_script(script.text)
    profile = Profile(*("allow" if each.default == "allow" else "deny" for each in (both.incoming, both.outgoing)))
    for category in PROFILES:
        read = list(filters_of("script", records, category, profile, AddressSet()))
        for way, table in (("in", both.incoming), ("out", both.outgoing)):
            spelt = next(
                (n for rule in table.rules for n in rule.categories or () if n.lower() == category.lower()), category
            )
            mine = Filter(default=table.default, rules=table.rules)
            found = differences(mine, filter_of(read, way), site.server, spelt, listening(site), way)
            assert [each for each in found if ":3389:" not in each] == []


@QUICK
@given(name=st.text(max_size=60))
def test_no_name_of_a_site_ends_its_quotes_in_a_script(name: str) -> None:
    site = read_site(AFTER).site
    tidy = "".join(each for each in name if each.isprintable()) or "x"
    rule = replace(site.server.filter.incoming.rules[0], name=tidy)
    incoming = replace(site.server.filter.incoming, rules=(rule,))
    for system in ("windows", "linux"):
        server = replace(site.server, system=system, filter=replace(site.server.filter, incoming=incoming))
        for each in files_of(replace(site, server=server, site=tidy)):
            if each.name.endswith(".ps1"):
                assert len(rules_of_script(each.text)) == 1
            elif each.name.endswith(".sh") and not each.name.endswith(LOADER):
                shell = f"ufw() {{ :; }}; firewall-cmd() {{ :; }}; {each.text}"
                done = subprocess.run(["bash", "-c", shell], capture_output=True, text=True, timeout=60)
                assert (done.returncode, done.stdout, done.stderr) == (0, "", "")
            elif each.name.endswith(LOADER):  # what it takes of names are letters and hyphens
                done = subprocess.run(["sh", "-c", each.text, "x"], capture_output=True, text=True, timeout=60)
                assert (done.returncode, done.stderr.startswith("usage: ")) == (2, True)


ENTERED = {
    "ufw": """
cp -a /etc/ufw "$1/ufw" && mount --bind "$1/ufw" /etc/ufw
cp -a /etc/default "$1/default" && mount --bind "$1/default" /etc/default
ip link set lo up
ufw --force reset >/dev/null
ufw default "$3" incoming >/dev/null && ufw default "$4" outgoing >/dev/null
sh "$2" >"$1/log"
ufw --force enable >/dev/null
ufw status verbose
sh "$2" take-back >"$1/log"
ufw status verbose | grep -c ALLOW >&2 || true
""",
    "firewalld": """
mount -t tmpfs none /run && mkdir -p /run/dbus
cp -a /etc/firewalld "$1/firewalld" && mount --bind "$1/firewalld" /etc/firewalld
ip link set lo up
dbus-daemon --system --fork --nopidfile
firewalld --nofork --nopid >"$1/daemon" 2>&1 &
until firewall-cmd --state >/dev/null 2>&1; do sleep 0.2; done
firewall-cmd --quiet --permanent --zone=public --set-target="$5" && firewall-cmd --quiet --reload
for each in ssh dhcpv6-client; do firewall-cmd --quiet --zone=public --remove-service=$each; done
sh "$2" >"$1/log"
firewall-cmd --zone=public --list-all
sh "$2" take-back >"$1/log"
firewall-cmd --zone=public --list-all | grep -c 'rule p' >&2 || true
firewall-cmd --permanent --zone=public --list-all | grep -c 'rule p' >&2 || true
kill %1 $(cat /run/dbus/pid 2>/dev/null) 2>/dev/null || true
""",
}
WORDS = {"allow": "allow", "deny": "deny", "refuse": "reject"}
TARGETS = {"allow": "ACCEPT", "deny": "DROP", "refuse": "default"}


@pytest.mark.sweep
@pytest.mark.kernel
@pytest.mark.timeout(3600)
@pytest.mark.parametrize("front_end", ENTERED)
def test_a_script_for_a_front_end_enters_what_the_file_states_and_takes_it_back(front_end: str, tmp_path: Path) -> None:
    if not (shutil.which(front_end) and shutil.which("unshare")):
        pytest.skip(f"{front_end} is not installed")

    @SLOW
    @given(data=rich_sites())
    def entered(data: dict[str, Any]) -> None:
        site = site_on("linux", data)
        both = site.server.filter
        folder = tmp_path / str(len(list(tmp_path.iterdir())))
        folder.mkdir()
        (script,) = [each for each in files_of(site) if each.name.endswith(f".{front_end}.sh")]
        assume("# Rule" not in script.text)  # a rule that the front end cannot state is left to a person
        (folder / "script.sh").write_text(script.text)
        words = [WORDS[both.incoming.default], WORDS[both.outgoing.default], TARGETS[both.incoming.default]]
        command = [
            "unshare",
            "-n",
            "-m",
            "--kill-child",
            "-p",
            "-f",
            "--mount-proc",
            "bash",
            "-euc",
            ENTERED[front_end],
            "-",
        ]
        done = subprocess.run(
            [*command, folder, folder / "script.sh", *words], capture_output=True, text=True, timeout=900,
            env={"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "LANG": "C.UTF-8"}, stdin=subprocess.DEVNULL,
        )  # fmt: skip
        assert done.returncode == 0, done.stderr
        assert set(done.stderr.split()) == {"0"}, done.stderr
        configs = read_files({"printed": done.stdout}, DeviceTarget(site, site.server.name))
        category = site.server.category or ""
        assert differences(both.incoming, filter_of(configs, "in"), site.server, category, listening(site), "in") == []
        if front_end == "ufw":
            assert (
                differences(both.outgoing, filter_of(configs, "out"), site.server, category, listening(site), "out")
                == []
            )

    entered()
