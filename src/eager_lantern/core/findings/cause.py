"""A cause: what is to blame for a promise that is not kept, with the words for it, and what an entry is meant for."""

from collections.abc import Callable
from typing import Any, Literal

from msgspec import Struct, to_builtins
from msgspec.structs import replace

from ..model.change import Change, change, value_at
from ..model.site import Forward, Rule, Service, Site
from ..network.topology import Topology, listens_on
from ..predict.forecast import Forecast
from ..predict.ledger import Layer
from ..values.addresses import AddressSet
from ..values.phrases import flow_text, only_from, ports_phrase
from ..values.ports import UNPRIVILEGED, PortSet
from ..values.text_value import SitePath
from .finding import FindingKind, Severity

Role = Literal["control", "data"]
FEW = 8
"""Spans of addresses that somebody might still write into a rule."""


Mend = Callable[[PortSet, AddressSet | None], Change]
"""A change for ports that are stopped, and for whom they are; None stands for anybody."""
NOBODY = AddressSet()


class Cause(Struct, frozen=True):
    """A kind of fault at a place. ``{ports}`` in the texts stands for the ports that it stops, ``{from}`` and
    ``{whom}`` for ``whom`` they ought to pass, None anybody; ``about`` keeps causes of one place apart; ``mends`` give
    the changes that would cure it."""

    kind: FindingKind
    place: SitePath
    ports: PortSet
    text: str
    cure: str
    severity: Severity = "breaks"
    about: str = ""
    mends: tuple[Mend, ...] = ()
    whom: AddressSet | None = NOBODY

    @property
    def cures(self) -> tuple[Change, ...]:
        """The changes that would cure it."""
        return tuple(mend(self.ports, self.whom) for mend in self.mends)

    def joined(self, other: "Cause") -> "Cause":
        """The same cause, for what both stop."""
        return replace(self, ports=self.ports | other.ports, whom=either(self.whom, other.whom))

    @property
    def message(self) -> str:
        """What is wrong, in a sentence."""
        return self.text.replace("{ports}", ports_phrase(self.ports))

    @property
    def advice(self) -> str:
        """What to do about it."""
        written = f'"{self.ports}"' if len(self.ports.spans) > 1 else str(self.ports)
        return (
            self.cure.replace("{ports}", written)
            .replace("{from}", only_from(self.whom))
            .replace("{whom}", "anybody" if self.whom is None else str(self.whom))
        )


def words_of(change: Change) -> str:
    """What a change asks for, in the words of the file."""
    key = next(str(part) for part in reversed(change.place) if isinstance(part, str))
    new = flow_text(to_builtins(change.new, enc_hook=str))
    if change.inserts:
        return f"put before entry {int(change.place[-1]) + 1} of {key}: {new}"
    if change.adds:
        return f"add under {key}: {new}"
    return f"take {key} out" if change.new is None else f"set {key}: {new}"


def undoing_words(change: Change) -> str:
    """What takes a change back."""
    key = next(str(part) for part in reversed(change.place) if isinstance(part, str))
    if change.adds:
        return f"take this entry out of {key}"
    return f"take {key} out" if change.old is None else f"set {key}: {flow_text(to_builtins(change.old, enc_hook=str))}"


def either(one: AddressSet | None, other: AddressSet | None) -> AddressSet | None:
    """Both, as far as somebody would still write them into a rule; else anybody."""
    whole = None if one is None or other is None else one | other
    return whole if whole is not None and len(whole.spans) <= FEW else None


def sets(site: Site, place: SitePath, new: Any) -> tuple[Mend, ...]:
    """The cure that sets a place, whatever ports are stopped."""
    return (lambda ports, whom: change(site, place, new),)


def made(cure: Change) -> tuple[Mend, ...]:
    """A cure that is made already, whatever ports are stopped."""
    return (lambda ports, whom: cure,)


def adds(site: Site, place: SitePath, made: Callable[[PortSet, AddressSet | None], Any]) -> tuple[Mend, ...]:
    """The cure that adds to a list what serves the ports that are stopped."""
    return (lambda ports, whom: change(site, (*place, len(value_at(site, place))), made(ports, whom)),)


def by_passive(topology: Topology, forecast: Forecast) -> tuple[Mend, ...]:
    """The other mode, where the client has it: what is promised is another session then."""
    client, place = topology.client(forecast.promise.client), forecast.place
    if place[:1] != ("promises",) or (client is not None and "passive" not in client.modes):
        return ()
    return sets(topology.site, (*place, "mode"), "passive")


def inserts(place: SitePath, made: Callable[[PortSet, AddressSet | None], Any]) -> tuple[Mend, ...]:
    """The cure that puts an entry before one of a list."""
    return (lambda ports, whom: Change(place, None, made(ports, whom), inserts=True),)


def widens(site: Site, place: SitePath) -> tuple[Mend, ...]:
    """The cure that adds those who are stopped to the addresses that stand at a place."""
    return (lambda ports, whom: change(site, place, either(value_at(site, place), whom)),)


def needed(site: Site, ports: PortSet, wanted: PortSet) -> PortSet:
    """What is wanted, with whatever else an entry of several parts names, and what of the present ports some service
    needs as well."""
    if len(ports.spans) > 1:
        return wanted | ports
    for each in site.services:
        wanted = wanted | ports & listens_on(each)
    return wanted


def mismatch_kind(written: PortSet, wanted: PortSet) -> FindingKind:
    """Whether a range differs from another by a slip of the hand, or is just another range.

    A slip is one number with a digit more, a digit less, or two digits swapped, while the
    other end is right.
    """
    if len(written.spans) != 1 or len(wanted.spans) != 1:
        return "range-mismatch"
    ends = ((written.lowest, wanted.lowest), (written.highest, wanted.highest))
    wrong = [(str(a), str(b)) for a, b in ends if a != b]
    return "range-typo" if len(wrong) == 1 and _slipped(*wrong[0]) else "range-mismatch"


def leaves_fewer_ports(change: Change) -> bool:
    """Whether a passive range has fewer ports by it, and not because a slip in it is put right."""
    if change.place[-2:] != ("passive", "ports") or change.new is None or len(change.new) >= len(change.old):
        return False
    return mismatch_kind(change.old, change.new) != "range-typo"


def range_differs(site: Site, where: SitePath, what: str, wanted: PortSet, left: PortSet, text: str) -> Cause:
    """The ports of an entry that is meant for a range, and has another."""
    written: PortSet = value_at(site, where)
    good = needed(site, written, wanted)
    cure = f"set ports of {what} to {good}"
    return Cause(mismatch_kind(written, wanted), where, left, text, cure, mends=sets(site, where, good))


def control_port_differs(site: Site, where: SitePath, what: str, left: PortSet, text: str) -> Cause:
    """The port of an entry that is meant for the control port, and is another."""
    cure = f"set ports of {what} to {left}"
    return Cause("control-port-differs", where, left, text, cure, mends=sets(site, where, left))


def is_slip(written: PortSet, wanted: PortSet) -> bool:
    """Whether one port is another with a digit more, a digit less, or two digits swapped."""
    return len(written) == 1 == len(wanted) and _slipped(str(written.lowest), str(wanted.lowest))


def _slipped(a: str, b: str) -> bool:
    if len(a) == len(b):
        differing = [i for i in range(len(a)) if a[i] != b[i]]
        adjacent = len(differing) == 2 and differing[1] == differing[0] + 1
        return adjacent and a[differing[0]] == b[differing[1]] and a[differing[1]] == b[differing[0]]
    shorter, longer = sorted((a, b), key=len)
    return len(longer) == len(shorter) + 1 and any(longer[:i] + longer[i + 1 :] == shorter for i in range(len(longer)))


def range_not_fixed(site: Site, name: str, passes: str, passed: PortSet, left: PortSet) -> Cause:
    """A service without a fixed range, where an entry passes one: no entry could pass every port, so that the range of
    the service is the one to change."""
    index, ports = next(i for i, each in enumerate(site.services) if each.name == name), passed & UNPRIVILEGED
    where: SitePath = ("services", index, "passive", "ports")
    text = f"{passes}, and {name} has no fixed passive range: the server hands out any port"
    cure = f"fix the passive range of {name} to {ports}"
    return Cause("range-left-to-system", where, left, text, cure, mends=sets(site, where, ports))


def is_wider(topology: Topology, entry: Rule | Forward, wanted: PortSet) -> bool:
    """Whether an entry is for a range, and names more than it."""
    return len(entry.ports.spans) == 1 and bool(entry.ports - wanted) and meant_for_data(topology, entry, wanted)


def too_wide(site: Site, layer: Layer, where: SitePath, what: str, ports: PortSet, written: PortSet) -> Cause:
    """An entry that does not count, and would open too much if it did: first of all its ports are put right."""
    text = f"{what} of {layer.at} is for {written}, the passive range is {layer.wanted}, and it does not count"
    return range_differs(site, where, what, layer.wanted, ports, text)


def switched_on(site: Site, place: SitePath, entry: Rule | Forward) -> tuple[Mend, ...]:
    """An entry that is off, switched on as it is: that does no harm where something else stops what it has too much."""
    return () if entry.enabled else sets(site, (*place, "enabled"), True)


def serves_only(site: Site, entry: Rule | Forward, by_udp: bool = False) -> bool:
    """Whether a rule or forward names ports of the services alone, so that nothing else can need it."""
    used = PortSet()
    for each in site.services:
        used = used | listens_on(each)
        if by_udp and each.passive and "udp" in each.passive.protocols:
            return False
    return entry.ports <= used


def meant_for_data(topology: Topology, entry: Rule | Forward, wanted: PortSet) -> bool:
    """Whether an entry is clearly meant for a range: what it names lies in that, or differs from it by a slip, or
    shares ports with it and has no name that states something else; or its name states that it is for data."""
    if any(each.control_port.number in entry.ports for each in topology.site.services):
        several = len(entry.ports.spans) > 1 and bool(entry.ports & wanted)
        return several or mismatch_kind(entry.ports, wanted) == "range-typo"
    if entry.ports <= wanted or mismatch_kind(entry.ports, wanted) == "range-typo":
        return True
    shares = bool(entry.ports & wanted)
    return (shares and not entry.name) or ((shares or len(entry.ports) > 1) and is_named_for(topology, entry, wanted))


def meant_for(topology: Topology, entry: Rule | Forward, wanted: PortSet) -> bool:
    """Whether an entry of one port is clearly meant for another: its name states a service that has this one, or the
    number is the other's with a slip. Else it serves something of its own, and is left alone."""
    return is_named_for(topology, entry, wanted) or is_slip(entry.ports, wanted)


def is_foreign(site: Site, service: Service, ports: PortSet) -> bool:
    """Whether these ports of the server are another program's by the name of the entry that passes them: a range of
    another service, or of none of the site."""
    own = replace(site, services=tuple(
        replace(each, passive=replace(each.passive, ports=ports)) if each is service and each.passive else each
        for each in site.services
    ))  # fmt: skip
    topology, server = Topology(own), site.server
    entries: list[Rule | Forward] = [each for each in server.filter.incoming.rules if each.action == "allow"]
    entries += [each for gateway in site.gateways for each in gateway.forwards]
    narrow = [each for each in entries if each.name and each.ports & ports and len(each.ports) <= 2 * len(ports)]
    narrow = [each for each in narrow if service.control_port.number not in each.ports]
    others = [each for each in site.services if each is not service and ports & listens_on(each)]
    return bool(others) or not all(is_named_for(topology, each, ports) for each in narrow)


def is_named_for(topology: Topology, entry: Rule | Forward, wanted: PortSet) -> bool:
    """Whether the words of an entry's name are those of a service that listens on these ports, or of what they are."""
    here = [each for each in topology.site.services if wanted & listens_on(each)]
    control = any(each.control_port.number in wanted for each in here)
    names = ["control"] if control else ["data", "passive", "pasv"]
    names += [*(each.protocol for each in here if each.protocol != "other"), *(each.name for each in here)]
    own = _words(entry.name)
    return any(words and words <= own for words in map(_words, names))


def _words(name: str) -> set[str]:
    return set("".join(each if each.isalnum() else " " for each in name.lower()).split())


def other_port(topology: Topology, ports: PortSet) -> bool:
    """One single port that no service of the site has: meant for some control port, it seems."""
    known = {20, *(each.control_port.number for each in topology.site.services)}
    return len(ports) == 1 and ports.lowest not in known
