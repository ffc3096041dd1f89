"""A fault: what may have become of a site, other than its file says.

The site file tells how things are meant. A fault is a small change of that: what the device, the server or the
client has instead. Predicting the changed site tells how the fault shows; undoing the change is its cure.

>>> from eager_lantern.api import parse_site
>>> site = parse_site("pier", '''
... lantern: 1
... site: Pier
... gateways:
...   - name: router
...     outside: {network: internet, address: 198.51.100.61}
...     inside: {network: office, address: 10.61.4.1}
...     translate: outward
...     forwards: [{name: control, ports: 21, to: 10.61.4.20}]
... networks: [{name: office, subnet: 10.61.4.0/24}]
... server: {name: store, network: office, address: 10.61.4.20}
... ''').site
>>> place = ("gateways", 0, "forwards", 0, "enabled")
>>> off = setting(site, place, False)
>>> fault = Fault("forward-off", place[:-1], "router", "it is off", "is it on?", "switch it on", off)
>>> [each.forwards[0].enabled for each in (site.gateways[0], changed(site, *fault.variants[0]).gateways[0])]
[True, False]
"""

from typing import Any, Literal

from msgspec import Struct

from ..model.change import Change, change, changed
from ..model.consistency import problems
from ..model.site import Site
from ..values.outcomes import Outcome, Rung
from ..values.site_path import SitePath

FaultKind = Literal[
    "forward-missing",
    "forward-off",
    "forward-old-address",
    "forward-in-part",
    "forward-digit-off",
    "forward-shifted",
    "forward-other-inside-port",
    "forward-other-protocol",
    "forwarding-off",
    "provider-blocks",
    "second-translation",
    "outside-address-changed",
    "announce-stale",
    "announce-private",
    "name-lags",
    "hairpin-missing",
    "helper-off",
    "helper-on",
    "idle-too-short",
    "full-packets-lost",
    "rule-missing",
    "rule-off",
    "rule-shadowed",
    "rule-other-category",
    "rule-other-protocol",
    "rule-other-source",
    "rule-in-part",
    "default-shut",
    "server-address-changed",
    "service-not-running",
    "service-on-other-port",
    "other-program-on-port",
    "range-changed",
    "range-left-to-system",
    "tls-demanded",
    "tls-refused",
    "reuse-demanded",
    "certificate-of-other-name",
    "certificate-out-of-date",
    "account-locked",
    "account-mistyped",
    "account-without-right",
    "account-without-folder",
    "client-other-mode",
    "client-narrow-way-out",
    "client-names-private",
    "client-without-tls",
    "ipv6-without-path",
    "not-promised",
]


Variants = tuple[tuple[Change, ...], ...]
"""Ways in which something may have gone wrong, each a few changes together."""


class Effect(Struct, frozen=True):
    """What no key of a site says: the rung at which sessions of a service end instead of going on, and how; of one
    client, or, where that is empty, of all."""

    service: str
    rung: Rung
    outcome: Outcome
    client: str = ""


class Fault(Struct, frozen=True):
    """Something that may be otherwise than the site file says.

    ``place`` is what the file says of it and ``at`` the device, server or client that has it. ``variants`` are
    the ways in which it may have gone wrong, one as likely as another, each a few changes together; a fault that
    no key of the site can express has an ``effect`` instead.
    """

    kind: FaultKind
    place: SitePath
    at: str
    message: str
    look: str
    cure: str
    variants: Variants = ((),)
    effect: Effect | None = None


def consistent(site: Site, fault: Fault) -> Fault | None:
    """The fault with those of its variants that leave a site that means something; None where none does."""
    good = tuple(each for each in fault.variants if not each or not problems(changed(site, *each)))
    if not good:
        return None
    return Fault(fault.kind, fault.place, fault.at, fault.message, fault.look, fault.cure, good, fault.effect)


def setting(site: Site, place: SitePath, *values: Any) -> Variants:
    """A variant for each value that a place may have instead."""
    return tuple((change(site, place, each),) for each in values)
