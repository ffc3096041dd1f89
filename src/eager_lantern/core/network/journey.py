"""One connection through every hop, as exact sets (docs/semantics.md).

A flow starts at a host or anywhere on a network. On each network its destination is either
there (a host lets it in or not, a gateway's address rewrites it or not) or further on
through a gateway. Every function here takes a leg and yields the journeys that come of it;
together they always cover the leg exactly.

Theory: how a leg splits
========================
A leg is a flow twice: as its origin sent it (``asked``) and as it is now (``flow``). A device that
treats a part of it in its own way cuts the present flow, and :meth:`.flow.Leg.narrowed` cuts what was
asked alike: ports are shifted back by as much as forwards have moved them, and sources are cut as
long as nothing has translated them. So a result can always be stated in the client's own numbers, and
two journeys never tell of the same connection. A forward that moves ports by 100, and a provider that
blocks one of them:

>>> from eager_lantern.api import Address, AddressSet, Flow, PortSet, Topology, parse_site
>>> site = parse_site("pier", '''
... lantern: 1
... site: Pier
... networks: [{name: office, subnet: 10.61.4.0/24}]
... gateways:
...   - name: router
...     outside: {network: internet, address: 198.51.100.61}
...     inside: {network: office, address: 10.61.4.1}
...     translate: outward
...     provider_blocks: 61202
...     forwards: [{ports: 61200-61203, to: 10.61.4.20, to_port: 61300}]
... server: {name: store, network: office, address: 10.61.4.20}
... services: [{name: tides, protocol: ftp, control_port: 21, passive: {ports: 61300-61303}}]
... ''').site
>>> asked = PortSet.parse("61200-61210")
>>> flow = Flow("tcp", AddressSet.parse("203.0.113.50"), None, Address.parse("198.51.100.61"), asked)
>>> for each in trace(Topology(site), "internet", flow):
...     print(each.asked.ports, "→", each.flow.ports, each.outcome, each.reason or "", "at", each.end.at)
61200-61201, 61203 → 61300-61301, 61303 ok  at store
61204-61210 → 61204-61210 silent no forward at router
61202 → 61202 silent provider blocks at router
"""

from collections.abc import Iterator, Mapping
from functools import lru_cache

from msgspec import Struct
from msgspec.structs import replace

from ..model.site import INTERNET
from ..values.addresses import SENDER_NOT_KNOWN, Address, Addresses, AddressSet, Family, public_addresses
from ..values.outcomes import Outcome
from .filters import Ruling, Table, rulings
from .flow import Flow, Journey, Leg, Reason, Verb
from .routes import next_hop, sent_back_inside, ways_back
from .topology import LOCALHOST, Device, Host, Side, Topology
from .translation import matching, of_share, past_provider, rest_of, rewrites, translated

MOST_STEPS = 64
_KEYS: dict[Reason, str] = {"no forward": "forwards", "forwarding is off": "forwarding", "no hairpin": "hairpin"}


class Expected(Struct, frozen=True):
    """What a gateway's FTP helper does with a connection that it expects: leads it to ``host``, or lets
    it out where there is none; ``source`` is what the host behind it knows the other end by, where
    the device gives it that. That host is ``outside`` where the device has hidden it behind its own inside address.
    It is expected only from ``peers``, the other end of the control connection as the device sees it."""

    peers: AddressSet
    host: Address | None = None
    source: Address | None = None
    outside: bool = False


Helped = Mapping[str, Expected]
"""The gateways, or the server host, whose helper expects a connection, by name."""


def trace(topology: Topology, origin: Host | str, flow: Flow, helped: Helped | None = None) -> tuple[Journey, ...]:
    """Every part of a flow from a host, or from anywhere on the network of that name."""
    sources = flow.sources.of_family(flow.to.family)
    if not sources or not flow.ports:
        return ()
    flow = replace(flow, sources=sources)
    road = Tracer(topology, helped or {})
    if isinstance(origin, Host):
        elsewhere = topology.holds(origin.network, LOCALHOST)  # a site of hosts of one machine, as tests have it
        if flow.to in origin.addresses or (flow.to == LOCALHOST and not elsewhere):
            return (_within(topology, origin, flow),)
        flow = replace(flow, sources=(sources - AddressSet.single(LOCALHOST)) or sources)
    leg = Leg(flow, flow)
    if isinstance(origin, Host):
        found = road.from_host(leg.then(origin.name, "send", flow, origin.place), origin)
    else:
        found = road.on_network(leg.then(origin, "send", flow), origin, None)
    notices = (_able_to_say(topology, each) for each in found)
    asked = topology.routed and topology.asks_ways_back
    settled = (part for each in notices for part in _noticed_by_sender(topology, each)) if asked else notices
    return tuple(Journey(each.asked, each.flow, each.outcome, each.reason, each.steps) for each in settled)


def _able_to_say(topology: Topology, journey: Journey) -> Journey:
    """An ICMP error comes from an address of whoever sends it (RFC 4443, section 2.2; RFC 1812, section 4.3.2.4): of a
    device of which the site states none of the family, it is unknown whether it can send one. A TCP reset comes
    from the address that was asked for."""
    if journey.end.answer in (None, "reset") or not _lacks(topology, journey.end.at, journey.flow.to.family):
        return journey
    whole = Leg(journey.asked, journey.flow, journey.steps[:-1])
    unknown_part = whole.stopped(journey.end.at, "unknown", "no common family", journey.end.place)
    return Journey(
        unknown_part.asked,
        unknown_part.flow,
        unknown_part.outcome,
        unknown_part.reason,
        unknown_part.steps,
        journey.trail,
    )


def _lacks(topology: Topology, name: str, family: Family) -> bool:
    """Whether this is a device that has no address of a family."""
    sides = [(each.spec.outside_addresses, each.spec.inside.address) for each in topology.devices if each.name == name]
    return bool(sides) and not any(side.of_family(family) for both in sides for side in both)


def _noticed_by_sender(topology: Topology, journey: Journey) -> Iterator[Journey]:
    """What the sender notices of an answer, yes or no, which goes its own way."""
    answers = journey.outcome == "ok" or journey.end.answer is not None
    for sources, verdict in ways_back(topology, journey) if answers else ((journey.flow.sources, None),):
        if verdict is None and sources == journey.flow.sources:
            yield journey
            continue
        whole = Leg(journey.asked, journey.flow, journey.steps[:-1])
        part = whole.narrowed(replace(journey.flow, sources=sources))
        if verdict is not None:
            yield part.stopped(verdict.at, verdict.outcome, "answers go elsewhere", verdict.place)
        else:
            yield Journey(part.asked, part.flow, journey.outcome, journey.reason, journey.steps)


def _within(topology: Topology, origin: Host, flow: Flow) -> Journey:
    """What a host sends to itself comes from the very address that it goes to, and no filter of the way is asked."""
    flow = replace(flow, sources=AddressSet.single(flow.to))
    at_server = all(each in origin.addresses for each in topology.server.addresses.each)
    host = topology.server if at_server else origin
    return Leg(flow, flow).then(origin.name, "send", flow, origin.place).arrived(host.name, host.place)


def _rejected_by_filter(leg: Leg, at: str, ruling: Ruling) -> Journey:
    """The journey that a filter ends."""
    if ruling.action == "refuse":
        return leg.refused(at, ruling.reason, ruling.place, ruling.rule, ruling.refuses_with)
    outcome: Outcome = "unknown" if ruling.action == "unknown" else "silent"
    return leg.stopped(at, outcome, ruling.reason, ruling.place, ruling.rule)


def _says_nothing(network: str, sender: Host | Device | None) -> bool:
    """Whether nobody reports that an address of a network is nobody's. Whoever sends there asks for it by ARP or
    neighbour discovery and gives up after some seconds (RFC 1122, section 3.2.2.1; RFC 4861, section 7.2.2); of
    what is out on the internet, and of a cloud's own network, nothing of the kind comes back."""
    return network == INTERNET or (isinstance(sender, Device) and not sender.spec.tells_of_nobody)


def _first(addresses: Addresses, flow: Flow) -> AddressSet | None:
    """The address of this family that a device takes for its own."""
    found = addresses.of_family(flow.to.family)
    return AddressSet.single(found[0]) if found else None


@lru_cache(maxsize=1024)
def _not_public(sources: AddressSet) -> AddressSet:
    return sources - public_addresses()


class Tracer:
    """Follows a connection from host to network to device, and back through helpers' expectations."""

    def __init__(self, topology: Topology, helped: Helped) -> None:
        self.topology = topology
        self.helped = helped

    def from_host(self, leg: Leg, host: Host) -> Iterator[Journey]:
        """Every journey of a leg that begins at a host: through its own filter first."""
        expected = host.name in self.helped
        for passed in (leg,) if expected else self._filtered(leg, host.outgoing, host.name, "let-out"):
            yield from self.on_network(passed, host.network, host) if isinstance(passed, Leg) else (passed,)

    def on_network(
        self, leg: Leg, network: str, sender: Host | Device | None, came_in: bool = False
    ) -> Iterator[Journey]:
        """The leg has come out on a network: hand it to who has the address, or to the next device. It ``came_in``
        where its sender is a device that has led it to its inside."""
        yield from self._handed_on(leg.out_on(network, sender.name if sender else ""), network, sender, came_in)

    def _handed_on(self, leg: Leg, network: str, sender: Host | Device | None, came_in: bool) -> Iterator[Journey]:
        to = leg.flow.to
        if len(leg.steps) > MOST_STEPS:
            yield leg.stopped(network, "unknown", "goes in circles", None)
        elif network == INTERNET and to.kind != "public":
            yield leg.stopped(network, "silent", "no path", None)
        elif network == INTERNET and (hidden := self._unanswerable(leg)):
            # with two ways out, whoever is meant may stand at the other one, and know the sender from inside
            outcome: Outcome = "unknown" if self.topology.forked else "silent"
            yield leg.narrowed(replace(leg.flow, sources=hidden)).stopped(network, outcome, "no way back", None)
            if known := leg.flow.sources - hidden:
                yield from self._handed_on(leg.narrowed(replace(leg.flow, sources=known)), network, sender, came_in)
        elif isinstance(holder := self.topology.holder(network, to), Host):
            yield from self._at_host(leg, holder)
        elif holder is not None:
            yield from self._at_side(leg, holder)
        else:
            yield from self._onward(leg, network, sender, came_in)

    def _unanswerable(self, leg: Leg) -> AddressSet:
        """Sources that nobody on the internet has a route back to. An outside address that is not
        public does not count: whoever gave it translates once more."""
        if leg.steps[-1].does == "translate":
            return AddressSet()
        return _not_public(leg.flow.sources) - AddressSet.single(SENDER_NOT_KNOWN)

    def _onward(self, leg: Leg, network: str, sender: Host | Device | None, came_in: bool) -> Iterator[Journey]:
        hop = next_hop(self.topology, network, leg.flow.to, sender)
        if hop.crossing is None:
            at = sender.name if sender is not None and hop.several else network
            place = sender.place if sender is not None and hop.several else None
            if hop.several or hop.lost or _says_nothing(network, sender):
                reason: Reason = "several ways" if hop.several else "no path" if hop.lost else "nobody there"
                yield leg.stopped(at, "unknown" if hop.several else "silent", reason, place)
            else:
                yield leg.refused(at, "nobody there", place, answer="host-unreachable")
            return
        device, way, lost = hop.crossing.device, hop.crossing.way, hop.lost
        came_through = sender if came_in else None
        if self._may_be_expected(leg, device):
            others = list(self._unexpected(device)._onward(leg, network, sender, came_in))
            yield from self._either_way(leg, device, others)
        elif way == "inward":
            yield from self._routed_in(leg, device)
        elif came_through is device and lost and device.spec.outside.network == INTERNET:
            yield leg.stopped(device.name, "silent", "no path", leg.steps[-1].place)
        elif came_through is device:
            yield leg.stopped(device.name, "unknown", "leads back out", device.place)
        elif leg.flow.to.number in device.outside_addresses:
            yield from self._hairpin(leg, device)
        else:
            yield from self._outward(leg, device)

    def _at_host(self, leg: Leg, host: Host) -> Iterator[Journey]:
        expected = self.helped.get(host.name)
        awaited = expected is not None and not leg.flow.sources - expected.peers
        for passed in (leg,) if awaited else self._filtered(leg, host.incoming, host.name, "let-in"):
            yield passed.arrived(host.name, host.place) if isinstance(passed, Leg) else passed

    def _at_side(self, leg: Leg, holder: Side) -> Iterator[Journey]:
        if self._may_be_expected(leg, holder.device):
            yield from self._either_way(leg, holder.device, list(self._unexpected(holder.device)._at_side(leg, holder)))
        elif holder.side == "inside":
            yield from self._at_inside(leg, holder.device)
        else:
            yield from self._inward(leg, holder.device)

    def _expected(self, leg: Leg, device: Device) -> Expected | None:
        """What the device's helper expects, where this is it."""
        expected = self.helped.get(device.name)
        return expected if expected is not None and not leg.flow.sources - expected.peers else None

    def _may_be_expected(self, leg: Leg, device: Device) -> bool:
        """Whether the helper's expectation hangs on the address that a pool gives to this connection."""
        expected = self.helped.get(device.name)
        if expected is None or not leg.flow.pooled or not leg.flow.sources & expected.peers:
            return False
        passed = {step.at for step in leg.steps}
        drawn = any(each.name in passed and each.spec.pooling == "arbitrary" for each in self.topology.devices)
        return drawn or self._expected(leg, device) is None

    def _unexpected(self, device: Device) -> "Tracer":
        """The same road where the device's helper expects nothing."""
        return Tracer(self.topology, {name: each for name, each in self.helped.items() if name != device.name})

    def _either_way(self, leg: Leg, device: Device, unexpected: list[Journey]) -> Iterator[Journey]:
        """What arrives without the helper arrives; of the rest it is unknown."""
        for each in unexpected:
            if each.outcome == "ok":
                yield each
            else:
                part = leg.narrowed(replace(leg.flow, ports=each.asked.ports))
                place = (*device.place, "ftp_helper")
                yield part.stopped(device.name, "unknown", "source address may change", place)

    def _at_inside(self, leg: Leg, device: Device) -> Iterator[Journey]:
        """The device itself, unless its helper has given the sender this address for data."""
        expected = self._expected(leg, device)
        if expected is None or expected.host is None or expected.source is None:
            yield self._unmatched(leg, device, "the device itself")
            return
        source = AddressSet.single(expected.source)
        flow = replace(leg.flow, to=expected.host, sources=source, from_ports=None, pooled=False)
        place = (*device.place, "ftp_helper")
        if expected.outside:
            yield from self.on_network(
                leg.then(device.name, "translate", flow, place), device.spec.outside.network, device
            )
        else:
            rejected = leg.then(device.name, "hairpin", flow, place)
            yield from self.on_network(rejected, device.spec.inside.network, device, True)

    def _filtered(self, leg: Leg, table: Table, at: str, verb: Verb) -> Iterator[Leg | Journey]:
        """The leg cut by a filter: legs that pass, journeys that end. An empty filter leaves no step."""
        if table.lets_all_pass:
            yield leg
            return
        for ruling in rulings(table, leg.flow):
            part = leg.narrowed(ruling.flow)
            if ruling.action == "allow":
                yield part.then(at, verb, ruling.flow, ruling.place, ruling.rule)
            else:
                yield _rejected_by_filter(part, at, ruling)

    def _unmatched(self, leg: Leg, device: Device, reason: Reason) -> Journey:
        place = device.place if reason == "the device itself" else (*device.place, _KEYS[reason])
        if device.spec.unmatched == "refused":
            return leg.refused(device.name, reason, place)
        return leg.stopped(device.name, "silent", reason, place)

    def _inward(self, leg: Leg, device: Device) -> Iterator[Journey]:
        """A connection to one of the device's outside addresses."""
        for passed in of_share(leg, device):
            if isinstance(passed, Journey):
                yield passed
                continue
            expected = self._expected(passed, device) is not None
            judged = device.spec.filter_sees == "outside" and not expected
            asked = self._filtered(passed, device.inward, device.name, "let-in") if judged else (passed,)
            for each in asked:
                if isinstance(each, Journey):
                    yield each
                    continue
                for rewritten, forwarded in self._rewritten(each, device):
                    if isinstance(rewritten, Journey):
                        yield rewritten
                    elif judged or expected or (forwarded and device.spec.forwards_pass_filter):
                        yield from self._handed_in(rewritten, device, forwarded)
                    else:
                        yield from self._filtered_in(rewritten, device, forwarded)

    def _handed_in(self, leg: Leg, device: Device, forwarded: bool) -> Iterator[Journey]:
        """A connection leaves a device towards the inside; what was forwarded may come as from the device itself."""
        if not (forwarded and device.spec.forwards_hide_source):
            yield from self.on_network(leg, device.spec.inside.network, device, True)
        elif (source := _first(device.spec.inside.address, leg.flow)) is None:
            yield leg.stopped(device.name, "unknown", "no common family", (*device.place, "forwards_hide_source"))
        else:
            flow = replace(leg.flow, sources=source, from_ports=None, pooled=False)
            hidden = leg.then(device.name, "hide", flow, (*device.place, "forwards_hide_source"))
            yield from self.on_network(hidden, device.spec.inside.network, device, True)

    def _routed_in(self, leg: Leg, device: Device) -> Iterator[Journey]:
        """A connection to an inside address, through a device that does not translate."""
        for passed in past_provider(leg, device):
            if isinstance(passed, Journey):
                yield passed
            elif passed.flow.to in device.spec.inside.address:
                yield self._unmatched(passed, device, "the device itself")
            elif self._expected(passed, device) is not None or device.inward.lets_all_pass:
                routed = passed.then(device.name, "route", passed.flow, device.place)
                yield from self.on_network(routed, device.spec.inside.network, device, True)
            else:
                yield from self._filtered_in(passed, device)

    def _filtered_in(self, leg: Leg, device: Device, forwarded: bool = False) -> Iterator[Journey]:
        for passed in self._filtered(leg, device.inward, device.name, "let-in"):
            if isinstance(passed, Leg):
                yield from self._handed_in(passed, device, forwarded)
            else:
                yield passed

    def _rewritten(self, leg: Leg, device: Device) -> Iterator[tuple[Leg | Journey, bool]]:
        """Helper, forwards, then pairs; each result with whether it passes as forwarded."""
        expected = self._expected(leg, device)
        if expected is not None and expected.host is not None:
            flow = replace(leg.flow, to=expected.host)
            yield leg.then(device.name, "forward", flow, (*device.place, "ftp_helper")), True
            return
        waiting = [leg]
        if unknown := leg.flow.ports & device.spec.unknown_ports.ports:
            part = leg.narrowed(replace(leg.flow, ports=unknown))
            yield part.stopped(device.name, "unknown", "ports unknown", (*device.place, "unknown_ports")), False
            known = leg.flow.ports - unknown
            waiting = [leg.narrowed(replace(leg.flow, ports=known))] if known else []
        for rewrite in rewrites(device.spec):
            place, name = (*device.place, *rewrite.place), rewrite.name or None
            left: list[Leg] = []
            for each in waiting:
                taken = matching(rewrite, each.flow)
                if taken is None:
                    left.append(each)
                    continue
                if each.flow.pooled and taken.sources != each.flow.sources:
                    taken = replace(taken, sources=each.flow.sources)
                    part = each.narrowed(taken)
                    yield part.stopped(device.name, "unknown", "source address may change", place, name), True
                else:
                    moved = replace(taken, to=rewrite.to, ports=taken.ports.shift(rewrite.offset))
                    verb: Verb = "forward" if rewrite.forwarded else "translate"
                    yield each.narrowed(taken).then(device.name, verb, moved, place, name), rewrite.forwarded
                left += [each.narrowed(rest) for rest in rest_of(each.flow, taken)]
            waiting = left
        off = bool(device.spec.forwards) and not device.spec.forwarding
        for each in waiting:
            yield self._unmatched(each, device, "forwarding is off" if off else "no forward"), False

    def _hairpin(self, leg: Leg, device: Device) -> Iterator[Journey]:
        """An inside host used the outside address: forwards apply, no filter is asked."""
        if not device.spec.hairpin:
            yield self._unmatched(leg, device, "no hairpin")
            return
        if device.spec.hairpin_source == "unknown":
            yield leg.stopped(device.name, "unknown", "hairpin unknown", (*device.place, "hairpin_source"))
            return
        spec, place = device.spec, (*device.place, "hairpin")
        for rewritten, _ in self._rewritten(leg, device):
            if isinstance(rewritten, Journey):
                yield rewritten
                continue
            flow = rewritten.flow
            if spec.hairpin_source == "kept":
                rejected = rewritten.then(device.name, "hairpin", flow, place)
                yield from map(self._bypassed, self.on_network(rejected, spec.inside.network, device, True))
                continue
            side = spec.inside if spec.hairpin_source == "inside" else spec.outside
            if (source := _first(side.address, flow)) is None:
                yield rewritten.stopped(device.name, "unknown", "no common family", device.place)
            else:
                flow = replace(flow, sources=source, from_ports=None, pooled=False)
                rejected = rewritten.then(device.name, "hairpin", flow, place)
                yield from self.on_network(rejected, spec.inside.network, device, True)

    def _bypassed(self, journey: Journey) -> Journey:
        """What the sender notices of a connection that a device has turned back and left as it was: whoever answers
        does so straight to the sender, which knows nothing of that address, unless routes lead the answer back."""
        if journey.outcome not in ("ok", "refused") or self.topology.routed:
            return journey
        rejected = next(each for each in reversed(journey.steps) if each.does == "hairpin")
        if journey.reason == "nobody there" and journey.trail[-1].sender == rejected.at:
            return journey
        place = (*(rejected.place or ())[:-1], "hairpin_source")
        return Leg(journey.asked, journey.flow, journey.steps).stopped(
            rejected.at, "silent", "answers bypass it", place
        )

    def _outward(self, leg: Leg, device: Device) -> Iterator[Journey]:
        network = device.spec.outside.network
        expected = self._expected(leg, device)
        if expected is not None and expected.source is not None:
            flow = replace(leg.flow, sources=AddressSet.single(expected.source), from_ports=None, pooled=False)
            helped = leg.then(device.name, "translate", flow, (*device.place, "ftp_helper"))
            yield from self.on_network(helped, network, device)
            return
        if expected is not None:
            passes: Iterator[Leg | Journey] = iter((leg,))
        else:
            passes = self._filtered(leg, device.outward, device.name, "let-out")
        for passed in passes:
            if isinstance(passed, Journey):
                yield passed
                continue
            if sent_back_inside(self.topology, device, passed.flow.to):
                back = passed.then(device.name, "route", passed.flow, (*device.place, "routes"))
                yield from self.on_network(back, device.spec.inside.network, device)
                continue
            for sent in translated(self.topology, passed, device):
                if isinstance(sent, Leg):
                    yield from self.on_network(sent, network, device)
                else:
                    yield sent
