"""The status of ufw (public interface): ``ufw status verbose``, or ``ufw status [numbered]``.

Rules count in their printed order, each for IPv4, or for IPv6 where ``(v6)`` or an address says so; then the default of
the direction. ``verbose`` alone prints the defaults and the ports of application profiles: without it both are unknown.
A rule that limits lets through or stops by how often somebody came, so it is unknown. What is not printed anywhere
(rewriting of addresses, rules in files beside these) is reported as such.
"""

import re
from collections.abc import Iterator, Mapping
from typing import Literal

from ....core.changes.adopted import DeviceConfig, Direction, ParsedValue, Skipped
from ....core.model.site import Filter, Rule
from ....core.values.addresses import AddressSet
from ....core.values.ports import EVERY_PORT, PortSet
from ...damage import guarded
from ...reading import bad_file
from ..cells import addresses_of_cell, tidy_name
from ..format import DeviceFormat, DeviceTarget
from ..packet_filter.nftables import listening
from .scripts import FIRST_ENDING, write_ufw

_ROW = re.compile(r"^(?:\[ *\d+\] )?(.+?)\s+(ALLOW|DENY|REJECT|LIMIT)(?: (IN|OUT|FWD))?\s+(.*)$")
_ACTIONS: Mapping[str, Literal["allow", "deny", "refuse", "unknown"]] = {
    "ALLOW": "allow", "DENY": "deny", "REJECT": "refuse", "LIMIT": "unknown",
}  # fmt: skip
_DEFAULTS: Mapping[str, Literal["allow", "deny", "refuse"]] = {
    "allow": "allow", "deny": "deny", "reject": "refuse", "disabled": "deny",
}  # fmt: skip
IPV4, IPV6 = AddressSet.parse("0.0.0.0/0"), AddressSet.parse("::/0")
_TRANSPORTS: Mapping[str, Literal["tcp", "udp"]] = {"tcp": "tcp", "udp": "udp"}
_ADDRESS = r"(?:[0-9]+(?:\.[0-9]+){3}|(?=[0-9a-f.]*:[0-9a-f.]*:)[0-9a-f.:]+)(?:/[0-9]+)?"
_PORTS = re.compile(r"([0-9][0-9,:]*)(?:/(tcp|udp))?")
_UNSEEN = (
    "it prints no rewriting of addresses and no rules of its own files (before.rules): whatever they do is not read"
)


def _is_status(file: str, text: str) -> bool:
    return re.match(r"\s*Status: (active|inactive)\s*$", text, re.MULTILINE) is not None


def _is_added(text: str) -> str:
    if text.lstrip().startswith("Added user rules (see 'ufw status'"):
        return "found what ufw show added prints, which does not tell whether it counts; expected ufw status verbose"
    return ""


def _read(texts: Mapping[str, str], target: DeviceTarget) -> list[DeviceConfig]:
    return [each for file, text in texts.items() for each in _configs(file, text, target)]


@guarded
def _configs(file: str, text: str, target: DeviceTarget) -> list[DeviceConfig]:
    gateway = target.gateway is not None
    if gateway and not (target.outside and target.inside):
        raise bad_file(
            file, f"found the filter of {target.device}; expected --outside NAME and --inside NAME, its interfaces"
        )
    unseen = Skipped(1, "ufw status", _UNSEEN)
    ways: tuple[Direction, ...] = ("in", "out")
    if "Status: inactive" in text:
        off = Skipped(1, "Status: inactive", "ufw is switched off and stops nothing, whatever was added to it")
        return [DeviceConfig(file, "rules", (), (off, unseen), Filter(default="allow"), direction=way) for way in ways]
    defaults = _defaults(text, gateway)
    found: dict[Direction, list[ParsedValue]] = {"in": [], "out": []}
    skipped = [unseen]
    for number, line in enumerate(text.splitlines(), 1):
        row = _ROW.match(line)
        if row is None:
            _known(file, number, line)
            continue
        try:
            for way, rule in _rules(row, target, skipped, number):
                found[way].append(ParsedValue(("rules",), rule, number))
        except ValueError as error:
            raise bad_file(file, str(error), number) from None
    if defaults is None:
        why = "the default is not printed here (ufw status verbose has it): what no rule is about is unknown"
        skipped.append(Skipped(1, "ufw status", why))
        for values in found.values():
            values.append(ParsedValue(("rules",), Rule(action="unknown", name="default not printed"), 1))
    return [
        DeviceConfig(
            file, "rules", tuple(found[way]), tuple(skipped) if way == "in" else (),
            Filter(default=(defaults or {"in": "deny", "out": "deny"})[way]), direction=way,
        )
        for way in ways
    ]  # fmt: skip


def _known(file: str, number: int, line: str) -> None:
    """Raises BadInput for a line that no version of the listing has."""
    usual = ("Status:", "Logging:", "Default:", "New profiles:", "To ", "--")
    if line.strip() and not line.strip().startswith(usual):
        raise bad_file(file, f"found “{line.strip()[:60]}”; expected a rule as ufw status prints it", number)


def _defaults(text: str, gateway: bool) -> Mapping[Direction, Literal["allow", "deny", "refuse"]] | None:
    stated = {way: word for word, way in re.findall(r"(allow|deny|reject|disabled) \((\w+)\)", text)}
    if not stated:
        return None
    inward, outward = ("routed", "routed") if gateway else ("incoming", "outgoing")
    return {"in": _DEFAULTS[stated[inward]], "out": _DEFAULTS[stated[outward]]}


def _rules(
    row: re.Match[str], target: DeviceTarget, skipped: list[Skipped], number: int
) -> Iterator[tuple[Direction, Rule]]:
    to, word, way, rest = row.groups()
    source, _, comment = rest.partition(" # ")
    source = re.sub(r"\s+\((?:log|log-all|out)(?:, out)?\)", "", f" {source} ").strip()
    right, left = _Side(to), _Side(source)
    ways = _ways(way, left.line, right.line, target)
    if target.gateway is not None and way != "FWD":
        skipped.append(
            Skipped(number, " ".join(row[0].split()), f"it is about {target.device} itself, not about what passes it")
        )
        return
    action = _ACTIONS[word]
    doubts = []
    if action == "unknown":
        doubts.append("it limits how often somebody may come")
    if right.application or left.application:
        doubts.append("the ports of a profile are printed by ufw status verbose alone")
    if ways is None:
        doubts.append("whether it is the line of this host is unknown: name it by --inside")
    if doubts:
        skipped.append(Skipped(number, " ".join(row[0].split()), f"{'; '.join(doubts)}: what it matches is unknown"))
    family = IPV6 if right.six or left.six else IPV4
    for each in ways if ways is not None else (("out",) if way == "OUT" else ("in",)):
        yield each, Rule(
            action="unknown" if doubts else action,
            name=tidy_name(comment) or tidy_name(right.application or left.application or right.profile),
            protocol=right.protocol or left.protocol or "any",
            ports=right.ports,
            from_=left.addresses or family,
            to=right.addresses,
            from_ports=None if left.ports == EVERY_PORT else left.ports,
        )  # fmt: skip


def _ways(way: str | None, came_by: str, goes_by: str, target: DeviceTarget) -> tuple[Direction, ...] | None:
    """Which filters a rule is of, none where it is of another line; None where that is unknown."""
    if target.gateway is not None:
        if came_by == target.outside or goes_by == target.inside:
            return () if came_by == target.inside or goes_by == target.outside else ("in",)
        if came_by == target.inside or goes_by == target.outside:
            return ("out",)
        return () if came_by or goes_by else ("in", "out")
    line = goes_by or came_by  # ufw prints the line of a host behind either side
    if line and target.inside and line != target.inside:
        return ()
    if line and not target.inside:
        return None
    return ("out",) if way == "OUT" else ("in",)


class _Side:
    """What stands on one side of a row: an address, ports, a profile, a line, the family."""

    def __init__(self, text: str) -> None:
        text, _, line = text.partition(" on ")
        self.line = line.split()[0] if line else ""
        self.six = "(v6)" in text or "(v6)" in line
        text = text.replace(" (v6)", "").strip()
        self.addresses: AddressSet | None = None
        self.ports, self.profile, self.application = EVERY_PORT, "", ""
        self.protocol: Literal["tcp", "udp"] | None = None
        if found := re.match(rf"(Anywhere|{_ADDRESS})/(tcp|udp)(?= |$)", text):
            self.protocol = _TRANSPORTS[found[2]]
            text = f"{found[1]}{text[found.end() :]}"
        words = text.split()
        if words and (words[0] == "Anywhere" or re.fullmatch(_ADDRESS, words[0])):
            if words[0] != "Anywhere":
                self.addresses = addresses_of_cell(words[0])
                self.six = self.six or ":" in words[0]
            text = text.removeprefix(words[0]).strip()
        if text and (found := re.match(rf"{_PORTS.pattern}(?: \((.+)\))?$", text)):
            self.ports, self.profile = PortSet.parse(found[1].replace(":", "-")), found[3] or ""
            self.protocol = _TRANSPORTS.get(found[2] or "", self.protocol)
        elif text in ("tcp", "udp", "/tcp", "/udp"):
            self.protocol = _TRANSPORTS[text.lstrip("/")]
        elif re.fullmatch(r"(\S+/)?(ah|esp|gre|igmp|ipv6|vrrp)", text):
            self.ports = PortSet()
        elif text:
            self.application = text


FORMAT = DeviceFormat(
    "ufw", "what ufw status verbose prints", "ufw status verbose, as root",
    recognises=_is_status, reads=_read, relative=_is_added,
    writes=lambda site: write_ufw(site, listening(site)), endings=(FIRST_ENDING,),
    omits="rewriting of addresses, before.rules, after.rules; without verbose the defaults and ports of profiles",
)  # fmt: skip
