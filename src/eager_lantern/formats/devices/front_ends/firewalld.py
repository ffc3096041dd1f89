"""The zones of firewalld (public interface): ``firewall-cmd --list-all`` or ``--list-all-zones``, and beside them its
policies: ``--list-all-policies``.

A zone decides in this order: rich rules of negative priority, rich rules that refuse, rich rules that allow with
services, ports and source ports, rich rules of positive priority, the target of the zone. What the host sends itself
is not filtered. Of a gateway the zone of the outside line lets in what it forwards, and refuses the rest;
its other rules are about the gateway itself. A zone that is for some senders is asked before that of the line they come
by, and what it does not state is not asked of the other: they meet the forwards of their own zone alone.

A policy is for what goes from one zone to another, or to the host. Those of negative priority are asked before the zone
that it comes from, the others after it. What leaves a gateway is up to them: without them it is unknown, but where the
zone of the inside line accepts everything.
"""

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Literal

from msgspec import Struct
from msgspec.structs import replace

from ....core.changes.adopted import DeviceConfig, ParsedValue, Skipped
from ....core.model.entries import BlockedPorts, Port
from ....core.model.site import Filter, Forward, Refusal, Rule
from ....core.values.addresses import Address, AddressSet
from ....core.values.ports import EVERY_PORT, PortSet
from ...damage import guarded
from ...reading import bad_file
from ...shipped import ports_called
from ..cells import addresses_of_cell
from ..format import DeviceFormat, DeviceTarget
from ..packet_filter.nftables import listening
from .scripts import ZONES_ENDING, write_firewalld
from .ufw import IPV4, IPV6

_HEAD = re.compile(r"^([A-Za-z0-9_./-]+)(?: \(([a-z, ]+)\))?\s*$")
_TARGETS: Mapping[str, Literal["allow", "deny", "refuse"]] = {
    "default": "refuse", "%%REJECT%%": "refuse", "REJECT": "refuse", "DROP": "deny", "ACCEPT": "allow",
}  # fmt: skip
_SERVICES: Mapping[str, str] = {
    "ssh": "22/tcp", "ftp": "21/tcp", "ftps": "990/tcp", "http": "80/tcp", "https": "443/tcp", "dns": "53/tcp 53/udp",
    "ntp": "123/udp", "dhcp": "67/udp", "dhcpv6": "547/udp", "dhcpv6-client": "546/udp", "mdns": "5353/udp",
    "samba": "137/udp 138/udp 139/tcp 445/tcp", "samba-client": "137/udp 138/udp", "cockpit": "9090/tcp",
    "smtp": "25/tcp", "smtps": "465/tcp", "smtp-submission": "587/tcp", "imap": "143/tcp", "imaps": "993/tcp",
    "pop3": "110/tcp", "pop3s": "995/tcp", "mysql": "3306/tcp", "postgresql": "5432/tcp", "ldap": "389/tcp",
    "ldaps": "636/tcp", "nfs": "2049/tcp", "rpc-bind": "111/tcp 111/udp", "rsyncd": "873/tcp 873/udp", "tftp": "69/udp",
    "syslog": "514/udp", "snmp": "161/udp", "vnc-server": "5900-5903/tcp", "rdp": "3389/tcp", "telnet": "23/tcp",
    "ipp": "631/tcp 631/udp", "ipp-client": "631/udp", "ipsec": "500/udp 4500/udp 4500/tcp", "openvpn": "1194/udp",
    "wireguard": "51820/udp", "squid": "3128/tcp", "kerberos": "88/tcp 88/udp", "mosh": "60000-61000/udp",
    "git": "9418/tcp", "redis": "6379/tcp", "mqtt": "1883/tcp", "http3": "443/udp", "llmnr": "5355/tcp 5355/udp",
}  # fmt: skip
"""What its own service files state for those that are common."""
_PROHIBITED = Filter(default="refuse", refuses_with="prohibited")
"""How the target of a zone refuses; a rich rule does so in its own way."""
_REFUSALS: Mapping[str, Refusal] = {
    "tcp-reset": "reset", "host-unreach": "host-unreachable", "addr-unreach": "host-unreachable",
    "prohib": "prohibited", "": "port-unreachable",
}  # fmt: skip
"""How a connection is refused, by a part of the word for it."""
_BESIDE = "direct rules and sets of addresses are not printed here, and policies stand in a list of their own"
HOST, ANY = "HOST", "ANY"


class Zone(Struct, frozen=True):
    """One zone or policy: whether it is in use, its fields, and the lines below a field."""

    name: str
    line: int
    active: bool
    fields: Mapping[str, str]
    rich: tuple[tuple[int, str], ...] = ()
    forwards: tuple[tuple[int, str], ...] = ()


def zones_of(text: str) -> list[Zone]:
    """The zones and policies of a listing, in their order."""
    found: list[Zone] = []
    below = ""
    for number, line in enumerate(text.splitlines(), 1):
        if (head := _HEAD.match(line)) is not None:
            found.append(Zone(head[1], number, "active" in (head[2] or ""), {}))
            below = ""
        elif found and (entry := re.match(r"  ([a-z-]+(?: [a-z]+)?):\s*(.*)$", line)):
            below = entry[1]
            found[-1] = replace(found[-1], fields={**found[-1].fields, below: entry[2].strip()})
        elif found and line.strip() and below == "rich rules":
            found[-1] = replace(found[-1], rich=(*found[-1].rich, (number, line.strip())))
        elif found and line.strip() and below == "forward-ports":
            found[-1] = replace(found[-1], forwards=(*found[-1].forwards, (number, line.strip())))
    return [each for each in found if "target" in each.fields]


def _is_listing(file: str, text: str) -> bool:
    return any({"interfaces", "ingress-zones"} & set(each.fields) for each in zones_of(text[:4000]))


def _relative(text: str) -> str:
    if re.match(r"\s*\S+( \(\S+\))?\s*\n  (interfaces|sources): ", text):
        return "found what firewall-cmd --get-active-zones prints; expected firewall-cmd --list-all-zones"
    return ""


def _read(texts: Mapping[str, str], target: DeviceTarget) -> list[DeviceConfig]:
    listed = {file: zones_of(text) for file, text in texts.items()}
    policies = [(file, each) for file, found in listed.items() for each in found if "ingress-zones" in each.fields]
    zones = {file: [each for each in found if "interfaces" in each.fields] for file, found in listed.items()}
    if not any(zones.values()):
        raise bad_file(
            next(iter(texts)), "found policies alone; expected the zones beside them: firewall-cmd --list-all-zones"
        )
    return [
        config
        for file, found in zones.items()
        if found
        for config in _configs(
            file, found, [_seen_from(file, each, of) for of, each in policies if each.active], target
        )
    ]


def _seen_from(file: str, policy: Zone, of: str) -> Zone:
    """A policy of another file has no lines in this one."""
    return policy if file == of else replace(policy, line=0, rich=tuple((0, text) for _, text in policy.rich))


@guarded
def _configs(file: str, zones: Sequence[Zone], policies: Sequence[Zone], target: DeviceTarget) -> list[DeviceConfig]:
    zone = _zone(file, zones, target)
    skipped = [Skipped(zone.line, f"zone {zone.name}", _BESIDE)]
    for each in (zone, *policies):
        found = each.fields.get("target", "default")
        if found not in _TARGETS and found != "CONTINUE":
            raise bad_file(
                file, f"found the target “{found[:40]}”; expected default, ACCEPT, DROP or REJECT", each.line
            )
    try:
        others = [each for each in zones if each.active and each is not zone and each.fields.get("sources")]
        if target.gateway is None:
            return list(_host(file, zone, others, policies, skipped))
        within = _within(zones, zone, target)
        return [
            *_gateway(file, zone, others, skipped),
            _inward(file, zone, others, within, policies, []),
            _outward(file, zone, others, within, policies),
        ]
    except ValueError as error:
        raise bad_file(file, str(error), zone.line) from None


def _within(zones: Sequence[Zone], outside: Zone, target: DeviceTarget) -> Zone | None:
    """The zone of a gateway's inside line; without its name the only other one of a line."""
    others = [each for each in zones if each.active and each is not outside and each.fields.get("interfaces")]
    named = [each for each in others if target.inside in each.fields["interfaces"].split()]
    return named[0] if named else others[0] if len(others) == 1 and not target.inside else None


def _before(policies: Sequence[Zone], source: str, to: str, skipped: list[Skipped]) -> Iterator[tuple[int, Rule]]:
    """What policies decide of what goes from one zone to another, before the first zone is asked."""
    return _between([each for each in policies if _priority(each) < 0], source, to, skipped)


def _after(policies: Sequence[Zone], source: str, to: str, skipped: list[Skipped]) -> Iterator[tuple[int, Rule]]:
    """What they decide where that zone leaves it open."""
    return _between([each for each in policies if _priority(each) >= 0], source, to, skipped)


def _between(policies: Sequence[Zone], source: str, to: str, skipped: list[Skipped]) -> Iterator[tuple[int, Rule]]:
    mine = [each for each in policies if _names(each, "ingress-zones", source) and _names(each, "egress-zones", to)]
    for each in sorted(mine, key=_priority):
        yield from _in_order(each, skipped)
        if each.fields["target"] != "CONTINUE":
            last = _default(each)
            yield each.line, Rule(last.default, each.name, refuses_with=last.refuses_with)


def _priority(policy: Zone) -> int:
    text = policy.fields.get("priority", "-1")
    if not re.fullmatch(r"-?[0-9]{1,6}", text):
        raise ValueError(f"found the priority “{text[:20]}” of policy {policy.name}; expected a number")
    return int(text)


def _names(policy: Zone, key: str, zone: str) -> bool:
    words = policy.fields.get(key, "").split()
    return zone in words or (ANY in words and zone != HOST)


def _zone(file: str, zones: Sequence[Zone], target: DeviceTarget) -> Zone:
    """The zone of the line that counts. Raises BadInput where several may be it."""
    line = target.outside if target.gateway is not None else target.inside
    active = [each for each in zones if each.active and not _is_of_senders(each)]
    named = [each for each in zones if line and line in each.fields.get("interfaces", "").split()]
    outside = [each for each in active if target.gateway is not None and each.fields.get("masquerade") == "yes"]
    alone = zones[0] if len(zones) == 1 else None
    if alone and line and not named and (alone.fields.get("interfaces") or target.gateway is not None):
        lines = alone.fields.get("interfaces") or "no interface"
        raise bad_file(file, f"found zone {alone.name} of {lines}; expected the zone of {line}", alone.line)
    for found in (named, [alone] if alone else [], outside, active):
        if len(found) == 1:
            return found[0]
    option = "--outside NAME" if target.gateway is not None else "--inside NAME"
    listed = ", ".join(f"{each.name} ({each.fields.get('interfaces') or 'no interface'})" for each in active) or "none"
    raise bad_file(file, f"found zones of several lines ({listed}); expected {option}, the line that counts")


def _is_of_senders(zone: Zone) -> bool:
    """Whether a zone is chosen by the address of a sender alone."""
    return bool(zone.fields.get("sources")) and not zone.fields.get("interfaces")


def _senders(zone: Zone, skipped: list[Skipped]) -> AddressSet | None:
    """Whom a zone is for by their addresses; None where the listing does not state it."""
    senders = AddressSet()
    for each in zone.fields["sources"].split():
        if each.startswith("ipset:") or re.fullmatch(r"[0-9A-Fa-f]{2}(?::[0-9A-Fa-f]{2}){5}", each):
            why = "whom this stands for is not in this list: what becomes of anybody is unknown"
            skipped.append(Skipped(zone.line, f"zone {zone.name}, sources {each}", why))
            return None
        senders = senders | addresses_of_cell(each)
    return senders


def _of_senders(zone: Zone, policies: Sequence[Zone], skipped: list[Skipped]) -> Iterator[tuple[int, Rule]]:
    """What a zone decides for the senders that it is for, before the zone of a line is asked."""
    senders = _senders(zone, skipped)
    if senders is not None:
        yield from _from_these(_before(policies, zone.name, HOST, skipped), senders)
        yield from _from_these(_in_order(zone, skipped), senders)
        if zone.fields["target"] == "default":
            yield from _from_these(_after(policies, zone.name, HOST, skipped), senders)
    yield zone.line, _last(zone, senders)


def _from_these(rules: Iterable[tuple[int, Rule]], senders: AddressSet) -> Iterator[tuple[int, Rule]]:
    for line, rule in rules:
        mine = senders if rule.from_ is None else senders & rule.from_
        if mine.spans:
            yield line, replace(rule, from_=mine)


def _last(zone: Zone, senders: AddressSet | None) -> Rule:
    """What becomes of the rest of a zone's senders; of anybody, where they are not listed."""
    if senders is None:
        return Rule("unknown", zone.name)
    last = _default(zone)
    return Rule(last.default, zone.name, from_=senders, refuses_with=last.refuses_with)


def _default(zone: Zone) -> Filter:
    """What becomes of the rest by the target of a zone."""
    action = _TARGETS[zone.fields["target"]]
    return _PROHIBITED if action == "refuse" else Filter(default=action)


def _host(
    file: str, zone: Zone, others: Sequence[Zone], policies: Sequence[Zone], skipped: list[Skipped]
) -> Iterator[DeviceConfig]:
    made = [one for each in others for one in _of_senders(each, policies, skipped)]
    made += _before(policies, zone.name, HOST, skipped)
    made += _in_order(zone, skipped)
    if zone.fields["target"] == "default":
        made += _after(policies, zone.name, HOST, skipped)
    if zone.forwards:
        skipped.append(
            Skipped(zone.line, "forward-ports", "a host's own ports that lead elsewhere: a site cannot state it")
        )
        made = [*_redirected(zone), *made]
    yield DeviceConfig(file, "rules", _rules(made), tuple(skipped), _default(zone), direction="in")
    yield DeviceConfig(file, "rules", (), (), Filter(default="allow"), direction="out")


def _rules(made: Iterable[tuple[int, Rule]]) -> tuple[ParsedValue, ...]:
    return tuple(ParsedValue(("rules",), rule, line) for line, rule in made)


def _redirected(zone: Zone) -> Iterator[tuple[int, Rule]]:
    for line, text in zone.forwards:
        found = dict(re.findall(r"(\w+)=([^:]*)", text))
        yield line, Rule("unknown", "rewritten", _transport(found["proto"]), PortSet.parse(found["port"]))


def _gateway(file: str, zone: Zone, others: Sequence[Zone], skipped: list[Skipped]) -> Iterator[DeviceConfig]:
    """What is forwarded is let in: for the senders of a zone what that one forwards, for the rest what the zone of the
    outside line does. The rules of the zones are about the gateway alone."""
    others_of = [(each, _senders(each, skipped)) for each in others]
    listed = [(each, senders) for each, senders in others_of if senders is not None]
    unknown = _own_ports(zone)
    if len(listed) < len(others):  # anybody may be of that zone
        stated = [forward.ports for of in (zone, *others) for _, forward in _forwards(of, [])]
        unknown = PortSet.of(*unknown.spans, *(span for ports in stated for span in ports.spans))
    forwards = list(_by_senders(zone, listed, skipped)) if len(listed) == len(others) else []
    drawn = [each for each in forwards if _is_drawn(each[1])]
    for line, forward in drawn:
        why = "a range that leads to another range is not joined port by port: which inside port it reaches is unknown"
        skipped.append(Skipped(line, f"ports {forward.ports}", why))
        unknown = unknown | forward.ports
    values = tuple(ParsedValue(("forwards",), each, line) for line, each in forwards if (line, each) not in drawn)
    yield DeviceConfig(file, "forwards", values, tuple(skipped))
    switches = [ParsedValue(("forwards_pass_filter",), True, zone.line)]
    switches.append(ParsedValue(("unknown_ports",), BlockedPorts(unknown), zone.line))
    if zone.fields.get("masquerade") == "yes":  # for what leaves by its line
        switches.append(ParsedValue(("translate",), "outward", zone.line))
    yield DeviceConfig(file, "switches", tuple(switches))


def _inward(
    file: str,
    outside: Zone,
    others: Sequence[Zone],
    within: Zone | None,
    policies: Sequence[Zone],
    skipped: list[Skipped],
) -> DeviceConfig:
    """What is let in that no forward leads on."""
    made = list[tuple[int, Rule]]()
    for each in others:
        senders = _senders(each, [])
        if within is not None and senders is not None:
            made += _from_these(_passing(each, within, policies, skipped), senders)
        made.append((each.line, _last(each, senders)))
    made += _passing(outside, within, policies, skipped) if within is not None else ()
    return DeviceConfig(file, "rules", _rules(made), tuple(skipped), _default(outside), direction="in")


def _outward(
    file: str, outside: Zone, others: Sequence[Zone], within: Zone | None, policies: Sequence[Zone]
) -> DeviceConfig:
    """What leaves by the outside line, from the zone of the inside line. An address that has a zone of its own meets
    what that one states, and not the masquerade of the line."""
    if within is not None and (policies or _default(within).default == "allow"):
        skipped = list[Skipped]()
        made = list[tuple[int, Rule]]()
        for each in others:
            why = "whether what goes to these addresses is let out, and translated, is unknown"
            skipped.append(Skipped(each.line, f"zone {each.name}, sources", why))
            made.append((each.line, Rule("unknown", each.name, to=_senders(each, []))))
        made += _passing(within, outside, policies, skipped)
        return DeviceConfig(file, "rules", _rules(made), tuple(skipped), _default(within), direction="out")
    why = "policies decide what leaves, and zones do not show them: it is unknown (firewall-cmd --list-all-policies)"
    line = within.line if within is not None else 0
    unknown = ParsedValue(("rules",), Rule("unknown", "policies"), line)
    return DeviceConfig(file, "rules", (unknown,), (Skipped(line, "outward", why),), _PROHIBITED, direction="out")


def _passing(source: Zone, to: Zone, policies: Sequence[Zone], skipped: list[Skipped]) -> Iterator[tuple[int, Rule]]:
    """What policies decide of what passes from one zone to another, as far as the target of the first leaves it."""
    yield from _before(policies, source.name, to.name, skipped)
    if source.fields["target"] == "default":
        yield from _after(policies, source.name, to.name, skipped)


def _by_senders(
    zone: Zone, others: Sequence[tuple[Zone, AddressSet]], skipped: list[Skipped]
) -> Iterator[tuple[int, Forward]]:
    """The forwards of each zone of senders for those, then those of the outside line for everybody else."""
    left = IPV4 | IPV6
    for each, senders in others:
        yield from _narrowed(_forwards(each, skipped), left & senders)
        left = left - senders
    yield from _narrowed(_forwards(zone, skipped), left) if others else _forwards(zone, skipped)


def _narrowed(forwards: Iterable[tuple[int, Forward]], senders: AddressSet) -> Iterator[tuple[int, Forward]]:
    for line, each in forwards:
        mine = senders & (IPV4 if each.to.family == 4 else IPV6)
        mine = mine if each.from_ is None else mine & each.from_
        if mine.spans:
            yield line, replace(each, from_=mine)


def _forwards(zone: Zone, skipped: list[Skipped]) -> Iterator[tuple[int, Forward]]:
    yield from _forward_ports(zone, skipped)
    yield from _rich_forwards(zone)


def _own_ports(zone: Zone) -> PortSet:
    """Ports that lead to the gateway itself, which a site cannot state."""
    found = PortSet()
    for _, text in zone.forwards:
        words = dict(re.findall(r"(\w+)=([^:]*)", text))
        found = found | (PortSet() if words.get("toaddr") else PortSet.parse(words["port"]))
    return found


def _is_drawn(forward: Forward) -> bool:
    """Whether the kernel draws the inside port: of a range that leads to another it keeps no order."""
    return forward.to_port is not None and len(forward.ports) > 1


def _forward_ports(zone: Zone, skipped: list[Skipped]) -> Iterator[tuple[int, Forward]]:
    for line, text in zone.forwards:
        found = dict(re.findall(r"(\w+)=([^:]*)", text))
        if not found.get("toaddr"):
            skipped.append(Skipped(line, text, "it leads to the gateway itself, which a site cannot state: unknown"))
            continue
        yield line, _forward(found["proto"], found["port"], found.get("toport", ""), found["toaddr"])


def _rich_forwards(zone: Zone) -> Iterator[tuple[int, Forward]]:
    for line, text in zone.rich:
        words = dict(re.findall(r'([a-z-]+)="([^"]*)"', text))
        if "forward-port" in text and words.get("to-addr"):
            forward = _forward(words["protocol"], words["port"], words.get("to-port", ""), words["to-addr"])
            yield line, replace(forward, from_=_sources(text, words))


def _forward(protocol: str, port: str, to_port: str, to: str) -> Forward:
    ports = PortSet.parse(port)
    inside = PortSet.parse(to_port) if to_port else ports
    shifted = inside.lowest != ports.lowest
    return Forward(
        ports, Address.parse(to), protocol="udp" if protocol == "udp" else "tcp",
        to_port=Port(inside.lowest) if shifted else None,
    )  # fmt: skip


def _in_order(zone: Zone, skipped: list[Skipped]) -> Iterator[tuple[int, Rule]]:
    yield from _rich(zone, skipped, (-40_000, -1))
    usual = list(_rich(zone, skipped, (0, 0)))
    yield from (each for each in usual if each[1].action in ("deny", "refuse"))
    yield from (each for each in usual if each[1].action == "allow")
    for key in ("ports", "source-ports"):
        for each in zone.fields.get(key, "").split():
            port, _, protocol = each.partition("/")
            ports = PortSet.parse(port)
            if _transport(protocol) == "any":
                continue
            rule = Rule("allow", "", _transport(protocol), EVERY_PORT if key == "source-ports" else ports)
            yield zone.line, replace(rule, from_ports=ports if key == "source-ports" else None)
    for each in zone.fields.get("services", "").split():
        yield from ((zone.line, rule) for rule in _service(each, skipped, zone.line))
    for each in zone.fields.get("protocols", "").split():
        if each in ("tcp", "udp"):
            yield zone.line, Rule("allow", "", _transport(each))
    yield from (each for each in usual if each[1].action == "unknown")
    yield from _rich(zone, skipped, (1, 40_000))


def _transport(word: str) -> Literal["tcp", "udp", "any"]:
    return "tcp" if word == "tcp" else "udp" if word == "udp" else "any"


def _service(name: str, skipped: list[Skipped], line: int) -> Iterator[Rule]:
    """The ports of a service; of one whose file is not known those that are registered, as unknown."""
    if name in _SERVICES:
        for each in _SERVICES[name].split():
            port, _, protocol = each.partition("/")
            yield Rule("allow", name, _transport(protocol), PortSet.parse(port))
        return
    why = "its ports are not printed (firewall-cmd --info-service has them): it is unknown what it lets in"
    skipped.append(Skipped(line, f"service {name}", why))
    known = ports_called(name)
    yield from (Rule("unknown", name, transport, ports) for transport, ports in known.items())
    if not known:
        yield Rule("unknown", name)


def _rich(zone: Zone, skipped: list[Skipped], priorities: tuple[int, int]) -> Iterator[tuple[int, Rule]]:
    """The rich rules of these priorities, the lowest first."""
    found = []
    for line, text in zone.rich:
        words = dict(re.findall(r'([a-z-]+)="([^"]*)"', text))
        priority = int(words.get("priority", 0))
        if priorities[0] <= priority <= priorities[1] and "forward-port" not in text:
            found.append((priority, line, text, words))
    for _, line, text, words in sorted(found, key=lambda each: each[0]):
        yield from ((line, rule) for rule in _of_rich(line, text, words, skipped))


def _of_rich(line: int, text: str, words: Mapping[str, str], skipped: list[Skipped]) -> Iterator[Rule]:
    plain = re.sub(r'"[^"]*"', '""', text)  # what stands in quotes is no word of the rule
    verdict = re.search(r"\s(accept|reject|drop|mark)\b", plain)
    if verdict is None or verdict[1] == "mark" or "icmp" in plain or re.search(r'protocol value="(?!tcp|udp)', text):
        return  # it logs, marks, or is about another transport
    action: Literal["allow", "deny", "refuse", "unknown"]
    action = "allow" if verdict[1] == "accept" else "deny" if verdict[1] == "drop" else "refuse"
    limited = re.search(r'\s(accept|reject|drop)\s+(type=""\s+)?limit\b', plain)
    if limited or re.search(r"\b(ipset|mac)=", plain):
        why = "it is for a set of addresses, a card, or limited in how often: what it matches is unknown"
        skipped.append(Skipped(line, text, why))
        action = "unknown"
    refused = _refusal(text) if action == "refuse" else None
    family = {"ipv4": IPV4, "ipv6": IPV6}.get(words.get("family", ""))
    rule = Rule(action, from_=_sources(text, words) or family, to=_target(text), refuses_with=refused)
    if name := re.search(r'service name="([^"]+)"', text):
        yield from (replace(rule, **_parts(each, action)) for each in _service(name[1], skipped, line))
    elif port := re.search(r'(source-)?port port="([^"]+)" protocol="(\w+)"', text):
        ports = PortSet.parse(port[2])
        protocol = _transport(port[3])
        yield (
            replace(rule, protocol=protocol, from_ports=ports)
            if port[1]
            else replace(rule, protocol=protocol, ports=ports)
        )
    else:
        stated = re.search(r'protocol value="(tcp|udp)"', text)
        yield replace(rule, protocol=_transport(stated[1]) if stated else "any")


def _refusal(text: str) -> Refusal:
    found = re.search(r'reject type="([^"]*)"', text)
    return next(word for part, word in _REFUSALS.items() if part in (found[1] if found else ""))


def _parts(service: Rule, action: str) -> dict[str, object]:
    unknown = "unknown" in (service.action, action)
    return {
        "protocol": service.protocol, "ports": service.ports, "name": service.name,
        "action": "unknown" if unknown else action,
    }  # fmt: skip


def _sources(text: str, words: Mapping[str, str]) -> AddressSet | None:
    found = re.search(r'source (NOT |not |invert="yes" )?address="([^"]+)"', text)
    if found is None:
        return None
    addresses = addresses_of_cell(found[2])
    everybody = IPV6 if ":" in found[2] else IPV4
    return everybody - addresses if found[1] else addresses


def _target(text: str) -> AddressSet | None:
    found = re.search(r'destination (NOT |not )?address="([^"]+)"', text)
    if found is None:
        return None
    addresses = addresses_of_cell(found[2])
    return (IPV6 if ":" in found[2] else IPV4) - addresses if found[1] else addresses


FORMAT = DeviceFormat(
    "firewalld", "the zones that firewall-cmd prints",
    "firewall-cmd --list-all-zones and, of a gateway, --list-all-policies, as root",
    recognises=_is_listing, reads=_read, relative=_relative,
    writes=lambda site: write_firewalld(site, listening(site)), endings=(ZONES_ENDING,),
    omits="direct rules, sets of addresses, ports of services of your own",
)  # fmt: skip
