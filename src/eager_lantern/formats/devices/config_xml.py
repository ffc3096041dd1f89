"""The configuration of the two common routers that are built on FreeBSD's packet filter (public interface): their
``config.xml``, as the page for backups gives it.

Rules belong to the interface where a connection comes in, and the first that matches decides; what no rule is about is
blocked without an answer. Floating rules come before those of the interfaces where they are marked to decide at once,
else after them, where the last that matches decides. A port forward rewrites first, so that rules see the inside
address; it opens the filter only where it is marked so (``pass``), else a rule that was made with it does.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from ipaddress import ip_interface
from typing import Literal, TypeVar
from xml.etree.ElementTree import Element, ParseError

from defusedxml import DefusedXmlException
from defusedxml.ElementTree import fromstring
from msgspec import Struct
from msgspec.structs import replace

from ...core.changes.adopted import DeviceConfig, ParsedValue, Skipped
from ...core.model.entries import BlockedPorts, Port
from ...core.model.site import Filter, Forward, Rule
from ...core.values.addresses import Address, AddressSet
from ...core.values.ports import EVERY_PORT, PortSet
from ..damage import guarded
from ..reading import bad_file
from .cells import addresses_of_cell, ports_of_cell, tidy_name
from .cloud.tags import EVERYBODY
from .format import DeviceFormat, DeviceTarget, of_a_router

_ROOTS = ("pfsense", "opnsense")
_ACTIONS: Mapping[str, Literal["allow", "deny", "refuse"]] = {"pass": "allow", "block": "deny", "reject": "refuse"}
_FAMILIES = {"inet": EVERYBODY.of_family(4), "inet6": EVERYBODY.of_family(6), "inet46": EVERYBODY}
_DOUBTS = {
    "sched": "a schedule", "os": "the sender's system", "tagged": "a tag that another rule gives",
    "tcpflags_any": "", "tcpflags1": "flags of TCP", "tcpflags2": "flags of TCP", "icmptype": "",
    "max-src-conn": "a limit for each sender", "max-src-nodes": "a limit of senders", "max-src-conn-rate": "a limit",
    "max-src-conn-rates": "a limit", "max-src-states": "a limit", "max": "a limit", "prio": "a priority",
    "dscp": "a mark of service", "vlanprio": "a priority", "ridentifier": "", "l7container": "the content",
    "srcmac": "a hardware address",
}  # fmt: skip
"""Elements of a rule that limit what it matches, and are not read; the empty ones limit nothing."""


class Names(Struct, frozen=True):
    """What the names in rules stand for: addresses and ports of aliases, networks and addresses of interfaces."""

    addresses: Mapping[str, AddressSet]
    ports: Mapping[str, PortSet]


_Read = TypeVar("_Read")


class Unclear(ValueError):
    """What a rule is about is not in the file; it states why."""


def _is_config(file: str, text: str) -> bool:
    begin = text[:2000]
    return any(f"<{each}>" in begin for each in _ROOTS)


@guarded
def _configs(file: str, text: str, target: DeviceTarget) -> list[DeviceConfig]:
    try:
        root: Element = fromstring(text.strip())
    except (ParseError, DefusedXmlException, ValueError) as error:
        raise bad_file(file, f"found XML that breaks off ({error!s:.60}); expected the whole file") from None
    outside, inside = _interfaces(file, root, target)
    names = _names_of(root)
    skipped: list[Skipped] = []
    forwards, unknown, turned = _forwards(root, names, outside, skipped)
    opened = [_opened(forward) for forward, passes in forwards if passes]
    inward = [*opened, *_from_strangers(root, outside, skipped), *_rules(root, names, outside, skipped)]
    outward = list(_rules(root, names, inside, skipped))
    switches = [
        ParsedValue(("forwards_pass_filter",), False, 0),
        ParsedValue(("unknown_ports",), BlockedPorts(unknown), 0),
        ParsedValue(("unmatched",), "silent", 0),
    ]
    if len(turned) == 1:
        switches.append(ParsedValue(("hairpin",), turned.pop(), 0))
    elif turned:
        skipped.append(
            Skipped(0, "reflection", "it is on for some forwards alone, which a site states for all or none")
        )
    deny = Filter(default="deny")
    return [
        DeviceConfig(
            file, "forwards", tuple(ParsedValue(("forwards",), each, 0) for each, _ in forwards), tuple(skipped)
        ),
        DeviceConfig(file, "rules", _values(inward), (), deny, direction="in"),
        DeviceConfig(file, "rules", _values(outward), (), deny, direction="out"),
        DeviceConfig(file, "switches", tuple(switches)),
    ]


def _values(rules: Sequence[Rule]) -> tuple[ParsedValue, ...]:
    return tuple(ParsedValue(("rules",), each, 0) for each in rules)


def _text(element: Element | None, key: str, otherwise: str = "") -> str:
    """The text of an element's child; empty where there is none."""
    found = element.findtext(key) if element is not None else None
    return (found or "").strip() or otherwise


def _is_on(element: Element, key: str) -> bool:
    """Whether a mark is set: by being there, or by a number of its own."""
    child = element.find(key)
    return child is not None and (child.text or "").strip().lower() not in ("0", "no", "off", "false")


def _interfaces(file: str, root: Element, target: DeviceTarget) -> tuple[str, str]:
    """The names of the outside and the inside interface: as they are given, by the site's addresses, else wan and lan.
    Raises BadInput where they are not there."""
    found = {each.tag: each for each in root.findall("./interfaces/*")}
    gateway = target.gateway
    networks = {each.name: each.subnet for each in target.site.networks}
    within = networks.get(gateway.inside.network, AddressSet()) if gateway else AddressSet()
    near = [name for name, each in found.items() if name != "wan" and _own_address(each) & within]
    described = {_text(each, "descr").lower(): name for name, each in found.items()}

    def called(given: str, otherwise: str) -> str:
        return described.get(given.lower(), given) if given else otherwise

    outside = called(target.outside, "wan")
    inside = called(target.inside, near[0] if len(near) == 1 else "lan")
    if outside not in found or inside not in found:
        listed = ", ".join(found) or "none"
        raise bad_file(
            file, f"found the interfaces {listed[:80]}; expected --outside NAME and --inside NAME, two of them"
        )
    return outside, inside


def _own_address(interface: Element) -> AddressSet:
    try:
        return addresses_of_cell(_text(interface, "ipaddr"))
    except ValueError:  # dhcp, pppoe and the like
        return AddressSet()


def _names_of(root: Element) -> Names:
    addresses: dict[str, AddressSet] = {}
    ports: dict[str, PortSet] = {}
    for each in root.findall("./interfaces/*"):
        own = _own_address(each)
        if own:
            addresses[f"{each.tag}ip"] = own
            addresses[each.tag] = _network(f"{_text(each, 'ipaddr')}/{_text(each, 'subnet', '32')}")
    aliases = [*root.findall("./aliases/alias"), *root.findall(".//Firewall/Alias/aliases/alias")]
    waiting = {_text(each, "name"): each for each in aliases if _text(each, "enabled", "1") != "0"}
    for _ in range(len(waiting) + 1):  # an alias may name another
        for name, each in list(waiting.items()):
            words = (_text(each, "address") or _text(each, "content")).replace(",", " ").split()
            kind = _text(each, "type")
            try:
                if kind == "port":
                    ports[name] = _union_of_ports(words, ports)
                elif kind in ("host", "network"):
                    addresses[name] = _union_of_addresses(words, addresses)
            except ValueError:
                continue
            del waiting[name]
    return Names(addresses, ports)


def _network(text: str) -> AddressSet:
    """A network that may be written with an address inside it. Raises ValueError."""
    return addresses_of_cell(str(ip_interface(text).network) if "/" in text else text)


def _union_of_ports(words: Sequence[str], known: Mapping[str, PortSet]) -> PortSet:
    found = PortSet()
    for each in words:
        found = found | (known[each] if each in known else ports_of_cell(each, plain=True))
    return found


def _union_of_addresses(words: Sequence[str], known: Mapping[str, AddressSet]) -> AddressSet:
    found = AddressSet()
    for each in words:
        found = found | (known[each] if each in known else _network(each))
    return found


def _whom(end: Element | None, names: Names, family: AddressSet) -> AddressSet:
    """Whom the source or destination of a rule is about. Raises Unclear."""
    if end is None or end.find("any") is not None:
        whole = EVERYBODY
    else:
        word = _text(end, "network") or _text(end, "address")
        if word == "(self)":
            raise Unclear("it is about the router itself")
        if word in ("", "any"):
            whole = EVERYBODY
        elif word in names.addresses:
            whole = names.addresses[word]
        else:
            try:
                whole = _network(word)
            except ValueError:
                raise Unclear(f"whom {word[:40]} stands for is not in this file") from None
        whole = EVERYBODY - whole if end.find("not") is not None else whole
    return whole & family


def _ports(end: Element | None, names: Names, key: str = "port") -> PortSet:
    """The ports of one end. Raises Unclear."""
    word = _text(end, key)
    if word in ("", "any"):
        return EVERY_PORT
    if word in names.ports:
        return names.ports[word]
    try:
        return ports_of_cell(word, plain=True)
    except ValueError:
        raise Unclear(f"which ports {word[:40]} stands for is not in this file") from None


def _transports(rule: Element) -> tuple[Literal["tcp", "udp"], ...]:
    word = _text(rule, "protocol", "any").lower()
    numbers = {"6": "tcp", "17": "udp", "any": "tcp/udp"}
    named = numbers.get(word, word).replace("_", "/").split("/")
    return tuple(each for each in ("tcp", "udp") if each in named)


def _unless(doubts: list[str], read: Callable[..., _Read], otherwise: _Read, *given: object) -> _Read:
    """What is read, or all that it may be, and why that is in doubt."""
    try:
        return read(*given)
    except Unclear as error:
        doubts.append(str(error))
        return otherwise


def _limited(addresses: AddressSet) -> AddressSet | None:
    return None if addresses == EVERYBODY else addresses


_STRANGERS = AddressSet.parse("10.0.0.0/8, 127.0.0.0/8, 172.16.0.0/12, 192.168.0.0/16, fc00::/7")
"""RFC 1918, RFC 4193 and the host's own addresses, as the switch of an interface has them."""


def _from_strangers(root: Element, interface: str, skipped: list[Skipped]) -> Iterator[Rule]:
    """What an interface blocks by a switch of its own, before all rules."""
    element = root.find(f"./interfaces/{interface}")
    if element is not None and _is_on(element, "blockpriv"):
        yield Rule("deny", "private networks", "any", EVERY_PORT, _STRANGERS)
    if element is not None and _is_on(element, "blockbogons"):
        why = "the router fetches the list of addresses that nobody has: it is not in this file"
        skipped.append(Skipped(0, "blockbogons", why))


def _rules(root: Element, names: Names, interface: str, skipped: list[Skipped]) -> Iterator[Rule]:
    """The rules for what comes in at an interface, in the order in which they decide."""
    early, own, late = list[Element](), list[Element](), list[Element]()
    for each in root.findall("./filter/rule"):
        floating = _is_on(each, "floating")
        named = _text(each, "interface").split(",")
        if interface not in named and not (floating and named in ([""], ["any"])):
            continue
        if floating and _text(each, "direction", "any") == "out":
            skipped.append(Skipped(0, _text(each, "descr"), "it is about what leaves an interface: it is not read"))
            continue
        at_once = _text(each, "quick", "" if floating else "yes") not in ("", "0", "no")
        (late if not at_once else early if floating else own).append(each)
    for element in (*early, *own, *reversed(late)):
        yield from _rule(element, names, skipped)


def _rule(element: Element, names: Names, skipped: list[Skipped]) -> Iterator[Rule]:
    action = _ACTIONS.get(_text(element, "type", "pass"))
    transports = _transports(element)
    if action is None or not transports:
        return
    family = _FAMILIES.get(_text(element, "ipprotocol", "inet"), EVERYBODY)
    name = tidy_name(_text(element, "descr"))
    enabled = not _is_on(element, "disabled")
    source, goal = element.find("source"), element.find("destination")
    doubts = [why for key, why in _DOUBTS.items() if why and _text(element, key)]
    if _text(element, "statetype") == "none":
        doubts.append("no state, so that answers need a rule of their own")
    whom, goals = (_unless(doubts, _whom, family, each, names, family) for each in (source, goal))
    came, ports = (_unless(doubts, _ports, EVERY_PORT, each, names) for each in (source, goal))
    rule = Rule(
        action, name, "any" if len(transports) == 2 else transports[0], ports, _limited(whom), _limited(goals),
        None if came == EVERY_PORT else came, enabled=enabled,
    )  # fmt: skip
    if rule.to == family:  # that stands at the senders already
        rule = replace(rule, to=None)
    if doubts and enabled:
        skipped.append(Skipped(0, name or "a rule", f"{'; '.join(doubts)}: what it matches is unknown"))
    yield replace(rule, action="unknown") if doubts else rule


def _forwards(
    root: Element, names: Names, outside: str, skipped: list[Skipped]
) -> tuple[list[tuple[Forward, bool]], PortSet, set[bool]]:
    """The forwards with whether each opens the filter, the ports of which it is unknown where they lead, and whether
    clients inside are turned back by them."""
    found: list[tuple[Forward, bool]] = []
    unknown, turned = PortSet(), set[bool]()
    usual = root.find("./system/disablenatreflection") is None
    own = _text(root.find(f"./interfaces/{outside}"), "ipaddr")
    for each in root.findall("./nat/rule"):
        named = _text(each, "interface", "wan").split(",")
        if outside not in named:
            continue
        name, enabled = tidy_name(_text(each, "descr")), not _is_on(each, "disabled")
        source, goal = each.find("source"), each.find("destination")
        family = _FAMILIES.get(_text(each, "ipprotocol", "inet"), EVERYBODY)
        ports = EVERY_PORT
        try:
            ports = _ports(goal, names)
            if _is_on(each, "nordr"):
                raise Unclear("it excepts connections from the forwards below it")
            whom = _limited(_whom(source, names, family))
            inside = _first_inside(each, names, ports)
            target = names.addresses.get(word := _text(each, "target"))
            to = Address.parse(str(target) if target is not None and "," not in str(target) else word)
            only = _outside_address(goal, outside, names)
        except ValueError as error:
            skipped.append(Skipped(0, name or "a forward", f"{error}: where it leads is unknown"))
            unknown = unknown | (ports if enabled else PortSet())
            continue
        if enabled:
            word = _text(each, "natreflection")
            turned.add(word in ("enable", "purenat") if word else usual)
        passes = _text(each, "associated-rule-id") == "pass" or _text(each, "pass") == "pass"
        for protocol in _transports(each):
            shifted = Port(inside) if inside != ports.lowest else None
            if shifted is not None and len(ports.spans) > 1:
                skipped.append(Skipped(0, name, "ports in several parts lead to others: where they lead is unknown"))
                unknown = unknown | ports
                continue
            forward = Forward(
                ports, to, name, protocol, shifted, None if whom == family else whom, only, enabled=enabled
            )
            found.append((forward, passes))
    for each in root.findall("./nat/onetoone"):
        if not _is_on(each, "disabled"):
            skipped.append(Skipped(0, _text(each, "external"), "one-to-one translation is not read"))
            unknown = EVERY_PORT if _text(each, "external") in (own, f"{outside}ip") else unknown
    return found, unknown, turned


def _first_inside(rule: Element, names: Names, ports: PortSet) -> int:
    """The port to which the first port leads. Raises Unclear."""
    word = _text(rule, "local-port")
    if not word or word == "any":
        return ports.lowest
    inside = _ports(rule, names, "local-port")
    if len(inside) > 1 and inside != ports and len(inside) != len(ports):
        raise Unclear("its ports and those inside are not as many")
    return inside.lowest


def _outside_address(goal: Element | None, outside: str, names: Names) -> Address | None:
    """The outside address that a forward is for; None for that of the interface. Raises ValueError."""
    word = _text(goal, "network") or _text(goal, "address")
    if word in ("", "any", f"{outside}ip", outside) or (goal is not None and goal.find("any") is not None):
        return None
    if goal is not None and goal.find("not") is not None:
        raise Unclear("it is for other addresses than one")
    if word in names.addresses and word.endswith("ip"):
        raise Unclear("it is for the address of another interface")
    return Address.parse(str(names.addresses.get(word, word)))


def _opened(forward: Forward) -> Rule:
    """What a forward that passes the filter lets in."""
    return Rule(
        "allow", forward.name, forward.protocol, forward.ports.shift(forward.offset), forward.from_,
        AddressSet.single(forward.to), enabled=forward.enabled,
    )  # fmt: skip


FORMAT = DeviceFormat(
    "config-xml", "config.xml of a router built on FreeBSD's packet filter", "the page for backups of the router",
    recognises=_is_config, reads=of_a_router(_configs),
    omits="one-to-one and outbound translation, IPv6 addresses of interfaces, aliases that the router fetches, what "
    "leaves an interface (floating, out)",
)  # fmt: skip
