"""Security groups and network ACLs (public interface), as ``aws ec2 describe-security-groups``,
``describe-security-group-rules`` and ``describe-network-acls`` print them.

A group only allows, keeps track of connections, and denies what no rule names. Files of one group each are read as the
groups of the machine, whose rules add up; of a file with several it is unknown which of them the machine has. A network
ACL keeps no track: its entries count by their number, and what comes back must pass the other direction, at a port that
the other side chose; where it may not, what is let in is unknown.

Written are the permissions of the server's machine, as ``aws ec2 authorize-security-group-ingress`` takes them. A
group has no order, no denial and no ports of the sender: what is let in is entered as permissions that need no order,
and what cannot be stated so is left out, and named. A network ACL is not written: it is of a whole subnet, and a site
file does not know what its other machines need; the one that a subnet begins with lets everything through.
"""

import re
import shlex
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from msgspec.structs import replace

from ....core.changes.adopted import DeviceConfig, Direction, ParsedValue
from ....core.model.site import OPEN, Gateway, Rule, Site
from ....core.values.addresses import AddressSet
from ....core.values.ports import EVERY_PORT, PortSet
from ...reading import bad_file
from ..cells import ports_of_cell
from ..format import DeviceFormat, DeviceTarget
from ..packet_filter.boxes import EVERYBODY
from ..unordered import Unordered
from .commands import Script, for_each_cloud, mark_of, of_each_family, permissions, plain
from .listing import TRANSPORTS, Action, Entry, json_of, listed, reader

_KEYS = ("SecurityGroups", "SecurityGroupRules", "NetworkAcls")
_CHOSEN = PortSet.parse("1024-65535")
"""Ports that a client's system may choose, as the provider documents them."""


def _is_listing(file: str, text: str) -> bool:
    return any(f'"{key}"' in text[:2000] for key in _KEYS) and isinstance(json_of(text), dict)


def _entries(data: Any, beside: AddressSet) -> Iterable[Entry]:
    several = {each.get("GroupId") for key in _KEYS[:2] for each in listed(data.get(key, []), "")}
    for each in _all_entries(data):
        if len(several) > 1:
            why = f"the list has {len(several)} groups, and which of them the machine has is unknown"
            yield replace(each, action="unknown", remark=f"{why}: give a list for each that it has (--group-ids)")
        else:
            yield each


def _all_entries(data: Any) -> Iterator[Entry]:
    for group in listed(data.get("SecurityGroups", []), ""):
        for way, key in (("in", "IpPermissions"), ("out", "IpPermissionsEgress")):
            for each in group.get(key, ()):
                yield from _of_permission("in" if way == "in" else "out", each, group.get("GroupName", ""))
    for each in listed(data.get("SecurityGroupRules", []), ""):
        yield _of_rule(each)
    acls = listed(data.get("NetworkAcls", []), "")
    if len(acls) > 1:
        raise ValueError(f"found {len(acls)} network ACLs; expected that of the machine's own subnet")
    for acl in acls:
        yield from _of_acl(acl["Entries"])


def _of_permission(way: Direction, each: dict[str, Any], group: str) -> Iterator[Entry]:
    """A permission is for each of its sources; descriptions stand at those."""
    ranges = [
        (one.get("CidrIp") or one["CidrIpv6"], one) for key in ("IpRanges", "Ipv6Ranges") for one in each.get(key, ())
    ]
    ranges += [(one["GroupId"], one) for one in each.get("UserIdGroupPairs", ())]
    ranges += [(one["PrefixListId"], one) for one in each.get("PrefixListIds", ())]
    for other, one in ranges:
        yield _entry(way, each, other, str(one.get("Description") or group))


def _of_rule(each: dict[str, Any]) -> Entry:
    group = each.get("ReferencedGroupInfo") or {}
    other = each.get("CidrIpv4") or each.get("CidrIpv6") or each.get("PrefixListId") or group["GroupId"]
    return _entry("out" if each["IsEgress"] else "in", each, other, str(each.get("Description") or ""))


def _entry(way: Direction, each: dict[str, Any], other: str, name: str) -> Entry:
    low, high = each.get("FromPort"), each.get("ToPort")
    ports = () if low is None or low == -1 else (f"{low}-{high}" if low != high else str(low),)
    return _about(Entry(way, "allow", str(each["IpProtocol"]), ports, name=_OUR_MARK.sub("", name)), other)


_OUR_MARK = re.compile(r" ?\[eager-lantern-[^\]]*\]$")
"""What our own script puts behind a name."""


def _about(entry: Entry, other: str) -> Entry:
    """The same for whoever is on the other side."""
    return replace(entry, sources=(other,)) if entry.way == "in" else replace(entry, targets=(other,))


def _of_acl(entries: list[dict[str, Any]]) -> Iterator[Entry]:
    found = [_acl_entry(each) for each in sorted(entries, key=lambda each: int(each["RuleNumber"]))]
    for each in found:
        answered = _answered([other for other in found if other.way != each.way])
        if each.action == "allow" and not answered:
            why = "what comes back to the ports that the other side chose (1024-65535) is not let through everywhere"
            yield replace(each, action="unknown", remark=f"{why}: what it matches is unknown")
        else:
            yield each


def _acl_entry(each: dict[str, Any]) -> Entry:
    span, number = each.get("PortRange") or {}, each["RuleNumber"]
    ports = (f"{span['From']}-{span['To']}",) if span else ()
    action: Action = "allow" if each["RuleAction"] == "allow" else "deny"
    entry = Entry("out" if each["Egress"] else "in", action, str(each["Protocol"]), ports, name=f"entry {number}")
    return _about(entry, each.get("CidrBlock") or each["Ipv6CidrBlock"])


def _answered(back: list[Entry]) -> bool:
    """Whether TCP to every port that a client may have chosen is let through to everybody of IPv4, before any deny."""
    left = _CHOSEN
    for each in back:
        if TRANSPORTS.get(each.protocol) not in ("tcp", "any"):
            continue
        others = {*each.sources, *each.targets}
        ports = ports_of_cell(each.ports[0], plain=True) if each.ports else _CHOSEN
        if each.action == "deny" and ports & left:
            return not left
        if others == {"0.0.0.0/0"}:
            left = left - ports
        if not left:
            return True
    return False


_ONE = reader(_entries, {"in": "deny", "out": "deny"})


def _read(texts: Mapping[str, str], target: DeviceTarget) -> list[DeviceConfig]:
    """Groups that a machine has together let in what any of them lets in."""
    parts = _ONE(texts, target)
    acls = [file for file, text in texts.items() if '"NetworkAcls"' in text]
    if acls and len(texts) > 1:
        raise bad_file(acls[0], "found a network ACL beside another list; expected it alone: it is a filter of its own")
    found: dict[Direction | None, DeviceConfig] = {}
    for each in parts:
        old = found.get(each.direction)
        values = (*old.values, *each.values) if old else each.values
        skipped = (*old.skipped, *each.skipped) if old else each.skipped
        if not acls:
            values = _joined(values)
        found[each.direction] = replace(each, file=", ".join(texts), values=values, skipped=skipped)
    return list(found.values())


def _joined(values: Iterable[ParsedValue]) -> tuple[ParsedValue, ...]:
    """Groups know no order: permissions that differ in whom they are for alone become one rule, and what is certain
    comes first."""
    found: dict[object, ParsedValue] = {}
    for each in values:
        rule: Rule = each.value
        side = "to" if rule.from_ is None else "from_"
        key = (replace(rule, **{side: None}), side)
        first = found.get(key)
        both = getattr(first.value, side) if first else None
        whole = getattr(rule, side)
        if first is not None and both is not None and whole is not None:
            several = both | whole
            found[key] = replace(first, value=replace(rule, **{side: None if several == EVERYBODY else several}))
        else:
            found[key] = first or each
    return tuple(sorted(found.values(), key=lambda value: value.value.action == "unknown"))


ENDING = "aws.sh"
MOST_PERMISSIONS = 60
"""Permissions that a group may have for each direction, unless more are asked for (the provider's quota)."""
_SCRIPT = Script(
    ENDING, "rules for the security group of the server's machine", "GROUP=sg-...",
    """\
group=${GROUP:?the security group of the machine}
ours() { # the rules that were made: identifier, whether outward, description
  aws ec2 describe-security-group-rules --filters "Name=group-id,Values=$group" --output text \\
    --query "SecurityGroupRules[?contains(Description || '', '[$made/')].[SecurityGroupRuleId, IsEgress, Description]"
}
there=$(ours)
allow() { # ingress or egress, mark, protocol, first and last port, addresses, name
  wanted="$wanted $2 "
  [ "$mode" = enter ] || return 0
  case $there in *"[$made/$2]"*) return 0 ;; esac
  case $6 in *:*) ranges=Ipv6Ranges range=CidrIpv6 ;; *) ranges=IpRanges range=CidrIp ;; esac
  who="\\"$ranges\\": [{\\"$range\\": \\"$6\\", \\"Description\\": \\"${7:+$7 }[$made/$2]\\"}]"
  permission="[{\\"IpProtocol\\": \\"$3\\", \\"FromPort\\": $4, \\"ToPort\\": $5, $who}]"
  if answer=$(aws ec2 "authorize-security-group-$1" --group-id "$group" --ip-permissions "$permission" 2>&1); then
    return 0
  fi
  case $answer in
  *InvalidPermission.Duplicate*) echo "there already, as another's rule: $permission" ;;
  *) echo "$answer" >&2 && exit 1 ;;
  esac
}
""",
    """\
[ "$mode" = list ] || ours | while read -r rule outward description; do
  [ -n "$rule" ] || continue
  mark=${description##*/} mark=${mark%]}
  case $mode:$wanted in enter:*" $mark "*) continue ;; esac
  side=ingress
  [ "$outward" = False ] || side=egress
  aws ec2 "revoke-security-group-$side" --group-id "$group" --security-group-rule-ids "$rule" --output text >/dev/null
done
ours
""",
)  # fmt: skip


def _commands(site: Site, gateway: Gateway) -> Iterator[str]:
    own = site.server.address.as_set
    if gateway.filter_sees == "outside":
        own = AddressSet.single(*(each.outside for each in gateway.pairs if each.inside in site.server.address))
    inward = [each for each in permissions(gateway.filter.inward) if each.box.targets & own]
    outward = [each for each in permissions(gateway.filter.outward) if each.box.sources & own]
    yield "# A group only allows, and all groups of a machine add up: what another rule lets in stays let in."
    yield from _counted(_allowed("ingress", inward, own))
    if gateway.filter.outward != OPEN:
        yield "# A new group lets everything out. Take that rule out by hand: the file states what may go out."
        yield from _counted(_allowed("egress", outward, own))


def _counted(lines: Iterable[str]) -> Iterator[str]:
    """The lines of a direction, each once, and whether a group holds as many rules."""
    entered = list(dict.fromkeys(lines))
    if len(entered) > MOST_PERMISSIONS:
        yield f"# These are {len(entered)} rules: a group holds {MOST_PERMISSIONS}, unless the provider grants more."
    yield from entered


def _allowed(side: str, parts: list[Unordered], own: AddressSet) -> Iterator[str]:
    for each in parts:
        box = each.box
        if box.from_ports != EVERY_PORT:
            why = "is for some ports of the sender, which a group cannot state"
            yield f"# Left out: {plain(each.name) or 'a rule'} {why}."
            continue
        here, there = (box.targets, box.sources) if side == "ingress" else (box.sources, box.targets)
        for others, _ in of_each_family(there, here & own):
            for protocol in sorted(box.protocols):
                for low, high in box.ports.spans:
                    for prefix in others.prefixes():
                        mark = mark_of(side, protocol, f"{low}-{high}", prefix)
                        name = shlex.quote(plain(each.name))
                        yield f"allow {side} {mark} {protocol} {low} {high} {prefix} {name}"


FORMAT = DeviceFormat(
    "security-groups", "security groups or network ACLs as the provider's command line prints them",
    "aws ec2 describe-security-groups --group-ids …, those of the machine",
    recognises=_is_listing, reads=_read, writes=for_each_cloud(_SCRIPT, _commands), endings=(ENDING,),
    omits="members of other groups, lists of prefixes; a network ACL beside it is a filter of its own (read alone; not "
    "written, since it is of a whole subnet)",
)  # fmt: skip
