"""Random sites with everything the lab builds: both address families, helpers, pools, network
categories, rules for programs, and services with promises whose sessions can be run."""

from typing import Any

from hypothesis import strategies as st
from random_sites import FIRST, NETWORKS, sites

SIX = {"internet": "2001:db8:ffff::", "a": "fd00:1::", "b": "2001:db8:b::", "c": "fd00:3::", "d": "2001:db8:d::"}
SERVICES = {"drift": (21, "10-12"), "ebb": (2, "13-15"), "flow": (7, "16-19")}
SSH_PORT = 3
often = st.sampled_from([True, True, True, False])
seldom = st.sampled_from([True, False, False, False])


def six(network: str, four: str) -> str:
    """The IPv6 address of a host that has this IPv4 address on a network."""
    return f"{SIX[network]}{int(four.rpartition('.')[2]) - FIRST[network] + 16:x}"


@st.composite
def _both(draw: st.DrawFn, site: dict[str, Any]) -> None:
    """Every host and gateway gets an IPv6 address beside its own."""
    known: dict[str, str] = {}
    for network in site["networks"]:
        network["subnet"] = f"{NETWORKS[network['name']]}, {SIX[network['name']]}/64"
    fours = [each for each in site["clients"] if ":" not in each["address"]]
    for host in (site["server"], *fours):
        known[host["address"]] = six(host["network"], host["address"])
    for gateway in site["gateways"]:
        for side in ("outside", "inside"):
            if "address" in gateway[side]:
                known[gateway[side]["address"]] = six(
                    gateway[side]["network"], gateway[side]["address"].partition(",")[0]
                )
    for gateway in site["gateways"]:
        if draw(st.integers(0, 2)) == 0 and gateway["translate"] != "none":
            gateway["translate_ipv6"] = "none"
        if "address" in gateway["outside"] and draw(st.integers(0, 2)) == 0:
            gateway |= {"nat64": "64:ff9b::/96", "ftp_helper": False}
        if "exposed_host" in gateway and gateway["exposed_host"] in known:
            gateway["exposed_host"] += f", {known[gateway['exposed_host']]}"
        extra = [{**each, "to": known[each["to"]]} for each in gateway["forwards"] if each["to"] in known]
        gateway["forwards"] += [{**each, "from": SIX["internet"] + "/64"} if "from" in each else each for each in extra]
    sides = (each[side] for each in site["gateways"] for side in ("outside", "inside"))
    for part in (site["server"], *fours, *sides):
        if "address" in part:
            part["address"] = f"{part['address']}, {known[part['address']]}"


def _way_in(site: dict[str, Any]) -> list[dict[str, Any]]:
    """The gateways from the server outwards."""
    by_inside = {each["inside"]["network"]: each for each in site["gateways"]}
    found, network = [], site["server"]["network"]
    while network in by_inside:
        found.append(by_inside[network])
        network = found[-1]["outside"]["network"]
    return found


@st.composite
def _gateway_extras(draw: st.DrawFn, gateway: dict[str, Any]) -> None:
    gateway["ftp_helper"] = draw(seldom) and "nat64" not in gateway
    gateway["helper_ports"] = draw(st.sampled_from(["21", "21", "2, 7"]))
    gateway["helper_sees"] = draw(st.sampled_from(["outside", "outside", "inside"]))
    if draw(st.integers(0, 7)) == 0:
        gateway[draw(st.sampled_from(["outside", "inside"]))]["mtu"] = draw(st.sampled_from([1280, 1400, 1492]))
        gateway["too_big"] = draw(st.sampled_from(["dropped", "dropped", "told"]))
        gateway["clamps_mss"] = draw(st.booleans())
    if draw(seldom) and "address" in gateway["outside"]:
        base, _, last = gateway["outside"]["address"].rpartition(".")
        gateway["outside"]["address"] += f", {base}.{int(last) + 28}"
        gateway["pooling"] = draw(st.sampled_from(["paired", "arbitrary"]))


@st.composite
def _let_in(draw: st.DrawFn, gateway: dict[str, Any], to: str) -> None:
    """Forwards that lead on towards the server, most of them right, before those that do not."""
    wanted = []
    for port, data in SERVICES.values():
        low, _, high = data.partition("-")
        part = draw(st.sampled_from([data, data, data, f"{int(low) + 1}-{high}", low]))
        wanted += [{"protocol": "tcp", "ports": str(each), "to": to} for each in (port, part)]
    gateway["forwards"] = [*wanted, *gateway["forwards"]]
    gateway["forwarding"] = True


@st.composite
def _tamed(draw: st.DrawFn, site: dict[str, Any]) -> None:
    """Most filters open, and a way in to the server."""
    for part in (site["server"], *site["clients"], *site["gateways"]):
        for way in part["filter"]:
            if draw(often):
                part["filter"][way] = {"default": "allow", "rules": []}
    to = site["server"]["address"]
    for gateway in _way_in(site):
        draw(_let_in(gateway, to))
        to = gateway["outside"].get("address", to).partition(",")[0]


@st.composite
def _service(draw: st.DrawFn, name: str, announced: list[str]) -> dict[str, Any]:
    port, data = SERVICES[name]
    service: dict[str, Any] = {
        "name": name,
        "protocol": "ftp",
        "control_port": port,
        "passive": {"ports": data, "announce": draw(st.sampled_from(["own", *announced]))},
        "active": {"accepts_other_address": draw(seldom)},
        "peer_must_match": draw(often),
        "speaks_epsv": draw(st.sampled_from([True, True, True, True, False])),
    }
    if draw(seldom):
        service["passive"]["announce_inside"] = "own"
    if draw(st.booleans()):
        service["active"]["from_port"] = port - 1
    if draw(st.integers(0, 7)) == 0:
        kind = {"reuse_required": draw(st.booleans()), "protects_data": draw(often)}
        service["tls"] = {"mode": "explicit", "required": True, **kind}
    return service


@st.composite
def _habits(draw: st.DrawFn, client: dict[str, Any], targets: list[str]) -> None:
    client |= {
        "reaches": draw(st.sampled_from(targets)),
        "uses_epsv": draw(st.sampled_from([False, False, True, "first"])),
        "trusts_announced": draw(often),
        "resumes_tls": draw(often),
        "active_ports": draw(st.sampled_from(["22-24", "3-6, 22"])),
    }
    client["maps_ipv4"] = draw(often)
    if draw(seldom):
        client["active_address"] = draw(st.sampled_from(targets)).partition(",")[0]


@st.composite
def rich_sites(draw: st.DrawFn) -> dict[str, Any]:
    """A site as YAML would give it, with a promise for each of its services."""
    site = draw(sites())
    server, names = site["server"], list(SERVICES)
    if draw(often):
        draw(_tamed(site))
    for gateway in site["gateways"]:
        draw(_gateway_extras(gateway))
    if draw(seldom):
        server["category"] = draw(st.sampled_from(["trusted", "public"]))
        for rule in server["filter"]["incoming"]["rules"]:
            rule["categories"] = ["trusted"]
    if draw(seldom):
        rule = {"action": draw(st.sampled_from(["allow", "deny", "refuse"])), "program": draw(st.sampled_from(names))}
        server["filter"]["incoming"]["rules"].insert(0, rule)
    outside = [each["outside"]["address"] for each in site["gateways"] if "address" in each["outside"]]
    site["services"] = [draw(_service(each, [each.partition(",")[0] for each in outside] or ["own"])) for each in names]
    if draw(st.booleans()):
        draw(_both(site))
    entrances = [each["outside"]["address"] for each in _way_in(site)[::-1] if "address" in each["outside"]]
    for client in site["clients"]:
        draw(_habits(client, [*entrances, *entrances[:1], server["address"]]))
        client["modes"] = ["passive", "active"]
    site["promises"] = [
        {
            "client": draw(st.sampled_from(site["clients"]))["name"],
            "service": each,
            "mode": draw(st.sampled_from(["passive", "passive", "active"])),
        }
        for each in names
    ]
    if draw(st.booleans()):
        site["services"].append({"name": "keys", "protocol": "sftp", "control_port": SSH_PORT})
        site["promises"].append({"client": draw(st.sampled_from(site["clients"]))["name"], "service": "keys"})
    return site
