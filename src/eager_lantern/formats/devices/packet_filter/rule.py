"""One rule of a rule set: the new connections that it matches, as boxes, and what it does with them (public interface
of libnftables, its JSON).

Theory: rules that are understood in part
=========================================
A statement either asks for something or does something. What is asked for and has no words in a site (a limit of
packets, a mark) can only make a rule match less: the boxes that the other statements ask for are all that it may match,
and whether it does is in doubt. What is done and has no words here is unknown for all of them.

>>> dport = {"match": {"op": "==", "left": {"payload": {"protocol": "tcp", "field": "dport"}}, "right": 22}}
>>> reader = Reader({})
>>> (case,) = reader.cases("inet", "filter", {"expr": [dport, {"limit": {"rate": 5}}, {"accept": None}]})
>>> [str(each.ports) for each in case.boxes], case.verdict, case.doubts
(['22'], ('allow', None), ('limit',))
"""

from collections.abc import Iterator, Mapping, Sequence
from functools import lru_cache
from typing import Any, Literal, TypeVar

from msgspec import Struct
from msgspec.structs import replace

from ....core.model.site import Refusal
from ....core.values.addresses import AddressSet
from ....core.values.intervals import MOST_REMEMBERED
from ....core.values.ports import EVERY_PORT, PortSet

IPV4, IPV6 = AddressSet.parse("0.0.0.0/0"), AddressSet.parse("::/0")
EVERYBODY = IPV4 | IPV6
TRANSPORTS = frozenset(("tcp", "udp"))
FAMILIES = {"ip": 4, "ip6": 6, "inet": None, "netdev": None}
"""Families of tables that see packets of IPv4, IPv6 or both."""


class Box(Struct, frozen=True):
    """All connections of these transports, senders, addresses and ports."""

    protocols: frozenset[str] = TRANSPORTS
    sources: AddressSet = EVERYBODY
    targets: AddressSet = EVERYBODY
    from_ports: PortSet = EVERY_PORT
    ports: PortSet = EVERY_PORT

    @property
    def is_empty(self) -> bool:
        """Whether no connection is in it."""
        addresses = self.sources.spans and self.targets.spans
        return not (self.protocols and addresses and self.from_ports.spans and self.ports.spans)

    def __and__(self, other: "Box") -> "Box":
        if self is EVERYTHING:
            return other
        return Box(
            _intersection(self.protocols, other.protocols, TRANSPORTS),
            _intersection(self.sources, other.sources, EVERYBODY),
            _intersection(self.targets, other.targets, EVERYBODY),
            _intersection(self.from_ports, other.from_ports, EVERY_PORT),
            _intersection(self.ports, other.ports, EVERY_PORT),
        )

    @property
    def answered(self) -> "Box":
        """The connections whose answers are in it, or the other way round."""
        return Box(self.protocols, self.targets, self.sources, self.ports, self.from_ports)

    def without(self, other: "Box") -> Iterator["Box"]:
        """What is not in another, as boxes that do not meet."""
        left = self
        for each in self.__struct_fields__:
            mine, theirs = getattr(left, each), getattr(other, each)
            if outside := mine - theirs:
                yield replace(left, **{each: outside})
            left = replace(left, **{each: mine & theirs})
            if left.is_empty:
                return


EVERYTHING = Box()
"""All new connections."""
_Set = TypeVar("_Set", frozenset[str], AddressSet, PortSet)


def _intersection(mine: _Set, theirs: _Set, whole: _Set) -> _Set:
    """What is in both of two sets; the sets of a rule are the whole in most of its fields."""
    if mine is theirs or theirs is whole:
        return mine
    return theirs if mine is whole else mine & theirs


def common(boxes: Sequence[Box], others: Sequence[Box]) -> list[Box]:
    """What is in one of some boxes and in one of the others; most rules are asked about everything."""
    if len(boxes) == 1 == len(others):
        part = boxes[0] & others[0]
        return [] if part.is_empty else [part]
    return [part for each in boxes for other in others if not (part := each & other).is_empty]


def without(boxes: Sequence[Box], other: Box) -> list[Box]:
    """What of some boxes is not in another."""
    return [part for each in boxes for part in each.without(other) if not part.is_empty]


def family_box(family: str) -> Box:
    """All connections of a family of tables."""
    known = FAMILIES[family]
    if known is None:
        return EVERYTHING
    addresses = IPV4 if known == 4 else IPV6
    return Box(sources=addresses, targets=addresses)


Verdict = tuple[Any, Any]
"""What is done and its detail: allow, deny, refuse, jump, goto, return, a rewriting, or unknown."""
REWRITES = ("dnat", "snat", "masquerade")
"""Verdicts of chains that change packets."""
Stage = Literal["first", "answer", "later"]
"""A packet of a connection: its first one, what the other end answers, and what its beginner sends from then on."""
_STATES: Mapping[Stage, tuple[str, int]] = {
    "first": ("new", 8),
    "answer": ("established", 2),
    "later": ("established", 2),
}
"""The state of a connection when such a packet comes, by name and by its bit (NF_CT_STATE_BIT)."""
_DIRECTIONS: Mapping[Stage, tuple[str, int]] = {
    "first": ("original", 0),
    "answer": ("reply", 1),
    "later": ("original", 0),
}
_FLAGS: Mapping[Stage, frozenset[str]] = {
    "first": frozenset(("syn",)), "answer": frozenset(("syn", "ack")), "later": frozenset(("ack",)),
}  # fmt: skip
"""The flags of such a packet of TCP (RFC 9293, section 3.5)."""
_FLAG_BITS = ("fin", "syn", "rst", "psh", "ack", "urg", "ecn", "cwr")
TCP_FLAGS = {"payload": {"protocol": "tcp", "field": "flags"}}
NOT_IN = "not in"
"""None of the bits that are asked for; the list itself has no word for it, and the older filter has."""
_REWRITTEN = 32
"""The bit of a status whose destination was rewritten (IPS_DST_NAT), which a list of numbers has."""
_NOTES = (
    "counter", "log", "comment", "ct helper", "-j TRACE", "-j CHECKSUM", "-j MARK",
    "-j CONNMARK", "-j TCPMSS",
)  # fmt: skip
"""Statements that decide nothing; those that ask for what they write down are in doubt."""
_MARKS = (("meta", "mark"), ("ct", "mark"), ("meta", "nftrace"), ("meta", "priority"))
"""What a rule may write down and only rules that ask for it see: these are in doubt."""
_WITH_PORTS = {"tcp": frozenset(("tcp",)), "udp": frozenset(("udp",)), "th": TRANSPORTS}
_OTHERS = ("icmp", "icmpv6", "igmp", "esp", "ah", "sctp", "dccp")
"""Protocols that are neither TCP nor UDP, and whose fields those have not."""
_ASKS = ("match", "limit", "quota", "ct count", "connlimit")
_OLDER_NOTES = (
    "LOG", "NFLOG", "ULOG", "TRACE", "AUDIT", "CHECKSUM", "MARK", "CONNMARK", "TCPMSS", "CLASSIFY", "DSCP", "TOS",
    "TTL", "HL",
)  # fmt: skip
"""Targets of the older filter that decide nothing."""
_ELSEWHERE = "whose values this listing has not: give what iptables-save and ip6tables-save print"


class Unsayable(ValueError):
    """What a site has no words for, in the filter's own words."""


class Case(Struct, frozen=True):
    """What a rule may match, and what it does with it then; None where it only counts or notes. With ``doubts`` it may
    match less."""

    boxes: list[Box]
    verdict: Verdict | None
    doubts: tuple[str, ...] = ()


class Passing(Struct, frozen=True):
    """A connection that a gateway hands on: the mark that it has, and whether its destination was rewritten."""

    mark: int = 0
    rewritten: bool = False


class Reader(Struct, frozen=True):
    """Reads rules as a packet meets them that comes in and leaves by some ``interfaces`` (by the words of the filter);
    ``sets`` are by family, table and name, ``own`` the addresses of who has the rules, where they are known. Without
    ``passing`` it is a host's own packet. ``stage`` is which packet of the connection it is; ``marks_elsewhere`` is
    that other rules than those that rewrite may have marked it."""

    sets: Mapping[tuple[str, str, str], Sequence[Any]]
    interfaces: Mapping[str, str] = {}
    passing: Passing | None = None
    own: AddressSet | None = None
    stage: Stage = "first"
    marks_elsewhere: bool = False

    def cases(self, family: str, table: str, rule: Mapping[str, Any]) -> list[Case]:
        """What a rule does with what; several where it has a map of verdicts. Raises KeyError, TypeError and ValueError
        for what is damaged."""
        return list(_Statements(self, family, table).read(rule["expr"]))


class _Statements:
    """The statements of one rule, read from left to right."""

    def __init__(self, reader: Reader, family: str, table: str) -> None:
        self._reader, self._family, self._table = reader, family, table
        self._boxes = [family_box(family)]
        self._doubts: list[str] = []
        self._verdict: Verdict | None = None
        self._mark = 0

    def read(self, expressions: Sequence[Mapping[str, Any]]) -> Iterator[Case]:
        for statement in expressions:
            ((word, detail),) = statement.items()
            if word == "vmap":
                yield from self._of_map(detail)
                return
            if _asks(word) or (word == "xt" and not _is_target(detail)):
                self._narrow(word, detail)
            elif (verdict := self._does(word, detail)) is not None and not self._is_unknown:
                self._verdict = verdict  # behind what is not known, a verdict may never be come to
        yield self._case(self._boxes, self._verdict)

    @property
    def _is_unknown(self) -> bool:
        return self._verdict is not None and self._verdict[0] == "unknown"

    def _case(self, boxes: list[Box], verdict: Verdict | None) -> Case:
        return Case(boxes, verdict, tuple(self._doubts))

    def _narrow(self, word: str, detail: Any) -> None:
        try:
            if word != "match":
                raise Unsayable(_older(detail) if word == "xt" else word)
            self._boxes = common(self._boxes, self._matched(detail))
        except Unsayable as error:
            self._doubts.append(str(error))

    def _does(self, word: str, detail: Any) -> Verdict | None:
        if word in ("accept", "drop", "return", "jump", "goto"):
            return _simple(word, detail)
        if word == "reject":
            kind = _refusal(detail)
            return ("refuse", kind) if kind else ("unknown", f"reject with {detail.get('expr')}")
        if word in REWRITES and self._reader.passing is not None:
            return (word, {**(detail or {}), "mark": self._mark})
        if word == "mangle" and isinstance(detail["key"], dict):
            return self._writes(detail)
        if word == "xt":
            return self._does_as_older(detail)
        return None if word in _NOTES else ("unknown", word)

    def _does_as_older(self, detail: Mapping[str, Any]) -> Verdict | None:
        """What a target of the older filter does, of which the list has the name alone."""
        name = str(detail.get("name"))
        if name == "REJECT":
            return ("refuse", None)
        if name == "MASQUERADE" and self._reader.passing is not None:
            return ("masquerade", {"mark": self._mark})
        return None if name in _OLDER_NOTES else ("unknown", _older(detail))

    def _writes(self, detail: dict[str, Any]) -> Verdict | None:
        """What a rule writes into a packet, or notes of its connection; the size of segments is no matter of a
        filter."""
        ((kind, field),) = detail["key"].items()
        name = field.get("key", field.get("name"))
        if self._reader.passing is not None and (kind, name) == ("ct", "mark"):
            self._mark = detail["value"]
            return None
        return None if (kind, name) in (*_MARKS, ("tcp option", "maxseg")) else ("unknown", f"{kind} {name} set")

    def _of_map(self, detail: dict[str, Any]) -> Iterator[Case]:
        """A map of verdicts: one case for each of its keys."""
        data = detail["data"]
        try:
            listed = self._reader.sets[self._family, self._table, data[1:]] if isinstance(data, str) else data["set"]
            pairs = [_pair(each) for each in listed]
            found = [(self._matched({"op": "==", "left": detail["key"], "right": key}), made) for key, made in pairs]
        except Unsayable as error:
            yield self._case(self._boxes, ("unknown", f"vmap of {error}"))
            return
        for boxes, made in found:
            ((word, inner),) = made.items()
            yield self._case(common(self._boxes, boxes), _simple(word, inner))

    def _matched(self, match: dict[str, Any]) -> list[Box]:
        op, left, right = match["op"], match["left"], match["right"]
        if op not in ("==", "!=", "in", NOT_IN):
            raise Unsayable(f"{_condition_name(left)} {op}")
        if "ct" in left and left["ct"].get("key") in ("state", "direction"):
            known = _STATES if left["ct"]["key"] == "state" else _DIRECTIONS
            return [EVERYTHING] if _is_among(known[self._reader.stage], right) != (op == "!=") else []
        if left == TCP_FLAGS or left.get("&", (None,))[0] == TCP_FLAGS:
            return [Box(protocols=frozenset(("tcp",)))] if _has_flags(left, op, right, self._reader.stage) else []
        if "ct" in left and self._reader.passing is not None and left["ct"].get("key") in ("mark", "status"):
            has = self._has(self._reader.passing, left["ct"]["key"], op, self._values(right))
            return [EVERYTHING] if has else []
        found = self._boxes_of(left, right)
        if op not in ("!=", NOT_IN):
            return found
        rest = [EVERYTHING]
        for each in found:
            rest = without(rest, each)
        return _of_the_kind(left, rest)

    def _has(self, passing: Passing, name: str, op: str, values: Sequence[Any]) -> bool:
        """Whether a connection that is handed on has what is asked for of its mark or status. A status is a word of
        many bits: that its destination was rewritten is one of them, and never all. Raises Unsayable."""
        if name == "mark" and all(isinstance(each, int) for each in values) and not self._reader.marks_elsewhere:
            return (passing.mark in values) != (op in ("!=", NOT_IN))
        if name == "status" and set(values) <= {"dnat", _REWRITTEN}:
            return passing.rewritten != (op == NOT_IN) if op in ("in", NOT_IN) else op == "!="
        raise Unsayable(f"ct {name} {values[0] if values else ''}")

    def _boxes_of(self, left: dict[str, Any], right: Any) -> list[Box]:
        """The connections of which a field has a value."""
        if "payload" in left:
            return _of_payload(left["payload"].get("protocol"), left["payload"].get("field"), self._values(right))
        if "meta" in left:
            return self._of_meta(left["meta"]["key"], self._values(right))
        if left == {"fib": {"result": "type", "flags": ["daddr"]}}:
            return self._of_kinds(self._values(right))
        raise Unsayable(_condition_name(left))

    def _of_meta(self, name: str, values: Sequence[Any]) -> list[Box]:
        if name == "l4proto":
            return [Box(protocols=_transports(values))]
        if name == "nfproto":
            return [family_box(_NFPROTO[each]) for each in values]
        if (mine := self._reader.interfaces.get(_LONG.get(name, name))) is not None:
            return [EVERYTHING] if any(_is_called(mine, str(each)) for each in values) else []
        if name in ("iifname", "iif") and values == ["lo"]:
            return []  # what a host sends to itself is nobody's connection from elsewhere
        raise Unsayable(f"{name} {values[0] if values else ''}")

    def _of_kinds(self, kinds: Sequence[Any]) -> list[Box]:
        """Connections by the kind of address that they go to: one of the host's or device's own, or one of many, to
        which none goes."""
        if self._reader.own is None or not set(kinds) <= {"local", "multicast", "broadcast", *_KINDS_OF_ADDRESS}:
            raise Unsayable(f"fib daddr type {kinds[0]}")
        return [Box(targets=self._reader.own)] if {"local", _LOCAL} & set(kinds) else []

    def _values(self, right: Any) -> list[Any]:
        """Single values, ranges and prefixes of a right side, be it a set by its name."""
        if isinstance(right, int):
            return [right]
        if isinstance(right, str) and right.startswith("@"):
            found = self._reader.sets[self._family, self._table, right[1:]]
        else:
            found = right["set"] if isinstance(right, dict) and "set" in right else [right]
        values = [_bare(each) for each in found]
        if "*" in values:
            raise Unsayable("a set with an element for all others")
        return values


def _asks(word: str) -> bool:
    """Whether a statement asks for something; of iptables it is an option of its own or of a module."""
    return word == "match" or word in _ASKS or (word.startswith("-") and not word.startswith("-j "))


def _simple(word: str, detail: Any) -> Verdict | None:
    """What accept, drop and the words for other chains come to; None for going on."""
    if word in ("jump", "goto"):
        return (word, detail["target"])
    return {"accept": ("allow", None), "drop": ("deny", None), "return": ("return", None), "continue": None}[word]


def _pair(each: Any) -> tuple[Any, Any]:
    """A key of a map and what it leads to."""
    key, made = _bare(each[0]), each[1]
    if key == "*":
        raise Unsayable("a map with a key for all others")
    return key, made


def _condition_name(left: Mapping[str, Any]) -> str:
    """What is asked for, in the filter's own words."""
    field = next(iter(left))
    inner = left[field]
    return " ".join([field, *(str(each) for each in inner.values())]) if isinstance(inner, dict) else field


def is_new(right: Any) -> bool:
    """Whether new connections are among the states that are asked for."""
    return _is_among(_STATES["first"], right)


def _is_among(known: tuple[str, int], right: Any) -> bool:
    """Whether a state or direction, by its name and its number, is among those that are asked for; states by number
    are bits."""
    name, number = known
    named = right if isinstance(right, list) else right["set"] if isinstance(right, dict) else [right]
    bits = name not in ("original", "reply")
    return any(
        each == name or (isinstance(each, int) and (each & number if bits else each == number)) for each in named
    )


def _has_flags(left: Mapping[str, Any], op: str, right: Any, stage: Stage) -> bool:
    """Whether a packet of TCP has the flags that are asked for. Raises Unsayable for what is asked otherwise."""
    mask = _flag_set(left["&"][1]) if "&" in left else frozenset(_FLAG_BITS)
    found = _FLAGS[stage] & mask
    wanted = [_flag_set(each) for each in (right["set"] if isinstance(right, dict) and "set" in right else [right])]
    if op == "in" and "&" not in left:
        return any(found & each for each in wanted)
    return (found in wanted) != (op == "!=")


def _flag_set(value: Any) -> frozenset[str]:
    """Flags by their names, as a list, joined by |, or as a number. Raises Unsayable."""
    if isinstance(value, int):
        return frozenset(name for i, name in enumerate(_FLAG_BITS) if value >> i & 1)
    if isinstance(value, dict) and "|" in value:
        value = value["|"]
    found = [_flag_set(each) for each in value] if isinstance(value, list) else [frozenset((value,))]
    flags = frozenset[str]().union(*found)
    if not flags <= set(_FLAG_BITS):
        raise Unsayable(f"tcp flags {value}")
    return flags


def _is_target(detail: Any) -> bool:
    """Whether an extension of the older filter does something, and asks for nothing."""
    return isinstance(detail, dict) and detail.get("type") == "target"


def _older(detail: Any) -> str:
    """An extension of the older filter, of which the kernel's newer list has the name alone."""
    name = detail.get("name") if isinstance(detail, dict) else None
    return f"xt {name or 'extension'}, {_ELSEWHERE}"


def _is_called(interface: str, pattern: str) -> bool:
    """Whether an interface is the one of a rule; a name that ends in * stands for all that begin so."""
    return interface.startswith(pattern[:-1]) if pattern.endswith("*") else interface == pattern


def _bare(element: Any) -> Any:
    """An element of a set without its comment or counter."""
    return element["elem"]["val"] if isinstance(element, dict) and "elem" in element else element


def _transports(values: Sequence[Any]) -> frozenset[str]:
    """Transports by name or by number (RFC 5237)."""
    return frozenset({6: "tcp", 17: "udp"}.get(each, str(each)) for each in values) & TRANSPORTS


def _of_the_kind(left: dict[str, Any], boxes: list[Box]) -> list[Box]:
    """Of what has not some value, what has the field at all: a port of TCP is none of UDP's, an address of IPv4 none of
    IPv6's."""
    protocol = left.get("payload", {}).get("protocol")
    if protocol in _OTHERS:
        return []
    if protocol in ("tcp", "udp"):
        return common(boxes, [Box(protocols=frozenset((protocol,)))])
    return common(boxes, [family_box(protocol)]) if protocol in ("ip", "ip6") else boxes


def _of_payload(protocol: Any, name: Any, values: Sequence[Any]) -> list[Box]:
    """The connections of which a field of the packet has one of some values."""
    if protocol in _WITH_PORTS and name in ("dport", "sport"):
        ports, transports = union_of_ports(values), _WITH_PORTS[protocol]
        return [Box(transports, ports=ports) if name == "dport" else Box(transports, from_ports=ports)]
    if protocol in ("ip", "ip6") and name in ("saddr", "daddr"):
        addresses, everybody = _union_of_addresses(values), IPV4 if protocol == "ip" else IPV6
        asked = (addresses, everybody) if name == "saddr" else (everybody, addresses)
        return [Box(sources=asked[0], targets=asked[1])]
    if (protocol, name) in (("ip", "protocol"), ("ip6", "nexthdr")):
        return [family_box(protocol) & Box(protocols=_transports(values))]
    if protocol in _OTHERS:
        return []
    raise Unsayable(f"{protocol} {name}")


def union_of_ports(values: Sequence[Any]) -> PortSet:
    """Single ports and ranges of a set as one. Raises Unsayable for names of services."""
    if len(values) == 1 and isinstance(values[0], int):
        return _one_port(values[0])
    spans = [tuple(each["range"]) if isinstance(each, dict) else (each, each) for each in values]
    if not all(isinstance(end, int) for span in spans for end in span):
        raise Unsayable("ports by names: list them with nft -j -n")
    return PortSet.of(*((max(1, low), high) for low, high in spans if high))


@lru_cache(maxsize=MOST_REMEMBERED)
def _one_port(number: int) -> PortSet:
    return PortSet.of((max(1, number), number)) if number else PortSet()


def _union_of_addresses(values: Sequence[Any]) -> AddressSet:
    return AddressSet.parse(", ".join(map(_as_site_text, values))) if values else AddressSet()


def _as_site_text(each: Any) -> str:
    """An address, a prefix or a range as the site file states."""
    if isinstance(each, dict) and "prefix" in each:
        return f"{each['prefix']['addr']}/{each['prefix']['len']}"
    return "-".join(each["range"]) if isinstance(each, dict) and "range" in each else str(each)


_NFPROTO: dict[object, str] = {"ipv4": "ip", "ipv6": "ip6", 2: "ip", 10: "ip6"}
"""Families in words and by number (NFPROTO_IPV4, NFPROTO_IPV6)."""
_LOCAL, _KINDS_OF_ADDRESS = 2, (2, 3, 5)
"""Kinds of addresses by number (RTN_LOCAL, RTN_BROADCAST, RTN_MULTICAST)."""
_LONG = {"iif": "iifname", "oif": "oifname"}
_KINDS: dict[str, Refusal] = {
    "port-unreachable": "port-unreachable",
    "host-unreachable": "host-unreachable",
    "addr-unreachable": "host-unreachable",
    "admin-prohibited": "prohibited",
}
_CODES = {
    ("icmp", 1): "host-unreachable", ("icmp", 3): "port-unreachable", ("icmp", 13): "admin-prohibited",
    ("icmpv6", 1): "admin-prohibited", ("icmpv6", 3): "addr-unreachable", ("icmpv6", 4): "port-unreachable",
    ("icmpx", 1): "port-unreachable", ("icmpx", 2): "host-unreachable", ("icmpx", 3): "admin-prohibited",
}  # fmt: skip
"""Codes of ICMP and ICMPv6 (RFC 792, RFC 4443), and the filter's own for both (NFT_REJECT_ICMPX_CODES)."""


def _refusal(detail: dict[str, Any] | None) -> Refusal | None:
    """With what is refused; None for what a site does not tell apart."""
    if detail is None:
        return "port-unreachable"
    if detail.get("type") == "tcp reset":
        return "reset"
    values = detail.get("expr", "port-unreachable")
    kind = _CODES.get((str(detail.get("type")), values), str(values)) if isinstance(values, int) else str(values)
    return _KINDS.get(kind)
