"""The rule set of a gateway as the kernel lists it, as forwards, filters and switches of a site (public interface of
libnftables).

Theory: one rule set, three walks
=================================
A connection from outside meets the rewriting of destinations, then the filter of what is handed on; one from inside the
filter and then the rewriting of sources. So the rule set is walked three times, each time as a packet that comes in by
one interface and leaves by the other; what a rule says of interfaces is known then. The filter sees destinations as
they are inside. Rules may ask whether a destination was rewritten, or for the mark that the rewriting rule left: the
filter is walked as such a connection too, and a forward opens it where all of these pass.

What a gateway does with connections to itself is no matter of a site.
"""

import json
from collections.abc import Iterator, Sequence
from typing import Any, Literal

from msgspec import Struct

from ..core.adoption.told import Left, Reading, Told
from ..core.model.entries import Port
from ..core.model.site import Filter, Forward, Gateway, Site
from ..core.values.addresses import Address, AddressSet
from ..core.values.ports import EVERY_PORT, PortSet
from .nft_ruleset import (
    EVERYBODY,
    IPV4,
    IPV6,
    Box,
    Chain,
    Decided,
    Ruleset,
    Unsayable,
    as_rule,
    common,
    union_of_ports,
    without,
)
from .problem import BadInput, InputProblem

Items = Sequence[dict[str, Any]]
_ELSEWHERE = ("prerouting", "postrouting")
_DSTNAT = -100
"""The priority at which destinations are rewritten (NF_IP_PRI_NAT_DST)."""


class Sides(Struct, frozen=True):
    """The names of a gateway's interfaces."""

    outside: str
    inside: str


def read_gateway(file: str, items: Items, site: Site, gateway: Gateway, sides: Sides) -> tuple[Reading, ...]:
    """Its forwards, both filters and switches. Raises BadInput with every rule that a site cannot say."""
    troubles: list[str] = []
    try:
        items, helper = _without_helper(items)
        forwards, marks = _forwards(items, gateway, sides.outside, troubles)
        inward, last = _filtered(items, sides.outside, sides.inside, troubles)
        outward, last_out = _filtered(items, sides.inside, sides.outside, troubles)
        switches: dict[str, object] = {"filter_sees": "inside", **helper}
        switches |= _translation(items, site, gateway, sides, troubles)
        switches["forwards_pass_filter"] = _opens(items, sides, (forwards, marks), (inward, last), troubles)
        turns = _turning(items, site, gateway, sides, forwards)
    except (ValueError, KeyError, TypeError, RecursionError, AttributeError, IndexError) as error:
        raise BadInput(file, InputProblem(0, f"is no rule set that is understood: {error!r:.80}")) from None
    if troubles:
        raise BadInput(file, *(InputProblem(0, each) for each in dict.fromkeys(troubles)))
    told = tuple(Told((key,), value, 0) for key, value in (switches | (turns or {})).items())
    whom = "clients inside that use the outside address"
    left = (
        ()
        if turns is not None
        else (Left(0, whom, "are not turned back as outside ones are: see hairpin in the file"),)
    )
    return (
        Reading(file, "forwards", tuple(Told((), each, 0) for each in forwards), left),
        _table(file, inward, last, "in"),
        _table(file, outward, last_out, "out"),
        Reading(file, "switches", told),
    )


def _without_helper(items: Items) -> tuple[Items, dict[str, object]]:
    """The rule set without the rules that give control connections to the FTP helper, and what they come to; one that
    asks for more than the family and the port stays, and is told as one that a site cannot say."""
    helpers = {_name(each["ct helper"]) for each in items if each.get("ct helper", {}).get("type") == "ftp"}
    chains = {_key(each["chain"], "name"): each["chain"] for each in items if "chain" in each}
    kept: list[dict[str, Any]] = []
    found: dict[str, object] = {}
    for item in items:
        rule = item.get("rule", {"expr": [{}]})
        ports = _watched(rule["expr"][:-1])
        named = (rule.get("family"), rule.get("table"), rule["expr"][-1].get("ct helper"))
        if ports is None or named not in helpers:
            kept.append(item)
            continue
        chain = chains[_key(rule, "chain")]
        before = chain.get("hook") == "prerouting" and chain.get("prio", 0) < _DSTNAT
        found = {"ftp_helper": True, "helper_ports": ports, "helper_sees": "outside" if before else "inside"}
    return kept, found


def _name(each: dict[str, Any]) -> tuple[object, ...]:
    return each["family"], each["table"], each["name"]


def _watched(expressions: Sequence[dict[str, Any]]) -> PortSet | None:
    """The ports of TCP that statements ask for, beside a family; None where they ask for anything else."""
    ports = PortSet()
    for each in expressions:
        match = each.get("match", {})
        left, right = match.get("left", {}), match.get("right")
        if match.get("op") == "==" and left == {"payload": {"protocol": "tcp", "field": "dport"}}:
            values = right["set"] if isinstance(right, dict) and "set" in right else [right]
            ports = ports | union_of_ports(values)
        elif "match" not in each or left != {"meta": {"key": "nfproto"}}:
            return None
    return ports or None


def _table(file: str, flat: Sequence[Decided], default: Filter, way: Literal["in", "out"]) -> Reading:
    told = tuple(Told(("rules",), as_rule(each), 0) for each in flat)
    return Reading(file, "rules", told, (), default, of_ruleset=True, direction=way)


def items_of_nft(file: str, text: str) -> Items:
    """What ``nft -j list ruleset`` prints. Raises BadInput."""
    try:
        found: Items = json.loads(text)["nftables"]
    except (ValueError, KeyError, TypeError, RecursionError) as error:
        raise BadInput(file, InputProblem(0, f"is no rule set as nft prints it: {error!r:.80}")) from None
    return found


def _filtered(
    items: Items, comes: str, leaves: str, troubles: list[str], mark: int = 0, rewritten: bool = False
) -> tuple[list[Decided], Filter]:
    """What a gateway hands on from one side to another, of connections with a mark that were rewritten or not."""
    ruleset = Ruleset(items, {"iifname": comes, "oifname": leaves}, mark, rewritten)
    for hook in _ELSEWHERE:
        for chain in ruleset.base_chains(hook):
            if ruleset.rules.get(chain):
                where = f"table {chain[1]}, chain {chain[2]}"
                troubles.append(f"{where}: filters at {hook}, which a gateway in a site does not")
    ruleset.troubles.clear()
    chains = ruleset.base_chains("forward")
    found = ruleset.laid_flat(chains) if chains else ([], Filter(default="allow"))
    troubles += ruleset.troubles
    return found


def _opens(
    items: Items,
    sides: Sides,
    forwards: tuple[Sequence[Forward], Sequence[int]],
    plain: tuple[list[Decided], Filter],
    troubles: list[str],
) -> bool:
    """Whether a forward opens the filter: rewritten connections pass it all, or as others do."""
    handed, marks = _handed(forwards[0]), forwards[1] or (0,)
    told = [_filtered(items, sides.outside, sides.inside, troubles, each, rewritten=True) for each in marks]
    if all(_lets_pass(handed, *each) for each in told):
        return True
    if any(each != plain for each in told):
        troubles.append("a site cannot say that forwarded connections are filtered otherwise than others")
    return False


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


def _lets_pass(left: Sequence[Box], flat: Sequence[Decided], default: Filter) -> bool:
    """Whether all of some connections pass."""
    left = list(left)
    for each in flat:
        if each.action != "allow" and common(left, [each.box]):
            return False
        left = without(left, each.box)
    return default.default == "allow" or not left


def _turning(
    items: Items, site: Site, gateway: Gateway, sides: Sides, forwards: Sequence[Forward]
) -> dict[str, object] | None:
    """How clients inside that use the outside address are turned back; None where not as a site can say it."""
    troubles: list[str] = []
    inside, marks = _forwards(items, gateway, sides.inside, troubles)
    if not inside and not troubles:
        return {"hairpin": False}
    same = {(each.protocol, each.ports, each.to, each.to_port) for each in inside} == {
        (each.protocol, each.ports, each.to, each.to_port) for each in forwards
    }
    mark = marks[0] if len(marks) == 1 else None
    if troubles or not same or mark is None:
        return None
    passed = _filtered(items, sides.inside, sides.inside, troubles, mark, rewritten=True)
    ruleset = Ruleset(items, {"iifname": sides.inside, "oifname": sides.inside}, mark, rewritten=True)
    hidden = [
        each for chain in ruleset.base_chains("postrouting", "nat") for each in ruleset.walk(chain, [Box()], [Box()], 0)
    ]
    rest = [Box(sources=_subnet(site, gateway).of_family(4), targets=IPV4)]
    for each in hidden:
        rest = without(rest, each.box)
    sources = {_source(each, gateway) for each in hidden}
    if (
        troubles
        or ruleset.troubles
        or not _lets_pass(_handed(inside), *passed)
        or len(sources) > 1
        or (hidden and rest)
    ):
        return None
    (source,) = sources or {"kept"}
    return {"hairpin": True, "hairpin_source": source} if source else None


def _source(each: Decided, gateway: Gateway) -> str:
    """As whom a client inside is turned back; empty where as nobody that a site knows."""
    word, detail = each.rewrite or ("", {})
    if word == "masquerade":
        return "inside"
    own = Address.parse(str(detail.get("addr", "")) or "0.0.0.0") if word == "snat" else None
    return (
        "inside" if own in gateway.inside.address.each else "outside" if own in gateway.outside_addresses.each else ""
    )


def _forwards(items: Items, gateway: Gateway, comes: str, troubles: list[str]) -> tuple[list[Forward], tuple[int, ...]]:
    """In the order of its rules, with the marks that they leave on connections; a rule that accepts takes out what it
    matches of those behind it."""
    ruleset = Ruleset(items, {"iifname": comes})
    found: list[Forward] = []
    marks: list[int] = []
    left = [Box()]
    for chain in ruleset.base_chains("prerouting", "nat"):
        where = f"table {chain[1]}, chain {chain[2]}"
        for each in list(ruleset.walk(chain, left, left, 0)):
            if each.action != "allow":
                troubles.append(f"{where}: turns packets away before they are filtered")
            elif each.rewrite is None:
                left = without(left, each.box)
            else:
                marks.append(each.rewrite[1]["mark"])
                try:
                    found += [one for box in common(left, [each.box]) for one in _as_forwards(each, box, gateway)]
                except Unsayable as error:
                    troubles.append(f"{where}: {error}")
    troubles += ruleset.troubles
    return found, tuple(dict.fromkeys(marks))


def _as_forwards(each: Decided, box: Box, gateway: Gateway) -> Iterator[Forward]:
    """One forward for each transport. Raises Unsayable."""
    word, detail = each.rewrite or ("", None)
    if word != "dnat" or not isinstance(detail, dict) or not isinstance(detail.get("addr"), str):
        raise Unsayable(f"a site cannot say what “{word}” does here")
    if box.from_ports != EVERY_PORT:
        raise Unsayable("a forward by the sender's port")
    to, port = Address.parse(detail["addr"]), detail.get("port")
    if port is not None and (not isinstance(port, int) or len(box.ports) != 1):
        raise Unsayable("a forward of several ports to one, or to any of several")
    own = AddressSet.single(*gateway.outside_addresses.each)
    if each.box.targets & own and not box.targets & own:
        return  # what a rule before it has left of it is of nobody's address
    for protocol in sorted(box.protocols):
        yield Forward(
            name=each.name,
            protocol="tcp" if protocol == "tcp" else "udp",
            ports=box.ports,
            to=to,
            to_port=Port(port) if port is not None and port != box.ports.lowest else None,
            from_=None if box.sources in (EVERYBODY, IPV4) else box.sources,
            outside=_outside(box.targets, gateway),
        )


def _outside(targets: AddressSet, gateway: Gateway) -> Address | None:
    """The outside address that a forward is of, None where it is of all. Raises Unsayable."""
    own = AddressSet.single(*gateway.outside_addresses.of_family(4))
    if not own - targets:
        return None
    mine = targets & own
    if len(mine) != 1:
        raise Unsayable(f"a forward of {targets}, where {gateway.name} has {own or 'no address'} outside")
    return Address(mine.lowest)


def _translation(
    items: Items, site: Site, gateway: Gateway, sides: Sides, troubles: list[str]
) -> Iterator[tuple[str, str]]:
    """Whether the inside is hidden behind the outside address, of each family that it has."""
    subnet = _subnet(site, gateway)
    ruleset = Ruleset(items, {"iifname": sides.inside, "oifname": sides.outside})
    hidden: list[Box] = []
    for chain in ruleset.base_chains("postrouting", "nat"):
        left = [Box()]
        for each in list(ruleset.walk(chain, left, left, 0)):
            word, detail = each.rewrite or ("", {})
            if word:
                hidden += common(left, [each.box])
            left = without(left, each.box)
            if word == "snat" and Address.parse(str(detail["addr"])) not in gateway.outside_addresses:
                troubles.append(f"{gateway.name} hides the inside behind {detail['addr']}, which is none of its own")
    troubles += ruleset.troubles
    for key, everybody, inside in (
        ("translate", IPV4, subnet.of_family(4)),
        ("translate_ipv6", IPV6, subnet.of_family(6)),
    ):
        rest = [Box(sources=inside, targets=everybody)] if inside else []
        whole = list(rest)
        for box in hidden:
            rest = without(rest, box)
        if inside and rest not in ([], whole):
            troubles.append("a site cannot say that only some of the inside is translated")
        elif inside:
            yield key, "none" if rest else "outward"


def _subnet(site: Site, gateway: Gateway) -> AddressSet:
    return next((each.subnet for each in site.networks if each.name == gateway.inside.network), AddressSet())


def _key(each: dict[str, Any], name: str) -> Chain:
    return each["family"], each["table"], each[name]
