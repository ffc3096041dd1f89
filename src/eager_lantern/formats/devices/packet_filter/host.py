"""The rule set of a host as the kernel lists it (``nft -j list ruleset``), as rules of a site, and its FTP helper."""

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, Literal

from msgspec.structs import replace

from ....core.changes.adopted import DeviceConfig, ParsedValue, Skipped
from ....core.model.site import OPEN, Rule
from ....core.values.addresses import AddressSet
from ....core.values.ports import EVERY_PORT, PortSet
from ...damage import guarded
from ...reading import BadInput, InputProblem, bad_file
from .boxes import EVERYBODY, EVERYTHING, IPV4, IPV6, TRANSPORTS, common, without
from .chains import Chain, Decided, Flat, Ruleset, tells_packets_apart
from .fields import Stage, is_new, union_of_ports
from .listing import items_of_nft
from .marks import Unsayable
from .routing import Routing
from .rule import Around

_DSTNAT = -100
"""The priority at which destinations are rewritten (NF_IP_PRI_NAT_DST)."""


def ftp_helper(items: Sequence[Mapping[str, Any]]) -> tuple[dict[str, object], tuple[Skipped, ...]]:
    """The keys of a gateway that say the same, none where nothing is given to the helper, and the rules that ask for
    more than a port, which no key says."""
    names = {_chain_name(each["ct helper"]) for each in items if each.get("ct helper", {}).get("type") == "ftp"}
    if not names:
        return {}, ()
    chains = {_chain(each["chain"], "name"): each["chain"] for each in items if "chain" in each}
    watched, before, skipped = PortSet(), False, list[Skipped]()
    for rule in (each["rule"] for each in items if "rule" in each):
        given = next((each["ct helper"] for each in rule["expr"] if "ct helper" in each), None)
        if (rule["family"], rule["table"], given) not in names:
            continue
        ports = _matched_ports(rule["expr"])
        if ports is None:
            where = f"table {rule['table']}, chain {rule['chain']}, handle {rule.get('handle')}"
            skipped.append(
                Skipped(int(rule.get("line", 0)), where, "gives some to the FTP helper: see ftp_helper in the file")
            )
            continue
        watched = watched | ports
        chain = chains[_chain(rule, "chain")]
        before = before or (chain.get("hook") == "prerouting" and chain.get("prio", 0) < _DSTNAT)
    if not watched:
        return {}, tuple(skipped)
    sees = "outside" if before else "inside"
    return {"ftp_helper": True, "helper_ports": watched, "helper_sees": sees}, tuple(skipped)


def _matched_ports(expressions: Sequence[Mapping[str, Any]]) -> PortSet | None:
    """The ports of TCP that statements ask for, of new connections; None where they ask for anything else."""
    matches = list(_matches(expressions))
    ports = PortSet()
    for match in matches:
        skipped, right = match["left"], match["right"]
        if match["op"] == "==" and skipped == {"payload": {"protocol": "tcp", "field": "dport"}}:
            values = right["set"] if isinstance(right, dict) and "set" in right else [right]
            try:
                ports = ports | union_of_ports(values)
            except Unsayable:
                return None
        elif skipped == {"ct": {"key": "state"}}:
            if not is_new(right):
                return None
        elif skipped not in ({"meta": {"key": "nfproto"}}, {"meta": {"key": "l4proto"}}):
            return None
    return ports or None


def _matches(expressions: Sequence[Mapping[str, Any]]) -> Iterator[Mapping[str, Any]]:
    """What a rule asks for; a statement that is not known asks for something that nobody knows."""
    for each in expressions:
        if "match" in each:
            yield each["match"]
        elif not {"ct helper", "counter", "comment", "accept"} & each.keys():
            yield {"op": "", "left": None, "right": None}


def _chain_name(each: Mapping[str, Any]) -> tuple[object, ...]:
    return each["family"], each["table"], each["name"]


def _chain(each: Mapping[str, Any], name: str) -> Chain:
    return each["family"], each["table"], each[name]


Way = Literal["in", "out"]
HOOKS: dict[Way, tuple[str, ...]] = {
    "in": ("ingress", "prerouting", "input"),
    "out": ("output", "postrouting", "egress"),
}
"""What a packet meets on its way into a host, and out of it."""
_INTERFACES: dict[Way, str] = {"in": "iifname", "out": "oifname"}


@guarded
def read_ruleset(
    file: str, text: str, direction: Way | None, interface: str = "", routing: Routing = Routing()
) -> tuple[DeviceConfig, ...]:
    """The rules of a host for what comes in, or goes out, or for both where a set has them, and which control
    connections its FTP helper reads, if any; ``interface`` is the one that it stands on its network with, where that
    is known; ``routing`` is what chooses the way of packets that the rules mark. Raises BadInput."""
    try:
        return read_items(file, items_of_nft(file, text), direction, interface, routing)
    except (ValueError, KeyError, TypeError, RecursionError, AttributeError, IndexError) as error:
        raise bad_file(file, f"found no rule set ({error!r:.80}); expected what nft list ruleset prints") from None


def read_items(
    file: str,
    items: Sequence[dict[str, Any]],
    direction: Way | None,
    interface: str = "",
    routing: Routing = Routing(),
) -> tuple[DeviceConfig, ...]:
    """The same of a list of chains, rules and sets."""
    if direction is None:
        hooked = {each["chain"].get("hook") for each in items if "chain" in each}
        kinds = {kind for each in items for kind in each}
        if "metainfo" in kinds and not kinds & {"chain", "rule"}:
            empty = Skipped(0, "no chain", "the filter is empty: everything passes")
            return tuple(
                DeviceConfig(file, "rules", (), (empty,), OPEN, of_ruleset=True, direction=way) for way in HOOKS
            )
        ways = [way for way in HOOKS if hooked & set(HOOKS[way])] or list(HOOKS)[:1]
        configs = list[DeviceConfig]()
        for way in ways:
            noted = {one for each in configs for one in each.skipped}  # what both ways leave out is noted once
            for each in read_items(file, items, way, interface, routing):
                skipped = tuple(one for one in each.skipped if one not in noted)
                if each.subject == "rules":
                    configs.append(replace(each, direction=way, skipped=skipped))
                elif way == ways[0]:
                    configs.append(each)
        return tuple(configs)
    ruleset, first = _walked(items, direction, interface, "first")
    if not any(ruleset.base_chains(hook) for way in HOOKS for hook in HOOKS[way]):
        hooks = " or ".join(HOOKS[direction])
        raise bad_file(file, f"found no filter of a host; expected a base chain of {hooks}")
    apart = tells_packets_apart(items)
    after, later = _walked(items, direction, interface, "later") if apart else (ruleset, first)
    back, answer = _walked(items, "out" if direction == "in" else "in", interface, "answer")
    # what comes in is delivered here whatever its mark: of a host only what it sends is sent by one
    if direction == "out":
        elsewhere = list(
            dict.fromkeys(each for one in (ruleset, after) for each in one.sent_by_mark(("output",), routing))
        )
    else:
        elsewhere = [replace(each, box=each.box.answered) for each in back.sent_by_mark(("output",), routing)]
    stopped = ruleset.stopped_later(first, later, answer, elsewhere)
    flat = [*(each for hook in HOOKS[direction] for each in _rewrites_of_host(ruleset, hook)), *stopped, *first[0]]
    if troubles := (*ruleset.troubles, *after.troubles, *back.troubles):
        raise BadInput(file, *(InputProblem(0, each) for each in dict.fromkeys(troubles)))
    values = tuple(ParsedValue(("rules",), as_rule(each), 0) for each in flat)
    helper, skipped = ftp_helper(items)
    rules = DeviceConfig(file, "rules", values, (*skipped, *left_of(ruleset)), first[1], of_ruleset=True)
    switches = tuple(ParsedValue((key,), value, 0) for key, value in helper.items() if key != "helper_sees")
    return (rules, DeviceConfig(file, "switches", switches)) if switches else (rules,)


def _walked(items: Sequence[dict[str, Any]], direction: Way, interface: str, stage: Stage) -> tuple[Ruleset, Flat]:
    """What becomes of one packet of all connections that go one way."""
    # whatever comes in is for the host itself, whatever goes out is for somebody else; it stands on one network
    ends = (EVERYBODY, AddressSet()) if direction == "in" else (AddressSet(), EVERYBODY)
    around = Around(*ends, routed_back=EVERYBODY if direction == "in" else None)
    found = Ruleset(items, {_INTERFACES[direction]: interface} if interface else {}, around=around, stage=stage)
    return found, found.laid_flat([chain for hook in HOOKS[direction] for chain in found.base_chains(hook)])


def _rewrites_of_host(ruleset: Ruleset, hook: str) -> Iterator[Decided]:
    """What a host rewrites of its own connections, which has no words in a site: it is unknown where that leads."""
    skipped = [EVERYTHING]
    for chain in ruleset.base_chains(hook, "nat"):
        for each in list(ruleset.walk(chain, skipped, skipped, 0)):
            mine = common(skipped, [each.box])
            if each.doubt is not None:
                ruleset.doubts[each.doubt] |= bool(mine)
            yield from (replace(each, box=part, likely=None) for part in mine if each.action != "allow")
            skipped = without(skipped, each.box) if each.settles else skipped


def left_of(*rulesets: Ruleset) -> tuple[Skipped, ...]:
    """What a site cannot say of some rule sets: each rule once, and sets that change by themselves."""
    doubts: dict[tuple[int, str, str], bool] = {}
    for each in rulesets:
        for doubt, unknown in each.doubts.items():
            key = (doubt.line, doubt.where, doubt.what)
            doubts[key] = doubts.get(key, False) or unknown
    found = [
        Skipped(
            line,
            where,
            f"a site file cannot state “{what}”: "
            + ("what it may match is unknown" if unknown else "no effect: the following rules do the same"),
        )
        for (line, where, what), unknown in doubts.items()
    ]
    filled = dict.fromkeys(name for each in rulesets for name in each.filled)
    return (*found, *(Skipped(0, each, "changes by itself: taken as it was when it was listed") for each in filled))


def as_rule(verdict: Decided) -> Rule:
    """The rule of a site that says the same."""
    box = verdict.box
    both = box.protocols == TRANSPORTS
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
