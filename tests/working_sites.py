"""Sites of the coast that keep all their promises, each another, for faults to be put into."""

import random
from typing import Any

SERVER, NAME = "10.61.4.20", "tides.saltmarsh.example"
OUTSIDE = "198.51.100.61"
MOBILE_CORE = {
    "name": "mobile-core",
    "outside": {"network": "internet", "address": "203.0.113.64"},
    "inside": {"network": "mobile", "address": "2001:db8:64::1"},
    "translate": "outward",
    "translate_ipv6": "none",
    "nat64": "64:ff9b::/96",
    "filter": {"inward": {"default": "deny"}},
}
PHONE = {"name": "phone", "network": "mobile", "address": "2001:db8:64::12", "reaches": NAME, "modes": ["passive"]}


def working_site(chance: random.Random) -> dict[str, Any]:
    """A router with forwards, perhaps one in front of it and filters, a server with its own, and clients outside,
    behind a carrier's translation, and inside."""
    low = chance.randrange(61200, 64000)
    data, control = f"{low}-{low + chance.choice([7, 11, 15])}", chance.choice([21, 21, 21, 2121])
    protocol = chance.choice(["ftp", "ftp", "ftp", "ftp", "sftp"])
    ports = f"{control}" if protocol == "sftp" else f"{control}, {data}"
    service: dict[str, Any] = {"name": "tide-exchange", "protocol": protocol, "control_port": control}
    if protocol == "ftp":
        service |= {
            "passive": {"ports": data, "announce": OUTSIDE, "announce_inside": "own"},
            "active": {"from_port": 20},
            "tls": chance.choice([{}, {"mode": "explicit", "names": [NAME]}, {"mode": "explicit", "required": True}]),
        }
    if chance.random() < 0.3:
        service["load"] = {"typical_size": "60 MB", "rate": "2 Mbit/s"}
    clients = _clients(chance, protocol)
    router = _router(chance, control, data, ports, protocol)
    if protocol == "ftp" and control == 21 and chance.random() < 0.15:
        _followed_by(router, service, clients)
    networks = [{"name": "office", "subnet": "10.61.4.0/24"}, {"name": "carrier", "subnet": "100.64.0.0/16"}]
    gateways = [router, _carrier(chance, ports)]
    if protocol == "ftp" and chance.random() < 0.2:
        networks.append({"name": "mobile", "subnet": "2001:db8:64::/64"})
        gateways.append(MOBILE_CORE)
        clients.append(PHONE)
    return {
        "lantern": 1,
        "site": "Working Coast",
        "networks": networks,
        "gateways": gateways,
        "server": _server(chance, control, data, ports, protocol),
        "services": [service],
        "accounts": [
            {"name": "station", "service": "tide-exchange", "home": "/srv/tides", "rights": ["list", "read", "write"],
             "clients": [each["name"] for each in clients[:2]]},
        ],
        "clients": clients,
        "names": [{"name": NAME, "addresses": [OUTSIDE]}],
        "promises": [_promise(each, protocol) for each in clients],
    }  # fmt: skip


def _followed_by(router: dict[str, Any], service: dict[str, Any], clients: list[dict[str, Any]]) -> None:
    """A helper of the router lets data in, of sessions without TLS; the server announces its own address."""
    router |= {"ftp_helper": True, "forwards": router["forwards"][:1], "forwards_pass_filter": True}
    service |= {"passive": {"ports": service["passive"]["ports"]}, "tls": {}}
    for each in clients:
        each.pop("speaks_tls", None)


def _promise(client: dict[str, Any], protocol: str) -> dict[str, Any]:
    mode = {"mode": client["modes"][0]} if protocol == "ftp" else {}
    return {"client": client["name"], "service": "tide-exchange", **mode}


def _clients(chance: random.Random, protocol: str) -> list[dict[str, Any]]:
    found = [
        {"name": "pilot", "network": "internet", "address": "203.0.113.140", "reaches": NAME, "modes": ["passive"]},
        {"name": "gauge", "network": "carrier", "address": "100.64.7.12", "reaches": NAME, "modes": ["passive"]},
        {"name": "desk", "network": "office", "address": "10.61.4.90", "reaches": SERVER, "modes": ["passive"]},
    ]
    found[1]["uses_epsv"] = chance.choice([True, False])
    found[0]["resumes_tls"] = chance.choice([True, False])
    if chance.random() < 0.5:
        found[0]["speaks_tls"] = chance.choice(["where-demanded", "never"])
    if protocol == "ftp" and chance.random() < 0.5:
        found.append({**found[0], "name": "logger", "address": "203.0.113.150", "modes": ["active"]})
    if chance.random() < 0.3:
        found.append({**found[2], "name": "bench", "address": "10.61.4.91", "reaches": NAME})
    return found


def _router(chance: random.Random, control: int, data: str, ports: str, protocol: str) -> dict[str, Any]:
    forwards = [{"name": "control", "ports": control, "to": SERVER}]
    if protocol == "ftp":
        forwards.append({"name": "data", "ports": data, "to": SERVER})
    router: dict[str, Any] = {
        "name": "harbour-router",
        "outside": {"network": "internet", "address": OUTSIDE},
        "inside": {"network": "office", "address": "10.61.4.1"},
        "translate": "outward",
        "hairpin": True,
        "unmatched": chance.choice(["silent", "refused"]),
        "forwards": forwards,
    }
    if chance.random() < 0.4:
        rules = [{"name": "to the server", "action": "allow", "protocol": "tcp", "ports": ports}]
        router |= {"forwards_pass_filter": False, "filter": {"inward": {"default": "deny", "rules": rules}}}
    return router


def _carrier(chance: random.Random, ports: str) -> dict[str, Any]:
    carrier: dict[str, Any] = {
        "name": "carrier-nat",
        "outside": {"network": "internet", "address": "203.0.113.9"},
        "inside": {"network": "carrier", "address": "100.64.0.1"},
        "translate": "outward",
    }
    if chance.random() < 0.3:
        rules = [{"name": "tides", "action": "allow", "protocol": "tcp", "ports": ports}]
        carrier["filter"] = {"outward": {"default": chance.choice(["deny", "refuse"]), "rules": rules}}
    return carrier


def _server(chance: random.Random, control: int, data: str, ports: str, protocol: str) -> dict[str, Any]:
    rules: list[dict[str, Any]] = [{"name": "control", "action": "allow", "protocol": "tcp", "ports": control}]
    if protocol == "ftp":
        rules.append({"name": "data", "action": "allow", "protocol": "tcp", "ports": data})
    if chance.random() < 0.3:
        rules = [{"name": "both", "action": "allow", "protocol": "any", "ports": ports}]
    incoming = {"default": chance.choice(["deny", "refuse"]), "rules": rules}
    if chance.random() < 0.2:
        incoming = {"default": "allow"}
    server = {"name": "gauge-store", "network": "office", "address": SERVER, "filter": {"incoming": incoming}}
    return {**server, "category": "trusted"} if chance.random() < 0.5 else server
