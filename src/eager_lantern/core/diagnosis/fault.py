"""A fault: a small change of the site, away from what its file states.

The site file states how things are meant. A fault is a small change of that: what the device, the server or the
client has instead. Predicting the changed site shows how the fault appears; undoing the change is its cure.

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
>>> off = variants_of(site, place, False)
>>> fault = Fault("forward-off", place[:-1], "router", off, of(forward="forward “control”"))
>>> [each.forwards[0].enabled for each in (site.gateways[0], changed(site, *changes_in(fault.variants[0])).gateways[0])]
[True, False]

>>> words = {"forward-off": Sentences("{at} has {forward} switched off", "is it on?", "switch it on at {at}")}
>>> Wording(words).worded(fault).message
'router has forward “control” switched off'

>>> [str(each) for each in cut(PortSet.parse("61200-61299"), PortSet.parse("61210"))[:2]]
['61200-61204', '61205-61299']
>>> [str(each) for each in digit_off(PortSet.parse("21"))]
['12', '20', '22', '11', '31']
"""

from collections.abc import Iterator, Mapping
from itertools import pairwise
from typing import Any, Literal

from msgspec import Struct, structs

from ..model.change import Change, change, changed
from ..model.consistency import problems
from ..model.site import Mode, Site
from ..values.addresses import Address
from ..values.outcomes import Outcome, Rung
from ..values.ports import HIGHEST_PORT, PortSet
from ..values.text_value import SitePath

FaultKind = Literal[
    "forward-missing",
    "forward-off",
    "forward-old-address",
    "forward-in-part",
    "forward-digit-off",
    "forward-shifted",
    "forward-other-inside-port",
    "forward-other-protocol",
    "forward-other-source",
    "forwarding-off",
    "provider-blocks",
    "second-translation",
    "outside-address-changed",
    "announce-stale",
    "announce-private",
    "name-lags",
    "name-unresolved",
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
    "too-many-connections",
    "storage-full",
    "service-on-other-port",
    "other-program-on-port",
    "range-changed",
    "range-left-to-system",
    "range-in-use",
    "passive-refused",
    "tls-demanded",
    "tls-refused",
    "tls-version-differs",
    "tls-implicit-explicit",
    "reuse-demanded",
    "certificate-of-other-name",
    "certificate-out-of-date",
    "certificate-issuer-unknown",
    "ssh-subsystem-missing",
    "ssh-algorithms-differ",
    "host-key-changed",
    "account-locked",
    "account-mistyped",
    "account-shell-refused",
    "account-root-writable",
    "account-home-owner",
    "account-without-right",
    "account-without-folder",
    "client-other-mode",
    "client-narrow-way-out",
    "client-names-private",
    "client-without-tls",
    "client-barred",
    "client-dials-elsewhere",
    "ipv6-without-path",
    "not-promised",
]


class Effect(Struct, frozen=True):
    """What no key of a site states: the rung at which sessions of a service end instead of going on, and how, with the
    ``error`` that it is to a client where that is certain; of some clients, or, where none is named, of all; in one
    ``mode``, or in both; always, or so a ``share`` of them."""

    service: str
    rung: Rung
    outcome: Outcome
    clients: tuple[str, ...] = ()
    share: float = 1.0
    error: str = ""
    mode: Mode | None = None

    def meets(self, service: str, client: str, mode: Mode | None = None) -> bool:
        """Whether sessions of a client with a service end so; in one mode, where that is known."""
        alike = mode is None or self.mode in (None, mode)
        return self.service == service and alike and (not self.clients or client in self.clients)


Way = tuple[Change | Effect, ...]
"""One way in which something may have gone wrong: a few changes of the site and effects together."""
Variants = tuple[Way, ...]


def changes_in(way: Way) -> tuple[Change, ...]:
    """The changes of a way."""
    return tuple(each for each in way if isinstance(each, Change))


class SeenValues(Struct, frozen=True):
    """Values that were seen, which faults take rather than invented ones: data ports of which it is known what became
    of them (a range may end between any two), addresses that a server announced, and that clients dialled, and ports of
    the server that control connections came to; and which clients were seen."""

    ports: PortSet = PortSet()
    announced: tuple[Address, ...] = ()
    dialled: tuple[Address, ...] = ()
    landed: tuple[int, ...] = ()
    clients: frozenset[str] = frozenset()


SECTION_KEYS = 3
"""Keys of a site that lead to a page of settings: ``gateways``, which of them, ``forwards``."""


class Fault(Struct, frozen=True):
    """Something that may be otherwise than the site file states.

    ``place`` is what the file states about it and ``at`` the device, server or client that has it. ``variants`` are
    the ways in which it may have gone wrong, one as likely as another. ``values`` are what its sentences are filled in
    with; these are empty until a :class:`Wording` has done so.
    """

    kind: FaultKind
    place: SitePath
    at: str
    variants: Variants = ((),)
    values: tuple[tuple[str, str], ...] = ()
    message: str = ""
    look: str = ""
    cure: str = ""

    @property
    def section(self) -> SitePath:
        """The page of a device's settings, or the part of the server's, that has to be opened to see it."""
        return self.place[:SECTION_KEYS]

    @property
    def changes_site(self) -> bool:
        """Whether keys of the site can express it."""
        return all(isinstance(each, Change) for way in self.variants for each in way)


def of(**values: object) -> tuple[tuple[str, str], ...]:
    """Values for the sentences of a fault, by the word that stands for each in them."""
    return tuple((name, str(value)) for name, value in values.items())


Part = Literal["message", "look", "cure"]


class Sentences(Struct, frozen=True):
    """What to say of a fault, where to look for it, and its cure, with names in braces for what is filled in;
    ``without_file`` replaces some of them where there is no site file."""

    message: str
    look: str
    cure: str
    without_file: Mapping[Part, str] = {}


class Wording(Struct, frozen=True):
    """The sentences of every kind of fault, and what stands for values that are nobody's."""

    sentences: Mapping[FaultKind, Sentences]
    stand_ins: Mapping[str, str] = {}

    def worded(self, fault: Fault) -> Fault:
        """The fault with its sentences filled in. Raises KeyError for one that the data have no sentences for."""
        sentences = self.sentences[fault.kind]
        values = {name: self.stand_ins.get(value, value) for name, value in (("at", fault.at), *fault.values)}
        texts: dict[Part, str] = {"message": sentences.message, "look": sentences.look, "cure": sentences.cure}
        if self.stand_ins:
            texts.update(sentences.without_file)
        return structs.replace(fault, **{part: text.format_map(values) for part, text in texts.items()})


def consistent(site: Site, fault: Fault) -> Fault | None:
    """The fault with those of its variants that leave a site that means something; None where none does."""
    ways = ((each, changes_in(each)) for each in fault.variants)
    good = tuple(way for way, changes in ways if not changes or not problems(changed(site, *changes)))
    if not good:
        return None
    return structs.replace(fault, variants=good)


def variants_of(site: Site, place: SitePath, *values: Any) -> Variants:
    """A variant for each value that a place may have instead."""
    return tuple((change(site, place, each),) for each in values)


ACCEPTS_OTHER = "accepts_other_address"
"""The key of what a server does with a client in active mode that names an address that it does not come from."""
_QUARTERS = 4
MOVED_BY = (100, -100, 1000)


def cut(ports: PortSet, seen: PortSet) -> tuple[PortSet, ...]:
    """The lower and the upper parts of a set, ending halfway between ports that are known and at each quarter."""
    listed = list(ports)
    at = {len(listed) * i // _QUARTERS for i in range(1, _QUARTERS)}
    marks = [0, *(i for i, port in enumerate(listed) if port in seen), len(listed)]
    at |= {(low + high + 1) // 2 for low, high in pairwise(marks)}
    places = sorted(each for each in at if 0 < each < len(listed))
    return tuple(part for i in places for part in (_of(listed[:i]), _of(listed[i:])))


def _of(ports: list[int]) -> PortSet:
    return PortSet.of(*((each, each) for each in ports))


def digit_off(ports: PortSet) -> tuple[PortSet, ...]:
    """What a set becomes by one wrong digit at one of its ends; of a single port, by one in it."""
    low, high = ports.lowest, ports.highest
    if low == high:
        found = [PortSet.single(each) for each in _miswritten(low)]
    else:
        found = [PortSet.of((each, high)) for each in _miswritten(low) if each <= high]
        found += [PortSet.of((low, each)) for each in _miswritten(high) if each >= low]
    return tuple(dict.fromkeys(each for each in found if each != ports))


def moved(ports: PortSet) -> tuple[PortSet, ...]:
    """The whole of a set some way off."""
    return tuple(ports.shift(by) for by in MOVED_BY if ports.lowest + by > 0 and ports.highest + by <= HIGHEST_PORT)


def _miswritten(port: int) -> Iterator[int]:
    """A port with two neighbouring digits swapped, then with one digit one too high or low."""
    digits = str(port)
    texts = [f"{digits[:i]}{digits[i + 1]}{digits[i]}{digits[i + 2 :]}" for i in range(len(digits) - 1)]
    numbers = [int(each) for each in texts if each[0] != "0"]
    numbers += [port + sign * 10**i for i in range(min(3, len(digits))) for sign in (-1, 1)]
    yield from (each for each in dict.fromkeys(numbers) if 0 < each <= HIGHEST_PORT and each != port)
