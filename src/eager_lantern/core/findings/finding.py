"""A finding as a value, the kinds that there are, and whose device its place is on."""

from collections.abc import Sequence
from typing import Any, Literal

from msgspec import Struct

from ..model.change import Change, change
from ..model.site import INTERNET, Client, Gateway, Habits, PublishedName, Site
from ..network.topology import Topology
from ..values.text_value import SitePath

FindingKind = Literal[
    "no-forward",
    "forward-off",
    "forward-wrong-host",
    "range-mismatch",
    "range-typo",
    "range-shifted",
    "wider-than-range",
    "filter-blocks",
    "control-port-differs",
    "announces-private-address",
    "announces-outside-to-inside",
    "announces-stale-address",
    "announces-other-family",
    "announced-name-disagrees",
    "no-common-family",
    "no-way-in",
    "outside-address-not-public",
    "hairpin-needed",
    "active-cannot-return",
    "active-client-names-private",
    "active-outgoing-blocked",
    "helper-blind",
    "helper-needed",
    "peer-address-changes",
    "not-translated",
    "answers-go-elsewhere",
    "idle-too-short",
    "packets-too-big",
    "ipv6-without-path",
    "udp-missing",
    "port-taken-twice",
    "forward-table-full",
    "range-not-forwardable",
    "provider-blocks-port",
    "port-outside-share",
    "rule-shadowed",
    "rule-redundant",
    "rule-wrong-category",
    "rule-unknown",
    "not-filled-in",
    "whole-program-allowed",
    "filter-off",
    "exposed-inside-service",
    "open-beyond-need",
    "exposed-host",
    "answers-bypass-device",
    "forward-ends",
    "clients-hidden",
    "admin-locked-out",
    "login-in-clear",
    "data-in-clear",
    "tls-not-required",
    "tls-reuse-trap",
    "tls-not-spoken",
    "epsv-missing",
    "range-left-to-system",
    "range-overlaps-local-ports",
    "range-overlaps-service",
    "range-too-small",
    "range-too-wide",
    "port-20-needless",
    "server-address-may-change",
    "active-ports-rest",
    "account-not-confined",
    "account-barred",
    "account-login-differs",
    "account-root-writable",
    "account-of-system",
    "account-broad",
    "account-privileged",
    "anonymous-writes",
    "account-rights-conflict",
    "account-without-path",
    "certificate-name-differs",
    "name-not-in-tls",
    "folder-not-shown",
    "certificate-key-short",
    "certificate-near-end",
    "certificate-other-key",
    "certificate-unread",
    "listens-elsewhere",
    "starts-not-by-itself",
    "port-taken-by-another",
    "outside-differs",
    "tunnel-in-the-way",
    "carrier-translates",
    "lease-differs",
    "local-ports-differ",
    "filter-inactive",
    "filter-differs",
    "account-differs",
]


Severity = Literal["breaks", "risks", "note"]


def set_to(site: Site, place: SitePath, new: Any) -> tuple[Change, ...]:
    """The cure that sets one place."""
    return (change(site, place, new),)


class Finding(Struct, frozen=True):
    """Something wrong or unwise, where it stands, and what to do about it. ``cures`` are changes of the site
    of which each would do, as far as a change of one place does."""

    kind: FindingKind
    severity: Severity
    message: str
    advice: str
    place: SitePath
    cures: tuple[Change, ...] = ()


Owner = Literal["server", "own-device", "name", "client", "other-device"]
_Named = Gateway | Client | PublishedName | Habits


def owner_of(site: Site, place: SitePath) -> Owner:
    """Whose device a place is on: the site's own are those between its server and the internet."""
    match place[0]:
        case "gateways":
            own = own_gateways(site)
            return "own-device" if site.gateways[int(place[1])].name in own else "other-device"
        case "clients" | "habits" | "promises":
            return "client"
        case "names":
            return "name"
        case _:
            return "server"


def own_gateways(site: Site) -> frozenset[str]:
    """The gateways that the server is behind: those on its way to the internet, and all others of its own network."""
    chain = Topology(site).chain(site.server.network, INTERNET) or ()
    beside = {each.name for each in site.gateways if each.inside.network == site.server.network}
    return frozenset(beside | {each.device.name for each in chain})


def device_of(site: Site, place: SitePath) -> str:
    """The gateway, client or name that a place is on, else the server."""
    section, *rest = place
    if section == "promises" and rest:
        return site.promises[int(rest[0])].client
    named: dict[str | int, Sequence[_Named]] = {
        "gateways": site.gateways,
        "clients": site.clients,
        "names": site.names,
        "habits": site.habits,
    }
    return named[section][int(rest[0])].name if section in named and rest else site.server.name


def devices_of(site: Site) -> tuple[str, ...]:
    """Everything that a change may be on."""
    parts: tuple[Sequence[_Named], ...] = (site.gateways, site.clients, site.names, site.habits)
    return (site.server.name, *(each.name for part in parts for each in part))
