"""Sites of the coast that were meant to work: each with rules that serve other traffic, and with faults put in.

Faults are made in the text of the site, one entry at a time, and know nothing of how the tool names or cures them.
"""

import copy
import ipaddress
import json
import random
from collections.abc import Callable, Iterator
from typing import Any, NamedTuple

from plain import Packet, Site, send
from working_sites import NAME, OUTSIDE, SERVER, working_site

from eager_lantern.api import BadInput, judge, parse_site

FOREIGN_IN: list[dict[str, Any]] = [
    {"name": "web", "action": "allow", "protocol": "tcp", "ports": 443},
    {"name": "inside", "action": "allow", "from": "10.61.4.0/24"},
    {"name": "camera", "action": "allow", "protocol": "tcp", "ports": "554, 8000-8100"},
    {"action": "allow", "protocol": "tcp", "ports": 8080},
    {"name": "banned", "action": "deny", "from": "203.0.113.200"},
    {"name": "maintenance", "action": "allow", "protocol": "tcp", "ports": 3389, "from": "192.0.2.200"},
    {"name": "voice", "action": "allow", "protocol": "udp", "ports": "16384-16483"},
]
FOREIGN_FORWARDS: list[dict[str, Any]] = [
    {"name": "camera", "ports": 8443, "to": "10.61.4.90"},
    {"name": "vpn", "protocol": "udp", "ports": 1194, "to": SERVER},
    {"name": "web", "ports": 443, "to": "10.61.4.90"},
    {"name": "game", "ports": "27015-27030", "to": "10.61.4.90"},
]
FOREIGN_OUT: list[dict[str, Any]] = [
    {"name": "web", "action": "allow", "protocol": "tcp", "ports": "80, 443"},
    {"name": "names", "action": "allow", "protocol": "udp", "ports": 53, "to": "192.0.2.53"},
    {"name": "active data", "action": "allow", "protocol": "tcp", "from_ports": 20, "from": SERVER},
]
STRANGERS = [
    {"name": "stranger", "network": "internet", "address": "192.0.2.77"},
    {"name": "resolver", "network": "internet", "address": "192.0.2.53"},
    {"name": "banned", "network": "internet", "address": "203.0.113.200"},
    {"name": "maintainer", "network": "internet", "address": "192.0.2.200"},
    {"name": "guest", "network": "office", "address": "10.61.4.201"},
    {"name": "other-gauge", "network": "carrier", "address": "100.64.9.9"},
]


class Faulty(NamedTuple):
    """What was meant, what stands there, and how many entries differ, by the place of each."""

    meant: Site
    found: Site
    places: list[tuple[str, ...]]


def meant_site(chance: random.Random) -> Site:
    """A working site with a few entries for other purposes, before and behind its own."""
    site = working_site(chance)
    router, server = site["gateways"][0], site["server"]
    server.setdefault("filter", {"incoming": {"default": "allow"}})
    incoming = server["filter"]["incoming"]
    if incoming["default"] != "allow":
        incoming["rules"] = mixed(chance, incoming["rules"], FOREIGN_IN)
    router["forwards"] = mixed(chance, router["forwards"], FOREIGN_FORWARDS)
    if "filter" in router:
        inward = router["filter"]["inward"]
        inward["rules"] = mixed(chance, inward["rules"], FOREIGN_IN)
    if chance.random() < 0.4:
        rules = [FOREIGN_OUT[2], *chance.sample(FOREIGN_OUT[:2], chance.choice([1, 2]))]
        router.setdefault("filter", {})["outward"] = {"default": "deny", "rules": copy.deepcopy(rules)}
    return copy.deepcopy(site)


def mixed(chance: random.Random, own: list[dict[str, Any]], others: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Own entries with some others among them; what bans somebody comes first."""
    found = list(own)
    for each in chance.sample(others, chance.choice([0, 1, 2, 3])):
        at = 0 if each.get("action") == "deny" else chance.randrange(len(found) + 1)
        found.insert(at, each)
    return found


def own_entries(site: Site) -> Iterator[tuple[tuple[str, ...], list[dict[str, Any]], int]]:
    """The rules and forwards that serve the site's service, each with its list."""
    lists = [(("server", "incoming"), site["server"].get("filter", {}).get("incoming", {}).get("rules", []))]
    for gateway in site["gateways"]:
        filters = gateway.get("filter", {})
        lists += [((gateway["name"], way), filters.get(way, {}).get("rules", [])) for way in ("inward", "outward")]
        lists.append(((gateway["name"], "forwards"), gateway.get("forwards", [])))
    foreign = {each.get("name", "") for each in (*FOREIGN_IN, *FOREIGN_FORWARDS, *FOREIGN_OUT)}
    for place, entries in lists:
        for i, each in enumerate(entries):
            if each.get("name", "") not in foreign:
                yield place, entries, i


def slip(chance: random.Random, ports: str) -> str:
    """One digit swapped, left out, or doubled."""
    for _ in range(20):
        i = chance.randrange(len(ports))
        if ports[i] in "-, ":
            continue
        how = chance.choice(["swap", "drop", "twice"])
        if how == "swap" and ports[i : i + 2].isdigit() and len(ports[i : i + 2]) == 2:
            new = ports[:i] + ports[i + 1] + ports[i] + ports[i + 2 :]
        elif how == "drop":
            new = ports[:i] + ports[i + 1 :]
        else:
            new = ports[:i] + ports[i] + ports[i:]
        if new != ports and is_ports(new):
            return new
    return ports


def is_ports(text: str) -> bool:
    """Whether this can stand in a site file, ascending."""
    last = 0
    for part in text.split(", "):
        low, _, high = part.partition("-")
        high = high or low
        if not (low.isdigit() and high.isdigit()) or low[0] == "0" or high[0] == "0":
            return False
        if not last < int(low) <= int(high) <= 65535:
            return False
        last = int(high)
    return True


def in_part(chance: random.Random, ports: str) -> str:
    low, _, high = ports.split(", ")[-1].partition("-")
    if not high:
        return ports
    middle = (int(low) + int(high)) // 2
    part = chance.choice([f"{low}-{middle}", f"{middle}-{high}"])
    return ", ".join([*ports.split(", ")[:-1], part])


EntryFault = Callable[[random.Random, list[dict[str, Any]], int], None]
"""A fault of one entry of a list, made in place."""


def set_key(key: str, *values: Any) -> EntryFault:
    def made(chance: random.Random, entries: list[dict[str, Any]], i: int) -> None:
        entries[i] = {**entries[i], key: chance.choice(values)}

    return made


def change_ports(how: Callable[[random.Random, str], str]) -> EntryFault:
    def made(chance: random.Random, entries: list[dict[str, Any]], i: int) -> None:
        entries[i] = {**entries[i], "ports": how(chance, str(entries[i]["ports"]))}

    return made


def remove(chance: random.Random, entries: list[dict[str, Any]], i: int) -> None:
    del entries[i]


OF_ENTRIES: dict[str, EntryFault] = {
    "gone": remove,
    "off": set_key("enabled", False),
    "slip": change_ports(slip),
    "in part": change_ports(in_part),
    "udp": set_key("protocol", "udp"),
    "for others": set_key("from", "192.0.2.66"),
}
OF_RULES: dict[str, EntryFault] = {"denies": set_key("action", "deny", "refuse")}
OF_FORWARDS: dict[str, EntryFault] = {"old address": set_key("to", "10.61.4.7")}


def whole_faults(site: Site) -> dict[str, Callable[[random.Random], None]]:
    """Faults of one key of a device, the server or a name."""
    router, service = site["gateways"][0], site["services"][0]
    found: dict[str, Callable[[random.Random], None]] = {
        "switch": lambda chance: router.update(forwarding=False),
        "name": lambda chance: site["names"][0].update(addresses=["198.51.100.77"]),
        "server moved": lambda chance: site["server"].update(address="10.61.4.27"),
    }
    if "passive" in service and "announce" in service["passive"]:
        passive = service["passive"]
        found["announces own"] = lambda chance: passive.update(announce=SERVER)
        found["announces old"] = lambda chance: passive.update(announce="198.51.100.77")
        found["other range"] = lambda chance: passive.update(ports=elsewhere(passive["ports"]))
        found["range slip"] = lambda chance: passive.update(ports=slip(chance, passive["ports"]))
    if "category" in site["server"]:
        found["category"] = lambda chance: categorised(site, chance)
    return found


def elsewhere(ports: str) -> str:
    """A range of the same size at another place."""
    low, _, high = ports.partition("-")
    return f"50000-{min(50000 + int(high) - int(low), 65535)}"


def categorised(site: Site, chance: random.Random) -> None:
    """A rule of the server for another kind of network."""
    mine = [(rules, i) for place, rules, i in own_entries(site) if place == ("server", "incoming")]
    if mine:
        rules, i = chance.choice(mine)
        rules[i] = {**rules[i], "categories": ["public"]}


def faulty_site(seed: int, most: int = 4) -> Faulty:
    """A site with up to so many faults."""
    chance = random.Random(seed)
    meant = meant_site(chance)
    found = copy.deepcopy(meant)
    places: list[tuple[str, ...]] = []
    for _ in range(chance.randrange(1, most + 1)):
        if any(own_entries(found)):
            places.append(one_fault(found, chance))
    return Faulty(meant, found, places)


GATEWAY = {
    "provider_blocks": "none",
    "translate": "none",
    "forwarding": True,
    "forwards_pass_filter": True,
    "hairpin": False,
    "unmatched": "silent",
    "forwards": [],
    "filter": {},
}


WHOLE = {
    "switch": ("gateways", 0, "forwarding"),
    "name": ("names", 0),
    "category": ("server", "filter", "incoming"),
    "announces own": ("services", 0, "passive", "announce"),
    "announces old": ("services", 0, "passive", "announce"),
}


def places_of(fault: tuple[str, ...], site: Site) -> tuple[str | int, ...]:
    """Where a fault stands: the key, or the table of its entry; nothing where it shows at other places."""
    if len(fault) == 1:
        return WHOLE.get(fault[0], ())
    if fault[0] == "server":
        return "server", "filter", "incoming"
    index = [each["name"] for each in site["gateways"]].index(fault[0])
    return ("gateways", index, "forwards") if fault[1] == "forwards" else ("gateways", index, "filter", fault[1])


def several_faults(seed: int) -> Faulty | None:
    """A site with two to four faults, each of another entry or key, of which each alone would break a promise."""
    chance = random.Random(seed)
    meant = meant_site(chance)
    if verdict_of(meant) != "kept":
        return None
    found, places, most = copy.deepcopy(meant), list[tuple[str, ...]](), chance.choice([2, 3, 4])
    for _ in range(40):
        alone = copy.deepcopy(meant)
        fault = one_fault(alone, chance)
        new = entry_of(fault) not in map(entry_of, places)
        if len(places) < most and new and verdict_of(alone) == "broken" and copied(meant, alone, found, fault):
            places.append(fault)
    return Faulty(meant, found, places) if len(places) > 1 and verdict_of(found) == "broken" else None


def branches(count: int) -> Site:
    """A working site with so many branches, each with a fault of its own in its router's filter: the range is let out
    in part there."""
    data = working_site(random.Random(9))
    clients: list[dict[str, Any]] = []
    ports = data["services"][0]["passive"]["ports"]
    low = int(ports.partition("-")[0])
    for i in range(count):
        data["networks"].append({"name": f"branch-{i}", "subnet": f"10.{100 + i}.0.0/24"})
        rules = [
            {"name": "control", "action": "allow", "protocol": "tcp", "ports": 21},
            {"name": "data", "action": "allow", "protocol": "tcp", "ports": f"{low + 1 + i}-{ports.partition('-')[2]}"},
            {"name": "web", "action": "allow", "protocol": "tcp", "ports": "80, 443"},
        ]
        data["gateways"].append({
            "name": f"branch-router-{i}",
            "outside": {"network": "internet", "address": f"203.0.113.{70 + i}"},
            "inside": {"network": f"branch-{i}", "address": f"10.{100 + i}.0.1"},
            "translate": "outward",
            "filter": {"outward": {"default": "deny", "rules": rules}},
        })  # fmt: skip
        clients.append({"name": f"gauge-{i}", "network": f"branch-{i}", "address": f"10.{100 + i}.0.10",
                        "reaches": NAME, "modes": ["passive"]})  # fmt: skip
    data["clients"] += clients
    data["promises"] = [{"client": each["name"], "service": "tide-exchange", "mode": "passive"} for each in clients]
    return data


def entry_of(fault: tuple[str, ...]) -> tuple[str, ...]:
    """What a fault is of: two of the same are never put in."""
    if len(fault) > 1:
        return (*fault[:2], fault[-1])
    return {"other range": ("range",), "range slip": ("range",)}.get(fault[0], (fault[0].split()[0],))


def verdict_of(site: Site) -> str:
    try:
        return judge(parse_site("site", json.dumps(site)).site).verdict
    except BadInput:
        return "bad input"


def one_fault(site: Site, chance: random.Random) -> tuple[str, ...]:
    """A fault put in, and its place: the key, or table, kind and label of the entry."""
    whole = whole_faults(site)
    if chance.random() < 0.35:
        kind = chance.choice(sorted(whole))
        whole[kind](chance)
        return (kind,)
    place, entries, i = chance.choice(list(own_entries(site)))
    kinds = OF_ENTRIES | (OF_FORWARDS if place[1] == "forwards" else OF_RULES)
    kind = chance.choice(sorted(kinds))
    label = str(entries[i].get("name", i))
    kinds[kind](chance, entries, i)
    return (*place, kind, label)


def copied(meant: Site, source: Site, target: Site, fault: tuple[str, ...]) -> bool:
    """The one fault of a site put into another; whether there was a place for it."""
    if len(fault) == 1:
        for keys in (("gateways", 0, "forwarding"), ("names", 0, "addresses"), ("server", "address"),
                     ("services", 0, "passive", "announce"), ("services", 0, "passive", "ports")):  # fmt: skip
            copy_key(meant, source, target, keys)
        if fault[0] != "category":
            return True
    tables = {(place, str(its[i].get("name", i))): (its, i) for place, its, i in own_entries(target)}
    theirs = {(place, str(its[i].get("name", i))): its[i] for place, its, i in own_entries(source)}
    if fault[0] == "category":
        keys = [key for key, each in theirs.items() if "categories" in each]
    else:
        keys = [(fault[:2], fault[-1])]
    for key in keys:
        if key in tables:
            its, i = tables[key]
            its[i : i + 1] = [copy.deepcopy(theirs[key])] if key in theirs else []
            return True
    return False


def copy_key(meant: Any, source: Any, target: Any, keys: tuple[str | int, ...]) -> None:
    """What stands at a place of one site, at that of another, where it differs from what was meant."""
    *way, last = keys
    for key in way:
        if isinstance(key, str) and key not in source:
            return
        meant, source, target = meant[key], source[key], target[key]
    if last in source and source[last] != meant.get(last):
        target[last] = source[last]


COSTS = {"server": 1.0, "harbour-router": 1.2, "carrier-nat": 8.0, "name": 2.0, "switch": 1.2, "server moved": 1.5}
"""What it costs to undo a fault by its place, as ``data/mending.yaml`` has it; the server's own are left out."""


def undone_cost(faulty: Faulty) -> float:
    """What undoing every fault by hand costs."""
    return round(sum(COSTS.get(place[0], 1.0) for place in set(faulty.places)), 6)


def counted(site: Site) -> Site:
    """The site as plain reading has it: every default written, one span and one network an entry, rules of another
    category left out, strangers beside the clients."""
    site = copy.deepcopy(site)
    category = site["server"].get("category")
    site["gateways"] = [GATEWAY | each for each in site.get("gateways", [])]
    tables = [each["filter"] for host in (site["server"], *site["clients"]) for each in (host,) if "filter" in host]
    for gateway in site["gateways"]:
        gateway["filter"] = {"inward": None, "outward": None} | gateway["filter"]
        gateway["forwards"] = [part for each in gateway["forwards"] for part in apart({"protocol": "tcp"} | each)]
        tables.append(gateway["filter"])
    for both in tables:
        for table in (each for each in both.values() if each and "rules" in each):
            rules = [each for each in table["rules"] if "categories" not in each or category in each["categories"]]
            table["rules"] = [part for each in rules for part in apart(each)]
    known = {each["address"] for each in (*site["clients"], site["server"])}
    site["clients"] += [each for each in STRANGERS if each["address"] not in known]
    return site


def apart(entry: dict[str, Any]) -> Iterator[dict[str, Any]]:
    """An entry of several spans or networks as entries of one each."""
    spans = str(entry["ports"]).split(", ") if "ports" in entry and "to_port" not in entry else [None]
    for ports in spans:
        for source in networks(entry["from"]) if "from" in entry else [None]:
            for to in networks(entry["to"]) if "to" in entry else [None]:
                keys = {"ports": ports, "from": source, "to": to}
                yield entry | {key: each for key, each in keys.items() if each is not None}


def networks(text: str) -> Iterator[str]:
    for part in text.split(", "):
        low, _, high = part.partition("-")
        if not high:
            yield part
            continue
        first, last = ipaddress.ip_address(low), ipaddress.ip_address(high)
        yield from map(str, ipaddress.summarize_address_range(first, last))


def samples(chance: random.Random, *sites: Site) -> list[tuple[str, Packet]]:
    """Packets that tell the sites apart: at every end of a range that any of them names."""
    text = " ".join(str(each) for site in sites for each in ports_in(site))
    numbers = {int(each) for each in text.replace("-", " ").replace(",", " ").split()}
    ports = sorted({port for each in numbers for port in (each - 1, each, each + 1) if 0 < port < 65536})
    hosts = {each["name"]: each for site in sites for each in (*site["clients"], site["server"])}
    goals = {OUTSIDE, *(each["address"] for each in hosts.values())}
    found = []
    for name, host in hosts.items():
        for to in sorted(goals):
            if (":" in to) == (":" in host["address"]) and to != host["address"]:
                for port in chance.sample(ports, min(len(ports), 12)):
                    protocol = chance.choice(["tcp", "tcp", "udp"])
                    found.append((name, Packet(protocol, host["address"], chance.choice([20, 40000]), to, port)))
    return found


def ports_in(value: Any) -> Iterator[Any]:
    if isinstance(value, dict):
        for key, each in value.items():
            if key in ("ports", "control_port", "to_port"):
                yield each
            yield from ports_in(each)
    elif isinstance(value, list):
        for each in value:
            yield from ports_in(each)


def arrives(site: Site, name: str, packet: Packet) -> str:
    """The host at which a packet arrives, empty where it does not."""
    if not any(each["name"] == name for each in (*site["clients"], site["server"])):
        return ""
    if name == site["server"]["name"]:
        packet = packet._replace(source=site["server"]["address"])
    end = send(site, name, packet)
    return end.at if end.outcome == "ok" else ""


SERVERS = (SERVER, "10.61.4.27", "10.61.4.7")
"""Where the server may be: a packet to it goes there."""


def held_against(faulty: Faulty, after: Site) -> tuple[list[str], list[str]]:
    """By plain reading of sampled packets: what passed in both the site as found and as meant, and is lost; and what
    passes now and did in neither, nor is stated by entries that a master switch alone keeps from counting. UDP to ports
    of the server on which nobody listens is not asked for, nor a second way to it from its own network."""
    lost, needless = [], []
    stated = {**faulty.found, "gateways": [{**each, "forwarding": True} for each in faulty.found["gateways"]]}
    sites = [counted(each) for each in (faulty.found, faulty.meant, after, stated)]
    for name, packet in samples(random.Random(0), *sites):
        ends = [
            arrives(each, name, packet._replace(to=each["server"]["address"]) if packet.to in SERVERS else packet)
            for each in sites
        ]
        heard = packet.port == 1194 or 16384 <= packet.port < 16484
        beside = packet.to == OUTSIDE and packet.source.startswith("10.61.4.")
        if sites[0]["server"]["name"] in ends and (beside or (packet.protocol == "udp" and not heard)):
            continue
        before, meant, now, switched = ends
        if before and before == meant != now:
            lost.append(f"{name} → {before}: {packet}")
        if now and now not in (before, meant, switched):
            needless.append(f"{name} → {now}: {packet}")
    return lost, needless
