"""The rule set of a gateway as the kernel lists it, as forwards, filters and switches of a site (public interface of
libnftables).

Theory: one rule set, three walks
=================================
A connection from outside meets the rewriting of destinations, then the filter of what is handed on; one from inside the
filter and then the rewriting of sources. So the rule set is walked three times, each time as a packet that comes in by
one interface and leaves by the other; what a rule says of interfaces is known then. The filter sees destinations as
they are inside. Rules may ask whether a destination was rewritten, or for the mark that the rewriting rule left: the
filter is walked as such a connection too, and a forward opens it where all of these pass. Where some do that would not
without a forward, or the other way round, the ports of these forwards are unknown.

What a gateway does with connections to itself is no matter of a site.
"""

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, Literal

from msgspec import Struct
from msgspec.structs import replace

from ....core.changes.adopted import DeviceConfig, ParsedValue, Skipped
from ....core.model.entries import BlockedPorts, Port
from ....core.model.site import INTERNET, Filter, Forward, Gateway, Site, Translation
from ....core.values.addresses import Address, AddressSet, Family, public_addresses
from ....core.values.ports import EVERY_PORT, PortSet
from ...damage import guarded
from ...reading import BadInput, InputProblem, bad_file
from ..format import DeviceTarget
from .boxes import EVERYBODY, EVERYTHING, IPV4, IPV6, Box, common, family_box, without
from .chains import MOST_CUT, Chain, Decided, Doubt, Flat, Ruleset, tells_packets_apart
from .fields import Stage
from .host import as_rule, ftp_helper, left_of
from .marks import BEFORE_ROUTING, Unsayable
from .routing import Routing
from .rule import Around, Contents, Passing

_HIDES = ("masquerade", "snat")
_NOBODYS = AddressSet.parse("0.0.0.0/8, 127.0.0.0/8, 169.254.0.0/16, 224.0.0.0/3, ::/127, fe80::/10, ff00::/8")
"""Addresses to which nothing is handed on (RFC 6890)."""
Items = Sequence[dict[str, Any]]
MOST_FORWARDS = 64
"""Forwards that one rule becomes where it leads several ports to one."""


_TURNED_SOMEHOW: dict[str, object] = {"hairpin": True, "hairpin_source": "unknown"}


class Sides(Struct, frozen=True):
    """The names of a gateway's interfaces."""

    outside: str
    inside: str


def sides_of(target: DeviceTarget, file: str) -> Sides:
    """The interfaces that a gateway's rule set is read for. Raises BadInput where they are not named."""
    if not target.outside or not target.inside:
        message = f"found the rule set of {target.device}; expected --outside NAME and --inside NAME, its interfaces"
        raise bad_file(file, message)
    return Sides(target.outside, target.inside)


@guarded
def read_gateway(
    file: str, items: Items, site: Site, gateway: Gateway, sides: Sides, routing: Routing = Routing()
) -> tuple[DeviceConfig, ...]:
    """Its forwards, both filters and switches; ``routing`` is what chooses the way of packets that the rules mark.
    Raises BadInput where they make nothing that a site has words for."""
    try:
        helper, skipped = ftp_helper(items)
        return _Border(items, site, gateway, sides, routing).configs(file, helper, skipped)
    except (ValueError, KeyError, TypeError, RecursionError, AttributeError, IndexError) as error:
        raise bad_file(
            file,
            f"found a strange rule set ({error!r:.80}); expected what nft -j list ruleset or iptables-save prints",
        ) from None


class _Border:
    """The rule set of one gateway, read from all sides; ``unknown`` are connections from outside of which a site cannot
    say where they lead, ``denied`` those that are stopped before anything is rewritten."""

    def __init__(self, items: Items, site: Site, gateway: Gateway, sides: Sides, routing: Routing) -> None:
        self._items, self._gateway, self._sides, self._routing = items, gateway, sides, routing
        self._contents = Contents.of(items)
        self._subnet = next(
            (each.subnet for each in site.networks if each.name == gateway.inside.network), AddressSet()
        )
        self._own = AddressSet.single(*gateway.outside_addresses.each, *gateway.inside.address.each)
        self._troubles: list[str] = []
        self._read: list[Ruleset] = []
        self._unknown: list[Box] = []
        self._denied: list[Box] = []

    def configs(self, file: str, helper: Mapping[str, object], helped: tuple[Skipped, ...]) -> tuple[DeviceConfig, ...]:
        """All of it. Raises BadInput."""
        forwards, marks = self._forwards(self._sides.outside)
        inward = self._filtered(self._sides.outside, self._sides.inside, note=True)
        outward = self._filtered(self._sides.inside, self._sides.outside, note=True)
        translation, untranslated = self._translation()
        switches: dict[str, object] = {"filter_sees": "inside", **helper, **translation}
        switches["forwards_pass_filter"], handed = self._opens(forwards, marks, inward)
        switches |= self._answered_itself()
        turns = self._turning(forwards)
        if self._troubles:
            raise BadInput(file, *(InputProblem(0, each) for each in dict.fromkeys(self._troubles)))
        switches |= {"unknown_ports": self._unknown_ports()} if self._unknown else {}
        values = tuple(ParsedValue((key,), value, 0) for key, value in (switches | turns).items())
        skipped = (*helped, *left_of(*self._read))
        if turns == _TURNED_SOMEHOW:
            whom = "clients inside that use the outside address"
            why = "are not hairpinned like outside connections: how is unknown"
            skipped = (*skipped, Skipped(0, whom, why))
        routed = list(self._routed_before(switches))
        return (
            DeviceConfig(file, "forwards", tuple(ParsedValue((), each, 0) for each in forwards), skipped),
            _filter_config(file, [*routed, *handed, *inward[0]], inward[1], "in"),
            _filter_config(file, [*_of_passing(untranslated, outward), *outward[0]], outward[1], "out"),
            DeviceConfig(file, "switches", values),
        )

    def _ruleset(
        self, comes: str, leaves: str, passing: Passing = Passing(), note: bool = False, stage: Stage = "first"
    ) -> Ruleset:
        """The rules as a packet meets them; of a walk that is ``note``d its doubts are told."""
        interfaces = {"iifname": comes, "oifname": leaves} if leaves else {"iifname": comes}
        found = Ruleset(self._items, interfaces, passing, self._around(comes), stage)
        self._read += [found] if note else []
        return found

    def _around(self, comes: str) -> Around:
        """The device, as packets from one side meet it: the way back to its inside network leads inside, and to all
        others outside, unless the site has routes."""
        if self._gateway.routes or not self._subnet:
            back = None
        else:
            back = EVERYBODY - self._subnet if comes == self._sides.outside else self._subnet
        return Around(self._own, self._own, back)

    def _filtered(self, comes: str, leaves: str, passing: Passing = Passing(), note: bool = False) -> Flat:
        """What is handed on from one side to another: the filter, and what stops packets behind it; from inside also
        what stops them before. A connection passes if its first packet does, those that follow, and its answers."""
        ruleset = self._ruleset(comes, leaves, passing, note)
        first = self._walked(ruleset, self._ruleset(comes, leaves, passing))
        apart = tells_packets_apart(self._items)
        later = self._following(comes, leaves, passing, "later") if apart else first
        answer = self._following(leaves, comes, passing, "answer")
        stopped = ruleset.stopped_later(first, later, answer, self._sent_elsewhere(comes, leaves, passing))
        return [*stopped, *first[0]], first[1]

    def _sent_elsewhere(self, comes: str, leaves: str, passing: Passing) -> list[Decided]:
        """Connections of which a mark may send packets another way; of those from outside the answers alone, since
        where others lead is asked before their destinations are rewritten."""
        if not self._contents.marks_packets:
            return []
        back = self._ruleset(leaves, comes, passing, stage="answer").sent_by_mark(BEFORE_ROUTING, self._routing)
        if comes == self._sides.outside:
            return [replace(each, box=each.box.answered) for each in back]
        whole = [replace(each, box=replace(each.box, targets=EVERYBODY)) for each in back]  # to the translated source
        return [*self._marked(comes, leaves, passing), *(replace(each, box=each.box.answered) for each in whole)]

    def _marked(self, comes: str, leaves: str, passing: Passing = Passing()) -> list[Decided]:
        """Connections of which a mark may send the first packet or those that follow another way."""
        if not self._contents.marks_packets:
            return []
        walked = (self._ruleset(comes, leaves, passing, stage=each) for each in ("first", "later"))
        return list(dict.fromkeys(one for each in walked for one in each.sent_by_mark(BEFORE_ROUTING, self._routing)))

    def _following(self, comes: str, leaves: str, passing: Passing, stage: Stage) -> Flat:
        """What becomes of a packet that is not a connection's first."""
        ruleset, trial = (self._ruleset(comes, leaves, passing, stage=stage) for _ in range(2))
        flat, default = self._walked(ruleset, trial)
        if stage == "answer" and comes == self._sides.outside:
            flat = [*self._answers_stopped_before(ruleset), *flat]
        return flat, default

    def _answers_stopped_before(self, ruleset: Ruleset) -> Iterator[Decided]:
        """What stops answers from outside before it is known to whom they go: those to hosts whose sources are
        translated come to the device itself, and of a rule that asks for its address it is unknown whose they are."""
        translated = AddressSet()
        for chain in ruleset.base_chains("postrouting", "nat"):
            translated = translated | family_box(chain[0]).targets
        for hook in ("ingress", "prerouting"):
            for chain in ruleset.base_chains(hook):
                for each in ruleset.parts([EVERYTHING], *ruleset.laid_flat([chain])):
                    if each.action == "allow":
                        continue
                    box, hidden = each.box, each.box.targets & self._own & translated
                    if routed := box.targets - translated:
                        yield replace(each, box=replace(box, targets=routed))
                    if hidden == self._own & translated and hidden:
                        yield replace(each, box=replace(box, targets=translated))
                    elif hidden:
                        yield Decided("unknown", replace(box, targets=translated), None, each.name)

    def _walked(self, ruleset: Ruleset, trial: Ruleset) -> Flat:
        """What becomes of one packet of all connections; ``trial`` finds the chains that stop any."""
        from_outside = ruleset.interfaces["iifname"] == self._sides.outside
        before = [each for hook in ("ingress", "prerouting") for each in ruleset.base_chains(hook)]
        if from_outside:
            before = [each for each in before if not self._is_before_rewriting(ruleset, each)]
        chains = [each for hook in ("forward", "postrouting", "egress") for each in ruleset.base_chains(hook)]
        chains = [*before, *chains]
        if len(chains) > 1:
            chains = [each for each in chains if _stops_any(trial, each)]
        found = ruleset.laid_flat(chains)
        self._troubles += ruleset.troubles
        return found

    def _is_before_rewriting(self, ruleset: Ruleset, chain: Chain) -> bool:
        """Whether a chain sees destinations as they come in, and any is rewritten behind it."""
        behind = ruleset.base_chains("prerouting", "nat")
        first = min((ruleset.chains[each].get("prio", 0) for each in behind), default=None)
        if first is None or not self._contents.rewrites:
            return False
        known = ruleset.chains[chain]
        return bool(known["hook"] == "ingress" or known.get("prio", 0) < first)

    def _before_rewriting(self, comes: str) -> list[Box]:
        """What of the connections from one side comes as far as the rewriting of destinations: a forward is for no
        others. Where it is unknown, or cut into very many parts, so is where these connections lead."""
        outside = comes == self._sides.outside
        ruleset = self._ruleset(comes, "", note=outside)
        senders = Box(sources=EVERYBODY - self._subnet if outside else self._subnet)
        passing = [EVERYTHING]
        for chain in (*ruleset.base_chains("ingress"), *ruleset.base_chains("prerouting")):
            if not self._is_before_rewriting(ruleset, chain):
                continue
            stopped = [each for each in ruleset.parts([senders], *ruleset.laid_flat([chain])) if each.action != "allow"]
            unclear = [each.box for each in stopped if each.action == "unknown"]
            shut = [each.box for each in stopped if each.action != "unknown"]
            left = ruleset.less(passing, shut)
            if len(left) > MOST_CUT:
                unclear, left = [*unclear, *shut], passing
            elif outside:
                self._denied += shut
            passing = left
            if unclear:
                where, what = f"table {chain[1]}, chain {chain[2]}", f"hook {ruleset.chains[chain]['hook']}"
                self._cannot_say(ruleset, Doubt(0, where, what), unclear)
        for each in self._marked(comes, ""):
            if each.doubt is not None and (mine := common([senders], [each.box])):
                self._cannot_say(ruleset, each.doubt, mine)
        self._troubles += ruleset.troubles
        return passing

    def _unknown_ports(self) -> BlockedPorts:
        """The ports of the outside address among what is unknown."""
        own = AddressSet.single(*self._gateway.outside_addresses.each)
        found = PortSet()
        for each in self._unknown:
            found = found | (each.ports if each.targets & own else PortSet())
        return BlockedPorts(found)

    def _routed_before(self, switches: Mapping[str, object]) -> Iterator[Decided]:
        """What is stopped before the filter, or perhaps, of connections to addresses inside, of a family that is not
        translated."""
        name = "what is done before the filter"
        for key, family in (("translate", "ip"), ("translate_ipv6", "ip6")):
            if switches.get(key, "none") == "none":
                stopped = [Decided("unknown", each, name=name) for each in common(self._unknown, [family_box(family)])]
                stopped += [Decided("deny", each, name=name) for each in common(self._denied, [family_box(family)])]
                yield from (each for each in stopped if each.box.targets - self._own)

    def _opens(self, forwards: Sequence[Forward], marks: Sequence[int], plain: Flat) -> tuple[bool, list[Decided]]:
        """Whether a forward opens the filter: rewritten connections pass it all, or as others do. Where they do
        neither, rules of their own state what becomes of them, which are about no others if nobody outside reaches the
        inside without a forward; else it is unknown, of the two that with the fewer ports."""
        sides = self._sides.outside, self._sides.inside
        values = [self._filtered(*sides, Passing(each, rewritten=True)) for each in marks or (0,)]
        handed = list(zip(forwards, _handed(forwards), strict=True))
        shut = [each for each, box in handed if not all(_lets_pass([box], *flat) for flat in values)]
        apart = [each for each, box in handed if not all(_agree([box], plain, flat) for flat in values)]
        if shut and apart and len(values) == 1 and not self._subnet & public_addresses():
            decided = [each for _, box in handed for each in _decisions([box], *values[0])]
            return False, [each for each in decided if each.box.sources - self._subnet]
        opens = _count_ports(shut) < _count_ports(apart) or not shut
        for each in shut if opens else apart:
            what = f"the forward of {each.protocol} {each.ports} is filtered otherwise than what needs none"
            targets = AddressSet.single(each.outside) if each.outside is not None else self._own
            box = Box(frozenset((each.protocol,)), each.from_ or EVERYBODY, targets, ports=each.ports)
            self._cannot_say(self._ruleset(*sides, note=True), Doubt(0, "filter of what is handed on", what), [box])
        return opens, []

    def _forwards(self, comes: str) -> tuple[list[Forward], tuple[int, ...]]:
        """In the order of its rules, with the marks that they leave on connections; a rule that accepts takes out what
        it matches of those behind it."""
        ruleset = self._ruleset(comes, "", note=comes == self._sides.outside)
        found: list[Forward] = []
        marks: list[int] = []
        coming = self._before_rewriting(comes)
        for chain in ruleset.base_chains("prerouting", "nat"):
            skipped = coming  # what a chain accepts is asked of the next one all the same
            for each in list(ruleset.walk(chain, skipped, skipped, 0)):
                mine = common(skipped, [each.box])
                if each.rewrite is not None:
                    marks.append(each.rewrite[1]["mark"])
                    try:
                        found += [one for box in mine for one in _as_forwards(each, box, self._gateway)]
                    except Unsayable as error:
                        self._cannot_say(ruleset, Doubt(0, f"table {chain[1]}, chain {chain[2]}", str(error)), mine)
                elif each.action == "allow":
                    skipped = without(skipped, each.box)
                else:
                    self._cannot_say(ruleset, each.doubt or Doubt(0, f"chain {chain[2]}", "drop"), mine)
        self._troubles += ruleset.troubles
        return found, tuple(dict.fromkeys(marks))

    def _answered_itself(self) -> dict[str, object]:
        """What most connections from outside hear that are for the device itself; what its filter lets pass is refused
        where nobody listens. Nothing is stated where most is unknown."""
        ruleset = self._ruleset(self._sides.outside, "")
        outside = AddressSet.single(*self._gateway.outside_addresses.of_family(4))
        asked = Box(sources=IPV4 - self._subnet, targets=outside)
        heard: dict[str, int] = {"silent": 0, "refused": 0, "unknown": 0}
        for each in ruleset.parts([asked], *ruleset.laid_flat(ruleset.base_chains("input"))):
            manner = {"deny": "silent", "unknown": "unknown"}.get(each.action, "refused")
            heard[manner] += len(each.box.protocols) * len(each.box.sources) * len(each.box.ports)
        self._troubles += ruleset.troubles
        most = max(heard, key=heard.__getitem__)
        return {} if most == "unknown" or not heard[most] else {"unmatched": most}

    def _cannot_say(self, ruleset: Ruleset, doubt: Doubt, boxes: Sequence[Box]) -> None:
        ruleset.doubts[doubt] = ruleset.doubts.get(doubt, False) or bool(boxes)
        self._unknown += boxes

    def _turning(self, forwards: Sequence[Forward]) -> dict[str, object]:
        """How clients inside that use the outside address are turned back; unknown where not as a site can say it."""
        known = list(self._unknown)
        inside, marks = self._forwards(self._sides.inside)
        unclear, self._unknown = self._unknown != known, known
        if not inside and not unclear:
            return {"hairpin": False}
        same = {(each.protocol, each.ports, each.to, each.to_port) for each in inside} == {
            (each.protocol, each.ports, each.to, each.to_port) for each in forwards
        }
        if unclear or not same or len(marks) != 1:
            return _TURNED_SOMEHOW
        passing = Passing(marks[0], rewritten=True)
        passed = self._filtered(self._sides.inside, self._sides.inside, passing)
        ruleset = self._ruleset(self._sides.inside, self._sides.inside, passing)
        chains = ruleset.base_chains("postrouting", "nat")
        rest = common(_handed(inside), [Box(sources=self._subnet.of_family(4), targets=IPV4)])
        walked = (each for chain in chains for each in ruleset.walk(chain, [EVERYTHING], [EVERYTHING], 0))
        hidden = [each for each in walked if common(rest, [each.box])]
        for each in hidden:
            rest = without(rest, each.box)
        sources = {_hairpin_source_of(each, self._gateway) for each in hidden}
        clear = not ruleset.troubles and _lets_pass(_handed(inside), *passed) and not (hidden and rest)
        if not clear or len(sources) > 1:
            return _TURNED_SOMEHOW
        (source,) = sources or {"kept"}
        return {"hairpin": True, "hairpin_source": source} if source else _TURNED_SOMEHOW

    def _translation(self) -> tuple[dict[str, object], list[Decided]]:
        """Whether the inside is hidden behind the outside address, of each family that it has, and whose connections
        leave in a way that a site cannot say."""
        ruleset = self._ruleset(self._sides.inside, self._sides.outside, note=True)
        hidden, unknown = list[Box](), list[Decided]()
        for chain in ruleset.base_chains("postrouting", "nat"):
            skipped, perhaps = [EVERYTHING], list[tuple[Decided, list[Box]]]()
            for each in list(ruleset.walk(chain, skipped, skipped, 0)):
                mine = common(skipped, [each.box])
                if each.action == "unknown" and each.likely is not None and each.likely[0] in _HIDES:
                    perhaps.append((each, mine))
                    continue  # what follows may hide them all the same
                if each.action == "unknown":
                    hidden += mine
                    unknown += [replace(each, box=box) for box in common(mine, [Box(sources=self._subnet)])]
                elif each.rewrite is not None:
                    hidden += mine
                    self._own_address(*each.rewrite)
                skipped = without(skipped, each.box)
            for each, mine in perhaps:
                open_ = ruleset.less(common(mine, [Box(sources=self._subnet)]), hidden)
                hidden += open_
                unknown += [replace(each, box=box) for box in open_]
        for each in unknown:
            if each.doubt is not None:
                ruleset.doubts[each.doubt] = True
        self._troubles += ruleset.troubles
        kinds = {"translate": self._translated(4, hidden), "translate_ipv6": self._translated(6, hidden)}
        for kind, boxes in kinds.values():
            if boxes:
                what = "only some of the inside is translated"
                ruleset.doubts[Doubt(0, "translation of what leaves", what)] = True
                name = "goes untranslated" if kind == "outward" else "is translated"
                unknown += [Decided("unknown", box, name=name) for box in boxes]
        return {key: kind for key, (kind, _) in kinds.items() if kind is not None}, unknown

    def _own_address(self, word: str, detail: dict[str, Any]) -> None:
        if word == "snat" and Address.parse(str(detail["addr"])) not in self._gateway.outside_addresses:
            whom = f"found {self._gateway.name} to hide the inside behind {detail['addr']}"
            self._troubles.append(f"{whom}, which is none of its own; expected one of them")

    def _translated(self, family: Family, hidden: Sequence[Box]) -> tuple[Translation | None, list[Box]]:
        """What a family of the inside is translated to, none where the inside has none of it, and which connections
        leave otherwise. Where a part of the inside keeps addresses that others may reach, nothing is, and the rest
        leaves otherwise: so who reaches these from outside is read off the filter."""
        inside = self._subnet.of_family(family)
        abroad = (IPV4 if family == 4 else IPV6) - self._subnet - _NOBODYS
        whole = [Box(sources=inside, targets=abroad)] if inside else []
        kept = list(whole)
        for box in hidden:
            kept = without(kept, box)
        if not inside:
            return None, []
        if kept in ([], whole):
            return "none" if kept else "outward", []
        if self._gateway.outside.network == INTERNET and not any(each.sources & public_addresses() for each in kept):
            return "outward", kept
        return "none", common(whole, hidden)


def _stops_any(ruleset: Ruleset, chain: Chain) -> bool:
    """Whether a chain lets anything not pass, or nobody knows."""
    flat, default = ruleset.laid_flat([chain])
    return default.default != "allow" or any(each.action != "allow" for each in flat)


def _filter_config(file: str, flat: Sequence[Decided], default: Filter, way: Literal["in", "out"]) -> DeviceConfig:
    values = tuple(ParsedValue(("rules",), as_rule(each), 0) for each in flat)
    return DeviceConfig(file, "rules", values, (), default, of_ruleset=True, direction=way)


def _handed(forwards: Sequence[Forward]) -> list[Box]:
    """The connections that forwards hand on, as the filter sees them."""
    return [
        Box(
            protocols=frozenset((each.protocol,)),
            sources=each.from_ if each.from_ is not None else IPV4 if each.to.family == 4 else IPV6,
            targets=AddressSet.single(each.to),
            ports=PortSet.single(each.to_port.number) if each.to_port is not None else each.ports,
        )
        for each in forwards
    ]


def _count_ports(forwards: Sequence[Forward]) -> int:
    return sum(len(each.ports) for each in forwards)


def _agree(boxes: Sequence[Box], one: Flat, other: Flat) -> bool:
    """Whether two filters do the same with some connections."""
    return not any(
        common([a.box], [b.box])
        for a in _decisions(boxes, *one)
        for b in _decisions(boxes, *other)
        if (a.action, a.refuses_with) != (b.action, b.refuses_with)
    )


def _of_passing(unknown: Sequence[Decided], flat: Flat) -> Iterator[Decided]:
    """What is unknown of connections, of those that a filter lets pass before."""
    for each in unknown:
        passing = [part.box for part in _decisions([each.box], *flat) if part.action == "allow"]
        yield from (replace(each, box=box) for box in (passing if len(passing) <= MOST_CUT else [each.box]))


def _decisions(boxes: Sequence[Box], flat: Sequence[Decided], default: Filter) -> Iterator[Decided]:
    """What a filter does with each part of some connections."""
    skipped = list(boxes)
    for each in flat:
        yield from (replace(each, box=box) for box in common(skipped, [each.box]))
        skipped = without(skipped, each.box)
    yield from (Decided(default.default, box, default.refuses_with) for box in skipped)


def _lets_pass(skipped: Sequence[Box], flat: Sequence[Decided], default: Filter) -> bool:
    """Whether all of some connections pass."""
    skipped = list(skipped)
    for each in flat:
        if each.action != "allow" and common(skipped, [each.box]):
            return False
        skipped = without(skipped, each.box)
    return default.default == "allow" or not skipped


def _hairpin_source_of(each: Decided, gateway: Gateway) -> str:
    """As whom a client inside is turned back; empty where as nobody that a site knows."""
    word, detail = each.rewrite or ("", {})
    if word == "masquerade":
        return "inside"
    own = Address.parse(str(detail.get("addr", "")) or "0.0.0.0") if word == "snat" else None
    return (
        "inside" if own in gateway.inside.address.each else "outside" if own in gateway.outside_addresses.each else ""
    )


def _as_forwards(each: Decided, box: Box, gateway: Gateway) -> Iterator[Forward]:
    """One forward for each transport. Raises Unsayable."""
    word, detail = each.rewrite or ("", None)
    if word != "dnat" or not isinstance(detail, dict) or not isinstance(detail.get("addr"), str):
        raise Unsayable(f"a site cannot say what “{word}” does here")
    if box.from_ports != EVERY_PORT:
        raise Unsayable("a forward by the sender's port")
    to, own = Address.parse(detail["addr"]), AddressSet.single(*gateway.outside_addresses.each)
    if each.box.targets & own and not box.targets & own:
        return  # what a rule before it has left of it is of nobody's address
    for protocol in sorted(box.protocols):
        for ports, port in _ports_inside(box.ports, detail.get("port"), detail.get("base")):
            yield Forward(
                name=each.name,
                protocol="tcp" if protocol == "tcp" else "udp",
                ports=ports,
                to=to,
                to_port=Port(port) if port != ports.lowest else None,
                from_=None if box.sources in (EVERYBODY, IPV4) else box.sources,
                outside=_outside_address(box.targets, gateway),
            )


def _ports_inside(ports: PortSet, to: Any, base: int | None) -> Iterator[tuple[PortSet, int]]:
    """Ports outside and the first one of them inside, the rest as far behind it. A port of the range that is written
    stays as it is, unless the range is one that is counted off from a base; several to one are as many forwards.
    Raises Unsayable."""
    lowest = ports.lowest
    if to is None:
        yield ports, lowest
    elif isinstance(to, int):
        if len(ports) > MOST_FORWARDS:
            raise Unsayable(f"a forward of {len(ports)} ports to one")
        yield from ((PortSet.single(each), to) for each in ports)
    elif base is not None:
        low, high = to["range"]
        first = low + lowest - base
        if len(ports.spans) > 1 or not low <= first <= first + len(ports) - 1 <= high:
            raise Unsayable("a forward of ports that are not as many inside")
        yield ports, first
    elif ports - PortSet.of(tuple(to["range"])):
        raise Unsayable("a forward to any port of several")
    else:
        yield ports, lowest


def _outside_address(targets: AddressSet, gateway: Gateway) -> Address | None:
    """The outside address that a forward is of, None where it is of all. Raises Unsayable."""
    own = AddressSet.single(*gateway.outside_addresses.of_family(4))
    if not own - targets:
        return None
    mine = targets & own
    if len(mine) != 1:
        raise Unsayable(f"a forward of {targets}, where {gateway.name} has {own or 'no address'} outside")
    return Address(mine.lowest)
