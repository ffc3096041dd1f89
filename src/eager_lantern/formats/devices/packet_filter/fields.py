"""Fields of a packet: which connections have which values of them, and what packets of a connection have anyway (public
interface of libnftables, its JSON)."""

import operator
from collections.abc import Callable, Mapping, Sequence
from functools import lru_cache
from typing import Any, Literal

from ....core.model.site import Refusal
from ....core.values.addresses import AddressSet
from ....core.values.intervals import MOST_REMEMBERED
from ....core.values.ports import PortSet
from .boxes import EVERYBODY, IPV4, IPV6, TRANSPORTS, Box, common, family_box
from .marks import Unsayable

Stage = Literal["first", "answer", "later"]
"""A packet of a connection: its first one, what the other end answers, and what its beginner sends from then on."""
STATES: Mapping[Stage, tuple[str, int]] = {
    "first": ("new", 8),
    "answer": ("established", 2),
    "later": ("established", 2),
}
"""The state of a connection when such a packet comes, by name and by its bit (NF_CT_STATE_BIT)."""
DIRECTIONS: Mapping[Stage, tuple[str, int]] = {
    "first": ("original", 0),
    "answer": ("reply", 1),
    "later": ("original", 0),
}
_FLAGS: Mapping[Stage, frozenset[str]] = {
    "first": frozenset(("syn",)), "answer": frozenset(("syn", "ack")), "later": frozenset(("ack",)),
}  # fmt: skip
"""The flags of such a packet of TCP (RFC 9293, section 3.5)."""
_FLAG_BITS = ("fin", "syn", "rst", "psh", "ack", "urg", "ecn", "cwr")
SEGMENT_BYTES = {"tcp option": {"name": "maxseg", "field": "size"}}
TCP_FLAGS = {"payload": {"protocol": "tcp", "field": "flags"}}
NOT_IN = "not in"
"""None of the bits that are asked for; the list itself has no word for it, and the older filter has."""
_WITH_PORTS = {"tcp": frozenset(("tcp",)), "udp": frozenset(("udp",)), "th": TRANSPORTS}
_OTHERS = ("icmp", "icmpv6", "igmp", "esp", "ah", "sctp", "dccp")
"""Protocols that are neither TCP nor UDP, and whose fields those have not."""
FAMILY_OF: dict[object, str] = {
    "ipv4": "ip", "ipv6": "ip6", 2: "ip", 10: "ip6", "ip": "ip", "ip6": "ip6", 0x0800: "ip", 0x86DD: "ip6",
}  # fmt: skip
"""Families in words and by number (NFPROTO_IPV4, NFPROTO_IPV6), and as a frame has them (RFC 7042, section 3)."""
_KINDS_BY_NUMBER = {"1": "unicast", "2": "local", "3": "broadcast", "4": "anycast", "5": "multicast"}
"""Kinds of addresses by number (RTN_UNICAST, RTN_LOCAL, RTN_BROADCAST, RTN_ANYCAST, RTN_MULTICAST)."""
_NOBODYS = ("broadcast", "anycast", "multicast")
HOPS_LEFT = [
    {"payload": {"protocol": "ip", "field": "ttl"}}, {"payload": {"protocol": "ip6", "field": "hoplimit"}},
]  # fmt: skip
_FEWEST_HOPS_LEFT = 32
COMPARES: dict[str, Callable[[int, int], bool]] = {
    "<": operator.lt, "<=": operator.le, ">": operator.gt, ">=": operator.ge,
}  # fmt: skip
FRAGMENT, DONT_FRAGMENT = {"payload": {"protocol": "ip", "field": "frag-off"}}, 0x4000
"""Where a fragment begins, and the bit beside it that a packet may not be cut (RFC 791, section 3.1)."""
_KINDS: dict[str, Refusal] = {
    "port-unreachable": "port-unreachable",
    "host-unreachable": "host-unreachable",
    "addr-unreachable": "host-unreachable",
    "net-unreachable": "host-unreachable",
    "no-route": "host-unreachable",
    "reject-route": "prohibited",
    "policy-fail": "prohibited",
    "admin-prohibited": "prohibited",
    "host-prohibited": "prohibited",
    "net-prohibited": "prohibited",
}
"""What the sender hears; of a network nobody answers as of a host, and who forbids it is not told apart."""
_CODES = {
    ("icmp", 0): "net-unreachable", ("icmp", 1): "host-unreachable", ("icmp", 3): "port-unreachable",
    ("icmp", 9): "net-prohibited", ("icmp", 10): "host-prohibited", ("icmp", 13): "admin-prohibited",
    ("icmpv6", 0): "no-route", ("icmpv6", 1): "admin-prohibited", ("icmpv6", 3): "addr-unreachable",
    ("icmpv6", 4): "port-unreachable", ("icmpv6", 5): "policy-fail", ("icmpv6", 6): "reject-route",
    ("icmpx", 0): "no-route", ("icmpx", 1): "port-unreachable", ("icmpx", 2): "host-unreachable",
    ("icmpx", 3): "admin-prohibited",
}  # fmt: skip
"""Codes of ICMP and ICMPv6 (RFC 792, RFC 4443), and the filter's own for both (NFT_REJECT_ICMPX_CODES)."""


def ports_compared(left: Mapping[str, Any], op: str, right: Any) -> Any:
    """The ports that are more or less than one. Raises Unsayable for other fields."""
    if left.get("payload", {}).get("field") not in ("dport", "sport") or not isinstance(right, int):
        raise Unsayable(f"{condition_name(left)} {op}")
    low, high = {"<": (1, right - 1), "<=": (1, right), ">": (right + 1, 65_535), ">=": (right, 65_535)}[op]
    return {"range": [low, high]} if low <= high else {"set": []}


def has_hops(op: str, values: Sequence[Any]) -> bool:
    """Whether packets may still pass so many routers: senders begin with 64 or more (RFC 1340), and no path has more
    than half as many. Raises Unsayable where some may and some not."""
    compares = COMPARES.get(op)
    answers = {
        any(compares(each, value) for value in values) if compares else (each in values) != (op in ("!=", NOT_IN))
        for each in range(_FEWEST_HOPS_LEFT, 256)
    }
    if len(answers) > 1 or not all(isinstance(each, int) for each in values):
        raise Unsayable(f"ttl {values[0]}")
    return answers.pop()


def spans_of(values: Sequence[Any], what: str) -> list[tuple[int, int]]:
    """Numbers and ranges of them as ranges. Raises Unsayable for anything else."""
    spans = [tuple(each["range"]) if isinstance(each, dict) and "range" in each else (each, each) for each in values]
    if not all(len(span) == 2 and isinstance(end, int) for span in spans for end in span):
        raise Unsayable(what)
    return [(low, high) for low, high in spans]


def addresses_of_kind(kind: str, own: AddressSet | None) -> list[AddressSet]:
    """The addresses of a kind, as routes tell them; those of many are none that anybody connects to or from. Raises
    Unsayable where the kind is that of one's own, and these are not known."""
    kind = _KINDS_BY_NUMBER.get(kind, kind)
    if kind in _NOBODYS:
        return []
    if own is None or kind not in ("local", "unicast"):
        raise Unsayable(f"an address of kind {kind}")
    return [own] if kind == "local" else [EVERYBODY - own]


def is_new(right: Any) -> bool:
    """Whether new connections are among the states that are asked for."""
    return is_among(STATES["first"], right)


def is_among(known: tuple[str, int], right: Any) -> bool:
    """Whether a state or direction, by its name and its number, is among those that are asked for; states by number
    are bits."""
    name, number = known
    named = right if isinstance(right, list) else right["set"] if isinstance(right, dict) else [right]
    bits = name not in ("original", "reply")
    return any(
        each == name or (isinstance(each, int) and (each & number if bits else each == number)) for each in named
    )


def has_flags(left: Mapping[str, Any], op: str, right: Any, stage: Stage) -> bool:
    """Whether a packet of TCP has the flags that are asked for. Raises Unsayable for what is asked otherwise."""
    mask = _flag_set(left["&"][1]) if "&" in left else frozenset(_FLAG_BITS)
    found = _FLAGS[stage] & mask
    if op == "!":
        return not found & _flag_set(right)
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


def is_called(interface: str, pattern: str) -> bool:
    """Whether an interface is the one of a rule; a name that ends in * stands for all that begin so."""
    return interface.startswith(pattern[:-1]) if pattern.endswith("*") else interface == pattern


def bare_element(element: Any) -> Any:
    """An element of a set without its comment or counter."""
    return element["elem"]["val"] if isinstance(element, dict) and "elem" in element else element


def transports(values: Sequence[Any]) -> frozenset[str]:
    """Transports by name or by number (RFC 5237)."""
    return frozenset({6: "tcp", 17: "udp"}.get(each, str(each)) for each in values) & TRANSPORTS


def of_the_kind(left: dict[str, Any], boxes: list[Box]) -> list[Box]:
    """Of what has not some value, what has the field at all: a port of TCP is none of UDP's, an address of IPv4 none of
    IPv6's."""
    protocol = left.get("payload", {}).get("protocol")
    if protocol in _OTHERS:
        return []
    if protocol in ("tcp", "udp"):
        return common(boxes, [Box(protocols=frozenset((protocol,)))])
    return common(boxes, [family_box(protocol)]) if protocol in ("ip", "ip6") else boxes


def of_payload(protocol: Any, name: Any, values: Sequence[Any]) -> list[Box]:
    """The connections of which a field of the packet has one of some values."""
    if protocol in _WITH_PORTS and name in ("dport", "sport"):
        ports, both = union_of_ports(values), _WITH_PORTS[protocol]
        return [Box(both, ports=ports) if name == "dport" else Box(both, from_ports=ports)]
    if protocol in ("ip", "ip6") and name in ("saddr", "daddr"):
        addresses, everybody = _union_of_addresses(values), IPV4 if protocol == "ip" else IPV6
        asked = (addresses, everybody) if name == "saddr" else (everybody, addresses)
        return [Box(sources=asked[0], targets=asked[1])]
    if (protocol, name) in (("ip", "protocol"), ("ip6", "nexthdr")):
        return [family_box(protocol) & Box(protocols=transports(values))]
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


def refusal_of(detail: dict[str, Any] | None) -> Refusal | None:
    """With what is refused; None for what a site does not tell apart."""
    if detail is None:
        return "port-unreachable"
    if detail.get("type") == "tcp reset":
        return "reset"
    values = detail.get("expr", "port-unreachable")
    kind = _CODES.get((str(detail.get("type")), values), str(values)) if isinstance(values, int) else str(values)
    return _KINDS.get(kind)


def condition_name(left: Mapping[str, Any]) -> str:
    """What is asked for, in the filter's own words."""
    field = next(iter(left))
    inner = left[field]
    if isinstance(inner, list) and inner and isinstance(inner[0], dict):
        return f"{condition_name(inner[0])} {field}"
    return " ".join([field, *(str(each) for each in inner.values())]) if isinstance(inner, dict) else field
