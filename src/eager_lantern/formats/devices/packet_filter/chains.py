"""Chains of rules, laid flat: one list of which the first rule that matches decides.

Theory: chains without a stack
==============================
A filter of a site is one list, the first rule that matches decides. A rule set is a tree: chains are jumped to and
returned from. It is laid flat by walking it as a packet would: a jump puts the rules of its chain in its place, each
narrowed by what the jump asked for. A return ends a chain for those that it matches, so what follows in the chain is
narrowed to the others; as that is seldom one box of senders by ports, a rule may become several.

A walk is that of one packet. A connection arrives if its first packet passes, which is new to the filter, and then the
answer to it and what its beginner sends from then on, which are of a known connection: where a rule set has no word for
these, or stops them before it asks whether they are known, nothing arrives (:meth:`Ruleset.stopped_later`).

A rule of which it is in doubt whether it matches does not end the walk for what it may match: what follows is
read for that as well. Where what follows does the same, nothing is unknown; the rest is (:meth:`Ruleset.settled`). So
a limit before a rule that drops all the same costs nothing, and one that lets pass what else would be dropped is
unknown.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any, Literal

from msgspec import Struct
from msgspec.structs import replace

from ....core.model.site import Filter, Refusal
from ..cells import tidy_name
from .boxes import EVERYTHING, FAMILIES, Box, common, family_box, without
from .fields import TCP_FLAGS, Stage
from .marks import Marks, Writing, asks_for_marks
from .routing import Routing
from .rule import REWRITES, Around, Case, Contents, Passing, Reader, Verdict

MOST_DEPTH, MOST_RULES = 16, 100_000
"""The kernel itself allows so many jumps into each other (NFT_JUMP_STACK_SIZE)."""
MOST_PARTS = 400_000
"""Parts of connections that are looked at before it is given up: some ten seconds."""
MOST_LOOKED_AT = 1_000_000
"""Rules behind rules in doubt that are looked at; of those in doubt behind that all that they may match is unknown."""
MOST_CUT = 16
"""Parts that what a rule may match is cut into; of more, all of it is unknown."""
Chain = tuple[str, str, str]
"""Family, table and name."""
_KINDS = {"filter": ("filter", "route"), "nat": ("nat",)}
"""Types of base chains by what they do; one of type route filters as well."""


class Doubt(Struct, frozen=True):
    """A rule that has no words in a site, where it stands, and what of it."""

    line: int
    where: str
    what: str


class Decided(Struct, frozen=True):
    """What becomes of some connections; ``rewrite`` is what a rewriting rule does, and what it writes. Where that is
    unknown, ``likely`` is what the rule does if it matches, where that is known, and ``doubt`` states which it is."""

    action: Literal["allow", "deny", "refuse", "unknown"]
    box: Box
    refuses_with: Refusal | None = None
    name: str = ""
    rewrite: tuple[str, Any] | None = None
    likely: Verdict | None = None
    doubt: Doubt | None = None

    @property
    def settles(self) -> bool:
        """Whether nothing that follows is asked about what it is about."""
        return self.action != "unknown" or self.likely is None


Flat = tuple[list[Decided], Filter]
"""One list of which the first part that has a connection decides, and what becomes of all others."""


class Ruleset:
    """A rule set, walked as a packet would that comes in by one interface and leaves by another (``interfaces``, by the
    words of the filter), as a gateway hands it on (``passing``) or as a host's own; ``around`` is who has the rules;
    ``stage`` is which packet of its connection it is. ``troubles`` are why nothing can be read; ``doubts`` are rules
    that a site cannot say, with whether anything is unknown by them."""

    def __init__(
        self,
        items: Sequence[dict[str, Any]],
        interfaces: Mapping[str, str] = {},
        passing: Passing | None = None,
        around: Around = Around(),
        stage: Stage = "first",
    ) -> None:
        self.interfaces = interfaces
        self._flags: dict[tuple[str, str], Any] = {}
        self.chains: dict[Chain, dict[str, Any]] = {}
        self.rules: dict[Chain, list[dict[str, Any]]] = {}
        self.filled: list[str] = []
        self.troubles: list[str] = []
        self.doubts: dict[Doubt, bool] = {}
        self.count = 0
        self.spent = self.looked = 0
        sets: dict[Chain, list[Any]] = {}
        self._loses_neighbours = _loses_neighbours(items)
        self._writings: list[Writing] = []
        for item in items:
            for kind, each in item.items():
                if kind == "table" and each.get("flags"):
                    self._flags[each["family"], each["name"]] = each["flags"]
                elif kind == "chain":
                    self.chains[each["family"], each["table"], each["name"]] = each
                elif kind == "rule":
                    self.rules.setdefault((each["family"], each["table"], each["chain"]), []).append(each)
                elif kind in ("set", "map"):
                    sets[each["family"], each["table"], each["name"]] = each.get("elem", [])
                    if {"dynamic", "timeout"} & set(each.get("flags", ())):
                        self.filled.append(f"table {each['table']}, {kind} {each['name']}")
        self._reader = Reader(sets, interfaces, passing, around, stage, Contents.of(items))
        if _asks_for_any_mark(items) or self._reader.contents.marks_packets:
            self._reader = replace(self._reader, marks=self._possible_marks())

    def _possible_marks(self) -> Marks:
        """What the rules of all chains together may write, each for the connections that come to it."""
        for hook in ("ingress", "prerouting", "input", "forward", "output", "postrouting", "egress"):
            if self._reader.passing is not None and hook in ("input", "output"):
                continue  # these packets are the device's own
            seen, self._writings = self._writings, []
            for key in (*self.base_chains(hook), *self.base_chains(hook, "nat")):
                list(self.walk(key, [EVERYTHING], [EVERYTHING], 0))
            self._writings = [*seen, *(replace(each, hook=hook) for each in self._writings)]
        self.count = self.spent = self.looked = 0
        self.doubts.clear()
        return Marks.of(self._writings, self._reader.contents.rewrites)

    def sent_by_mark(self, hooks: Sequence[str], routing: Routing) -> list[Decided]:
        """The connections of which a packet may have a mark, left at some hooks, that chooses it another way than those
        without; or it is unknown whether it does."""
        left = () if self._reader.marks is None else self._reader.marks.left_at(hooks)
        return [
            Decided("unknown", part, None, tidy_name(doubt.where), None, None, doubt)
            for writing, mark in left
            for family, why in routing.ways_of(mark)
            for doubt in (Doubt(writing.line, writing.where, why),)
            for part in common(writing.boxes, [family_box(family)])
        ]

    def base_chains(self, hook: str, kind: Literal["filter", "nat"] = "filter") -> list[Chain]:
        """The chains of a kind that see packets at a hook, in the order in which they do."""
        found = [
            (each.get("prio", 0), key)
            for key, each in self.chains.items()
            if each.get("hook") == hook and key[0] in FAMILIES and each.get("type") in _KINDS[kind]
            if "dormant" not in self._flags.get(key[:2], ()) and self._is_met(each)
        ]
        return [key for _, key in sorted(found)]

    def _is_met(self, chain: Mapping[str, Any]) -> bool:
        """Whether a chain of some interfaces is one of those that the packet comes by; of an unknown one it is."""
        mine = self.interfaces.get("oifname" if chain.get("hook") == "egress" else "iifname")
        devices = chain.get("dev", [])
        return mine is None or not devices or mine in ([devices] if isinstance(devices, str) else devices)

    def laid_flat(self, bases: Sequence[Chain]) -> Flat:
        """One list of all base chains, each of which has to let a packet pass, and its last word."""
        if not bases:
            return [], Filter(default="allow")
        (first, *others) = bases
        if not others and FAMILIES[first[0]] is None:
            return self._one_chain(first)
        if len(bases) == len({key[0] for key in bases}) and all(FAMILIES[key[0]] is not None for key in bases):
            return self._of_each_family(bases)
        waiting, found = [EVERYTHING], list[Decided]()
        for key in bases:
            denied, waiting = self._sifted(key, waiting)
            found += denied
        return [*found, *(Decided("allow", each) for each in waiting)], Filter(default="deny")

    def parts(self, boxes: Sequence[Box], flat: Sequence[Decided], default: Filter) -> Iterator[Decided]:
        """What a list does with each part of some connections."""
        left = list(boxes)
        for each in flat:
            if self.spent > MOST_PARTS:
                self.troubles.append(
                    "found rules that cut connections into more parts than are looked at; expected fewer"
                )
                return
            yield from (replace(each, box=box) for box in common(left, [each.box]))
            left = self.less(left, [each.box])
        yield from (Decided(default.default, box, default.refuses_with) for box in left)

    def stopped_later(self, first: Flat, later: Flat, answer: Flat, elsewhere: Sequence[Decided] = ()) -> list[Decided]:
        """Connections whose first packet passes, and not all that they need: what their beginner sends from then on,
        the ``answer`` of the other end, as a list of what goes the other way, in IPv6 what neighbours ask, and that
        their packets are not sent ``elsewhere``."""
        of_tcp = [Box(protocols=frozenset(("tcp",)))]  # a datagram is whole without those that follow
        stopped = [each for each in self.parts(of_tcp, *later) if each.action != "allow"] if later != first else []
        answers = [each for each in self.parts([EVERYTHING], *answer) if each.action != "allow"]
        stopped += [replace(each, box=each.box.answered) for each in answers]
        found = [_later(each) for each in (*stopped, *elsewhere)]
        if self._loses_neighbours:
            found.append(Decided("deny", family_box("ip6"), None, "neighbour discovery is dropped"))
        if len(found) * len(first[0]) <= MOST_LOOKED_AT:
            found = [replace(each, box=part) for each in found for part in _passing(first, each.box)]
        self.doubts |= {each.doubt: True for each in found if each.doubt is not None}
        return [replace(each, doubt=None) for each in found]

    def _one_chain(self, key: Chain) -> Flat:
        """A chain that is all there is; where its last rule is about everything, that is its last word."""
        found = self._settled_chain(key, [EVERYTHING])
        if found and found[-1].box == EVERYTHING and (last := found[-1]).action != "unknown":
            return found[:-1], Filter(default=last.action, refuses_with=last.refuses_with)
        return found, Filter(default="allow" if self._accepts(key) else "deny")

    def _of_each_family(self, bases: Sequence[Chain]) -> Flat:
        """Chains of which a packet sees one alone, that of its family: one behind the other, and then what is left of
        a family without one, or one that lets the rest pass."""
        found = [each for key in bases for each in self._settled_chain(key, [family_box(key[0])])]
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
        left = common(waiting, [family])
        denied, accepted = list[Decided](), list[Box]()
        for each in self._settled_chain(key, left):
            mine = common(left, [each.box])
            left = self.less(left, [each.box])
            if each.action == "allow":
                accepted += mine
            else:
                denied += [replace(each, box=part) for part in mine]
        if not self._accepts(key):
            return [*denied, *(Decided("deny", each) for each in left)], [*passed_by, *accepted]
        return denied, [*passed_by, *accepted, *left]

    def _settled_chain(self, key: Chain, boxes: list[Box]) -> list[Decided]:
        """All verdicts of a base chain, those in doubt settled by its policy. Of a table with flags that are not read,
        one of which may be that it sleeps, it is unknown what it stops."""
        found = self.settled(list(self.walk(key, boxes, boxes, 0)), "allow" if self._accepts(key) else "deny")
        flags = self._flags.get(key[:2], ())
        if not flags or (not isinstance(flags, str) and set(flags) <= {"owner", "persist"}):
            return found
        doubt = Doubt(0, f"table {key[1]}", f"flags {flags}")
        self.doubts[doubt] = True
        named = f"table {key[1]} may be dormant"
        found = [each if each.action == "allow" else Decided("unknown", each.box, None, named) for each in found]
        return found if self._accepts(key) else [*found, *(Decided("unknown", each, None, named) for each in boxes)]

    def settled(self, flat: Sequence[Decided], policy: Literal["allow", "deny"]) -> list[Decided]:
        """The same where what follows a rule in doubt does what the rule would: there nothing is unknown by it."""
        found: list[Decided] = []
        for each in reversed(flat):
            if each.settles:
                found.append(each)
                parts = [each.box]
            else:
                parts = self._otherwise(each, reversed(found), policy)
                found += [replace(each, box=part) for part in parts]
            if each.doubt is not None:
                self.doubts[each.doubt] |= bool(parts)
        return found[::-1]

    def _otherwise(self, doubtful: Decided, later: Iterable[Decided], policy: Literal["allow", "deny"]) -> list[Box]:
        """Of what a rule may match, the connections that without it end otherwise."""
        left, found = [doubtful.box], list[Box]()
        for each in later:
            self.looked += 1
            if self.looked > MOST_LOOKED_AT:
                return [doubtful.box]
            if hit := common(left, [each.box]):
                found += hit if (each.action, each.refuses_with) != doubtful.likely else []
                left = self.less(left, [each.box])
        found += left if (policy, None) != doubtful.likely else []
        return found if len(found) <= MOST_CUT else [doubtful.box]

    def walk(self, key: Chain, left: list[Box], whole: list[Box], depth: int) -> Iterator[Decided]:
        """The verdicts of a chain, of which the first that matches decides; the rest is not among them.
        Of the ``whole`` that comes to it without having left it again, ``left`` is what no rule has decided yet; what
        rules in a row decide is taken off it only once something depends on it."""
        taken: list[Box] = []
        for rule, case in self._cases(key, depth):
            if not left:
                break
            for each in case.writes if self._reader.marks is None else ():
                doubt = self._doubt(key, rule, ())
                self._writings.append(replace(each, boxes=common(left, each.boxes), line=doubt.line, where=doubt.where))
            if case.verdict is None:
                continue
            word, detail = case.verdict
            if word not in ("jump", "goto", "return"):
                if not self._in_doubt(case) or self.less(common(left, case.boxes), taken):
                    yield from self._said(key, rule, case, common(whole, case.boxes))
                taken += case.boxes if word == "unknown" or not case.doubts else []
                continue
            left, taken = self.less(left, taken), []
            mine = common(left, case.boxes)
            if case.doubts and word != "jump":
                yield from self._said(key, rule, replace(case, verdict=("unknown", word)), mine)
                left, whole = self.less(left, mine), self.less(whole, mine)
                continue
            if word != "return" and mine:
                target = (key[0], key[1], detail)
                inner = list(self.walk(target, mine, common(whole, case.boxes), depth + 1))
                if case.doubts:
                    doubt = self._doubt(key, rule, case.doubts)
                    inner = [_doubtful(each, doubt) for each in inner]
                    self.doubts |= {doubt: False} if inner and doubt not in self.doubts else {}
                yield from inner
                left = self.less(left, [each.box for each in inner if each.settles])
            if not case.doubts:
                left = self.less(left, mine if word != "jump" else [])
                whole = self.less(whole, case.boxes if word != "jump" else [])

    def _cases(self, key: Chain, depth: int) -> Iterator[tuple[dict[str, Any], Case]]:
        """The rules of a chain, as far as chains and parts are looked at."""
        for rule in self.rules.get(key, ()):
            self.count += 1
            if self.count > MOST_RULES:
                self.troubles.append(f"found chains that lead through more than {MOST_RULES:,} rules; expected fewer")
            elif depth > MOST_DEPTH:
                self.troubles.append(f"found chain {key[2]} more than {MOST_DEPTH} jumps deep; expected fewer")
            elif self.spent > MOST_PARTS:
                self.troubles.append(
                    f"found chain {key[2]}, which cuts connections into more parts than are looked at; expected fewer"
                )
            if self.troubles:
                return
            for case in self._reader.cases(key[0], key[1], rule):
                yield rule, case

    def _in_doubt(self, case: Case) -> bool:
        """Whether it is not known if a rule matches, or what it does: that counts only where something gets as far."""
        return bool(case.doubts) or (case.verdict is not None and case.verdict[0] == "unknown")

    def _said(self, key: Chain, rule: dict[str, Any], case: Case, boxes: Sequence[Box]) -> Iterator[Decided]:
        """What a rule that ends the walk says of some connections."""
        word: Any
        detail: Any
        word, detail = case.verdict or ("unknown", "")
        name = tidy_name(str(rule.get("comment", "")))
        if self._in_doubt(case):
            doubt = self._doubt(key, rule, (*case.doubts, detail) if word == "unknown" else case.doubts)
            self.doubts.setdefault(doubt, False)
            place = f"line {doubt.line}" if doubt.line else f"handle {rule.get('handle')}"
            likely = None if word == "unknown" else (word, detail)
            name = name or tidy_name(f"chain {key[2]}, {place}")
            yield from (Decided("unknown", each, None, name, None, likely, doubt) for each in boxes)
        elif word in REWRITES:
            yield from (Decided("allow", each, None, name, (word, detail)) for each in boxes)
        else:
            yield from (Decided(word, each, detail, name) for each in boxes)

    def _doubt(self, key: Chain, rule: dict[str, Any], what: Sequence[str]) -> Doubt:
        line = int(rule.get("line", 0))
        where = f"table {key[1]}, chain {key[2]}"
        if not line and "handle" in rule:
            where += f", handle {rule['handle']}"
        return Doubt(line, where, "” and “".join(dict.fromkeys(what)))

    def less(self, boxes: list[Box], others: Sequence[Box]) -> list[Box]:
        """What of some boxes is in none of the others; no more is looked at than :data:`MOST_PARTS` altogether."""
        for other in others:
            self.spent += len(boxes)
            if self.spent > MOST_PARTS:
                break
            boxes = without(boxes, other)
        return boxes


def _asks_for_any_mark(items: Sequence[Mapping[str, Any]]) -> bool:
    """Whether any rule asks for a mark: else nobody has to know which there are."""
    rules = [each["rule"] for each in items if "rule" in each]
    return any(asks_for_marks(one["match"]["left"]) for each in rules for one in each["expr"] if "match" in one)


def tells_packets_apart(items: Sequence[Mapping[str, Any]]) -> bool:
    """Whether any rule asks for the state of a connection, the direction of a packet or its flags: else a later packet
    ends as the first does."""
    asked = (
        each["match"]["left"] for item in items if "rule" in item for each in item["rule"]["expr"] if "match" in each
    )
    vmaps = (each["vmap"]["key"] for item in items if "rule" in item for each in item["rule"]["expr"] if "vmap" in each)
    return any("ct" in left or "&" in left or left == TCP_FLAGS for left in (*asked, *vmaps))


def _loses_neighbours(items: Sequence[Mapping[str, Any]]) -> bool:
    """Whether a host or device drops what its neighbours ask and answer in IPv6, so that nobody finds it (RFC 4861,
    section 7.2): a filter of what comes in that drops what no rule allows, and none that may allow ICMPv6."""
    chains = [each["chain"] for each in items if "chain" in each]
    rules = [each["rule"] for each in items if "rule" in each]
    for chain in chains:
        of_six = chain["family"] in ("ip6", "inet") and chain.get("type") == "filter"
        if of_six and chain.get("hook") == "input" and chain.get("policy") == "drop":
            mine = [each for each in rules if (each["family"], each["table"]) == (chain["family"], chain["table"])]
            if not any(_may_allow_neighbours(each["expr"]) for each in mine):
                return True
    return False


def _may_allow_neighbours(expressions: Sequence[Mapping[str, Any]]) -> bool:
    """Whether a rule may let pass what neighbours ask: it allows or leads on, and asks for nothing that this has not;
    it belongs to no connection that the filter follows."""
    for each in expressions:
        word = next(iter(each))
        left = each[word].get("left", {}) if word == "match" else {}
        asked = left.get("payload", {}).get("protocol"), left.get("meta", {}).get("key"), left.get("ct", {}).get("key")
        if asked[0] in ("tcp", "udp", "ip", "icmp", "th") or each.get("xt", {"name": ""}).get("name") == "conntrack":
            return False
        if asked[1] in ("iifname", "iif") and each[word]["right"] == "lo":
            return False
        if asked[2] == "state" and "untracked" not in str(each[word]["right"]):
            return False
        if asked[1] == "l4proto" and not any(name in str(each[word]["right"]) for name in ("icmp", "58")):
            return False
        if word in ("drop", "reject", "return"):
            return False
    return any(next(iter(each)) not in ("match", "counter", "log", "limit", "comment") for each in expressions)


def _passing(flat: Flat, box: Box) -> list[Box]:
    """What of some connections a list lets pass; where it cuts them into very many parts, all of them."""
    left, found = [box], list[Box]()
    for each in flat[0]:
        if mine := common(left, [each.box]):
            found += mine if each.action == "allow" else []
            left = without(left, each.box)
            if len(left) > MOST_CUT * MOST_CUT:
                return [box]
    return [*found, *left] if flat[1].default == "allow" else found


def _later(stopped: Decided) -> Decided:
    """A connection of which a later packet is stopped: its beginner hears nothing."""
    if stopped.action == "unknown":
        return replace(stopped, likely=None)
    return Decided("deny", stopped.box, None, "later packets are stopped")


def _doubtful(inner: Decided, doubt: Doubt) -> Decided:
    """What a chain says to which it is in doubt whether a connection comes."""
    if inner.action == "unknown":
        return inner
    likely = inner.rewrite or (inner.action, inner.refuses_with)
    name = inner.name or tidy_name(doubt.where.partition(", ")[2])
    return Decided("unknown", inner.box, None, name, None, likely, doubt)
