"""The firewall of OpenWrt (public interface): ``uci export firewall``, ``uci show firewall`` or /etc/config/firewall.

Zones stand for lines. Of what comes from the outside zone the rules decide in their order, then what a redirect leads
on is let in, and the rest meets the policy of the zone; rules without ``dest`` are about the router itself. What is let
out is a forwarding from the inside zone to the outside one. Transports that are not stated are TCP and UDP both.
"""

import re
import shlex
from collections.abc import Iterator, Mapping, Sequence
from typing import Literal

from msgspec import Struct

from ...core.changes.adopted import DeviceConfig, Direction, ParsedValue, Skipped
from ...core.model.entries import BlockedPorts, Port
from ...core.model.site import Filter, Forward, Rule
from ...core.values.addresses import Address, AddressSet
from ...core.values.ports import EVERY_PORT, PortSet
from ..damage import guarded
from ..reading import bad_file
from .cells import addresses_of_cell, ports_of_cell, tidy_name
from .format import DeviceFormat, DeviceTarget, of_a_router

_KINDS = ("defaults", "zone", "rule", "redirect", "forwarding")
_ACTIONS: Mapping[str, Literal["allow", "deny", "refuse"]] = {"ACCEPT": "allow", "DROP": "deny", "REJECT": "refuse"}
_READ = {
    "rule": {"name", "src", "dest", "proto", "src_ip", "src_port", "dest_ip", "dest_port", "family", "target",
             "enabled", "icmp_type", "utc_time"},
    "redirect": {"name", "src", "dest", "proto", "src_ip", "src_dip", "src_dport", "dest_ip", "dest_port", "family",
                 "target", "enabled", "reflection", "reflection_src", "reflection_zone"},
}  # fmt: skip
"""Options that are understood; any other of a rule makes unknown what it matches."""
_SHOWN = re.compile(r"firewall\.(@?\w+(?:\[\d+\])?)(?:\.(\w+))?=(.*)")
_FAMILIES = {"ipv4": AddressSet.parse("0.0.0.0/0"), "ipv6": AddressSet.parse("::/0")}


class Section(Struct, frozen=True):
    """One section: its kind, its line, and each option with its values."""

    kind: str
    line: int
    options: Mapping[str, tuple[str, ...]]

    def one(self, key: str, otherwise: str = "") -> str:
        """The value of an option; several in one text."""
        return " ".join(self.options.get(key, ())) or otherwise

    @property
    def enabled(self) -> bool:
        """Whether it counts."""
        return self.one("enabled", "1") not in ("0", "no", "off", "false")


def _is_uci(file: str, text: str) -> bool:
    sections = re.search(rf"^config ({'|'.join(_KINDS)})\b", text, re.MULTILINE)
    return bool(sections and re.search(r"^\s+(option|list) ", text, re.MULTILINE)) or bool(
        re.match(r"\s*firewall\.\S+=", text)
    )


def _sections(file: str, text: str) -> list[Section]:
    """The sections of the firewall's package. Raises BadInput for a line that is none of them."""
    found: list[tuple[str, int, dict[str, tuple[str, ...]]]] = []
    named: dict[str, dict[str, tuple[str, ...]]] = {}
    mine = True
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip() or line.lstrip().startswith("#"):
            continue
        try:
            words = shlex.split(line)
        except ValueError as error:
            raise bad_file(file, f"found a line that breaks off ({error}); expected it whole", number) from None
        if shown := _SHOWN.fullmatch(line.strip()):
            values = tuple(shlex.split(shown[3]))
            if shown[2] is None:
                named[shown[1]] = {}
                found.append((values[0], number, named[shown[1]]))
            elif shown[1] in named:
                named[shown[1]][shown[2]] = values
        elif words[0] == "package":
            mine = words[1:] == ["firewall"]
        elif mine and words[0] == "config" and len(words) > 1:
            found.append((words[1], number, {}))
        elif mine and words[0] in ("option", "list") and len(words) == 3 and found:
            old = found[-1][2].get(words[1], ()) if words[0] == "list" else ()
            found[-1][2][words[1]] = (*old, words[2])
        elif mine:
            raise bad_file(file, f"found “{line.strip()[:60]}”; expected config, option or list", number)
    return [Section(kind, number, options) for kind, number, options in found if kind in _KINDS]


@guarded
def _configs(file: str, text: str, target: DeviceTarget) -> list[DeviceConfig]:
    sections = _sections(file, text)
    outside, inside = _zones(file, sections, target)
    skipped: list[Skipped] = []
    try:
        forwards, unknown = _redirects(sections, outside, skipped)
        inward = [*_rules(sections, outside, inside, skipped), *map(_opened, forwards)]
        outward = list(_rules(sections, inside, outside, skipped))
    except ValueError as error:
        raise bad_file(file, str(error)) from None
    switches = [
        ParsedValue(("forwards_pass_filter",), False, 1),
        ParsedValue(("unknown_ports",), BlockedPorts(unknown), 1),
    ]
    reflected = {each.one("reflection", "1") != "0" for each in _active_redirects(sections, outside)}
    if len(reflected) == 1:
        switches.append(ParsedValue(("hairpin",), reflected.pop(), 1))
    elif reflected:
        skipped.append(
            Skipped(1, "reflection", "it is on for some redirects alone, which a site states for all or none")
        )
    ways: tuple[tuple[Direction, list[ParsedValue], str, str], ...] = (
        ("in", inward, outside, inside),
        ("out", outward, inside, outside),
    )
    return [
        DeviceConfig(file, "forwards", tuple(forwards), tuple(skipped)),
        *(DeviceConfig(file, "rules", tuple(v), (), _policy(sections, a, b), direction=way) for way, v, a, b in ways),
        DeviceConfig(file, "switches", tuple(switches)),
    ]


def _zones(file: str, sections: Sequence[Section], target: DeviceTarget) -> tuple[str, str]:
    """The names of the outside and the inside zone: as they are named, else that which hides addresses, and that which
    alone goes out there. Raises BadInput where that is not settled."""
    zones = {each.one("name"): each for each in sections if each.kind == "zone"}
    hiding = [name for name, each in zones.items() if each.one("masq") == "1"]
    outside = target.outside or (hiding[0] if len(hiding) == 1 else "wan")
    goes = [each.one("src") for each in sections if each.kind == "forwarding" and each.one("dest") == outside]
    inside = target.inside or (goes[0] if len(goes) == 1 else "lan")
    if outside not in zones or inside not in zones:
        listed = ", ".join(zones) or "none"
        raise bad_file(file, f"found the zones {listed[:80]}; expected --outside ZONE and --inside ZONE, two of them")
    return outside, inside


def _policy(sections: Sequence[Section], source: str, target: str) -> Filter:
    """What becomes of what no rule is about."""
    pairs = ((each.one("src"), each.one("dest")) for each in sections if each.kind == "forwarding" and each.enabled)
    if (source, target) in pairs:
        return Filter(default="allow")
    zone = next(each for each in sections if each.kind == "zone" and each.one("name") == source)
    usual = next((each.one("forward") for each in sections if each.kind == "defaults"), "")
    return Filter(default=_ACTIONS.get(zone.one("forward", usual or "REJECT").upper(), "refuse"))


def _transports(section: Section) -> tuple[Literal["tcp", "udp"], ...]:
    words = section.one("proto", "tcp udp").lower().replace("tcpudp", "tcp udp").split()
    if {"all", "any", "*"} & set(words):
        return ("tcp", "udp")
    numbers = {"6": "tcp", "17": "udp"}
    named = {numbers.get(each, each) for each in words}
    return tuple(each for each in ("tcp", "udp") if each in named)


def _ports(text: str) -> PortSet:
    return ports_of_cell(", ".join(text.split()), plain=True) if text else EVERY_PORT


def _addresses(text: str) -> AddressSet | None:
    return addresses_of_cell(", ".join(text.split())) if text else None


def _doubt(section: Section) -> str:
    """Why it is unknown what a section matches, or nothing."""
    unread = sorted(section.options.keys() - _READ[section.kind])
    negated = any(value.startswith("!") for values in section.options.values() for value in values)
    return ", ".join(unread) or ("a negation (!)" if negated else "")


def _rules(sections: Sequence[Section], source: str, target: str, skipped: list[Skipped]) -> Iterator[ParsedValue]:
    for each in sections:
        about = each.one("src") in (source, "*") and each.one("dest") in (target, "*")
        if each.kind != "rule" or not about or not (transports := _transports(each)):
            continue
        doubt = _doubt(each)
        action = _ACTIONS.get(each.one("target", "DROP").upper())
        if action is None:
            continue  # it marks, hands on or tracks, and decides nothing
        if doubt and each.enabled:
            skipped.append(Skipped(each.line, each.one("name"), f"{doubt}: what it matches is unknown"))
        family = _FAMILIES.get(each.one("family").lower())
        rule = Rule(
            action="unknown" if doubt else action,
            name=tidy_name(each.one("name")),
            protocol="any" if len(transports) == 2 else transports[0],
            ports=EVERY_PORT if doubt else _ports(each.one("dest_port")),
            from_=family if doubt else _addresses(each.one("src_ip")) or family,
            to=None if doubt else _addresses(each.one("dest_ip")),
            from_ports=_ports(each.one("src_port")) if each.one("src_port") and not doubt else None,
            enabled=each.enabled,
        )
        yield ParsedValue(("rules",), rule, each.line)


def _active_redirects(sections: Sequence[Section], outside: str) -> list[Section]:
    return [
        each
        for each in sections
        if each.kind == "redirect"
        and each.one("src") == outside
        and each.one("target", "DNAT").upper() == "DNAT"
        and each.enabled
    ]


def _redirects(sections: Sequence[Section], outside: str, skipped: list[Skipped]) -> tuple[list[ParsedValue], PortSet]:
    """The forwards, and the ports of which it is unknown where they lead."""
    found: list[ParsedValue] = []
    unknown = PortSet()
    for each in sections:
        if each.kind != "redirect" or each.one("src") != outside or each.one("target", "DNAT").upper() != "DNAT":
            continue
        ports, inside = _ports(each.one("src_dport")), _ports(each.one("dest_port") or each.one("src_dport"))
        drawn = len(inside) > 1 and inside != ports
        doubt = (
            _doubt(each)
            or ("a range that leads to another" if drawn else "")
            or ("" if each.one("dest_ip") else "no dest_ip, which is the router itself")
        )
        if doubt:
            skipped.append(Skipped(each.line, each.one("name"), f"{doubt}: where it leads is unknown"))
            unknown = unknown | (ports if each.enabled else PortSet())
            continue
        outside_address = each.one("src_dip")
        for protocol in _transports(each):
            forward = Forward(
                ports=ports,
                to=Address.parse(each.one("dest_ip")),
                name=tidy_name(each.one("name")),
                protocol=protocol,
                to_port=Port(inside.lowest) if inside.lowest != ports.lowest else None,
                from_=_addresses(each.one("src_ip")),
                outside=Address.parse(outside_address) if outside_address else None,
                enabled=each.enabled,
            )
            found.append(ParsedValue(("forwards",), forward, each.line))
    return found, unknown


def _opened(parsed: ParsedValue) -> ParsedValue:
    """What a redirect leads on is let in behind the rules."""
    forward: Forward = parsed.value
    rule = Rule(
        "allow", forward.name, forward.protocol, forward.ports.shift(forward.offset), forward.from_,
        AddressSet.single(forward.to), enabled=forward.enabled,
    )  # fmt: skip
    return ParsedValue(("rules",), rule, parsed.line)


FORMAT = DeviceFormat(
    "uci", "the firewall of OpenWrt, as uci exports or shows it", "uci export firewall, as root",
    recognises=_is_uci, reads=of_a_router(_configs),
    omits="custom rules (firewall.user, nftables.d), sets of addresses",
)  # fmt: skip
