"""Random sites: gateways in chains and side by side, with every kind of rule in conflict."""

import ipaddress
from typing import Any

from hypothesis import strategies as st

PORTS = 24
NETWORKS = {"internet": None, "a": "10.1.0.0/24", "b": "192.0.2.0/26", "c": "10.3.0.0/24", "d": "192.0.2.64/26"}
HOSTS = {"internet": "203.0.113.{}", "a": "10.1.0.{}", "b": "192.0.2.{}", "c": "10.3.0.{}", "d": "192.0.2.{}"}
FIRST = {"internet": 10, "a": 10, "b": 10, "c": 10, "d": 74}

NAT64 = "64:ff9b::"


def mapped(four: str) -> str:
    """An IPv4 address as hosts of IPv6 alone name it."""
    return str(ipaddress.IPv6Address(f"{NAT64}{four}"))


ranges = st.tuples(st.integers(1, PORTS), st.integers(0, 9)).map(
    lambda pair: f"{pair[0]}-{min(PORTS, sum(pair))}" if pair[1] else str(pair[0])
)
actions = st.sampled_from(["allow", "allow", "deny", "refuse"])
refusals = st.sampled_from(["reset", "port-unreachable", "host-unreachable", "prohibited"])
places = st.sampled_from(["10.1.0.0/24", "192.0.2.0/26", "203.0.113.0/24", "10.0.0.0/8", "203.0.113.10", "10.1.0.2"])


def address(network: str, number: int) -> str:
    return HOSTS[network].format(FIRST[network] + number)


@st.composite
def rules(draw: st.DrawFn) -> dict[str, Any]:
    rule: dict[str, Any] = {"action": draw(actions), "protocol": draw(st.sampled_from(["tcp", "udp", "any", "tcp"]))}
    extras = {"ports": ranges, "from": places, "to": places, "from_ports": st.sampled_from(["20", "5000-5999"])}
    for key, values in extras.items():
        if draw(st.integers(0, 3)) < (3 if key == "ports" else 1):
            rule[key] = draw(values)
    if draw(st.integers(0, 5)) == 0:
        rule["enabled"] = False
    if rule["action"] == "refuse" and draw(st.booleans()):
        rule["refuses_with"] = draw(refusals)
    return rule


@st.composite
def filters(draw: st.DrawFn, crowded: bool) -> dict[str, Any]:
    """Few rules or none, so that connections get through, or crowded with conflicts."""
    if not crowded and draw(st.integers(0, 3)):
        return {"default": "allow", "rules": []}
    default = draw(st.sampled_from(["allow", "allow", "allow", "deny", "refuse"]))
    extra = {"refuses_with": draw(refusals)} if default == "refuse" and draw(st.booleans()) else {}
    return {"default": default, **extra, "rules": draw(st.lists(rules(), max_size=3))}


@st.composite
def forwards(draw: st.DrawFn, known: list[str]) -> dict[str, Any]:
    ports = draw(ranges)
    forward: dict[str, Any] = {
        "protocol": draw(st.sampled_from(["tcp", "tcp", "udp"])), "ports": ports, "to": draw(st.sampled_from(known)),
    }  # fmt: skip
    if draw(st.booleans()):
        forward["to_port"] = draw(st.integers(1, PORTS))
    if draw(st.integers(0, 4)) == 0:
        forward["from"] = draw(places)
    if draw(st.integers(0, 5)) == 0:
        forward["enabled"] = False
    return forward


@st.composite
def gateways(draw: st.DrawFn, name: str, outside: str, inside: str, known: list[str], crowded: bool) -> dict[str, Any]:
    number = sum(map(ord, name)) % 7
    translate = draw(st.sampled_from(["outward", "outward", "none", "one-to-one"]))
    gateway: dict[str, Any] = {
        "name": name,
        "outside": {"network": outside, "address": address(outside, 20 + number)},
        "inside": {"network": inside, "address": address(inside, 30 + number)},
        "translate": translate,
        "provider_blocks": draw(st.sampled_from(["none", "none", "3-5"])),
        "forwarding": draw(st.integers(0, 9)) < 9,
        "forwards_pass_filter": draw(st.sampled_from([True, False])),
        "hairpin": draw(st.sampled_from([True, False])),
        "system": draw(st.sampled_from(["other", "other", "cloud"])),
        "unmatched": draw(st.sampled_from(["silent", "refused"])),
        "hairpin_source": draw(st.sampled_from(["inside", "outside", "kept"])),
        "forwards_hide_source": draw(st.integers(0, 3)) == 0,
        "forward_order": draw(st.sampled_from(["first", "first", "last", "narrowest"])),
        "filter_sees": draw(st.sampled_from(["inside", "inside", "outside"])),
        "forwards": draw(st.lists(forwards(known), min_size=1, max_size=5)),
        "filter": {"inward": draw(filters(crowded)), "outward": draw(filters(crowded))},
    }
    if draw(st.integers(0, 5)) == 0:
        gateway["outside"]["ports"] = draw(st.sampled_from(["1-12", "2, 10-24"]))
    if draw(st.integers(0, 3)) == 0:
        gateway["exposed_host"] = draw(st.sampled_from(known))
    if translate == "one-to-one":
        gateway["pairs"] = [{"outside": address(outside, 40 + number), "inside": address(inside, 1)}]
        if draw(st.booleans()):
            del gateway["outside"]["address"]
    return gateway


PREFIXES = {
    "a": ["10.1.0.0/24"], "b": ["192.0.2.0/26", "192.0.2.8/29"], "c": ["10.3.0.0/24"], "d": ["192.0.2.64/26"],
    "internet": ["203.0.113.0/28", "203.0.113.0/24"],
}  # fmt: skip


@st.composite
def _routes(draw: st.DrawFn, site: dict[str, Any], known: list[str], crowded: bool) -> None:
    """A second way out of a network, default gateways, and routes of hosts and gateways."""
    if draw(st.booleans()):
        site["gateways"].append(draw(gateways("to-af", "internet", "a", known, crowded)))
    near: dict[str, list[str]] = {each: [] for each in NETWORKS}
    for each in site["gateways"]:
        near[each["inside"]["network"]].append(each["name"])
    beside = {each: list(names) for each, names in near.items()}
    for each in site["gateways"]:
        beside[each["outside"]["network"]].append(each["name"])
    for host in (site["server"], *site["clients"]):
        if near[host["network"]] and (len(near[host["network"]]) > 1 or draw(st.booleans())):
            host["gateway"] = draw(st.sampled_from(near[host["network"]]))
        if host["network"] != "internet" and draw(st.booleans()):
            to = draw(st.sampled_from([each for far in NETWORKS if far != host["network"] for each in PREFIXES[far]]))
            host["routes"] = [{"to": to, "via": draw(st.sampled_from(beside[host["network"]]))}]
    for each in site["gateways"]:
        inside = [name for name in beside[each["inside"]["network"]] if name != each["name"]]
        if inside and draw(st.integers(0, 2)) == 0:
            own = {each["inside"]["network"], each["outside"]["network"]}
            further = [to for far in NETWORKS if far not in own for to in PREFIXES[far]]
            each["routes"] = [{"to": draw(st.sampled_from(further)), "via": draw(st.sampled_from(inside))}]


@st.composite
def sites(draw: st.DrawFn) -> dict[str, Any]:
    """A site as YAML would give it; every host has one address, every gateway at most one a side."""
    home = draw(st.sampled_from(["a", "b", "c", "d"]))
    crowded = draw(st.booleans())
    joints = {"a": "internet", "b": draw(st.sampled_from(["internet", "a"])), "c": draw(st.sampled_from(["a", "b"]))}
    joints["d"] = "internet"
    known = [address(each, number) for each in NETWORKS for number in (0, 0, 0, 1, 1, 20, 22, 23, 40, 42, 43)]
    hosts = [
        {"name": f"host-{each}", "network": each, "address": address(each, 0), "filter": {
            "incoming": draw(filters(crowded)), "outgoing": draw(filters(crowded))}}
        for each in NETWORKS
    ]  # fmt: skip
    site = {
        "lantern": 1,
        "site": "Random Coast",
        "networks": [{"name": each, "subnet": subnet} for each, subnet in NETWORKS.items() if subnet],
        "gateways": [draw(gateways(f"to-{b}", a, b, known, crowded)) for b, a in joints.items()],
        "server": {"name": "store", "network": home, "address": address(home, 1), "filter": {
            "incoming": draw(filters(crowded)), "outgoing": draw(filters(crowded))}},
        "clients": hosts,
    }  # fmt: skip
    if draw(st.integers(0, 2)) == 0:
        draw(_routes(site, known, crowded))
    if draw(st.integers(0, 2)) == 0 and "address" in site["gateways"][2]["outside"]:
        site["gateways"][2] |= {"nat64": f"{NAT64}/96", "translate_ipv6": "none"}
        hosts.append({"name": "phone", "network": "c", "address": "fd00:3::63", "filter": {
            "incoming": draw(filters(crowded)), "outgoing": draw(filters(crowded))}})  # fmt: skip
    return site


def held(site: dict[str, Any]) -> list[str]:
    """The addresses that some host or gateway of a site has."""
    parts = [
        site["server"],
        *site["clients"],
        *(each[side] for each in site["gateways"] for side in ("outside", "inside")),
    ]
    written = ", ".join(each["address"] for each in parts if "address" in each)
    pairs = [pair["outside"] for gateway in site["gateways"] for pair in gateway.get("pairs", [])]
    return [*written.split(", "), *pairs]


@st.composite
def questions(draw: st.DrawFn) -> tuple[dict[str, Any], list[tuple[str, str, str]]]:
    """A site, and some questions about it: who sends, by which transport, to which address."""
    site = draw(sites())
    senders = st.sampled_from([each["name"] for each in site["clients"]])
    fours = [each for each in held(site) if ":" not in each]
    targets = st.sampled_from([*fours, *fours, "10.1.0.200", "203.0.113.200", "192.168.9.9"])
    asked = st.tuples(senders, st.sampled_from(["tcp", "udp"]), targets).map(
        lambda each: (*each[:2], mapped(each[2])) if each[0] == "phone" else each
    )
    return site, draw(st.lists(asked, min_size=2, max_size=6))
