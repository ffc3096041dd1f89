"""Firewall rules of a network (public interface), as ``gcloud compute firewall-rules list --format=json`` prints them.

The lowest priority counts first; of rules of one priority that deny and allow, the denial counts; connections are kept
track of. What no rule is about is denied inward and allowed outward. A rule for machines with a tag or a service
account may be about this machine or not, which the list does not state.
"""

from collections.abc import Iterable
from typing import Any

from ....core.values.addresses import AddressSet
from ..format import DeviceFormat
from .listing import Entry, json_of, listed, reader


def _is_listing(file: str, text: str) -> bool:
    return '"direction"' in text and ('"allowed"' in text or '"denied"' in text) and json_of(text) is not None


def _entries(data: Any, beside: AddressSet) -> Iterable[Entry]:
    rules = listed(data, "items")
    networks = {str(each.get("network", "")) for each in rules}
    if len(networks) > 1:
        listing = ", ".join(sorted(each.rpartition("/")[2] for each in networks))
        raise ValueError(f"found rules of several networks ({listing}); expected those of the machine's own")
    for each in sorted(rules, key=lambda each: (int(each.get("priority", 1000)), not each.get("denied"))):
        limited = each.get("targetTags") or each.get("targetServiceAccounts")
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


FORMAT = DeviceFormat(
    "network-firewall", "firewall rules of a network as the provider's command line prints them",
    "gcloud compute firewall-rules list --format=json, those of the machine's network",
    recognises=_is_listing, reads=reader(_entries, {"in": "deny", "out": "allow"}),
    omits="tags and service accounts of the machine, hierarchical policies",
)  # fmt: skip
