"""The FTP helper of a rule set: which control connections are given to it. What becomes of these does not hang on that;
their data connections do, which the filter lets in as related to them."""

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from ...core.adoption.told import Left
from ...core.values.ports import PortSet
from .rule import Unsayable, is_new, union_of_ports
from .walk import Chain

_DSTNAT = -100
"""The priority at which destinations are rewritten (NF_IP_PRI_NAT_DST)."""


def ftp_helper(items: Sequence[Mapping[str, Any]]) -> tuple[dict[str, object], tuple[Left, ...]]:
    """The keys of a gateway that say the same, none where nothing is given to the helper, and the rules that ask for
    more than a port, which no key says."""
    names = {_name(each["ct helper"]) for each in items if each.get("ct helper", {}).get("type") == "ftp"}
    if not names:
        return {}, ()
    chains = {_chain(each["chain"], "name"): each["chain"] for each in items if "chain" in each}
    watched, before, left = PortSet(), False, list[Left]()
    for rule in (each["rule"] for each in items if "rule" in each):
        given = next((each["ct helper"] for each in rule["expr"] if "ct helper" in each), None)
        if (rule["family"], rule["table"], given) not in names:
            continue
        ports = _asked(rule["expr"])
        if ports is None:
            where = f"table {rule['table']}, chain {rule['chain']}, handle {rule.get('handle')}"
            left.append(
                Left(int(rule.get("line", 0)), where, "gives some to the FTP helper: see ftp_helper in the file")
            )
            continue
        watched = watched | ports
        chain = chains[_chain(rule, "chain")]
        before = before or (chain.get("hook") == "prerouting" and chain.get("prio", 0) < _DSTNAT)
    if not watched:
        return {}, tuple(left)
    sees = "outside" if before else "inside"
    return {"ftp_helper": True, "helper_ports": watched, "helper_sees": sees}, tuple(left)


def _asked(expressions: Sequence[Mapping[str, Any]]) -> PortSet | None:
    """The ports of TCP that statements ask for, of new connections; None where they ask for anything else."""
    matches = list(_matches(expressions))
    ports = PortSet()
    for match in matches:
        left, right = match["left"], match["right"]
        if match["op"] == "==" and left == {"payload": {"protocol": "tcp", "field": "dport"}}:
            values = right["set"] if isinstance(right, dict) and "set" in right else [right]
            try:
                ports = ports | union_of_ports(values)
            except Unsayable:
                return None
        elif left == {"ct": {"key": "state"}}:
            if not is_new(right):
                return None
        elif left not in ({"meta": {"key": "nfproto"}}, {"meta": {"key": "l4proto"}}):
            return None
    return ports or None


def _matches(expressions: Sequence[Mapping[str, Any]]) -> Iterator[Mapping[str, Any]]:
    """What a rule asks for; a statement that is not known asks for something that nobody knows."""
    for each in expressions:
        if "match" in each:
            yield each["match"]
        elif not {"ct helper", "counter", "comment", "accept"} & each.keys():
            yield {"op": "", "left": None, "right": None}


def _name(each: Mapping[str, Any]) -> tuple[object, ...]:
    return each["family"], each["table"], each["name"]


def _chain(each: Mapping[str, Any], name: str) -> Chain:
    return each["family"], each["table"], each[name]
