"""Firewall rules of a network (public interface), as ``gcloud compute firewall-rules list --format=json`` prints them.

The lowest priority counts first; of rules of one priority that deny and allow, the denial counts; connections are kept
track of. What no rule is about is denied inward and allowed outward. A rule for machines with a tag or a service
account may be about this machine or not: the list does not state it, and ``gcloud compute instances describe``, given
beside it, does.

Written are rules as ``gcloud compute firewall-rules create`` takes them, for machines with one tag, in the order of the
file. They have no ports of the sender: what is let in from some ports alone is left out, what is denied so is denied
from every port, and both are named.
"""

import shlex
from collections.abc import Iterable, Iterator, Mapping
from functools import partial
from typing import Any

from ....core.changes.adopted import DeviceConfig
from ....core.model.site import Filter, Gateway, Site
from ....core.network.filters import Match, compiled
from ....core.values.addresses import AddressSet
from ....core.values.ports import EVERY_PORT, PortSet
from ...reading import bad_file
from ..format import DeviceFormat, DeviceTarget
from ..packet_filter.boxes import EVERYBODY, EVERYTHING, Box
from ..unordered import box_of
from .commands import Script, for_each_cloud, mark_of, of_each_family, plain, spans
from .listing import Entry, json_of, listed, reader


def _is_listing(file: str, text: str) -> bool:
    is_rules = '"direction"' in text and ('"allowed"' in text or '"denied"' in text)
    return (is_rules or _is_machine(text)) and json_of(text) is not None


def _is_machine(text: str) -> bool:
    return '"networkInterfaces"' in text and '"compute#instance"' in text


def _read(texts: Mapping[str, str], target: DeviceTarget) -> list[DeviceConfig]:
    """The rules, and which of them are about a machine that is described beside them."""
    machines = {file: text for file, text in texts.items() if _is_machine(text)}
    if len(machines) > 1 or len(machines) == len(texts):
        raise bad_file(next(iter(machines)), "found no rules beside one machine; expected its network's rules as well")
    names = _names_of(next(iter(machines.values()))) if machines else None
    read = reader(partial(_entries, names), {"in": "deny", "out": "allow"})
    return read({file: text for file, text in texts.items() if file not in machines}, target)


def _names_of(text: str) -> frozenset[str]:
    """The tags and service accounts of a machine, by which rules are about it."""
    (machine,) = listed(json_of(text), "")
    accounts = (each.get("email") for each in machine.get("serviceAccounts") or () if isinstance(each, dict))
    tags = machine.get("tags")
    return frozenset(map(str, ((tags.get("items") or ()) if isinstance(tags, dict) else ()))) | {*map(str, accounts)}


def _entries(names: frozenset[str] | None, data: Any, beside: AddressSet) -> Iterable[Entry]:
    rules = listed(data, "items")
    networks = {str(each.get("network", "")) for each in rules}
    if len(networks) > 1:
        listing = ", ".join(sorted(each.rpartition("/")[2] for each in networks))
        raise ValueError(f"found rules of several networks ({listing}); expected those of the machine's own")
    for each in sorted(rules, key=lambda each: (int(each.get("priority", 1000)), not each.get("denied"))):
        limited = each.get("targetTags") or each.get("targetServiceAccounts")
        if limited and names is not None:
            if names.isdisjoint(limited):
                continue
            limited = None
        named = [f"asg-{one}" for key in ("sourceTags", "sourceServiceAccounts") for one in each.get(key) or ()]
        remark = f"it is for machines with {', '.join(limited)}: whether this is one is unknown" if limited else ""
        for action, parts in (("allow", each.get("allowed") or ()), ("deny", each.get("denied") or ())):
            for one in parts:
                yield Entry(
                    "in" if str(each.get("direction", "INGRESS")).upper() == "INGRESS" else "out",
                    "unknown" if limited else "allow" if action == "allow" else "deny",
                    str(one["IPProtocol"]),
                    tuple(map(str, one.get("ports") or ())),
                    (*(each.get("sourceRanges") or ()), *named),
                    tuple(each.get("destinationRanges") or ()),
                    name=str(each.get("name") or ""),
                    remark=remark,
                    enabled=not each.get("disabled", False),
                )


ENDING = "gcloud.sh"
FIRST, LAST = 1000, 65000
"""Priorities of the rules, and of that for what no rule is about."""
_SCRIPT = Script(
    ENDING, "firewall rules for machines with one tag", "NETWORK=... TAG=...",
    """\
network=${NETWORK:?the network of the machine} tag=${TAG:?the network tag of the machine}
ours() { # names of the rules that were made
  gcloud compute firewall-rules list --filter="name~^$made-[0-9a-f]{8}$" --format="value(name)"
}
there=$(ours)
rule() { # mark, options
  name=$made-$1
  wanted="$wanted $name "
  shift
  [ "$mode" = enter ] || return 0
  for each in $there; do [ "$each" != "$name" ] || return 0; done
  gcloud compute firewall-rules create "$name" --quiet --network="$network" --target-tags="$tag" "$@"
}
""",
    """\
[ "$mode" = list ] || ours | while read -r name; do
  case $mode:$wanted in enter:*" $name "*) continue ;; esac
  [ -z "$name" ] || gcloud compute firewall-rules delete "$name" --quiet
done
ours
""",
)  # fmt: skip


def _commands(site: Site, gateway: Gateway) -> Iterator[str]:
    yield "# The rules are for machines with the tag alone; give it to the server's machine, and to no other."
    tables: dict[str, Filter] = {"INGRESS": gateway.filter.inward, "EGRESS": gateway.filter.outward}
    if any(each.action == "refuse" for table in tables.values() for each in table.rules):
        yield "# The file refuses some connections; these rules deny them without an answer."
    for direction, table in tables.items():
        for number, match in enumerate(compiled(table, (), None, {}).matches):
            yield from _of_match(direction, FIRST + number, match)
        if (table.default == "allow") is (direction == "INGRESS"):  # the provider denies inward and allows outward
            action = "ALLOW" if table.default == "allow" else "DENY"
            for sources, targets in of_each_family(EVERYBODY, EVERYBODY):
                yield _rule(direction, action, LAST, "all", _limits(direction, sources, targets, EVERYTHING), "rest")


def _of_match(direction: str, priority: int, match: Match) -> Iterator[str]:
    box, action = box_of(match), "ALLOW" if match.action == "allow" else "DENY"
    if box.from_ports != EVERY_PORT:
        done = "is left out" if action == "ALLOW" else "denies whatever the port of the sender"
        yield f"# These rules state no port of the sender: {plain(match.name) or 'a rule'} {done}."
        if action == "ALLOW":
            return
    what = ",".join(one for each in sorted(box.protocols) for one in _with_ports(each, box.ports))
    for sources, targets in of_each_family(box.sources, box.targets):
        yield _rule(direction, action, priority, what, _limits(direction, sources, targets, box), match.name)


def _with_ports(protocol: str, ports: PortSet) -> Iterator[str]:
    if ports == EVERY_PORT:
        yield protocol
    else:
        yield from (f"{protocol}:{each}" for each in spans(ports))


def _limits(direction: str, sources: AddressSet, targets: AddressSet, box: Box) -> str:
    """The addresses of a rule. Those of the other side are always given, since without any they are those of IPv4."""
    given = {
        "source-ranges": sources if direction == "INGRESS" or box.sources != EVERYBODY else None,
        "destination-ranges": targets if direction == "EGRESS" or box.targets != EVERYBODY else None,
    }
    return "".join(f" --{key}={','.join(each.prefixes())}" for key, each in given.items() if each is not None)


def _rule(direction: str, action: str, priority: int, what: str, limits: str, name: str) -> str:
    rest = f"--direction={direction} --action={action} --priority={priority} --rules={what}{limits}"
    described = f" --description={shlex.quote(plain(name))}" if name else ""
    return f"rule {mark_of(rest)} {rest}{described}"


FORMAT = DeviceFormat(
    "network-firewall", "firewall rules of a network as the provider's command line prints them",
    "gcloud compute firewall-rules list --format=json, those of the machine's network; and gcloud compute instances "
    "describe … --format=json",
    recognises=_is_listing, reads=_read, writes=for_each_cloud(_SCRIPT, _commands), endings=(ENDING,),
    omits="hierarchical policies; without the machine, which rules with a tag are about it",
)  # fmt: skip
