"""The firewall of RouterOS (public interface), as ``/export`` or ``/ip firewall export`` prints it.

Rules stand in chains, the first that decides counts, and what no rule decides is let pass. A forward (``dst-nat``)
rewrites first, so that the filter sees the inside address; ``connection-nat-state=dstnat`` are the connections that one
has rewritten. So the chain is read twice, for those and for all others, and the first reading counts where forwards
lead. A rule that a new connection does not meet (``established``, ``invalid``) decides nothing of it; but answers and
what follows them have to be accepted as well, else it is unknown what is let in.
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Literal

from msgspec import Struct
from msgspec.structs import replace

from ...core.changes.adopted import DeviceConfig, Direction, ParsedValue, Skipped
from ...core.model.entries import BlockedPorts, Port
from ...core.model.site import Filter, Forward, Rule
from ...core.values.addresses import Address, AddressSet
from ...core.values.ports import EVERY_PORT, PortSet
from ..damage import guarded
from ..reading import bad_file
from .cells import addresses_of_cell, ports_of_cell, tidy_name
from .format import DeviceFormat, DeviceTarget, of_a_router
from .packet_filter.boxes import EVERYTHING, IPV4, IPV6, TRANSPORTS, Box, common, without

_HEAD = re.compile(r"^/(?:ip|ipv6)[ /]firewall[ /](?:filter|nat)", re.MULTILINE)
_WORD = re.compile(r'([\w.-]+)=("(?:[^"\\]|\\.)*"|\S*)|(\S+)')
_ACTIONS: Mapping[str, Literal["allow", "deny", "refuse"]] = {
    "accept": "allow", "drop": "deny", "tarpit": "deny", "reject": "refuse",
}  # fmt: skip
_PASSES_ON = {
    "passthrough", "log", "add-src-to-address-list", "add-dst-to-address-list", "mark-connection", "mark-packet",
    "mark-routing", "fasttrack-connection",
}  # fmt: skip
_ABOUT_NOTHING = {
    "action", "chain", "comment", "disabled", "log", "log-prefix", "reject-with", "jump-target", "address-list",
    "address-list-timeout", "hw-offload", "to-addresses", "to-ports",
}  # fmt: skip
_READ = {
    "protocol", "src-address", "dst-address", "src-port", "dst-port", "port", "in-interface", "out-interface",
    "in-interface-list", "out-interface-list", "src-address-list", "dst-address-list", "connection-state",
    "connection-nat-state",
}  # fmt: skip
"""What limits a rule and is read; any other word makes unknown what it matches."""
_TRANSPORTS = {"tcp": "tcp", "6": "tcp", "udp": "udp", "17": "udp"}
MOST_DEPTH = 20


class ExportLine(Struct, frozen=True):
    """One line that adds something: its section, its line in the file, and its words."""

    section: str
    line: int
    words: Mapping[str, str]

    def __getitem__(self, key: str) -> str:
        return self.words.get(key, "")

    @property
    def action(self) -> str:
        """What it does."""
        return self["action"] or "accept"

    @property
    def enabled(self) -> bool:
        """Whether it counts."""
        return self["disabled"] != "yes"


class Way(Struct, frozen=True):
    """Connections through the router: names of the interface, and of lists that hold it, at which they come and leave;
    in what state they are, and whether a forward has rewritten them."""

    comes: frozenset[str]
    leaves: frozenset[str]
    state: str = "new"
    rewritten: bool = False


def _is_export(file: str, text: str) -> bool:
    return _HEAD.search(text) is not None


def _entries(file: str, text: str) -> list[ExportLine]:
    """Every line that adds something. Raises BadInput for one that breaks off."""
    found: list[ExportLine] = []
    section, whole, start = "", "", 0
    for number, line in enumerate(text.splitlines(), 1):
        start = start if whole else number
        whole += line.lstrip() if whole else line
        if whole.endswith("\\") and not whole.endswith("\\\\"):
            whole = whole[:-1]
            continue
        stated, whole = whole.strip(), ""
        if stated.startswith("/"):
            path, _, rest = stated.partition(" add ")
            section = " ".join(path.strip("/").replace("/", " ").split())
            stated = f"add {rest}" if rest else ""
        if stated.startswith("add "):
            if stated.replace('\\"', "").count('"') % 2:
                raise bad_file(file, "found a quote that does not end; expected the whole export", start)
            words = {key: _unquoted(value) for key, value, _ in _WORD.findall(stated[4:]) if key}
            found.append(ExportLine(section, start, words))
    if whole:
        raise bad_file(file, "found a line that breaks off; expected the whole export", start)
    return found


def _unquoted(value: str) -> str:
    return re.sub(r"\\(.)", r"\1", value[1:-1]) if value[:1] == '"' else value


class Firewall:
    """The enabled rules of one family, with what their lists hold."""

    def __init__(self, entries: Sequence[ExportLine], family: Literal["ip", "ipv6"]) -> None:
        mine = [each for each in entries if each.enabled]
        self.addresses = IPV4 if family == "ip" else IPV6
        self.filter = [each for each in mine if each.section == f"{family} firewall filter"]
        self.nat = [each for each in mine if each.section == f"{family} firewall nat"]
        self.states = any(each.section.startswith(f"{family} firewall") for each in entries)
        self._members: dict[str, set[str]] = {}
        for each in (each for each in mine if each.section == "interface list member"):
            self._members.setdefault(each["list"], set()).add(each["interface"])
        used = (each[key] for each in (*self.filter, *self.nat) for key in ("in-interface", "out-interface"))
        self._interfaces = {each.removeprefix("!") for each in used if each}.union(*self._members.values())
        self._lists: dict[str, AddressSet | None] = {}
        for each in (each for each in mine if each.section == f"{family} firewall address-list"):
            known = self._lists.get(each["list"], AddressSet())
            try:
                self._lists[each["list"]] = None if known is None else known | addresses_of_cell(each["address"])
            except ValueError:  # a name, which the router resolves
                self._lists[each["list"]] = None

    def names_of(self, *interfaces: str) -> frozenset[str]:
        """Interfaces and lists, with all the lists that hold one of them, and all that they hold."""
        found = {*interfaces}
        for each in interfaces:
            found |= self._members.get(each, set())
        return frozenset(found | {name for name, members in self._members.items() if members & found})

    def parts(
        self, chain: str, way: Way, boxes: Sequence[Box], depth: int = 0
    ) -> Iterator[tuple[Rule, ExportLine | None]]:
        """The rules of a site that decide of these connections as a chain does, in its order."""
        left = list(boxes)
        for entry in (each for each in self.filter if each["chain"] == chain):
            met, doubt = self._met(entry, way)
            within = common(left, met) if met and left else []
            if not within or entry.action in _PASSES_ON:
                continue
            if doubt or depth > MOST_DEPTH or (action := entry.action) not in (*_ACTIONS, "jump", "return"):
                yield from ((_rule("unknown", each, entry), entry) for each in within)
            elif action == "return":
                for each in within:
                    left = without(left, each)
            elif action == "jump":
                yield from self.parts(entry["jump-target"], way, within, depth + 1)
            else:
                yield from ((_rule(_ACTIONS[action], each, entry), entry) for each in within)

    def doubt_of(self, entry: ExportLine, way: Way) -> str:
        """Why it is unknown what a rule matches."""
        return self._met(entry, way)[1]

    def accepts_answers(self, way: Way) -> bool:
        """Whether what follows a new connection is let pass: no rule stops it that would not have stopped that."""
        for entry in (each for each in self.filter if each["chain"] == "forward"):
            met, doubt = self._met(entry, way)
            everything = met == [Box(TRANSPORTS, self.addresses, self.addresses)]
            if entry.action in ("accept", "fasttrack-connection") and everything and not doubt:
                return True
            stops = met and entry.action in _ACTIONS and entry.action != "accept"
            if stops and (everything or not self._met(entry, replace(way, state="new"))[0]):
                return False
        return True

    def _met(self, entry: ExportLine, way: Way) -> tuple[list[Box], str]:
        """The connections of a way that a rule is about, and why that is unknown."""
        doubts = sorted(entry.words.keys() - _READ - _ABOUT_NOTHING)
        for side, here, there in (("in", way.comes, way.leaves), ("out", way.leaves, way.comes)):
            for key in (f"{side}-interface", f"{side}-interface-list"):
                met = self.at(key, entry[key], here, there) if entry[key] else True
                if met is False:
                    return [], ""
                doubts += [key] if met is None else []
        if (states := entry["connection-state"]) and not _holds(states, way.state):
            return [], ""
        if (word := entry["connection-nat-state"]) and not _holds(word, "dstnat" if way.rewritten else ""):
            return [], ""
        try:
            return self.boxes(entry), ", ".join(doubts)
        except ValueError as error:
            return [Box(TRANSPORTS, self.addresses, self.addresses)], str(error)

    def at(self, key: str, text: str, here: frozenset[str], there: frozenset[str]) -> bool | None:
        """Whether a connection that is ``here``, and not ``there``, is at an interface, or at one of a list; None where
        the export does not state it: which interfaces a list has, or what the line of a list is called."""
        name = text.removeprefix("!")
        if name in here or name == "all":
            met: bool | None = True
        elif name in there:
            met = False
        elif key.endswith("-list"):
            met = False if self._members else None
        else:
            met = False if here & self._interfaces and not name.startswith("all-") else None
        return met if met is None else met is not text.startswith("!")

    def boxes(self, entry: ExportLine) -> list[Box]:
        """What transport, addresses and ports of a rule leave. Raises ValueError."""
        word = entry["protocol"]
        named = frozenset({_TRANSPORTS[each] for each in [word.removeprefix("!")] if each in _TRANSPORTS})
        transports = (TRANSPORTS - named if word[:1] == "!" else named) if word else TRANSPORTS
        boxes = [Box(transports, self.addresses, self.addresses)]
        for key, side in (("src-address", "sources"), ("dst-address", "targets")):
            if word := entry[key]:
                boxes = _limited(boxes, word, replace(EVERYTHING, **{side: addresses_of_cell(word.removeprefix("!"))}))
            if word := entry[f"{key}-list"]:
                listed = self._lists.get(word.removeprefix("!"))
                if listed is None:
                    raise ValueError(f"the addresses of the list {word.removeprefix('!')[:40]} are not in this export")
                boxes = _limited(boxes, word, replace(EVERYTHING, **{side: listed}))
        for key, several in (("src-port", ["from_ports"]), ("dst-port", ["ports"]), ("port", ["from_ports", "ports"])):
            if word := entry[key]:
                ports = ports_of_cell(word.removeprefix("!"), plain=True)
                boxes = _limited(boxes, word, *(replace(EVERYTHING, **{side: ports}) for side in several))
        return [each for each in boxes if not each.is_empty]


def _holds(words: str, one: str) -> bool:
    """Whether a list of words, or what is not in it, has one."""
    return (one in words.removeprefix("!").split(",")) is not words.startswith("!")


def _limited(boxes: Sequence[Box], word: str, *limits: Box) -> list[Box]:
    """What of some boxes lies in one of several, or in none of them."""
    if word.startswith("!"):
        left = list(boxes)
        for each in limits:
            left = without(left, each)
        return left
    found: list[Box] = []
    for each in limits:
        more = common(boxes, [each])
        for known in found:
            more = without(more, known)
        found += more
    return found


def _rule(
    action: Literal["allow", "deny", "refuse", "unknown"], box: Box, entry: ExportLine | None, name: str = ""
) -> Rule:
    return Rule(
        action,
        tidy_name(entry["comment"]) if entry else name,
        "any" if len(box.protocols) == 2 else "tcp" if "tcp" in box.protocols else "udp",
        box.ports,
        box.sources,  # they state the family
        None if box.targets in (IPV4, IPV6) else box.targets,
        None if box.from_ports == EVERY_PORT else box.from_ports,
    )


@guarded
def _configs(file: str, text: str, target: DeviceTarget) -> list[DeviceConfig]:
    entries = _entries(file, text)
    four, six = (Firewall(entries, family) for family in ("ip", "ipv6"))
    outside, inside = _sides(file, entries, four, target)
    skipped: list[Skipped] = []
    forwards, unknown, turned = _forwards(entries, four, outside, inside, target, skipped)
    inward = list(_inward(four, outside, inside, [value.value for value in forwards], skipped))
    outward = list(_plain(four, Way(inside, outside), skipped))
    for way, rules in ((Way(outside, inside), inward), (Way(inside, outside), outward)):
        rules += _plain(six, way, skipped) if six.states else [_rule("unknown", Box(sources=IPV6, targets=IPV6), None)]
    if not six.states:
        skipped.append(Skipped(1, "IPv6", "this export has none of /ipv6 firewall: what it lets pass is unknown"))
    switches = [
        ParsedValue(("forwards_pass_filter",), False, 1),
        ParsedValue(("unknown_ports",), BlockedPorts(unknown), 1),
    ]
    if len(turned) == 1:
        hides = any(
            each["chain"] == "srcnat" and all(four.at(key, each[key], inside, outside) for key in _OUT if each[key])
            for each in four.nat
        )
        switches.append(ParsedValue(("hairpin",), turned == {True}, 1))
        source = "inside" if hides else "kept"
        switches += [ParsedValue(("hairpin_source",), source, 1)] if turned == {True} else []
    elif turned:
        skipped.append(
            Skipped(1, "hairpin", "some forwards turn clients inside back, which a site states for all or none")
        )
    ways: tuple[tuple[Direction, list[Rule]], ...] = (("in", inward), ("out", outward))
    return [
        DeviceConfig(file, "forwards", tuple(forwards), tuple(dict.fromkeys(skipped))),
        *(
            DeviceConfig(
                file, "rules", tuple(ParsedValue(("rules",), each, 1) for each in rules), (),
                Filter(default="allow"), direction=way,
            )
            for way, rules in ways
        ),
        DeviceConfig(file, "switches", tuple(switches)),
    ]  # fmt: skip


def _sides(
    file: str, entries: Sequence[ExportLine], firewall: Firewall, target: DeviceTarget
) -> tuple[frozenset[str], frozenset[str]]:
    """The names of the outside and the inside line: as they are given; else where addresses are hidden and forwards
    come in, and where the inside address is or whatever other line there is. Raises BadInput where that is open."""
    keys = {"srcnat": ("out-interface", "out-interface-list"), "dstnat": ("in-interface", "in-interface-list")}
    hides = {
        each[key]
        for each in firewall.nat
        for key in keys.get(each["chain"], ())
        if each[key] and not each[key].startswith("!") and not (each["src-address"] and each["dst-address"])
    }
    named = {
        each[f"{side}-interface{kind}"].removeprefix("!")
        for each in (*firewall.filter, *firewall.nat)
        for side in ("in", "out")
        for kind in ("", "-list")
    } - {"", "all"}
    outside = firewall.names_of(*({target.outside} if target.outside else hides or named & {"WAN", "wan"}))
    networks = {each.name: each.subnet for each in target.site.networks}
    within = networks.get(target.gateway.inside.network, AddressSet()) if target.gateway else AddressSet()
    there = {
        each["interface"]
        for each in entries
        if each.section == "ip address" and addresses_of_cell(each["address"].partition("/")[0]) & within
    }
    others = {each for each in named if each not in outside}
    inside = firewall.names_of(*({target.inside} if target.inside else there or others))
    if not outside or outside & inside:
        listed = ", ".join(sorted(named)) or "none"
        raise bad_file(
            file, f"found the interfaces {listed[:80]}; expected --outside NAME and --inside NAME, two of them"
        )
    return outside, inside


def _plain(firewall: Firewall, way: Way, skipped: list[Skipped]) -> Iterator[Rule]:
    """The rules for a way, of connections that no forward has rewritten."""
    yield from _answered(firewall, way, "forward", [Box(TRANSPORTS, firewall.addresses, firewall.addresses)], skipped)


def _inward(
    firewall: Firewall, outside: frozenset[str], inside: frozenset[str], forwards: Sequence[Forward],
    skipped: list[Skipped],
) -> Iterator[Rule]:  # fmt: skip
    """The rules for what comes in: first for what forwards lead on, then for all else."""
    way = Way(outside, inside, rewritten=True)
    led = {
        Box(
            frozenset((each.protocol,)), each.from_ or IPV4, AddressSet.single(each.to), EVERY_PORT,
            each.ports.shift(each.offset),
        ): each.name
        for each in forwards
        if each.enabled
    }  # fmt: skip
    if any(each["connection-nat-state"] for each in firewall.filter):
        for box, name in led.items():
            yield from _answered(firewall, way, "forward", [box], skipped)
            yield _rule("allow", box, None, name)
    yield from _plain(firewall, Way(outside, inside), skipped)


def _answered(firewall: Firewall, way: Way, chain: str, boxes: Sequence[Box], skipped: list[Skipped]) -> Iterator[Rule]:
    """The rules of a chain; where what follows a new connection is not let pass, what they allow is unknown."""
    follows = firewall.accepts_answers(Way(way.comes, way.leaves, "established", way.rewritten))
    answers = firewall.accepts_answers(Way(way.leaves, way.comes, "established", way.rewritten))
    if not (follows and answers):
        why = (
            "answers (connection-state=established) are not accepted before they are stopped: what is let in is unknown"
        )
        skipped.append(Skipped(1, "chain forward", why))
    for rule, entry in firewall.parts(chain, way, boxes):
        if entry is not None and (doubt := firewall.doubt_of(entry, way)):
            why = f"{doubt}: what it matches is unknown"
            skipped.append(Skipped(entry.line, tidy_name(entry["comment"]) or entry.action, why))
        elif entry is not None and rule.action == "unknown":
            skipped.append(Skipped(entry.line, entry.action, "this action is not read: what it matches is unknown"))
        allowed = rule.action == "allow" and not (follows and answers)
        yield replace(rule, action="unknown") if allowed else rule
    if not (follows and answers):
        yield from (_rule("unknown", each, None) for each in boxes)


def _forwards(
    entries: Sequence[ExportLine], firewall: Firewall, outside: frozenset[str], inside: frozenset[str],
    target: DeviceTarget, skipped: list[Skipped],
) -> tuple[list[ParsedValue], PortSet, set[bool]]:  # fmt: skip
    """The forwards, those that are off too; the ports of which it is unknown where they lead; and whether they take
    clients inside as well."""
    found: list[ParsedValue] = []
    unknown, turned = PortSet(), set[bool]()
    own = target.gateway.outside_addresses.each if target.gateway else ()
    for each in entries:
        if each.section != "ip firewall nat" or each["chain"] != "dstnat" or each.action in _PASSES_ON:
            continue
        here = [firewall.at(key, each[key], outside, inside) for key in _IN if each[key]]
        if False in here:
            continue
        ports = EVERY_PORT
        try:
            ports = ports_of_cell(each["dst-port"], plain=True) if each["dst-port"] else EVERY_PORT
            several = list(_forward(each, firewall, ports, own))
            if None in here:
                raise ValueError("whether its interface is the outside one is not in this export")
        except ValueError as error:
            skipped.append(
                Skipped(each.line, tidy_name(each["comment"]) or each.action, f"{error}: where it leads is unknown")
            )
            unknown = unknown | (ports if each.enabled else PortSet())
            continue
        found += [ParsedValue(("forwards",), forward, each.line) for forward in several]
        if each.enabled and several:
            turned.add(not any(each[key] for key in _IN))
    return found, unknown, turned


_IN, _OUT = ("in-interface", "in-interface-list"), ("out-interface", "out-interface-list")


def _forward(entry: ExportLine, firewall: Firewall, ports: PortSet, own: Sequence[Address]) -> Iterator[Forward]:
    """A forward for each transport. Raises ValueError for what a site cannot state."""
    if entry.action != "dst-nat":
        raise ValueError(f"{entry.action[:20]} is no forward to one host")
    if more := sorted(entry.words.keys() - _READ - _ABOUT_NOTHING - {"dst-address-type"}):
        raise ValueError(", ".join(more))
    if any(entry[key].startswith("!") for key in _READ if key not in _IN):
        raise ValueError("a negation (!)")
    boxes = firewall.boxes(entry)
    to = Address.parse(entry["to-addresses"].partition("/")[0])
    inside = ports_of_cell(entry["to-ports"], plain=True) if entry["to-ports"] else ports
    if inside != ports and (len(ports.spans) > 1 or len(inside) != len(ports)):
        raise ValueError("its ports lead to others, and not each to one of its own")
    typed = boxes[0].targets.prefixes() if boxes and entry["dst-address"] else ()
    if len(typed) > 1:
        raise ValueError("it is for several outside addresses")
    only = Address.parse(typed[0].partition("/")[0]) if typed else None
    for box in boxes:
        for protocol in sorted(box.protocols):
            yield Forward(
                ports, to, tidy_name(entry["comment"]), "tcp" if protocol == "tcp" else "udp",
                Port(inside.lowest) if inside.lowest != ports.lowest else None,
                None if box.sources == IPV4 else box.sources,
                None if only is None or tuple(own) == (only,) else only,
                enabled=entry.enabled,
            )  # fmt: skip


FORMAT = DeviceFormat(
    "routeros", "the firewall of RouterOS as it exports it", "/export, or /ip firewall export",
    recognises=_is_export, reads=of_a_router(_configs),
    omits="who a name in a list of addresses is, raw and mangle, what is let into the router itself",
)  # fmt: skip
