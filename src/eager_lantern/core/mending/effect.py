"""What changes of a site open and take away, and how much of it they may.

Theory: three sets
==================
What a site lets pass is a set of connections (:mod:`..predict.passage`), so what changes open and what they take away
are differences of two sets, and both are exact. A plan may open what some promise needs, and what entries of the file
state already that a master switch alone keeps from counting. It may take away what a promise of ``shut`` asks for, and
what a mistyped entry let pass by mistake: a forward of port 12 that was meant for 21 serves nobody at 12. All else that
is taken away served something, though the site file may not know what.

Who needs a service that transfers files is not asked address by address: its own entries may be for more than those who
are promised it. A service of another kind, and one by which the server is administered, is for those alone.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import cached_property

from msgspec import Struct
from msgspec.structs import replace

from ..findings.cause import FEW, is_named_for
from ..model.change import Change, changed, value_at
from ..model.problem import network_names
from ..model.site import INTERNET, Filter, Forward, Gateway, Promise, Rule, Service, Site, Transport
from ..network.topology import Topology, listens_on
from ..predict.access import Box, Reached, as_access, beyond, more
from ..predict.passage import NetworkPart, Passage, PassageKey, Place, named, parts, passage
from ..values.addresses import FAMILIES, AddressSet
from ..values.ports import EVERY_PORT, PortSet


class AccessChange(Struct, frozen=True):
    """Connections from a network or host to ports of a place."""

    origin: str
    place: str
    protocol: Transport
    sources: AddressSet
    ports: PortSet

    def limit(self, site: Site) -> str:
        """From whom, where not from everybody there."""
        whole = Topology(site).everybody(self.origin)
        same = not whole or not (whole - self.sources) or not (whole.of_family(4) - self.sources)
        return "" if same or len(self.sources.spans) > FEW else str(self.sources)


class AccessEffect(Struct, frozen=True):
    """What changes do to what a site lets pass; ``needless`` and ``lost`` are the parts that they may not."""

    opens: tuple[AccessChange, ...]
    takes: tuple[AccessChange, ...]
    needless: tuple[AccessChange, ...]
    lost: tuple[AccessChange, ...]

    @property
    def harmless(self) -> bool:
        """Whether it opens no more than is needed and takes away nothing that served something."""
        return not self.needless and not self.lost


class Before:
    """A site whose changes are weighed."""

    def __init__(self, site: Site) -> None:
        self.site = site
        self._passages: dict[tuple[Site, tuple[NetworkPart, ...]], Passage] = {}

    def effect(self, changes: Sequence[Change]) -> AccessEffect:
        """What these changes open and take away."""
        after = changed(self.site, *changes)
        places = parts(self.site, after)
        before = self._passage(self.site, places)
        stated = self._passage(_as_stated(self.site, changes), places)
        now = passage(after, places)
        opened, taken = dict_of(beyond(now, before)), dict_of(beyond(before, now))
        excused = joined(_asked_shut(after), self._mistyped(changes, places))
        beyond_need = dict_of(beyond(dict_of(beyond(opened, needs(after, places))), stated))
        needless = joined(beyond_need, _banned(self.site, opened))
        return AccessEffect(_listed(opened), _listed(taken), _listed(needless), _sorted(beyond(taken, excused)))

    def _passage(self, site: Site, places: tuple[NetworkPart, ...]) -> Passage:
        if (site, places) not in self._passages:
            self._passages[site, places] = passage(site, places)
        return self._passages[site, places]

    @cached_property
    def _origins(self) -> tuple[str, ...]:
        clients = (each.name for each in self.site.clients)
        return (*network_names(self.site), self.site.server.name, *clients)

    def _mistyped(self, changes: Sequence[Change], places: Sequence[NetworkPart]) -> Passage:
        """What entries let pass whose ports, transport or target are put right, where no service of the server waits
        for it."""
        site, found = self.site, dict[PassageKey, list[Box]]()
        goals: list[Place] = [site.server.name, *(each.name for each in site.clients), *places]
        for each in changes:
            entry = (
                value_at(site, each.place[:-1]) if each.place[-1] in ("ports", "protocol", "to", "to_port") else None
            )
            if isinstance(entry, (Rule, Forward)):
                offset = entry.offset if isinstance(entry, Forward) else 0
                for goal in goals:
                    for protocol in _transports(entry):
                        used = _listening(site, protocol) if goal == site.server.name else PortSet()
                        box = EVERYBODY, entry.ports.shift(offset) - used
                        for origin in self._origins:
                            found.setdefault((origin, goal, protocol), []).append(box)
            site = changed(site, each)
        return found


def _banned(site: Site, opened: Passage) -> Passage:
    """What of that rules stop by the addresses of those who come, but for clients that are promised something: who
    wrote such a rule meant the others."""
    rules: list[tuple[str | None, Rule, AddressSet]] = [
        (site.server.name, each, AddressSet()) for each in site.server.filter.incoming.rules
    ]
    for gateway in site.gateways:
        rules += [(None, each, _past_the_filter(gateway)) for each in gateway.filter.inward.rules]
    bans = [
        (goal, each.from_ - past, each.ports)
        for goal, each, past in rules
        if each.from_ is not None and each.enabled and each.action in ("deny", "refuse")
    ]
    topology, promised = Topology(site), AddressSet()
    for client in {each.client for each in site.promises if topology.client(each.client)} if bans else ():
        for _, sources in _senders(topology, client):
            promised = promised | sources
    return dict_of(
        (key, ((sources & banned) - promised, ports & stopped))
        for key, boxes in opened.items()
        for sources, ports in boxes
        for goal, banned, stopped in bans
        if goal in (None, str(key[1])) and (sources & banned) - promised and ports & stopped
    )


def _past_the_filter(gateway: Gateway) -> AddressSet:
    """Addresses whose connections come in by forwards alone, where these pass the filter unasked."""
    found = AddressSet()
    for family in FAMILIES:
        by_forwards = gateway.forwards_pass_filter and not gateway.pairs and gateway.translates(family) != "none"
        found = found | (EVERYBODY.of_family(family) if by_forwards else AddressSet())
    return found


def _as_stated(site: Site, changes: Sequence[Change]) -> Site:
    """The site with every master switch on, with every entry of the services that transfer files, and with the server
    at the address that its entries lead to."""
    site = changed(site, *(each for each in changes if each.place == ("server", "address")))
    used = PortSet()
    for each in (*site.services, *changed(site, *changes).services):  # a range that moves goes to where entries are
        used = used | (listens_on(each) if not _is_strict(each) else PortSet())
    topology = Topology(site)
    gateways = tuple(
        replace(
            each,
            forwarding=True,
            forwards=tuple(_without_excess(topology, one, used) for one in each.forwards),
            filter=replace(
                each.filter, inward=_all_on(each.filter.inward, used), outward=_all_on(each.filter.outward, used)
            ),
        )
        for each in site.gateways
    )
    both = site.server.filter
    own = replace(both, incoming=_all_on(both.incoming, used), outgoing=_all_on(both.outgoing, used))
    return replace(site, gateways=gateways, server=replace(site.server, filter=own))


def _without_excess(topology: Topology, forward: Forward, used: PortSet) -> Forward:
    """A forward with no more ports than the services have, where it is for any of them."""
    ours, control = forward.ports & used, PortSet()
    for each in topology.site.services:
        control = control | used & PortSet.single(each.control_port.number)
    is_named = any(part and is_named_for(topology, forward, part) for part in (control, used - control))
    if forward.to_port is not None or not (ours or is_named):
        return forward
    return replace(forward, ports=ours, enabled=bool(ours) and (forward.enabled or ours == forward.ports))


def _all_on(table: Filter, used: PortSet) -> Filter:
    return replace(table, rules=tuple(_as_meant(each, used) for each in table.rules))


def _as_meant(rule: Rule, used: PortSet) -> Rule:
    """A rule of the services that counts, for all of their ports where it is for every transport."""
    if rule.action != "allow" or not rule.ports <= used:
        return rule
    ports = used if rule.protocol == "any" else rule.ports
    return replace(rule, enabled=True, categories=None, ports=ports)


def _is_strict(service: Service) -> bool:
    """Whether a service is for those alone who are promised it."""
    return service.protocol == "other" or bool(service.keep_open_for)


EVERYBODY = AddressSet.parse("0.0.0.0/0, ::/0")


def _transports(entry: Rule | Forward) -> tuple[Transport, ...]:
    return ("tcp", "udp") if entry.protocol == "any" else (entry.protocol,)


def _listening(site: Site, protocol: Transport) -> PortSet:
    found = PortSet()
    for each in site.services:
        found = found | (listens_on(each) if protocol == "tcp" else _by_udp(each))
    return found


def _by_udp(service: Service) -> PortSet:
    return service.passive.ports if service.passive and "udp" in service.passive.protocols else PortSet()


def dict_of(boxes: Iterable[tuple[PassageKey, Box]]) -> dict[PassageKey, list[Box]]:
    """Boxes by what they are of."""
    found: dict[PassageKey, list[Box]] = {}
    for key, box in boxes:
        found.setdefault(key, []).append(box)
    return found


def joined(*several: Passage) -> Passage:
    """What is in any of them."""
    return dict_of((key, box) for each in several for key, boxes in each.items() for box in boxes)


def _listed(boxes: Mapping[PassageKey, Sequence[Box]]) -> tuple[AccessChange, ...]:
    return _sorted((key, box) for key, its in boxes.items() for box in its)


def _sorted(boxes: Iterable[tuple[PassageKey, Box]]) -> tuple[AccessChange, ...]:
    found = (AccessChange(origin, str(place), protocol, *box) for (origin, place, protocol), box in boxes)
    return tuple(sorted(found, key=lambda each: (each.place, each.protocol, each.origin, each.ports.spans)))


def needless_of(site: Site, opened: Sequence[Reached], places: Sequence[NetworkPart]) -> tuple[Reached, ...]:
    """What of that no promise of the site needs."""
    return more(named(needs(site, places)), as_access(opened))


def needs(site: Site, places: Sequence[NetworkPart]) -> Passage:
    """What the promises of a site to work need, and the ways in that have to stay open."""
    topology = Topology(site)
    services = {each.name: each for each in site.services}
    wanted = [each for each in site.promises if each.holds == "works" and each.service in services]
    wanted += [Promise(client=client, service=each.name) for each in site.services for client in each.keep_open_for]
    general = [services[name] for name in dict.fromkeys(each.service for each in wanted)]
    return dict_of([
        *(box for each in general if not _is_strict(each) for box in _of_everybody(topology, each, places)),
        *(box for each in wanted for box in _of_promise(topology, each, services[each.service], places)),
    ])  # fmt: skip


def _of_everybody(
    topology: Topology, service: Service, places: Sequence[NetworkPart]
) -> Iterator[tuple[PassageKey, Box]]:
    """What a service that transfers files needs, whoever is promised it."""
    for origin in network_names(topology.site):
        yield (origin, topology.server.name, "tcp"), (EVERYBODY, listens_on(service))
        if udp := _by_udp(service):
            yield (origin, topology.server.name, "udp"), (EVERYBODY, udp)
        abroad: list[Place] = [each.name for each in topology.clients if each.network == INTERNET]
        for place in (*places, *abroad):
            yield (origin, place, "tcp"), (EVERYBODY, listens_on(service))


def _of_promise(
    topology: Topology, promise: Promise, service: Service, places: Sequence[NetworkPart]
) -> Iterator[tuple[PassageKey, Box]]:
    server, client = topology.server, topology.client(promise.client)
    for network, everybody in _senders(topology, promise.client) if _is_strict(service) else ():
        yield (network, server.name, "tcp"), (everybody - promise.except_for, listens_on(service))
        if udp := _by_udp(service):
            yield (network, server.name, "udp"), (everybody - promise.except_for, udp)
    if client is not None:
        yield (client.name, server.name, "tcp"), (EVERYBODY, listens_on(service))
        if udp := _by_udp(service):
            yield (client.name, server.name, "udp"), (EVERYBODY, udp)
    if promise.mode == "active":
        network = client.network if client else promise.client
        ports = client.active_ports if client else EVERY_PORT
        goals: list[Place] = [client.name] if client else []
        if client is None or not client.address:
            goals += [each for each in places if each.network == network]
        for goal in goals:
            for origin in (*network_names(topology.site), server.name):
                yield (origin, goal, "tcp"), (EVERYBODY, ports)


def _senders(topology: Topology, name: str) -> Iterator[tuple[str, AddressSet]]:
    """By network, the addresses of a client, those that it has behind a translation, and everybody who has the same
    there."""
    client = topology.client(name)
    home = client.network if client else name
    own = client.address.as_set if client and client.address else topology.everybody(home)
    for network in network_names(topology.site):
        mine = _seen(topology, home, own, network)
        yield network, mine if network != home or not _is_hidden(topology, home, own) else topology.everybody(home)
        theirs = topology.everybody(network)
        if network != home and _is_alike(topology, (home, own), (network, theirs)):
            yield network, theirs | mine


def _is_hidden(topology: Topology, home: str, own: AddressSet) -> bool:
    return any(
        (seen := _seen(topology, home, own, far)) and seen != own for far in network_names(topology.site) if far != home
    )


def _is_alike(topology: Topology, one: tuple[str, AddressSet], other: tuple[str, AddressSet]) -> bool:
    """Whether somewhere both have an address in common that neither has of its own."""
    for far in network_names(topology.site):
        a, b = _seen(topology, *one, far), _seen(topology, *other, far)
        if a & b and a != one[1] and b != other[1]:
            return True
    return False


def _seen(topology: Topology, home: str, own: AddressSet, network: str) -> AddressSet:
    """The addresses by which some of a network appear on another to which they go outward."""
    crossings = topology.chain(home, network)
    if crossings is None or any(each.way == "inward" for each in crossings):
        return AddressSet()
    whole = AddressSet()
    for family in FAMILIES:
        found = own.of_family(family)
        for device in (each.device for each in crossings):
            if found and device.spec.translates(family) != "none":
                found = device.outside_addresses.of_family(family)
        whole = whole | found
    return whole


def _asked_shut(site: Site) -> Passage:
    """What promises of ``shut`` ask for."""
    topology = Topology(site)
    ports = {each.name: PortSet.single(each.control_port.number) for each in site.services}
    return dict_of(
        ((origin, topology.server.name, "tcp"), (sources, ports[each.service]))
        for each in site.promises
        if each.holds == "shut" and each.service in ports
        for network, senders in _senders(topology, each.client)
        if (sources := senders - each.except_for)
        for origin in (network, each.client)
    )
