"""A finding as a value, and the kinds that there are."""

from typing import Any, Literal

from msgspec import Struct

from ..model.change import Change, change
from ..model.site import Site
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
