"""Network security groups (public interface), as ``az network nsg show`` and ``az network nsg rule list`` print them,
or the service's own form with ``properties``.

The lowest priority counts first, and the first rule that matches decides; connections are kept track of. Every group
ends in six rules that the provider adds, which a list of rules alone does not show.

Written are rules as ``az network nsg rule create`` takes them, in the order of the file.
"""

import shlex
from collections.abc import Iterable, Iterator
from typing import Any

from ....core.model.site import Filter, Gateway, Site
from ....core.network.filters import Match, compiled
from ....core.values.addresses import AddressSet
from ....core.values.ports import EVERY_PORT, PortSet
from ..format import DeviceFormat
from ..packet_filter.boxes import EVERYBODY
from ..unordered import box_of
from .commands import Script, for_each_cloud, of_each_family, plain, spans
from .listing import Entry, json_of, listed, reader

_OWN = (
    (65000, "Inbound", "VirtualNetwork", "VirtualNetwork", "Allow"),
    (65001, "Inbound", "AzureLoadBalancer", "*", "Allow"),
    (65500, "Inbound", "*", "*", "Deny"),
    (65000, "Outbound", "VirtualNetwork", "VirtualNetwork", "Allow"),
    (65001, "Outbound", "*", "Internet", "Allow"),
    (65500, "Outbound", "*", "*", "Deny"),
)
"""The default security rules, as documented."""


def _is_listing(file: str, text: str) -> bool:
    is_rule = '"priority"' in text and '"destinationPortRange"' in text
    return ('"securityRules"' in text[:20_000] or is_rule) and json_of(text) is not None


def _entries(data: Any, beside: AddressSet) -> Iterable[Entry]:
    objects = listed(data, "value")
    groups = [{**each, **each.get("properties", {})} for each in objects]
    with_rules = [each for each in groups if "securityRules" in each]
    if len(with_rules) > 1:
        raise ValueError(f"found {len(with_rules)} network security groups; expected that of the machine")
    if with_rules:
        rules = [*with_rules[0]["securityRules"], *(with_rules[0].get("defaultSecurityRules") or _defaults())]
    else:
        rules = [*groups, *_defaults()]
    plain = [{**each, **each.get("properties", {})} for each in rules]
    for each in sorted(plain, key=lambda each: int(each["priority"])):
        yield _entry(each)


def _defaults() -> Iterator[dict[str, Any]]:
    for priority, direction, source, target, access in _OWN:
        yield {
            "priority": priority, "direction": direction, "access": access, "protocol": "*",
            "sourceAddressPrefix": source, "destinationAddressPrefix": target, "name": f"default {priority}",
        }  # fmt: skip


def _entry(each: dict[str, Any]) -> Entry:
    def several(side: str, what: str, many: str) -> tuple[str, ...]:
        one = each.get(f"{side}{what}")
        return tuple(str(value) for value in (*([one] if one else ()), *(each.get(f"{side}{many}") or ())))

    def addresses(side: str) -> tuple[str, ...]:
        groups = each.get(f"{side}ApplicationSecurityGroups") or ()
        named = (str(one.get("id") or "asg-") for one in groups)
        return (
            *several(side, "AddressPrefix", "AddressPrefixes"),
            *(f"asg-{name.rpartition('/')[2]}" for name in named),
        )

    return Entry(
        "in" if str(each["direction"]).lower() == "inbound" else "out",
        "allow" if str(each["access"]).lower() == "allow" else "deny",
        str(each["protocol"]),
        several("destination", "PortRange", "PortRanges"),
        addresses("source"),
        addresses("destination"),
        several("source", "PortRange", "PortRanges"),
        str(each.get("name") or ""),
    )


ENDING = "az.sh"
_SCRIPT = Script(
    ENDING, "rules for a network security group", "RESOURCE_GROUP=... NSG=...",
    """\
resources=${RESOURCE_GROUP:?the resource group} nsg=${NSG:?the network security group of the machine or its subnet}
first=${PRIORITY:-1000} # of the first rule; those of others keep their own
ours() { # names of the rules that were made
  az network nsg rule list --resource-group "$resources" --nsg-name "$nsg" --query "[].name" --output tsv |
    while read -r name; do
      case $name in "$made".in.[0-9]* | "$made".out.[0-9]*) echo "$name" ;; esac
    done
}
rule() { # in or out, number, options
  name=$made.$1.$2 priority=$((first + $2))
  wanted="$wanted $name "
  shift 2
  [ "$mode" = enter ] || return 0
  az network nsg rule create --resource-group "$resources" --nsg-name "$nsg" --output none \\
    --name "$name" --priority "$priority" "$@"
}
""",
    """\
[ "$mode" = list ] || ours | while read -r name; do
  case $mode:$wanted in enter:*" $name "*) continue ;; esac
  az network nsg rule delete --resource-group "$resources" --nsg-name "$nsg" --name "$name" --output none
done
ours
""",
)  # fmt: skip


def _commands(site: Site, gateway: Gateway) -> Iterator[str]:
    yield "# PRIORITY=... is that of the first rule, 1000 unless it is given: the lowest number counts first."
    yield "# Connections within the virtual network stay allowed, as the provider's own last rules have it."
    if any(each.action == "refuse" for table in _tables(gateway).values() for each in table.rules):
        yield "# The file refuses some connections; a group denies them without an answer."
    for way, table in _tables(gateway).items():
        options = [each for match in compiled(table, (), None, {}).matches for each in _options(way, match)]
        if (table.default == "allow") is (way == "in"):  # the provider denies inward and allows outward
            action = "Allow" if table.default == "allow" else "Deny"
            options += [
                f"{_basic(way, action, '*')} {_rest(EVERY_PORT, ('*',), EVERY_PORT, ('*',))} --description rest"
            ]
        for number, each in enumerate(options):
            yield f"rule {way} {number} {each}"


def _tables(gateway: Gateway) -> dict[str, Filter]:
    return {"in": gateway.filter.inward, "out": gateway.filter.outward}


def _options(way: str, match: Match) -> Iterator[str]:
    box = box_of(match)
    action = "Allow" if match.action == "allow" else "Deny"
    everybody = box.sources == EVERYBODY == box.targets
    both = [(EVERYBODY, EVERYBODY)] if everybody else of_each_family(box.sources, box.targets)
    for sources, targets in both:
        here, there = (EVERYBODY if whole == EVERYBODY else part for whole, part in
                       ((box.sources, sources), (box.targets, targets)))  # fmt: skip
        for protocol in sorted(box.protocols):
            rest = _rest(box.from_ports, _prefixes(here), box.ports, _prefixes(there))
            named = f" --description {shlex.quote(plain(match.name))}" if match.name else ""
            yield f"{_basic(way, action, protocol.capitalize())} {rest}{named}"


def _prefixes(addresses: AddressSet) -> tuple[str, ...]:
    return ("*",) if addresses == EVERYBODY else addresses.prefixes()


def _basic(way: str, action: str, protocol: str) -> str:
    direction = "Inbound" if way == "in" else "Outbound"
    return f"--direction {direction} --access {action} --protocol {shlex.quote(protocol)}"


def _rest(came: PortSet, sources: tuple[str, ...], ports: PortSet, targets: tuple[str, ...]) -> str:
    words = {
        "source-port-ranges": _ports(came), "source-address-prefixes": sources,
        "destination-port-ranges": _ports(ports), "destination-address-prefixes": targets,
    }  # fmt: skip
    return " ".join(f"--{key} {' '.join(map(shlex.quote, values))}" for key, values in words.items())


def _ports(ports: PortSet) -> tuple[str, ...]:
    return ("*",) if ports == EVERY_PORT else tuple(spans(ports))


FORMAT = DeviceFormat(
    "network-security-group", "a network security group as the provider's command line prints it",
    "az network nsg show --resource-group … --name …, that of the machine",
    recognises=_is_listing, reads=reader(_entries, {"in": "deny", "out": "deny"}),
    writes=for_each_cloud(_SCRIPT, _commands), endings=(ENDING,),
    omits="addresses of service tags, of the virtual network beyond the host's own, members of application groups",
)  # fmt: skip
