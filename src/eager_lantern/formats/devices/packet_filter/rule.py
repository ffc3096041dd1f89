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

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from msgspec import Struct

from ....core.values.addresses import AddressSet
from .boxes import EVERYBODY, EVERYTHING, Box, common, family_box, without
from .fields import (
    COMPARES,
    DIRECTIONS,
    DONT_FRAGMENT,
    FAMILY_OF,
    FRAGMENT,
    HOPS_LEFT,
    NOT_IN,
    SEGMENT_BYTES,
    STATES,
    TCP_FLAGS,
    Stage,
    addresses_of_kind,
    bare_element,
    condition_name,
    has_flags,
    has_hops,
    is_among,
    is_called,
    of_payload,
    of_the_kind,
    ports_compared,
    refusal_of,
    spans_of,
    transports,
)
from .marks import CONNECTION_MARK, PACKET_MARK, Marks, Unsayable, Writing, asks_for_marks, mark_of

Verdict = tuple[Any, Any]
"""What is done and its detail: allow, deny, refuse, jump, goto, return, a rewriting, or unknown."""
REWRITES = ("dnat", "snat", "masquerade")
"""Verdicts of chains that change packets."""
_REWRITTEN = 32
"""The bit of a status whose destination was rewritten (IPS_DST_NAT), which a list of numbers has."""
_NOTES = ("counter", "log", "comment", "ct helper", "set", "ct timeout", "ct expectation", "dup", "flow")
"""Statements that decide nothing of the packet that they see."""
_MARKS = {"meta": "packet", "ct": "connection"}
_WRITTEN = (
    ("meta", "nftrace"), ("meta", "priority"), ("meta", "secmark"), ("ct", "secmark"), ("ct", "label"),
    ("tcp option", "maxseg"), ("ip", "dscp"), ("ip6", "dscp"), ("ip", "ttl"), ("ip6", "hoplimit"), ("ip", "ecn"),
    ("ip6", "ecn"),
)  # fmt: skip
"""What a rule may write into a packet, of which no filter knows anything that a site has words for."""
_ASKS = ("match", "limit", "quota", "ct count", "connlimit", "meter")
OLDER_NOTES = frozenset((
    "LOG", "NFLOG", "ULOG", "TRACE", "AUDIT", "CHECKSUM", "TCPMSS", "CLASSIFY", "DSCP", "TOS", "TTL", "HL", "ECN",
    "SECMARK", "CONNSECMARK", "IDLETIMER", "LED", "RATEEST", "SET", "TEE", "TCPOPTSTRIP",
))  # fmt: skip
"""Targets of the older filter that decide nothing."""
_OLDER_MARKS = ("MARK", "CONNMARK")
_ABSENT = "exthdr"
"""Headers that the packets of a connection do not have (RFC 8200, section 4)."""
_ELSEWHERE = "whose values this listing has not: give what iptables-save and ip6tables-save print"


class Perhaps(Unsayable):
    """The same, of which it is known that no other connections than some may have it."""

    def __init__(self, what: str, boxes: list[Box]) -> None:
        super().__init__(what)
        self.boxes = boxes


class Case(Struct, frozen=True):
    """What a rule may match, and what it does with it then; None where it only counts or notes. With ``doubts`` it may
    match less. ``writes`` are the marks that it leaves."""

    boxes: list[Box]
    verdict: Verdict | None
    doubts: tuple[str, ...] = ()
    writes: tuple[Writing, ...] = ()


class Passing(Struct, frozen=True):
    """A connection that a gateway hands on: the mark that it has, and whether its destination was rewritten."""

    mark: int = 0
    rewritten: bool = False


class Around(Struct, frozen=True):
    """Who has the rules: its ``own`` addresses, where they are known, the senders that are itself (``itself``), and
    those to whom the way back leads by the interface that the packet comes in by (``routed_back``)."""

    own: AddressSet | None = None
    itself: AddressSet | None = None
    routed_back: AddressSet | None = None


class Contents(Struct, frozen=True):
    """What there is anywhere in a rule set: rules that rewrite, that give connections to a helper, that mark packets
    or connections otherwise than those that rewrite, that mark packets, and the sets that rules fill themselves."""

    rewrites: bool = False
    helps: bool = False
    marks: bool = False
    marks_packets: bool = False
    filled: frozenset[tuple[str, str, str]] = frozenset()

    @classmethod
    def of(cls, items: Sequence[Mapping[str, Any]]) -> "Contents":
        """The same of a list of chains, rules and sets. Raises KeyError, TypeError and ValueError for damage."""
        rules = [each["rule"] for each in items if "rule" in each]
        older = {name for rule in rules for each in rule["expr"] if (name := _target_name(each))}
        words = {word for rule in rules for each in rule["expr"] for word in each}
        filled = {
            (rule["family"], rule["table"], str(each["set"].get("set", "")).removeprefix("@"))
            for rule in rules for each in rule["expr"] if "set" in each
        }  # fmt: skip
        return cls(
            rewrites=bool({"dnat", "redirect"} & words or older & {"DNAT", "REDIRECT", "NETMAP"}),
            helps="ct helper" in words or "CT" in older or any("ct helper" in each for each in items),
            marks=any(_marks(rule["expr"]) for rule in rules) or bool(older & set(_OLDER_MARKS)),
            marks_packets="MARK" in older or any(PACKET_MARK in _written_keys(rule["expr"]) for rule in rules),
            filled=frozenset(filled),
        )


def _target_name(statement: Mapping[str, Any]) -> str:
    """The name of a target of the older filter, empty where it is none."""
    older = statement.get("xt")
    return str(older.get("name")) if isinstance(older, dict) and older.get("type") == "target" else ""


def _marks(expressions: Sequence[Mapping[str, Any]]) -> bool:
    """Whether a rule that rewrites no destination marks packets or connections."""
    keys = _written_keys(expressions)
    rewrites = any(_target_name(each) == "DNAT" or "dnat" in each for each in expressions)
    return PACKET_MARK in keys or (CONNECTION_MARK in keys and not rewrites)


def _written_keys(expressions: Sequence[Mapping[str, Any]]) -> list[Any]:
    return [each["mangle"]["key"] for each in expressions if "mangle" in each]


class Reader(Struct, frozen=True):
    """Reads rules as a packet meets them that comes in and leaves by some ``interfaces`` (by the words of the filter);
    ``sets`` are by family, table and name. Without ``passing`` it is a host's own packet. ``stage`` is which packet of
    the connection it is; ``marks`` are what it may have, where that is known."""

    sets: Mapping[tuple[str, str, str], Sequence[Any]]
    interfaces: Mapping[str, str] = {}
    passing: Passing | None = None
    around: Around = Around()
    stage: Stage = "first"
    contents: Contents = Contents()
    marks: Marks | None = None

    @property
    def rewritten(self) -> bool | None:
        """Whether the destination was rewritten; None where it is unknown."""
        if self.passing is not None:
            return self.passing.rewritten
        return None if self.contents.rewrites else False

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
        self._writes: list[Writing] = []

    def read(self, expressions: Sequence[Mapping[str, Any]]) -> Iterator[Case]:
        for statement in expressions:
            ((word, detail),) = statement.items()
            if word == "vmap":
                yield from self._of_map(detail["key"], detail["data"], "vmap", _verdict_of)
                return
            if _asks(word) or (word == "xt" and not _is_target(detail)) or (word == "set" and "stmt" in detail):
                self._narrow(word, detail)
            elif (verdict := self._does(word, detail)) is not None and not self._is_unknown:
                self._verdict = verdict  # behind what is not known, a verdict may never be come to
        if self._verdict is not None and self._verdict[0] in REWRITES and _is_map(self._verdict[1].get("addr")):
            yield from self._rewrites_by_map(*self._verdict)
        else:
            yield self._case(self._boxes, self._verdict)

    @property
    def _is_unknown(self) -> bool:
        return self._verdict is not None and self._verdict[0] == "unknown"

    def _case(self, boxes: list[Box], verdict: Verdict | None) -> Case:
        return Case(boxes, verdict, tuple(self._doubts), tuple(self._writes))

    def _narrow(self, word: str, detail: Any) -> None:
        if word == "xt" and detail.get("name") == "comment":
            return
        try:
            if word != "match":
                raise Unsayable(_older(detail) if word == "xt" else word)
            self._boxes = common(self._boxes, self._matched(detail))
        except Perhaps as error:
            self._boxes = common(self._boxes, error.boxes)
            self._doubts.append(str(error))
        except Unsayable as error:
            self._doubts.append(str(error))

    def _does(self, word: str, detail: Any) -> Verdict | None:
        if word in ("accept", "drop", "return", "jump", "goto"):
            return _simple(word, detail)
        if word == "reject":
            kind = refusal_of(detail)
            return ("refuse", kind) if kind else ("unknown", f"reject with {detail.get('expr')}")
        if word in REWRITES and self._reader.passing is not None:
            return (word, {**(detail or {}), "mark": self._mark})
        if word == "mangle" and isinstance(detail["key"], dict):
            return self._writes_value(detail["key"], detail["value"])
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
        if name in _OLDER_MARKS:
            self._writes.append(Writing("packet" if name == "MARK" else "connection", name, self._boxes))
        return None if name in (*OLDER_NOTES, *_OLDER_MARKS) else ("unknown", _older(detail))

    def _writes_value(self, key: Mapping[str, Any], value: Any) -> Verdict | None:
        """What a rule writes into a packet, or notes of it or its connection."""
        ((kind, field),) = key.items()
        name = field.get("key", field.get("field") if kind == "payload" else field.get("name"))
        if name == "mark" and kind in _MARKS:
            if kind == "ct" and isinstance(value, int):
                self._mark = value
            self._writes.append(Writing("packet" if kind == "meta" else "connection", value, self._boxes))
            return None
        kind = str(field.get("protocol")) if kind == "payload" else kind
        return None if (kind, name) in _WRITTEN else ("unknown", f"{kind} {name} set")

    def _of_map(self, key: Any, data: Any, what: str, made: Callable[[Any], Verdict | None]) -> Iterator[Case]:
        """A map of verdicts or of where to: one case for each of its keys."""
        try:
            name = data.removeprefix("@") if isinstance(data, str) else None
            listed = data["set"] if name is None else self._reader.sets[self._family, self._table, name]
            pairs = [_pair(each) for each in listed]
            found = [(self._matched({"op": "==", "left": key, "right": one}), made(other)) for one, other in pairs]
        except Unsayable as error:
            yield self._case(self._boxes, ("unknown", f"{what} of {error}"))
            return
        for boxes, verdict in found:
            yield self._case(common(self._boxes, boxes), verdict)

    def _rewrites_by_map(self, word: str, detail: Mapping[str, Any]) -> Iterator[Case]:
        """An address, or one with a port, that hangs on what the packet has."""

        def made(value: Any) -> Verdict:
            address, *port = value["concat"] if isinstance(value, dict) and "concat" in value else (value,)
            return word, {**detail, "addr": address, **({"port": port[0]} if port else {})}

        asked = detail["addr"]["map"]
        yield from self._of_map(asked["key"], asked["data"], f"{word} to a map", made)

    def _matched(self, match: dict[str, Any]) -> list[Box]:
        op, left, right = match["op"], match["left"], match["right"]
        if left == SEGMENT_BYTES:
            return self._of_segments(op, self._values(right))
        if op in COMPARES and left not in HOPS_LEFT:
            op, right = "==", ports_compared(left, op, right)
        if op not in ("==", "!=", "in", NOT_IN, "!", *COMPARES):
            raise Unsayable(f"{condition_name(left)} {op}")
        if left == TCP_FLAGS or left.get("&", (None,))[0] == TCP_FLAGS:
            return [Box(protocols=frozenset(("tcp",)))] if has_flags(left, op, right, self._reader.stage) else []
        if (known := self._known(left, op, right)) is not None:
            return [EVERYTHING] if known else []
        if asks_for_marks(left):
            return self._of_mark(left, op, self._values(right))
        found = self._boxes_of(left, right)
        if op not in ("!=", NOT_IN):
            return found
        rest = [EVERYTHING]
        for each in found:
            rest = without(rest, each)
        return of_the_kind(left, rest)

    def _known(self, left: Mapping[str, Any], op: str, right: Any) -> bool | None:
        """Whether every packet that is asked about has something, where that hangs on none of its addresses and ports;
        None where it does. Raises Unsayable."""
        negated = op in ("!=", NOT_IN)
        asked = left["ct"].get("key") if "ct" in left else None
        if asked in ("state", "direction"):
            return is_among((STATES if asked == "state" else DIRECTIONS)[self._reader.stage], right) != negated
        if asked == "state or status":
            state = is_among(STATES[self._reader.stage], right["state"])
            return (state or self._has_status("in", right["status"])) != negated
        if asked == "status":
            return self._has_status(op, self._values(right))
        if asked == "mark" and self._reader.passing is not None and not self._reader.contents.marks:
            return (self._reader.passing.mark in self._values(right)) != negated
        if asked == "helper" and not self._reader.contents.helps:
            return False  # who has none is unlike and like no name
        if _ABSENT in left:
            return isinstance(right, bool) and right == negated
        if left == {"meta": {"key": "pkttype"}}:
            return bool({"host", "unicast", 0} & set(self._values(right))) != negated
        if left in HOPS_LEFT:
            return has_hops(op, self._values(right))
        if left.get("&", ({},))[0] == FRAGMENT and (left["&"][1] & DONT_FRAGMENT) == 0:
            return (0 in self._values(right)) != negated  # none of a connection's packets comes in fragments
        return None

    def _has_status(self, op: str, values: Sequence[Any]) -> bool:
        """Whether a connection has what is asked for of its status. A status is a word of many bits: that its
        destination was rewritten is one of them, and never all. Raises Unsayable."""
        rewritten = self._reader.rewritten
        if set(values) <= {"dnat", _REWRITTEN}:
            if op not in ("in", NOT_IN):
                return op == "!="
            if rewritten is not None:
                return rewritten != (op == NOT_IN)
        raise Unsayable(f"ct status {values[0] if values else ''}")

    def _of_segments(self, op: str, values: Sequence[Any]) -> list[Box]:
        """The connections by the largest segment that their first packets state, 536 bytes or more (RFC 9293, section
        3.7.1). Raises Unsayable where some state so and some not."""
        what = "tcp option maxseg size"
        if self._reader.stage == "later":
            return []
        spans = spans_of(values, what)
        answers = {any(low <= each <= high for low, high in spans) != (op == "!=") for each in range(536, 65_536)}
        if len(answers) > 1 or op not in ("==", "!="):
            raise Unsayable(f"{what} {op}")
        return [Box(protocols=frozenset(("tcp",)))] if answers.pop() else []

    def _of_mark(self, left: Mapping[str, Any], op: str, values: Sequence[Any]) -> list[Box]:
        """The connections with a mark. Raises Unsayable and Perhaps."""
        what, marks = f"{condition_name(left)} {values[0] if values else ''}", self._reader.marks
        if marks is None:
            raise Unsayable(what)
        spans = spans_of(values, what)

        def asks(packet: int, connection: int) -> bool:
            found = mark_of(left, packet, connection)
            return any(low <= found <= high for low, high in spans) != (op in ("!=", NOT_IN))

        if (known := marks.answer(asks)) is not None:
            return [EVERYTHING] if known else []
        # what was written of a connection's first packet is found by the answer to it, whose ends are turned round
        boxes = marks.met_by(asks) if self._reader.stage == "first" else None
        raise Unsayable(what) if boxes is None else Perhaps(what, boxes)

    def _boxes_of(self, left: dict[str, Any], right: Any) -> list[Box]:
        """The connections of which a field has a value."""
        if "payload" in left:
            return of_payload(left["payload"].get("protocol"), left["payload"].get("field"), self._values(right))
        if "meta" in left:
            return self._of_meta(left["meta"]["key"], self._values(right))
        if "fib" in left:
            return self._of_routes(left["fib"]["result"], set(left["fib"]["flags"]), self._values(right))
        if "concat" in left:
            return [box for each in self._values(right) for box in self._of_all(left["concat"], each["concat"])]
        raise Unsayable(condition_name(left))

    def _of_all(self, fields: Sequence[Any], values: Sequence[Any]) -> list[Box]:
        """The connections of which each of several fields has its value."""
        boxes = [EVERYTHING]
        for field, value in zip(fields, values, strict=True):
            boxes = common(boxes, self._matched({"op": "==", "left": field, "right": value}))
        return boxes

    def _of_meta(self, name: str, values: Sequence[Any]) -> list[Box]:
        if name == "l4proto":
            return [Box(protocols=transports(values))]
        if name in ("nfproto", "protocol"):
            return [family_box(FAMILY_OF[each]) for each in values if each in FAMILY_OF]
        if (mine := self._reader.interfaces.get(_LONG.get(name, name))) is not None:
            return [EVERYTHING] if any(is_called(mine, str(each)) for each in values) else []
        if name in ("iifname", "iif") and values == ["lo"]:
            return []  # what a host sends to itself is nobody's connection from elsewhere
        raise Unsayable(f"{name} {values[0] if values else ''}")

    def _of_routes(self, result: str, flags: set[str], values: Sequence[Any]) -> list[Box]:
        """Connections by the kind of their addresses, or by whether the way back to the sender leads by the interface
        that they came in by (RFC 3704, section 2.2)."""
        around, field = self._reader.around, "daddr" if "daddr" in flags else "saddr"
        if result == "type" and flags <= {"daddr", "saddr", "iif"}:
            own = around.own if field == "daddr" else around.itself
            found = [part for each in values for part in addresses_of_kind(str(each), own)]
            return [Box(targets=each) if field == "daddr" else Box(sources=each) for each in found]
        by_mark = "mark" in flags and self._reader.contents.marks
        back = EVERYBODY if flags == {"saddr"} else around.routed_back
        if result == "oif" and field == "saddr" and back is not None and not by_mark and values in ([True], [False]):
            return [Box(sources=back if values[0] else EVERYBODY - back)]
        raise Unsayable(f"fib {result} of {field}")

    def _values(self, right: Any) -> list[Any]:
        """Single values, ranges and prefixes of a right side, be it a set by its name."""
        if isinstance(right, bool | int):
            return [right]
        if isinstance(right, str) and right.startswith("@"):
            name = (self._family, self._table, right[1:])
            if name in self._reader.contents.filled:
                raise Unsayable(f"{right}, which rules fill")
            found = self._reader.sets[name]
        else:
            found = right["set"] if isinstance(right, dict) and "set" in right else [right]
        values = [bare_element(each) for each in found]
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


def _verdict_of(statement: Mapping[str, Any]) -> Verdict | None:
    """What a map of verdicts leads to."""
    ((word, detail),) = statement.items()
    return _simple(word, detail)


def _is_map(value: Any) -> bool:
    return isinstance(value, dict) and "map" in value


def _pair(each: Any) -> tuple[Any, Any]:
    """A key of a map and what it leads to."""
    key, made = bare_element(each[0]), each[1]
    if key == "*":
        raise Unsayable("a map with a key for all others")
    return key, made


def _is_target(detail: Any) -> bool:
    """Whether an extension of the older filter does something, and asks for nothing."""
    return isinstance(detail, dict) and detail.get("type") == "target"


def _older(detail: Any) -> str:
    """An extension of the older filter, of which the kernel's newer list has the name alone."""
    name = detail.get("name") if isinstance(detail, dict) else None
    return f"xt {name or 'extension'}, {_ELSEWHERE}"


_LONG = {"iif": "iifname", "oif": "oifname"}
