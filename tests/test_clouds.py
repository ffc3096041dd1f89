"""Scripts for filters of clouds (public interface of aws, az and gcloud): what they enter is what the file states, by
the providers' own models and a simulated service; they can be run twice, and take back what they made alone."""

import json
import os
import random
import shutil
import subprocess
import sys
from collections import Counter
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path
from typing import Any

import clouds
import pytest
import yaml
from hypothesis import HealthCheck, Phase, assume, given, settings
from hypothesis import strategies as st
from rich_sites import rich_sites

from eager_lantern.core.model.site import Filter, Site
from eager_lantern.core.network.filters import Table, compiled, rulings
from eager_lantern.core.network.flow import Flow
from eager_lantern.core.values.addresses import Address, AddressSet
from eager_lantern.core.values.ports import EVERY_PORT, PortSet
from eager_lantern.formats.devices.format import DeviceTarget
from eager_lantern.formats.devices.register import files_of, read_files
from eager_lantern.formats.site.site_file import parse_site

WHY = "needs the models of the providers: pip install '.[clouds]'"
boto3, moto, moto_server = (pytest.importorskip(each, reason=WHY) for each in ("boto3", "moto", "moto.server"))
for needed in ("azure.mgmt.network", "google.cloud.compute_v1"):
    pytest.importorskip(needed, reason=WHY)

pytestmark = pytest.mark.sweep  # which has these models in CI
MANY = settings(deadline=None, max_examples=200, phases=[Phase.generate], suppress_health_check=list(HealthCheck))
PROBES = 120
MOST_RULES = 50
"""Rules for one direction that the simulated group holds; real ones hold more only where that was asked for."""
PRIVATE = AddressSet.parse(
    "10.0.0.0/8, 172.16.0.0/12, 192.168.0.0/16, 100.64.0.0/10, 169.254.0.0/16, fc00::/7, fe80::/10"
)
"""Of which a virtual network may be, whose own rule lets them in."""
SITE = """
lantern: 1
site: Saltmarsh in a cloud
networks: [{name: cloud-net, subnet: [10.61.4.0/24, "2001:db8:61::/64"]}]
gateways:
  - name: tide-cloud
    system: cloud
    outside: {network: internet, address: 198.51.100.61}
    inside: {network: cloud-net, address: 10.61.4.1}
    translate: one-to-one
    translate_ipv6: none
    pairs: [{outside: 198.51.100.61, inside: 10.61.4.20}]
    filter: {inward: {default: deny, rules: []}, outward: {default: allow}}
server: {name: gauge-store, network: cloud-net, address: [10.61.4.20, "2001:db8:61::20"]}
services:
  - {name: tide-exchange, protocol: ftp, control_port: 21, passive: {ports: 61200-61455, announce: 198.51.100.61}}
clients: [{name: boat, network: internet, address: 203.0.113.9, reaches: 198.51.100.61}]
promises: [{client: boat, service: tide-exchange, mode: passive}]
"""
RULES: list[dict[str, Any]] = [
    {"name": "noisy", "action": "deny", "protocol": "tcp", "ports": 21, "from": "203.0.113.64/26"},
    {"name": "control", "action": "allow", "protocol": "tcp", "ports": 21},
    {"name": "data", "action": "allow", "protocol": "tcp", "ports": "61200-61455", "to": "10.61.4.20"},
]


def cloud_site(inward: dict[str, Any], outward: dict[str, Any], name: str = "tide-cloud") -> Site:
    """A server behind a cloud with these filters."""
    data = yaml.safe_load(SITE)
    data["gateways"][0] |= {"name": name, "filter": {"inward": inward, "outward": outward}}
    return parse_site("cloud", json.dumps(data, ensure_ascii=False)).site


def script_of(site: Site, provider: str) -> str:
    """The script for a provider's command line."""
    (script,) = [each for each in files_of(site) if each.name.endswith(f".{provider}.sh")]
    return script.text


GIVEN = {"GROUP": "sg-1", "RESOURCE_GROUP": "tides", "NSG": "tide-nsg", "NETWORK": "tide-net", "TAG": "tide-machine"}


def calls_of(text: str, provider: str) -> list[list[str]]:
    """What a script asks of a provider's command line when nothing is there yet, by a real shell."""
    stub = f"exec 3>&2 2>/dev/null\n{provider}() {{ printf '%s\\0' \"$@\" >&3; printf '\\1\\0' >&3; }}\n"
    done = subprocess.run(
        ["bash", "-c", stub + text], capture_output=True, text=True, env={**os.environ, **GIVEN}, timeout=60
    )
    assert done.returncode == 0, done.stderr
    return [call.split("\0")[:-1] for call in done.stderr.split("\1\0")[:-1]]


@cache
def amazon() -> tuple[Any, str]:
    """A simulated service in this process, with a network; it is there to the end."""
    moto.mock_aws().start()
    client = boto3.client("ec2", region_name="eu-west-1", aws_access_key_id="x", aws_secret_access_key="x")
    return client, client.create_vpc(CidrBlock="10.61.0.0/16")["Vpc"]["VpcId"]


def entered_aws(calls: list[list[str]], text: str) -> dict[str, str]:
    """What the calls make of a new group, as its list is printed."""
    client, vpc = amazon()
    group = client.create_security_group(GroupName="tides", Description="tides", VpcId=vpc)["GroupId"]
    try:
        writes = [each for each in calls if each[1].startswith("authorize")]
        four = {"IpProtocol": "-1", "IpRanges": [{"CidrIp": "0.0.0.0/0"}]}
        six = {"IpProtocol": "-1", "Ipv6Ranges": [{"CidrIpv6": "::/0"}]}  # a network with IPv6 begins with it
        if "Take that rule out by hand" in text:
            client.revoke_security_group_egress(GroupId=group, IpPermissions=[four])
        else:
            client.authorize_security_group_egress(GroupId=group, IpPermissions=[six])
        asked: dict[str, list[Any]] = {}
        for each in writes:
            values = dict(zip(each[2::2], each[3::2], strict=True))
            asked.setdefault(each[1], []).extend(json.loads(values.pop("--ip-permissions")))
            assert (each[0], values) == ("ec2", {"--group-id": "sg-1"})
        for call, permissions in asked.items():  # at once, which is faster
            getattr(client, call.replace("-", "_"))(GroupId=group, IpPermissions=permissions)
        found = client.describe_security_groups(GroupIds=[group])
        return {"groups.json": json.dumps({"SecurityGroups": found["SecurityGroups"]})}
    finally:
        client.delete_security_group(GroupId=group)


def entered_az(calls: list[list[str]], _: str) -> dict[str, str]:
    rules: clouds.Rules = {}
    for each in calls:
        clouds.az(rules, each)
    return {"nsg.json": clouds.nsg(rules)}


def entered_gcloud(calls: list[list[str]], _: str) -> dict[str, str]:
    rules: clouds.Rules = {}
    for each in calls:
        clouds.gcloud(rules, each)
    texts = {"rules.json": json.dumps(list(rules.values()))} if rules else {}
    return {**texts, "machine.json": clouds.machine("tide-machine")}


ENTERED: dict[str, Callable[[list[list[str]], str], dict[str, str]]] = {
    "aws": entered_aws, "az": entered_az, "gcloud": entered_gcloud,
}  # fmt: skip


def ends(table: Table, flow: Flow) -> str:
    """What a filter does with a connection: pass, stop, or unknown."""
    found = {each.action for each in rulings(table, flow)}
    return "pass" if found == {"allow"} else "unknown" if "unknown" in found else "stop"


def probes(mine: Filter, site: Site, way: str) -> Iterator[Flow]:
    """Random connections at and beside the ends of what the rules name."""
    chance = random.Random(7)
    others = [each.from_ if way == "in" else each.to for each in mine.rules]
    numbers = [end for each in others if each for span in each.spans for end in (span[0] - 1, *span, span[1] + 1)]
    known = [each for each in numbers if each in AddressSet.parse("0.0.0.0/0, ::/0")]
    ports = [end for each in mine.rules for span in each.ports.spans for end in (*span, min(span[1] + 1, 65535))]
    for _ in range(PROBES):
        other = Address(
            chance.choice([*known, Address.parse("203.0.113.7").number, Address.parse("2001:db8:9::7").number])
        )
        own = [each for each in site.server.address.each if each.family == other.family]
        source, target = (other, own[0]) if way == "in" else (own[0], other)
        came, port = chance.choice([20, 500, 5000, 40000]), chance.choice([*ports, 4021])
        kind = chance.choice(["tcp", "udp"])
        yield Flow(kind, AddressSet.single(source), PortSet.single(came), target, PortSet.single(port))


def tables_of(data: dict[str, Any]) -> tuple[dict[str, Any], dict[str, Any]]:
    """The filters of a random server as those of a cloud."""
    found = []
    for way, default in (("incoming", "deny"), ("outgoing", "allow")):
        table = data["server"].get("filter", {}).get(way, {"default": default})
        rules = [each for each in table.get("rules", []) if each["action"] != "unknown" and "program" not in each]
        kept = [{key: value for key, value in each.items() if key != "categories"} for each in rules]
        found.append({"default": table.get("default", "allow"), "rules": kept})
    return found[0], found[1]


@pytest.mark.parametrize("provider", ENTERED)
@MANY
@given(data=rich_sites())
def test_a_script_for_a_cloud_makes_rules_that_mean_what_the_file_states(provider: str, data: dict[str, Any]) -> None:
    site = cloud_site(*tables_of(data))
    text = script_of(site, provider)
    calls = calls_of(text, provider)
    sides = Counter(each[1] for each in calls if provider == "aws")
    assume(max(sides.values(), default=0) <= MOST_RULES)
    texts = ENTERED[provider](calls, text)
    target = DeviceTarget(site, "tide-cloud")
    configs = read_files(texts, target) if len(texts) > 1 or provider != "gcloud" else []
    both = site.gateways[0].filter
    rules = (*both.inward.rules, *both.outward.rules)
    narrower = provider != "az" and any(each.from_ports not in (None, EVERY_PORT) for each in rules)
    for way, mine, default in (("in", both.inward, "deny"), ("out", both.outward, "allow")):
        read = next((each for each in configs if each.direction == way), None)
        theirs = Filter(default=read.default.default, rules=read.rules) if read and read.default else Filter(default)
        compared = [compiled(each, (), None, {}) for each in (mine, theirs)]
        for flow in probes(mine, site, way):
            other = flow.sources if way == "in" else AddressSet.single(flow.to)
            if provider == "az" and other & PRIVATE:
                continue
            wanted, made = (ends(each, flow) for each in compared)
            assert made == wanted or (narrower and (wanted, made) == ("pass", "stop")), str(flow)


@settings(MANY, max_examples=60)
@given(name=st.text(max_size=60))
def test_no_name_ends_its_quotes_in_a_script_for_a_cloud(name: str) -> None:
    tidy = "".join(each for each in name if each.isprintable()) or "x"
    rules = [{**each, "name": tidy} for each in RULES]
    site = cloud_site({"default": "deny", "rules": rules}, {"default": "allow"})
    plain = cloud_site({"default": "deny", "rules": RULES}, {"default": "allow"})
    for provider in ENTERED:
        named, other = (calls_of(script_of(each, provider), provider) for each in (site, plain))
        assert len(named) == len(other)
        assert [len(each) for each in named if "--description" not in each] == [
            len(each) for each in other if "--description" not in each
        ]


@pytest.fixture
def commands(tmp_path: Path) -> Iterator[dict[str, str]]:
    """An environment with the three command lines: that of a simulated service, and two stand-ins."""
    folder = tmp_path / "bin"
    folder.mkdir()
    for each in ("az", "gcloud"):
        program = folder / each
        state = tmp_path / f"{each}.json"
        program.write_text(f'#!/bin/sh\nexec {sys.executable} {Path(clouds.__file__)} {each} {state} "$@"\n')
        program.chmod(0o755)
    server = moto_server.ThreadedMotoServer(ip_address="127.0.0.1", port=0)
    server.start()
    host, port = server.get_host_and_port()
    made_up = {
        "AWS_ENDPOINT_URL": f"http://{host}:{port}", "AWS_ACCESS_KEY_ID": "made-up", "AWS_SECRET_ACCESS_KEY": "made-up",
        "AWS_DEFAULT_REGION": "eu-west-1", "HOME": str(tmp_path), "AWS_EC2_METADATA_DISABLED": "true",
    }  # fmt: skip
    beside = Path(sys.executable).parent
    yield {**made_up, **GIVEN, "PATH": f"{folder}:{beside}:{os.environ['PATH']}"}
    server.stop()


def listed(provider: str, environment: dict[str, str], group: str) -> set[str]:
    """All rules that are there, whoever made them."""
    if provider != "aws":
        path = Path(environment["HOME"]) / f"{provider}.json"
        rules = json.loads(path.read_text()) if path.exists() else {}
        return {json.dumps({key: value for key, value in each.items() if key != "name"}) for each in rules.values()}
    asked = ["aws", "ec2", "describe-security-group-rules", "--filters", f"Name=group-id,Values={group}"]
    done = subprocess.run(asked, env=environment, capture_output=True, text=True, timeout=120, check=True)
    keys = ("IsEgress", "IpProtocol", "FromPort", "ToPort", "CidrIpv4", "CidrIpv6", "Description")
    return {str([each.get(key) for key in keys]) for each in json.loads(done.stdout)["SecurityGroupRules"]}


ANOTHERS = {
    "aws": "aws ec2 authorize-security-group-ingress --group-id $GROUP --ip-permissions "
    "IpProtocol=tcp,FromPort=21,ToPort=21,IpRanges=[{CidrIp=192.0.2.7/32,Description=anothers}]",
    "az": "az network nsg rule create --resource-group tides --nsg-name tide-nsg --output none --name anothers "
    "--priority 200 --direction Inbound --access Allow --protocol Tcp --source-port-ranges '*' "
    "--source-address-prefixes 192.0.2.7/32 --destination-port-ranges 21 --destination-address-prefixes '*'",
    "gcloud": "gcloud compute firewall-rules create eager-lantern-tide-cloud-elsewhere-1234abcd --quiet "
    "--network=tide-net --target-tags=other --direction=INGRESS --action=ALLOW --priority=900 --rules=tcp:21 "
    "--source-ranges=192.0.2.7/32",
}


@pytest.mark.parametrize("provider", ENTERED)
def test_a_script_for_a_cloud_takes_back_what_it_made_and_nothing_else(
    provider: str, tmp_path: Path, commands: dict[str, str]
) -> None:
    if provider == "aws" and shutil.which("aws", path=commands["PATH"]) is None:
        pytest.skip("needs the provider's command line (pip install awscli)")

    def run(*command: str) -> str:
        done = subprocess.run(command, env=commands, capture_output=True, text=True, timeout=240, cwd=tmp_path)
        assert done.returncode == 0, done.stderr
        return done.stdout

    if provider == "aws":
        vpc = json.loads(run("aws", "ec2", "create-vpc", "--cidr-block", "10.61.0.0/16"))["Vpc"]["VpcId"]
        made = run("aws", "ec2", "create-security-group", "--group-name", "t", "--description", "t", "--vpc-id", vpc)
        commands["GROUP"] = json.loads(made)["GroupId"]
    run("sh", "-c", ANOTHERS[provider])
    before = listed(provider, commands, commands["GROUP"])
    few = [{**RULES[1], "from": "192.0.2.0/29"}, *RULES[2:]]
    for name, rules in (("first.sh", [{**RULES[1], "from": "192.0.2.7"}, *few]), ("later.sh", few)):
        site = cloud_site({"default": "deny", "rules": rules}, {"default": "allow"})
        (tmp_path / name).write_text(script_of(site, provider))
    shown = run("sh", "first.sh")
    first = listed(provider, commands, commands["GROUP"])
    assert before < first
    run("sh", "first.sh")
    assert listed(provider, commands, commands["GROUP"]) == first
    run("sh", "later.sh")
    later = listed(provider, commands, commands["GROUP"])
    assert before < later
    assert len(later) < len(first) or provider == "aws"
    assert run("sh", "later.sh", "list").splitlines() != []
    assert shown.count("\n") >= len(first) - len(before)
    run("sh", "later.sh", "take-back")
    assert listed(provider, commands, commands["GROUP"]) == before
