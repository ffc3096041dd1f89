"""A second, independent reading of a site: one packet at a time, plain loops, no sets.

It works on the site as YAML gives it and shares nothing with the engine.
"""

import ipaddress
from typing import Any, NamedTuple

Site = dict[str, Any]


class Packet(NamedTuple):
    protocol: str
    source: str
    source_port: int | None
    to: str
    port: int


class End(NamedTuple):
    """How a packet ended, where, and what came back; ``trail`` is where it has come out."""

    outcome: str
    at: str
    packet: Packet
    answer: str = ""
    trail: list[Any] = []


SPECIAL = [
    ipaddress.ip_network(each)
    for each in ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10", "127.0.0.0/8", "169.254.0.0/16")
]


def is_public(address: str) -> bool:
    return not any(ipaddress.ip_address(address) in each for each in SPECIAL)


def in_ports(port: int | None, text: str) -> bool:
    for part in str(text).split(",") if text != "none" else ():
        low, _, high = part.strip().partition("-")
        if port is not None and int(low) <= port <= int(high or low):
            return True
    return False


def in_network(address: str, text: str) -> bool:
    return ipaddress.ip_address(address) in ipaddress.ip_network(text)


def decides(filter_: dict[str, Any] | None, packet: Packet) -> str:
    """allow, deny, refuse (with what) or unknown: the first rule that matches, else the default."""
    if filter_ is None:
        return "allow"
    for rule in filter_.get("rules", []):
        if not rule.get("enabled", True):
            continue
        if rule.get("protocol", "any") not in ("any", packet.protocol):
            continue
        if "ports" in rule and not in_ports(packet.port, rule["ports"]):
            continue
        if "from" in rule and not in_network(packet.source, rule["from"]):
            continue
        if "to" in rule and not in_network(packet.to, rule["to"]):
            continue
        if "from_ports" in rule:
            if packet.source_port is None:
                return "unknown"
            if not in_ports(packet.source_port, rule["from_ports"]):
                continue
        return f"{rule['action']} {rule.get('refuses_with', '')}".strip()
    return f"{filter_['default']} {filter_.get('refuses_with', '')}".strip()


STOPS = {"deny": "silent", "refuse": "refused", "unknown": "unknown"}


def judged(action: str, at: str, packet: Packet, trail: list[Any]) -> End:
    """How a packet ends that a filter does not let pass."""
    word, _, kind = action.partition(" ")
    return says_no(at, packet, trail, kind) if word == "refuse" else End(STOPS[word], at, packet, "", trail)


def says_no(at: str, packet: Packet, trail: list[Any], kind: str = "") -> End:
    if packet.protocol == "udp" and kind in ("", "reset"):
        kind = "port-unreachable"
    return End("refused", at, packet, kind or "reset", trail)


def unmatched(gateway: dict[str, Any], packet: Packet, trail: list[Any]) -> End:
    refuses = gateway["unmatched"] == "refused"
    return says_no(gateway["name"], packet, trail) if refuses else End("silent", gateway["name"], packet, "", trail)


def owned(gateway: dict[str, Any]) -> list[str]:
    pairs = [pair["outside"] for pair in gateway.get("pairs", [])]
    return [each for each in [gateway["outside"].get("address"), *pairs] if each]


def hosts(site: Site) -> list[dict[str, Any]]:
    return [site["server"], *site["clients"]]


def subnet(site: Site, network: str) -> str | None:
    return next((each["subnet"] for each in site["networks"] if each["name"] == network), None)


def lives_on(site: Site, network: str, address: str) -> bool:
    """Whether an address belongs to a network."""
    if any(host["network"] == network and host["address"] == address for host in hosts(site)):
        return True
    for gateway in site["gateways"]:
        if gateway["outside"]["network"] == network and address in owned(gateway):
            return True
        if gateway["inside"]["network"] == network and gateway["inside"]["address"] == address:
            return True
    range_ = subnet(site, network)
    return range_ is not None and in_network(address, range_)


def next_device(site: Site, network: str, address: str) -> tuple[dict[str, Any], str] | None:
    """The gateway to take from a network towards an address, and the way; by growing circles."""
    circle: list[tuple[str, tuple[dict[str, Any], str] | None]] = [(network, None)]
    seen = {network}
    to_internet: tuple[dict[str, Any], str] | None = None
    while circle:
        wider = []
        for here, first in circle:
            for gateway in site["gateways"]:
                steps = []
                if gateway["inside"]["network"] == here:
                    steps.append((gateway["outside"]["network"], "outward"))
                if gateway["outside"]["network"] == here and gateway["translate"] == "none":
                    steps.append((gateway["inside"]["network"], "inward"))
                for far, way in steps:
                    if far in seen:
                        continue
                    seen.add(far)
                    begun = first or (gateway, way)
                    if lives_on(site, far, address):
                        return begun
                    if far == "internet":
                        to_internet = begun
                    wider.append((far, begun))
        circle = wider
    if is_public(address):
        return to_internet
    return to_internet if to_internet and to_internet[1] == "outward" else None


def leads_to(site: Site, network: str, address: str) -> bool:
    """Whether some network that can be seen from this one has the address."""
    seen, waiting = {network}, [network]
    while waiting:
        here = waiting.pop()
        if lives_on(site, here, address):
            return True
        for gateway in site["gateways"]:
            ways = [(gateway["inside"]["network"], gateway["outside"]["network"])]
            if gateway["translate"] == "none":
                ways.append((gateway["outside"]["network"], gateway["inside"]["network"]))
            for near, far in ways:
                if near == here and far not in seen:
                    seen.add(far)
                    waiting.append(far)
    return False


Trail = list[tuple[str, dict[str, Any] | None, str, str]]
"""The networks that a packet came out on: who sent it there, and its source and destination then."""


def attached(site: Site, network: str, name: str) -> tuple[dict[str, Any], str] | None:
    for gateway in site["gateways"]:
        for side, way in (("inside", "outward"), ("outside", "inward")):
            if gateway["name"] == name and gateway[side]["network"] == network:
                return gateway, way
    return None


def seen_beyond(site: Site, network: str, step: tuple[dict[str, Any], str]) -> set[str]:
    """The networks that are seen through a gateway without coming back."""
    gateway, way = step
    if way == "inward" and gateway["translate"] != "none":
        return set()
    found = {gateway["inside" if way == "inward" else "outside"]["network"]}
    while True:
        more = {
            far
            for each in site["gateways"]
            for near, far, seen in (
                (each["inside"]["network"], each["outside"]["network"], True),
                (each["outside"]["network"], each["inside"]["network"], each["translate"] == "none"),
            )
            if seen and near in found and far != network
        }
        if more <= found:
            return found
        found |= more


def ways(site: Site, network: str, address: str, sender: dict[str, Any] | None) -> tuple[str, Any]:
    """Where a sender hands a packet: ("to", device and way), or "here", "lost" or "several"."""
    known = [each for each in (sender or {}).get("routes", []) if in_network(address, each["to"])]
    known.sort(key=lambda each: -ipaddress.ip_network(each["to"]).prefixlen)
    for route in known:
        if step := attached(site, network, route["via"]):
            return "to", step
    nearest = next_device(site, network, address)
    if sender and "gateway" in sender:
        return (
            ("here", None) if lives_on(site, network, address) else ("to", attached(site, network, sender["gateway"]))
        )
    if lives_on(site, network, address):
        return "here", None
    if nearest is None:
        return "lost", None
    exits = [each for name in site["gateways"] if (each := attached(site, network, name["name"]))]
    lost = not is_public(address) and not leads_to(site, network, address)
    stranger, leading = not leads_to(site, network, address), 0
    for each in exits:
        beyond = seen_beyond(site, network, each)
        held = any(lives_on(site, far, address) for far in beyond)
        leading += held or (stranger and "internet" in beyond and (lost or is_public(address)))
    return ("several", None) if leading > 1 else ("to", nearest)


def is_nearer(site: Site, node: dict[str, Any], other: str, network: str, address: str) -> bool:
    """Whether it is no further to an address over another network of a device than over this one."""
    step = next_device(site, other, address)
    there, here = (distance(site, each, address) for each in (other, network))
    past_itself = there != 0 and step is not None and step[0] is node
    return there is not None and not past_itself and (here is None or there <= here)


def distance(site: Site, network: str, address: str) -> int | None:
    """How many devices lie between a network and an address."""
    for count in range(len(site["gateways"]) + 1):
        if lives_on(site, network, address):
            return count
        step = next_device(site, network, address)
        if step is None:
            return count if network == "internet" and is_public(address) else None
        network = step[0]["outside" if step[1] == "outward" else "inside"]["network"]
        if network == "internet" and not leads_to(site, network, address):
            return count + 1 if is_public(address) else None
    return None


def way_back(site: Site, trail: Trail, host: dict[str, Any]) -> tuple[str, str] | None:
    """What becomes of the answer, where it does not come back: outcome, and who sends it elsewhere."""
    node = host
    for k in range(len(trail) - 1, -1, -1):
        network, sender, source, to = trail[k]
        if sender is None or "inside" not in sender:
            return None
        own = [sender["inside"]["address"]] if sender["inside"]["network"] == network else owned(sender)
        if "inside" in node:
            sides = {node["inside"]["network"], node["outside"]["network"]} - {network, "internet"}
            known = [each for each in node.get("routes", []) if in_network(source, each["to"])]
            known.sort(key=lambda each: -ipaddress.ip_network(each["to"]).prefixlen)
            inside = node["inside"]["network"]
            aside = known and bool(attached(site, inside, known[0]["via"])) != (network == inside)
            if aside or any(is_nearer(site, node, each, network, source) for each in sides):
                return "unknown", node["name"]
        if source not in own:
            kind, step = ways(site, network, source, node)
            if kind != "to" or step[0] is not sender:
                lost = kind == "lost" or (
                    kind == "to" and not is_public(source) and not leads_to(site, network, source)
                )
                changed = k > 0 and trail[k - 1][3] != to
                if kind != "to":
                    return "silent" if lost or (changed and kind == "here") else "unknown", node["name"]
                device, way = step
                if device is node:
                    return "unknown", node["name"]
                known = [each for each in device.get("routes", []) if in_network(source, each["to"])]
                known.sort(key=lambda each: -ipaddress.ip_network(each["to"]).prefixlen)
                inside = device["inside"]["network"]
                kind = device.get("translate_ipv6", device["translate"]) if ":" in source else device["translate"]
                passes = kind == "none" and lies_inside(site, inside, source)
                back = attached(site, inside, known[0]["via"]) if known else passes
                if way == "inward" or back:
                    return "unknown", node["name"]
                private = device["outside"]["network"] == "internet" and not is_public(source)
                return "silent" if lost or changed or private else "unknown", node["name"]
        node = sender
    return None


def send(site: Site, name: str, packet: Packet) -> End:
    """What becomes of one packet that a host sends."""
    host = next(each for each in hosts(site) if each["name"] == name)
    if packet.to == host["address"]:
        return End("ok", name, packet)
    action = decides(host.get("filter", {}).get("outgoing"), packet)
    if action != "allow":
        return judged(action, name, packet, [])
    return noticed(site, arrive(site, host["network"], packet, None, host, []))


def speaks(gateway: dict[str, Any], address: str) -> bool:
    """Whether a gateway has an address of the family of this one, from which it could send an ICMP error."""
    own = [*owned(gateway), *gateway["inside"].get("address", "").split(", ")]
    return any((":" in each) == (":" in address) for each in own if each)


def noticed(site: Site, end: End) -> End:
    """What the sender sees of an answer, which takes its own way where the site lists routes."""
    trail, end = end.trail, end._replace(trail=[])
    device = next((each for each in site["gateways"] if each["name"] == end.at), None)
    if device and end.outcome == "refused" and end.answer != "reset" and not speaks(device, end.packet.to):
        return End("unknown", end.at, end.packet)
    if not routed(site) or end.outcome not in ("ok", "refused") or not trail:
        return end
    nodes = {each["name"]: each for each in (*hosts(site), *site["gateways"])}
    node = nodes.get(end.at)
    if node is None:  # nobody is there, which whoever sent it says
        trail, node = trail[:-1], trail[-1][1]
    astray = way_back(site, trail, node) if trail else None
    return End(astray[0], astray[1], end.packet) if astray else end


def arrive(
    site: Site, network: str, packet: Packet, through: dict[str, Any] | None, sender: dict[str, Any], trail: Trail
) -> End:
    if len(trail) > 30:
        return End("unknown", network, packet)
    trail = [*trail, (network, sender, packet.source, packet.to)]
    if network == "internet" and not is_public(packet.to):
        return End("silent", network, packet)
    if network == "internet" and not is_public(packet.source):
        return End("unknown" if forked(site) else "silent", network, packet)
    for host in hosts(site):
        if host["network"] == network and host["address"] == packet.to:
            action = decides(host.get("filter", {}).get("incoming"), packet)
            if action == "allow":
                return End("ok", host["name"], packet, "", trail)
            return judged(action, host["name"], packet, trail)
    for gateway in site["gateways"]:
        if gateway["outside"]["network"] == network and packet.to in owned(gateway):
            return come_in(site, gateway, packet, trail)
        if gateway["inside"]["network"] == network and gateway["inside"]["address"] == packet.to:
            return unmatched(gateway, packet, trail)
    kind, step = ways(site, network, packet.to, sender)
    if kind != "to":
        if kind == "here" and network != "internet" and sender.get("system") != "cloud":
            return says_no(network, packet, trail, "host-unreachable")
        outcome = "unknown" if kind == "several" else "silent"
        return End(outcome, sender["name"] if kind == "several" else network, packet)
    gateway, way = step
    if way == "inward":
        if in_ports(packet.port, gateway["provider_blocks"]):
            return End("silent", gateway["name"], packet)
        if packet.to == gateway["inside"]["address"]:
            return unmatched(gateway, packet, trail)
        return filtered_in(site, gateway, packet, trail)
    if through is gateway:
        lost = not is_public(packet.to) and not leads_to(site, network, packet.to)
        lost = lost and gateway["outside"]["network"] == "internet"
        return End("silent" if lost else "unknown", gateway["name"], packet)
    if packet.to in owned(gateway):
        return turned_back(site, gateway, packet, trail)
    return go_out(site, gateway, packet, trail)


def forked(site: Site) -> bool:
    """Whether there are two ways between some networks: more joints than a tree has."""
    joined = [{each["outside"]["network"], each["inside"]["network"]} for each in site["gateways"]]
    groups: list[set[str]] = []
    for pair in joined:
        touching = [each for each in groups if each & pair]
        if any(pair <= each for each in touching):
            return True
        groups = [each for each in groups if not each & pair] + [set().union(pair, *touching)]
    return False


def routed(site: Site) -> bool:
    """Whether the site lists any routes."""
    return any("gateway" in each or each.get("routes") for each in (*hosts(site), *site["gateways"]))


def rewritten(gateway: dict[str, Any], packet: Packet) -> tuple[Packet | None, bool]:
    """The packet as a forward or a pair rewrites it, and whether it was a forward."""
    order = gateway.get("forward_order", "first")
    listed = list(gateway["forwards"]) if gateway["forwarding"] else []
    if order == "last":
        listed.reverse()
    if order == "narrowest":
        listed.sort(key=lambda each: sum(in_ports(port, each["ports"]) for port in range(1, 100)))
    for forward in listed:
        wanted = forward.get("enabled", True) and forward["protocol"] == packet.protocol
        if not wanted or not in_ports(packet.port, forward["ports"]):
            continue
        if "from" in forward and not in_network(packet.source, forward["from"]):
            continue
        first = int(str(forward["ports"]).split("-")[0])
        port = packet.port + int(forward.get("to_port", first)) - first
        return packet._replace(to=forward["to"], port=port), True
    for pair in gateway.get("pairs", []):
        if pair["outside"] == packet.to:
            return packet._replace(to=pair["inside"]), False
    exposed = gateway.get("exposed_host") if gateway["forwarding"] else None
    return (packet._replace(to=exposed), True) if exposed else (None, False)


def come_in(site: Site, gateway: dict[str, Any], packet: Packet, trail: Trail) -> End:
    shared = gateway["outside"].get("ports")
    if in_ports(packet.port, gateway["provider_blocks"]):
        return End("silent", gateway["name"], packet)
    if shared and packet.to == gateway["outside"].get("address") and not in_ports(packet.port, shared):
        return End("silent", gateway["name"], packet)
    before = gateway.get("filter_sees") == "outside"
    action = decides(gateway["filter"]["inward"], packet) if before else "allow"
    if action != "allow":
        return judged(action, gateway["name"], packet, trail)
    if in_ports(packet.port, gateway.get("unknown_ports", "none")):
        return End("unknown", gateway["name"], packet)
    changed, forwarded = rewritten(gateway, packet)
    if changed is None:
        return unmatched(gateway, packet, trail)
    asked = not before and not (forwarded and gateway["forwards_pass_filter"])
    action = decides(gateway["filter"]["inward"], changed) if asked else "allow"
    if action != "allow":
        return judged(action, gateway["name"], changed, trail)
    if forwarded and gateway.get("forwards_hide_source"):
        changed = changed._replace(source=gateway["inside"]["address"], source_port=None)
    return arrive(site, gateway["inside"]["network"], changed, gateway, gateway, trail)


def filtered_in(site: Site, gateway: dict[str, Any], packet: Packet, trail: Trail) -> End:
    action = decides(gateway["filter"]["inward"], packet)
    if action != "allow":
        return judged(action, gateway["name"], packet, trail)
    return arrive(site, gateway["inside"]["network"], packet, gateway, gateway, trail)


def turned_back(site: Site, gateway: dict[str, Any], packet: Packet, trail: Trail) -> End:
    kind = gateway.get("hairpin_source", "inside")
    if gateway["hairpin"] and (kind == "unknown" or in_ports(packet.port, gateway.get("unknown_ports", "none"))):
        return End("unknown", gateway["name"], packet)
    changed = rewritten(gateway, packet)[0] if gateway["hairpin"] else None
    if changed is None:
        return unmatched(gateway, packet, trail)
    if kind == "kept":
        end = arrive(site, gateway["inside"]["network"], changed, gateway, gateway, trail)
        itself = end.answer == "host-unreachable" and end.trail[-1][1] is gateway and end.at == end.trail[-1][0]
        lost = end.outcome in ("ok", "refused") and not routed(site) and not itself
        return End("silent", gateway["name"], end.packet) if lost else end
    if "address" not in gateway[kind]:
        return End("unknown", gateway["name"], changed)
    changed = changed._replace(source=gateway[kind]["address"], source_port=None)
    return arrive(site, gateway["inside"]["network"], changed, gateway, gateway, trail)


def lies_inside(site: Site, network: str, address: str) -> bool:
    """Whether an address is on a network, or further in."""
    while not lives_on(site, network, address):
        step = next_device(site, network, address)
        if step is None or step[1] != "inward":
            return False
        network = step[0]["inside"]["network"]
    return True


def go_out(site: Site, gateway: dict[str, Any], packet: Packet, trail: Trail) -> End:
    action = decides(gateway["filter"]["outward"], packet)
    if action != "allow":
        return judged(action, gateway["name"], packet, trail)
    about = [each for each in gateway.get("routes", []) if in_network(packet.to, each["to"])]
    about.sort(key=lambda each: -ipaddress.ip_network(each["to"]).prefixlen)
    if about and attached(site, gateway["inside"]["network"], about[0]["via"]):
        return arrive(site, gateway["inside"]["network"], packet, None, gateway, trail)
    if not about and lies_inside(site, gateway["inside"]["network"], packet.to):
        return arrive(site, gateway["inside"]["network"], packet, None, gateway, trail)
    if "nat64" in gateway and in_network(packet.to, gateway["nat64"]):
        return into_four(site, gateway, packet, trail)
    if gateway["translate"] != "none":
        pair = next((each for each in gateway.get("pairs", []) if each["inside"] == packet.source), None)
        if pair:
            packet = packet._replace(source=pair["outside"])
        elif gateway["outside"].get("address"):
            packet = packet._replace(source=gateway["outside"]["address"], source_port=None)
        else:
            return End("silent", gateway["name"], packet)
    return arrive(site, gateway["outside"]["network"], packet, None, gateway, trail)


def into_four(site: Site, gateway: dict[str, Any], packet: Packet, trail: Trail) -> End:
    """What a NAT64 device makes of a packet for an IPv4 address in its prefix."""
    to = str(ipaddress.IPv4Address(ipaddress.ip_address(packet.to).packed[12:]))
    inside = gateway["inside"]["network"]
    step = next_device(site, inside, to)
    leads_on = not lives_on(site, inside, to) and (step is None or step[0] is gateway)
    about = [each for each in gateway.get("routes", []) if in_network(to, each["to"])]
    about.sort(key=lambda each: -ipaddress.ip_network(each["to"]).prefixlen)
    turned = about and attached(site, inside, about[0]["via"])
    if to in owned(gateway) or to == gateway["inside"]["address"] or not leads_on or turned:
        return End("unknown", gateway["name"], packet)
    changed = packet._replace(to=to, source=gateway["outside"]["address"], source_port=None)
    return arrive(site, gateway["outside"]["network"], changed, None, gateway, trail)
