"""Network security groups (public interface), as ``az network nsg show`` and ``az network nsg rule list`` print them,
or the service's own form with ``properties``.

The lowest priority counts first, and the first rule that matches decides; connections are kept track of. Every group
ends in six rules that the provider adds, which a list of rules alone does not show.
"""

from collections.abc import Iterable, Iterator
from typing import Any

from ....core.values.addresses import AddressSet
from ..format import DeviceFormat
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
    begin = text[:20_000]
    return (
        '"priority"' in text
        and ('"securityRules"' in begin or '"destinationPortRange"' in text)
        and json_of(text) is not None
    )


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


FORMAT = DeviceFormat(
    "network-security-group", "a network security group as the provider's command line prints it",
    "az network nsg show --resource-group … --name …, that of the machine",
    recognises=_is_listing, reads=reader(_entries, {"in": "deny", "out": "deny"}),
    omits="addresses of service tags, of the virtual network beyond the host's own, members of application groups",
)  # fmt: skip
