"""The rule set of a gateway as the kernel lists it, as forwards, filters and switches of a site (public interface of
libnftables).

Theory: one rule set, three walks
=================================
A connection from outside meets the rewriting of destinations, then the filter of what is handed on; one from inside the
filter and then the rewriting of sources. So the rule set is walked three times, each time as a packet that comes in by
one interface and leaves by the other; what a rule says of interfaces is known then. The filter sees destinations as
they are inside. That a forward opens the filter is said by one rule at its head, which lets pass whatever was
rewritten; any other word of rewriting in a filter is told as one that a site cannot say.

What a gateway does with connections to itself is no matter of a site, and how it turns inside clients back is not read.
"""

import json
from collections.abc import Iterator, Sequence
from typing import Any, Literal

from msgspec import Struct

from ..core.adoption.told import Left, Reading, Told
from ..core.model.entries import Port
from ..core.model.site import Filter, Forward, Gateway, Site
from ..core.values.addresses import Address, AddressSet
from ..core.values.ports import EVERY_PORT
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
    without,
)
from .problem import BadInput, InputProblem

Items = Sequence[dict[str, Any]]
_ELSEWHERE = ("prerouting", "postrouting")


class Sides(Struct, frozen=True):
    """The names of a gateway's interfaces."""

    outside: str
    inside: str


def read_gateway(file: str, items: Items, site: Site, gateway: Gateway, sides: Sides) -> tuple[Reading, ...]:
    """Its forwards, both filters and switches. Raises BadInput with every rule that a site cannot say."""
    try:
        kept, opened = _without_opening(items)
        troubles: list[str] = []
        forwards = _forwards(kept, gateway, sides, troubles)
        inward = _filter(file, kept, sides.outside, sides.inside, "in", troubles)
        outward = _filter(file, kept, sides.inside, sides.outside, "out", troubles)
        switches: dict[str, object] = dict(_translation(kept, site, gateway, sides, troubles))
    except (ValueError, KeyError, TypeError, RecursionError, AttributeError, IndexError) as error:
        raise BadInput(file, InputProblem(0, f"is no rule set that is understood: {error!r:.80}")) from None
    if troubles:
        raise BadInput(file, *(InputProblem(0, each) for each in dict.fromkeys(troubles)))
    switches |= {"forwards_pass_filter": opened, "filter_sees": "inside"}
    told = tuple(Told((key,), value, 0) for key, value in switches.items())
    not_read = Left(0, "clients inside that use the outside address", "is not read: see hairpin in the file")
    return (
        Reading(file, "forwards", tuple(Told((), each, 0) for each in forwards), (not_read,)),
        inward,
        outward,
        Reading(file, "switches", told),
    )


def items_of_nft(file: str, text: str) -> Items:
    """What ``nft -j list ruleset`` prints. Raises BadInput."""
    try:
        found: Items = json.loads(text)["nftables"]
    except (ValueError, KeyError, TypeError, RecursionError) as error:
        raise BadInput(file, InputProblem(0, f"is no rule set as nft prints it: {error!r:.80}")) from None
    return found


def _without_opening(items: Items) -> tuple[list[dict[str, Any]], bool]:
    """The rule set without the rule by which forwards pass its filter, and whether there is one: before anything of
    that chain turns a packet away."""
    heads: set[Chain] = set()
    bases = {_key(each["chain"], "name") for each in items if each.get("chain", {}).get("hook") == "forward"}
    kept, opened = [], False
    for item in items:
        rule = item.get("rule")
        key = _key(rule, "chain") if rule else None
        if rule and key in bases and key not in heads and rule["expr"] in _OPENS:
            opened = True
            continue
        if rule and key is not None and not any("accept" in each for each in rule["expr"]):
            heads.add(key)
        kept.append(item)
    return kept, opened


def _opens(right: object) -> list[dict[str, Any]]:
    return [{"match": {"op": "in", "left": {"ct": {"key": "status"}}, "right": right}}, {"accept": None}]


_OPENS = (_opens("dnat"), _opens(32))
"""In words, and by the bit of a connection's status (IPS_DST_NAT)."""


def _key(each: dict[str, Any], name: str) -> Chain:
    return each["family"], each["table"], each[name]


def _filter(
    file: str, items: Items, comes: str, leaves: str, way: Literal["in", "out"], troubles: list[str]
) -> Reading:
    """What a gateway hands on from one side to the other."""
    ruleset = Ruleset(items, {"iifname": comes, "oifname": leaves})
    for hook in _ELSEWHERE:
        for chain in ruleset.base_chains(hook):
            if ruleset.rules.get(chain):
                troubles.append(
                    f"table {chain[1]}, chain {chain[2]}: filters at {hook}, which a gateway in a site does not"
                )
    ruleset.troubles.clear()
    chains = ruleset.base_chains("forward")
    flat: list[Decided] = []
    default = Filter(default="allow")
    if chains:
        flat, default = ruleset.laid_flat(chains)
    troubles += ruleset.troubles
    told = tuple(Told(("rules",), as_rule(each), 0) for each in flat)
    return Reading(file, "rules", told, (), default, of_ruleset=True, direction=way)


def _forwards(items: Items, gateway: Gateway, sides: Sides, troubles: list[str]) -> list[Forward]:
    """In the order of its rules; a rule that accepts takes out what it matches of those behind it."""
    ruleset = Ruleset(items, {"iifname": sides.outside})
    found: list[Forward] = []
    left = [Box()]
    for chain in ruleset.base_chains("prerouting", "nat"):
        where = f"table {chain[1]}, chain {chain[2]}"
        for each in list(ruleset.walk(chain, left, left, 0)):
            if each.action != "allow":
                troubles.append(f"{where}: turns packets away before they are filtered")
            elif each.rewrite is None:
                left = without(left, each.box)
            else:
                try:
                    found += [one for box in common(left, [each.box]) for one in _as_forwards(each, box, gateway)]
                except Unsayable as error:
                    troubles.append(f"{where}: {error}")
    troubles += ruleset.troubles
    return found


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
    subnet = next((each.subnet for each in site.networks if each.name == gateway.inside.network), AddressSet())
    ruleset = Ruleset(items, {"oifname": sides.outside})
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
