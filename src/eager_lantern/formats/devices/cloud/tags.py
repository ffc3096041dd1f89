"""Names that stand for addresses in filters of clouds and systems (public interface): service tags, groups, lists of
prefixes.

Whom a name stands for is known in part: the internet is what is neither private nor the own network; a virtual network
has at least the network that the device stands on; a group's members are hosts beside it. So a rule becomes two: one
that decides about those that a name certainly stands for, and one for those it may stand for, of which it is unknown.
"""

import re
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from msgspec.structs import replace

from ....core.model.site import Client, Rule, Server, Site
from ....core.values.addresses import AddressSet
from ..cells import addresses_of_cell

EVERYBODY = AddressSet.parse("0.0.0.0/0, ::/0")
PRIVATE = AddressSet.parse(
    "10.0.0.0/8, 172.16.0.0/12, 192.168.0.0/16, 100.64.0.0/10, 169.254.0.0/16, fc00::/7, fe80::/10"
)
"""RFC 1918, RFC 6598, RFC 3927, RFC 4193, RFC 4291: what a network may have of its own."""
_PROBES = AddressSet.parse("168.63.129.16")
"""Where the provider's load balancers ask from, as documented."""
NOBODY = AddressSet()


class Whom(NamedTuple):
    """Whom a rule is certainly about, and whom it may be about as well."""

    certain: AddressSet
    possible: AddressSet = NOBODY


ANYBODY = Whom(EVERYBODY)


def near(site: Site, device: str) -> AddressSet:
    """The networks that a device of the site stands on."""
    every: tuple[Server | Client, ...] = (site.server, *site.clients)
    hosts = {each.name: each.network for each in every}
    names = (
        {hosts[device]} if device in hosts else {each.inside.network for each in site.gateways if each.name == device}
    )
    found = NOBODY
    for each in site.networks:
        if each.name in names:
            found = found | each.subnet
    return found


def whom(texts: Iterable[str], beside: AddressSet) -> Whom:
    """Whom a list of addresses and names is about; ``beside`` is the device's own network. Raises ValueError for a
    damaged address."""
    certain, possible = NOBODY, NOBODY
    for text in texts:
        mine = _one(text.strip(), beside)
        certain, possible = certain | mine.certain, possible | mine.possible
    return Whom(certain, possible - certain)


def _one(text: str, beside: AddressSet) -> Whom:
    word = text.lower()
    if word in ("", "*", "any", "0.0.0.0/0, ::/0"):
        return ANYBODY
    if word == "internet":
        return Whom(EVERYBODY - PRIVATE - beside, PRIVATE - beside)
    if word in ("virtualnetwork", "localsubnet", "localsubnet4", "localsubnet6"):
        return Whom(beside, NOBODY if beside and word != "virtualnetwork" else PRIVATE - beside)
    if word == "azureloadbalancer":
        return Whom(_PROBES)
    if re.match(r"(sg|asg)-|.*/applicationsecuritygroups/", word):
        return Whom(NOBODY, PRIVATE | beside)
    if re.match(r"[a-z]", word) and not re.search(r"[:/]", word):
        return Whom(NOBODY, EVERYBODY)
    return Whom(addresses_of_cell(text))


def rules_for(rule: Rule, sources: Whom, targets: Whom = ANYBODY) -> Iterator[Rule]:
    """The rule about those that it is certainly about, then the same, unknown, for those it may be about."""
    if sources.certain and targets.certain:
        yield replace(rule, from_=_limited(sources.certain), to=_limited(targets.certain))
    if sources.possible and (targets.certain or targets.possible):
        yield replace(
            rule, action="unknown", from_=_limited(sources.possible), to=_limited(targets.certain | targets.possible)
        )
    if sources.certain and targets.possible:
        yield replace(rule, action="unknown", from_=_limited(sources.certain), to=_limited(targets.possible))


def _limited(addresses: AddressSet) -> AddressSet | None:
    return None if addresses == EVERYBODY else addresses
