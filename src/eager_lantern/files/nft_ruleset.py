"""The rule set of a host as the kernel's packet filter lists it (``nft -j list ruleset``), as rules of a site.

Theory: chains without a stack
==============================
A filter of a site is one list, the first rule that matches decides. A rule set is a tree: chains are jumped to and
returned from. It is laid flat by walking it as a packet would: a jump puts the rules of its chain in its place, each
narrowed by what the jump asked for. A return ends a chain for those that it matches, so what follows in the chain is
narrowed to the others; as that is seldom one box of senders by ports, a rule may become several.

A new connection alone is looked at: what asks for established ones never matches it, what asks for new ones always
does. What a site cannot say (a limit of packets, a mark, the name of an interface) could change any answer after it.
So such rules are told, each by its chain and its handle, and nothing is taken over, unless nothing of TCP or UDP gets
as far.
"""

import json
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, Literal, TypeVar

from msgspec import Struct
from msgspec.structs import replace

from ..core.adoption.told import Reading, Told
from ..core.model.site import Filter, Refusal, Rule
from ..core.values.addresses import AddressSet
from ..core.values.ports import EVERY_PORT, PortSet
from .problem import BadInput, InputProblem
from .rule_table import tidy_name

MOST_DEPTH, MOST_RULES = 16, 100_000
"""The kernel itself allows so many jumps into each other (NFT_JUMP_STACK_SIZE)."""
MOST_PARTS = 400_000
"""Parts of connections that are looked at before it is given up: some ten seconds."""
_NEW, _REWRITTEN = 8, 32
"""The bit of a connection's state that is new (NF_CT_STATE_BIT), and that of a status whose destination was rewritten
(IPS_DST_NAT), which a list of numbers has."""
HOOKS: dict[Literal["in", "out"], tuple[str, str]] = {"in": ("prerouting", "input"), "out": ("output", "postrouting")}
"""What a packet meets on its way into a host, and out of it."""
_FAMILIES = {"ip": 4, "ip6": 6, "inet": None}
IPV4, IPV6 = AddressSet.parse("0.0.0.0/0"), AddressSet.parse("::/0")
EVERYBODY = IPV4 | IPV6
_PROTOCOLS = frozenset(("tcp", "udp"))


class Box(Struct, frozen=True):
    """New connections of some transports, from some senders and ports to some addresses and ports."""

    protocols: frozenset[str] = _PROTOCOLS
    sources: AddressSet = EVERYBODY
    targets: AddressSet = EVERYBODY
    from_ports: PortSet = EVERY_PORT
    ports: PortSet = EVERY_PORT

    @property
    def is_empty(self) -> bool:
        """Whether no connection is in it."""
        return not (self.protocols and self.sources and self.targets and self.from_ports and self.ports)

    def __and__(self, other: "Box") -> "Box":
        return Box(
            _both(self.protocols, other.protocols, _PROTOCOLS),
            _both(self.sources, other.sources, EVERYBODY),
            _both(self.targets, other.targets, EVERYBODY),
            _both(self.from_ports, other.from_ports, EVERY_PORT),
            _both(self.ports, other.ports, EVERY_PORT),
        )

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


_Set = TypeVar("_Set", frozenset[str], AddressSet, PortSet)


def _both(mine: _Set, theirs: _Set, whole: _Set) -> _Set:
    """What is in both of two sets; the sets of a rule are the whole in most of its fields."""
    if mine is theirs or theirs is whole:
        return mine
    return theirs if mine is whole else mine & theirs


class Unsayable(ValueError):
    """What a site has no words for."""


REWRITES = ("dnat", "snat", "masquerade")
"""Verdicts of chains that change packets."""


class Decided(Struct, frozen=True):
    """What becomes of some connections; ``rewrite`` is what a rewriting rule does, and what it writes."""

    action: Literal["allow", "deny", "refuse"]
    box: Box
    refuses_with: Refusal | None = None
    name: str = ""
    rewrite: tuple[str, Any] | None = None


def is_ruleset(text: str) -> bool:
    """Whether a text looks like what the kernel's own command prints."""
    return text.lstrip().startswith("{") and '"nftables"' in text[:200]


def read_ruleset(file: str, text: str, direction: Literal["in", "out"]) -> Reading:
    """The rules of a host for what comes in, or goes out. Raises BadInput with every rule that a site cannot say."""
    try:
        items = json.loads(text)["nftables"]
        return read_items(file, items, direction)
    except (ValueError, KeyError, TypeError, RecursionError, AttributeError) as error:
        raise BadInput(
            file, InputProblem(0, f"is no rule set as nft -j list ruleset prints it: {error!r:.80}")
        ) from None


def read_items(file: str, items: Sequence[dict[str, Any]], direction: Literal["in", "out"]) -> Reading:
    """The same of a list of chains, rules and sets."""
    ruleset = Ruleset(items)
    chains = [chain for hook in HOOKS[direction] for chain in ruleset.base_chains(hook)]
    if not chains:
        hooks = " or ".join(HOOKS[direction])
        raise BadInput(file, InputProblem(0, f"has no filter for what goes {direction} (no base chain of {hooks})"))
    flat, default = ruleset.laid_flat(chains)
    if ruleset.troubles:
        problems = (InputProblem(0, each) for each in dict.fromkeys(ruleset.troubles))
        raise BadInput(file, *problems)
    told = tuple(Told(("rules",), as_rule(each), 0) for each in flat)
    return Reading(file, "rules", told, (), default, of_ruleset=True)


def as_rule(verdict: Decided) -> Rule:
    """The rule of a site that says the same."""
    box = verdict.box
    both = box.protocols == _PROTOCOLS
    of_one_family = box.targets in (IPV4, IPV6) and box.sources <= box.targets
    return Rule(
        action=verdict.action,
        name=verdict.name,
        protocol="any" if both else "tcp" if "tcp" in box.protocols else "udp",
        ports=box.ports,
        from_=None if box.sources == EVERYBODY else box.sources,
        to=None if box.targets == EVERYBODY or of_one_family else box.targets,
        from_ports=None if box.from_ports == EVERY_PORT else box.from_ports,
        refuses_with=verdict.refuses_with,
    )


Chain = tuple[str, str, str]
"""Family, table and name."""


class Ruleset:
    """A rule set, walked as a packet would that comes in by one interface and leaves by another (``passing``, by the
    words of the filter; nothing of a host's own packets), of a connection with a ``mark`` whose destination was
    ``rewritten`` or not. ``troubles`` are rules that a site cannot say."""

    def __init__(
        self,
        items: Sequence[dict[str, Any]],
        passing: Mapping[str, str] = {},
        mark: int = 0,
        rewritten: bool = False,
    ) -> None:
        self.passing, self.mark, self.rewritten = passing, mark, rewritten
        self.chains: dict[Chain, dict[str, Any]] = {}
        self.rules: dict[Chain, list[dict[str, Any]]] = {}
        self.sets: dict[Chain, list[Any]] = {}
        self.troubles: list[str] = []
        self.count = 0
        self.spent = 0
        for item in items:
            for kind, each in item.items():
                if kind == "chain":
                    self.chains[each["family"], each["table"], each["name"]] = each
                elif kind == "rule":
                    self.rules.setdefault((each["family"], each["table"], each["chain"]), []).append(each)
                elif kind == "set":
                    self.sets[each["family"], each["table"], each["name"]] = each.get("elem", [])

    def base_chains(self, hook: str, kind: str = "filter") -> list[Chain]:
        """The chains of a kind that see packets at a hook, in the order in which they do. What else has rules there
        beside filters changes packets, which is told as a trouble."""
        found = []
        for key, each in self.chains.items():
            if each.get("hook") != hook or key[0] not in _FAMILIES:
                continue
            if each.get("type") == kind:
                found.append((each.get("prio", 0), key))
            elif self.rules.get(key) and kind == "filter":
                where = f"table {key[1]}, chain {key[2]}"
                self.troubles.append(
                    f"{where}: changes packets (type {each.get('type')}), which a host in a site does not"
                )
        return [key for _, key in sorted(found)]

    def laid_flat(self, bases: Sequence[Chain]) -> tuple[list[Decided], Filter]:
        """One list of all base chains, each of which has to let a packet pass, and its last word."""
        (first, *others) = bases
        if not others and first[0] == "inet":
            return self._one_chain(first)
        if len(bases) == len({key[0] for key in bases}) and all(key[0] != "inet" for key in bases):
            return self._of_each_family(bases)
        waiting, found = [Box()], list[Decided]()
        for key in bases:
            denied, waiting = self._sifted(key, waiting)
            found += denied
        return [*found, *(Decided("allow", each) for each in waiting)], Filter(default="deny")

    def _one_chain(self, key: Chain) -> tuple[list[Decided], Filter]:
        """A chain that is all there is; where its last rule is about everything, that is its last word."""
        found = list(self.walk(key, [Box()], [Box()], 0))
        if found and found[-1].box == Box():
            last = found.pop()
            return found, Filter(default=last.action, refuses_with=last.refuses_with)
        return found, Filter(default="allow" if self._accepts(key) else "deny")

    def _of_each_family(self, bases: Sequence[Chain]) -> tuple[list[Decided], Filter]:
        """Chains of which a packet sees one alone, that of its family: one behind the other, and then what is left of
        a family without one, or one that lets the rest pass."""
        found = []
        for key in bases:
            family = family_box(key[0])
            found += list(self.walk(key, [family], [family], 0))
        chains = {key[0]: key for key in bases}
        passing = [each for each in ("ip", "ip6") if each not in chains or self._accepts(chains[each])]
        if len(passing) == 1:
            found.append(Decided("allow", family_box(passing[0])))
        return found, Filter(default="allow" if len(passing) == 2 else "deny")

    def _accepts(self, key: Chain) -> bool:
        return bool(self.chains[key].get("policy", "accept") == "accept")

    def _sifted(self, key: Chain, waiting: Sequence[Box]) -> tuple[list[Decided], list[Box]]:
        """What one base chain turns away, and what it leaves to the next; it sees packets of its family alone."""
        family = family_box(key[0])
        passed_by = [part for each in waiting for part in each.without(family) if not part.is_empty]
        left = [part for each in waiting if not (part := each & family).is_empty]
        denied, accepted = list[Decided](), list[Box]()
        for each in list(self.walk(key, left, left, 0)):
            mine = common(left, [each.box])
            left = self.less(left, [each.box])
            if each.action == "allow":
                accepted += mine
            else:
                denied += [replace(each, box=part) for part in mine]
        if not self._accepts(key):
            return [*denied, *(Decided("deny", each) for each in left)], [*passed_by, *accepted]
        return denied, [*passed_by, *accepted, *left]

    def walk(self, key: Chain, left: list[Box], whole: list[Box], depth: int) -> Iterator[Decided]:
        """The verdicts of a chain, of which the first that matches decides; what it says nothing of is not among them.
        Of the ``whole`` that comes to it without having left it again, ``left`` is what no rule has decided yet; what
        rules in a row decide is taken off it only once something depends on it."""
        taken: list[Box] = []
        for rule in self.rules.get(key, ()):
            self.count += 1
            if not left or self.count > MOST_RULES or depth > MOST_DEPTH or self.spent > MOST_PARTS:
                break
            try:
                matched, verdict = self._read(key, rule)
            except Unsayable as error:
                if self.less(left, taken):
                    where = f"line {rule['line']}" if "line" in rule else f"handle {rule.get('handle')}"
                    self.troubles.append(f"table {key[1]}, chain {key[2]}, {where}: {error}")
                return
            if verdict is None:
                continue
            word, detail = verdict
            if word not in ("jump", "goto", "return"):
                yield from self._said(rule, verdict, common(whole, matched))
                taken += matched
                continue
            left, taken = self.less(left, taken), []
            mine = common(left, matched)
            if word != "return":
                inner = (
                    list(self.walk((key[0], key[1], detail), mine, common(whole, matched), depth + 1)) if mine else []
                )
                yield from inner
                left = self.less(left, [decided.box for decided in inner])
            left = self.less(left, mine if word != "jump" else [])
            whole = self.less(whole, matched if word != "jump" else [])
        if self.count > MOST_RULES:
            self.troubles.append(f"the chains lead through more than {MOST_RULES:,} rules")
        if depth > MOST_DEPTH:
            self.troubles.append(f"chain {key[2]} is jumped to more than {MOST_DEPTH} deep")
        if self.spent > MOST_PARTS:
            self.troubles.append(f"chain {key[2]} cuts connections into more parts than are looked at")

    def _said(self, rule: dict[str, Any], verdict: tuple[Any, Any], boxes: Sequence[Box]) -> Iterator[Decided]:
        """What a rule that ends the walk says of some connections."""
        word, detail = verdict
        name = tidy_name(str(rule.get("comment", "")))
        decided = Decided("allow", Box(), None, name, (word, detail))
        if word not in REWRITES:
            decided = Decided(word, Box(), detail, name)
        return (replace(decided, box=each) for each in boxes)

    def less(self, boxes: list[Box], others: Sequence[Box]) -> list[Box]:
        """What of some boxes is in none of the others; no more is looked at than :data:`MOST_PARTS` altogether."""
        for other in others:
            self.spent += len(boxes)
            if self.spent > MOST_PARTS:
                break
            boxes = without(boxes, other)
        return boxes

    def _read(self, key: Chain, rule: dict[str, Any]) -> tuple[list[Box], tuple[Any, Any] | None]:
        """The connections that a rule matches, and what it does with them; None for what it only counts or notes."""
        boxes = [family_box(key[0])]
        verdict: tuple[Any, Any] | None = None
        mark = 0
        for statement in rule["expr"]:
            ((word, detail),) = statement.items()
            if word == "match":
                boxes = [
                    part for box in boxes for each in self._matched(key, detail) if not (part := box & each).is_empty
                ]
                if not boxes:
                    return [], None
            elif word in ("accept", "drop", "return"):
                verdict = {"accept": ("allow", None), "drop": ("deny", None)}.get(word, ("return", None))
            elif word in ("jump", "goto"):
                verdict = (word, detail["target"])
            elif word == "vmap" and detail["key"].get("ct", {}).get("key") == "state":
                given = {each[0]: each[1] for each in detail["data"]["set"] if isinstance(each[0], str)}
                if "new" not in given:
                    return [], None
                ((named, _),) = given["new"].items()
                if named not in ("accept", "drop"):
                    raise Unsayable(f"a site cannot say “vmap” with “{named}”")
                verdict = ("allow" if named == "accept" else "deny", None)
            elif word in REWRITES and self.passing:
                verdict = (word, {**(detail or {}), "mark": mark})
            elif word == "mangle" and self.passing and detail["key"] == {"ct": {"key": "mark"}}:
                mark = detail["value"]
            elif word == "reject":
                verdict = ("refuse", _refusal(detail))
            elif word not in ("counter", "log", "comment"):
                raise Unsayable(f"a site cannot say what “{word}” does")
        return boxes, verdict

    def _matched(self, key: Chain, match: dict[str, Any]) -> list[Box]:
        op, left, right = match["op"], match["left"], match["right"]
        if op not in ("==", "!=", "in"):
            raise Unsayable(f"a site cannot say “{op}”")
        if "ct" in left and left["ct"].get("key") == "state":
            named = right if isinstance(right, list) else right["set"] if isinstance(right, dict) else [right]
            new = any(each == "new" or (isinstance(each, int) and each & _NEW) for each in named)
            return [Box()] if new != (op == "!=") else []
        if "ct" in left and self.passing and left["ct"].get("key") in ("mark", "status"):
            return [Box()] if self._has(left["ct"]["key"], self._values(key, right)) != (op == "!=") else []
        found = self._boxes(key, left, right)
        if op != "!=":
            return found
        rest = [Box()]
        for each in found:
            rest = without(rest, each)
        return _of_the_kind(left, rest)

    def _has(self, name: str, values: Sequence[Any]) -> bool:
        """Whether the connection has one of some marks, or was rewritten where its status is asked for."""
        if name == "mark" and all(isinstance(each, int) for each in values):
            return self.mark in values
        if name == "status" and set(values) <= {"dnat", _REWRITTEN}:
            return self.rewritten
        raise Unsayable(f"a site cannot say “ct {name}” of {values[0] if values else 'nothing'}")

    def _boxes(self, key: Chain, left: dict[str, Any], right: Any) -> list[Box]:
        """The connections of which a field has a value."""
        if "meta" in left:
            name = left["meta"]["key"]
            values = self._values(key, right)
            if name == "l4proto":
                return [Box(protocols=_transports(values))]
            if name == "nfproto":
                return [family_box(_NFPROTO[each]) for each in values]
            if (passing := self.passing.get(_LONG.get(name, name))) is not None:
                return [Box()] if any(_is_called(passing, str(each)) for each in values) else []
            if name in ("iifname", "iif") and values == ["lo"]:
                return []  # what a host sends to itself is nobody's connection from elsewhere
            raise Unsayable(f"a site cannot say “{name} {values[0] if values else ''}”")
        if "payload" not in left:
            field = next(iter(left))
            raise Unsayable(f"a site cannot say “{' '.join([field, *(str(each) for each in left[field].values())])}”")
        protocol, name = left["payload"].get("protocol"), left["payload"].get("field")
        values = self._values(key, right)
        if protocol in ("tcp", "udp", "th") and name in ("dport", "sport"):
            ports = union_of_ports(values)
            transports = _PROTOCOLS if protocol == "th" else frozenset((protocol,))
            return [Box(transports, ports=ports) if name == "dport" else Box(transports, from_ports=ports)]
        if protocol in ("ip", "ip6") and name in ("saddr", "daddr"):
            addresses = _union_of_addresses(values)
            family = family_box(protocol)
            return [family & (Box(sources=addresses) if name == "saddr" else Box(targets=addresses))]
        if (protocol, name) in (("ip", "protocol"), ("ip6", "nexthdr")):
            return [family_box(protocol) & Box(protocols=_transports(values))]
        if protocol in ("icmp", "icmpv6", "igmp", "esp", "ah", "sctp", "dccp"):
            return []
        raise Unsayable(f"a site cannot say “{protocol} {name}”")

    def _values(self, key: Chain, right: Any) -> list[Any]:
        """Single values, ranges and prefixes of a right side, be it a set by its name."""
        if isinstance(right, str) and right.startswith("@"):
            return [_bare(each) for each in self.sets[key[0], key[1], right[1:]]]
        if isinstance(right, dict) and "set" in right:
            return [_bare(each) for each in right["set"]]
        return [right]


def _is_called(interface: str, pattern: str) -> bool:
    """Whether an interface is the one of a rule; a name that ends in * stands for all that begin so."""
    return interface.startswith(pattern[:-1]) if pattern.endswith("*") else interface == pattern


def common(boxes: Sequence[Box], others: Sequence[Box]) -> list[Box]:
    """What is in one of some boxes and in one of the others."""
    return [part for each in boxes for other in others if not (part := each & other).is_empty]


def without(boxes: Sequence[Box], other: Box) -> list[Box]:
    """What of some boxes is not in another."""
    return [part for each in boxes for part in each.without(other) if not part.is_empty]


def _bare(element: Any) -> Any:
    """An element of a set without its comment or counter."""
    return element["elem"]["val"] if isinstance(element, dict) and "elem" in element else element


def _transports(values: Sequence[Any]) -> frozenset[str]:
    """Transports by name or by number (RFC 5237)."""
    return frozenset({6: "tcp", 17: "udp"}.get(each, str(each)) for each in values) & _PROTOCOLS


def family_box(family: str) -> Box:
    """All connections of a family of tables: ``ip``, ``ip6`` or ``inet``."""
    known = _FAMILIES[family]
    if known is None:
        return Box()
    addresses = IPV4 if known == 4 else IPV6
    return Box(sources=addresses, targets=addresses)


def _of_the_kind(left: dict[str, Any], boxes: list[Box]) -> list[Box]:
    """Of what has not some value, what has the field at all: a port of TCP is none of UDP's, an address of IPv4 none of
    IPv6's."""
    protocol = left.get("payload", {}).get("protocol")
    if protocol in ("tcp", "udp"):
        kind = Box(protocols=frozenset((protocol,)))
    elif protocol in ("ip", "ip6"):
        kind = family_box(protocol)
    else:
        kind = Box()
    return [part for each in boxes if not (part := each & kind).is_empty]


def union_of_ports(values: Sequence[Any]) -> PortSet:
    """Single ports and ranges of a set as one. Raises Unsayable for names of services."""
    spans = [tuple(each["range"]) if isinstance(each, dict) else (each, each) for each in values]
    if not all(isinstance(end, int) for span in spans for end in span):
        raise Unsayable("ports are told by names: list them with nft -j -n")
    return PortSet.of(*((max(1, low), high) for low, high in spans if high))


def _union_of_addresses(values: Sequence[Any]) -> AddressSet:
    found = AddressSet()
    for each in values:
        if isinstance(each, dict) and "prefix" in each:
            text = f"{each['prefix']['addr']}/{each['prefix']['len']}"
        elif isinstance(each, dict) and "range" in each:
            text = "-".join(each["range"])
        else:
            text = str(each)
        found = found | AddressSet.parse(text)
    return found


_KINDS: dict[str, Refusal] = {
    "port-unreachable": "port-unreachable",
    "host-unreachable": "host-unreachable",
    "addr-unreachable": "host-unreachable",
    "admin-prohibited": "prohibited",
}


_NFPROTO: dict[object, str] = {"ipv4": "ip", "ipv6": "ip6", 2: "ip", 10: "ip6"}
"""Families in words and by number (NFPROTO_IPV4, NFPROTO_IPV6)."""
_LONG = {"iif": "iifname", "oif": "oifname"}
_CODES = {
    ("icmp", 1): "host-unreachable", ("icmp", 3): "port-unreachable", ("icmp", 13): "admin-prohibited",
    ("icmpv6", 1): "admin-prohibited", ("icmpv6", 3): "addr-unreachable", ("icmpv6", 4): "port-unreachable",
    ("icmpx", 1): "port-unreachable", ("icmpx", 2): "host-unreachable", ("icmpx", 3): "admin-prohibited",
}  # fmt: skip
"""Codes of ICMP and ICMPv6 (RFC 792, RFC 4443), and the filter's own for both (NFT_REJECT_ICMPX_CODES)."""


def _refusal(detail: dict[str, Any] | None) -> Refusal:
    if detail is None:
        return "port-unreachable"
    if detail.get("type") == "tcp reset":
        return "reset"
    told = detail.get("expr", "port-unreachable")
    kind = _CODES.get((str(detail.get("type")), told), str(told)) if isinstance(told, int) else str(told)
    if kind not in _KINDS:
        raise Unsayable(f"a site cannot say a refusal with “{kind}”")
    return _KINDS[kind]
