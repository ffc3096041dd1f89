"""Sessions foreseen: a control connection, and the data connections that hang on it.

Control is one journey. Passive data goes from the client to the address that it was given
(or trusts), over every port that the server may hand out; active data comes back from the
server to what the client named. Every port is its own case.
"""

from collections.abc import Iterator

from msgspec.structs import replace

from ..model.change import value_at
from ..model.site import Active, CompleteClient, Gateway, Passive, Promise, Rule, Service
from ..network.flow import Flow, Journey, Leg, Reason, largest_passing, swallowing
from ..network.ftp_helper import Followed, announced_to_all, first_reader, named_through, reads_twice
from ..network.journey import Expected, trace
from ..network.topology import Device, Topology
from ..values.addresses import FAMILIES, OUTSIDE_NOT_KNOWN, SENDER_NOT_KNOWN, Address, AddressSet, Family
from ..values.outcomes import Extent, Outcome, Rung
from ..values.ports import EVERY_PORT, UNPRIVILEGED, PortSet
from ..values.text_value import SitePath
from .endpoints import _kept_out, is_inside, position_of, resolved, service_of, targets, typed_port, ways_in
from .forecast import ClientPosition, Forecast, Stop, data_of, extent_of, rung_of, stops_of
from .logins import refused_at_login


def predict(topology: Topology, promise: Promise, place: SitePath) -> Forecast:
    """Predict one promise of a site that is consistent."""
    return replace(predict_from(topology, promise, position_of(topology, promise.client)), place=place)


def predict_from(topology: Topology, promise: Promise, position: ClientPosition) -> Forecast:
    """The same for whoever stands somewhere, be it a client of the site or not. Where it stands for many, those whom a
    rule bans by their addresses are spared, as long as they are few: who writes such a rule means them. Where the
    promise states whom it is not for, it is for all others."""
    position = replace(position, sources=position.sources - promise.except_for)
    forecast = _as_filled_in(topology, _predicted(topology, promise, position))
    stated = promise.holds == "shut" or bool(promise.except_for)
    if stated or forecast.kept is True or position.spec.address or position.spec.on_server:
        return forecast
    banned = _banned(topology, forecast)
    rest = position.sources - banned
    if not rest or not banned or not all(_are_few(banned, position.sources, each) for each in FAMILIES):
        return forecast
    spared = _predicted(topology, promise, replace(position, sources=rest))
    return replace(spared, banned=banned) if spared.kept is not False else forecast


def _as_filled_in(topology: Topology, forecast: Forecast) -> Forecast:
    """A promise that would be kept is unknown as long as the file has a question mark for an address it rests on."""
    if forecast.kept is not True or forecast.promise.holds == "shut":
        return forecast
    at: str = forecast.position.name
    place: SitePath = ()
    if SENDER_NOT_KNOWN in forecast.position.spec.address:
        at, place = f"the address of {at}", ("clients", topology.client_index(at), "address")
    elif OUTSIDE_NOT_KNOWN in (forecast.target, forecast.announced):
        of = next((each for each in topology.devices if OUTSIDE_NOT_KNOWN in each.spec.outside_addresses), None)
        if of is not None:
            at, place = f"the outside address of {of.name}", (*of.place, "outside", "address")
    elif (ban := topology.open_ban) is not None:
        at, place = "whom a rule bans", ban
    else:
        return forecast
    stop = Stop(PortSet(), "unknown", at, None, "not filled in", place)
    return _stopped_at(forecast, "unknown", "name", stop)


LARGEST_BAN = 0.01
"""The share of the addresses of a network that a rule may ban and the network is still promised."""


def _are_few(banned: AddressSet, whole: AddressSet, family: Family) -> bool:
    few, all_of_them = (sum(high - low + 1 for low, high in each.of_family(family).spans) for each in (banned, whole))
    return few <= LARGEST_BAN * all_of_them


def _banned(topology: Topology, forecast: Forecast) -> AddressSet:
    """The senders whom rules stop that are written for some addresses."""
    found = AddressSet()
    for each in (*forecast.control, *(forecast.data.journeys if forecast.data else ())):
        rule = value_at(topology.site, each.end.place or ())
        if each.outcome != "ok" and isinstance(rule, Rule) and rule.from_ and rule.action in ("deny", "refuse"):
            found = found | each.asked.sources & forecast.position.sources
    return found


def _predicted(topology: Topology, promise: Promise, position: ClientPosition) -> Forecast:
    service, place = service_of(topology, promise.service), ()
    if promise.holds == "shut":
        outsiders = _kept_out(topology, position, service)
        outsiders = replace(outsiders, sources=outsiders.sources - promise.except_for)
        return _predict_shut(topology, Forecast(promise, place, outsiders, service, "fails", None, ()))
    target, control = reach_control(topology, position, service)
    forecast = Forecast(promise, place, position, service, "works", target, control)
    stops = stops_of(control)
    if not control:
        return _without_address(topology, forecast)
    if stops:
        rung: Rung = "greet" if stops[0].outcome == "wrong" else "connect"
        return _stopped_at(forecast, _extent_of_control(control, stops), rung, *stops)
    if service.tls.demanded and promise.mode is not None and not position.spec.secures(service.tls):
        return _without_tls(topology, forecast)
    if (refused := refused_at_login(topology.site, promise.client, service)) is not None:
        reason, at = refused
        stop = Stop(PortSet(), "refused", topology.server.name, None, reason, at)
        return _stopped_at(forecast, "fails", "login", stop)
    if service.protocol == "sftp":
        return _in_full_packets(topology, forecast, control) or forecast
    if service.protocol != "ftp" or promise.mode is None:
        return forecast
    return _predict_passive(topology, forecast) if promise.mode == "passive" else _predict_active(topology, forecast)


def _extent_of_control(control: tuple[Journey, ...], stops: tuple[Stop, ...]) -> Extent:
    """Of the control connections of many: what some of them certainly meet breaks it, whatever is unknown of others."""
    if stops[0].outcome == "unknown":
        return "unknown"
    return "partly" if any(each.outcome in ("ok", "unknown") for each in control) else "fails"


def _without_address(topology: Topology, forecast: Forecast) -> Forecast:
    """A client of which no connection is known: of a family that what it types has no address of, or of none at all."""
    typed = targets(topology, forecast.position)
    if not typed or not forecast.position.sources:
        return _stopped_at(forecast, "unknown", "name", _unknown_stop(forecast.position.name, "client has no address"))
    stop = _unknown_stop(forecast.position.name, "no common family")
    return _stopped_at(replace(forecast, target=typed[0]), "unknown", "name", stop)


def _without_tls(topology: Topology, forecast: Forecast) -> Forecast:
    """A client that speaks no TLS with a server that demands it: where TLS comes first both wait for the other."""
    implicit = forecast.service.tls.mode == "implicit"
    place: SitePath = ("services", topology.site.services.index(forecast.service), "tls")
    outcome: Outcome = "silent" if implicit else "refused"
    stop = Stop(PortSet(), outcome, topology.server.name, None, "TLS demanded", place)
    return _stopped_at(forecast, "fails", "greet" if implicit else "login", stop)


def _without_epsv(topology: Topology, forecast: Forecast) -> Forecast:
    """A client that asks for data by EPSV or EPRT alone, and a server that knows neither (RFC 959 is all it speaks)."""
    place: SitePath = ("services", topology.site.services.index(forecast.service), "speaks_epsv")
    stop = Stop(PortSet(), "refused", topology.server.name, None, "EPSV unknown", place)
    return _stopped_at(forecast, "fails", "announce", stop)


def _stopped_at(forecast: Forecast, extent: Extent, rung: Rung, *stops: Stop) -> Forecast:
    return replace(forecast, predicted=extent, rung=rung, stops=stops)


def _unknown_stop(at: str, reason: Reason) -> Stop:
    return Stop(PortSet(), "unknown", at, None, reason, None)


def _read_twice(reader: Device) -> Stop:
    return Stop(PortSet(), "unknown", reader.name, None, "reads it twice", (*reader.place, "ftp_helper"))


def reach_control(
    topology: Topology, position: ClientPosition, service: Service
) -> tuple[Address | None, tuple[Journey, ...]]:
    """The address that a client ends up using, and what becomes of the control connection.

    IPv6 comes first where the client has it (RFC 6724); an address that does not answer is
    given up for the next, and so the first one that may answer decides.
    """
    tried: list[tuple[Address, tuple[Journey, ...]]] = []
    for address in targets(topology, position):
        port = PortSet.single(typed_port(topology, position, service))
        journeys = trace(topology, position.origin, Flow("tcp", position.sources, UNPRIVILEGED, address, port))
        own = PortSet.single(service.control_port.number)
        judged = tuple(part for each in journeys for part in _at_destination(topology, each, own))
        if any(each.outcome in ("ok", "unknown") for each in judged):
            return address, judged
        if judged:
            tried.append((address, judged))
    return tried[0] if tried else (None, ())


def _at_destination(topology: Topology, journey: Journey, listening: PortSet) -> Iterator[Journey]:
    """What a journey that arrived finds there: the port it wants, another service, or nothing."""
    if journey.outcome != "ok":
        yield journey
        return
    at_server = journey.end.at == topology.server.name
    wanted = journey.flow.ports & listening if at_server else PortSet()
    others = _control_ports(topology) & journey.flow.ports - wanted if at_server else PortSet()
    leg = Leg(journey.asked, journey.flow, journey.steps)
    if wanted:
        part = leg.narrowed(replace(leg.flow, ports=wanted))
        yield Journey(part.asked, part.flow, "ok", None, part.steps)
    if others:
        yield _rejected(leg, others, "another service")
    if nothing := journey.flow.ports - wanted - others:
        yield _rejected(leg, nothing, "not listening")


def _rejected(leg: Leg, ports: PortSet, reason: Reason) -> Journey:
    part = leg.narrowed(replace(leg.flow, ports=ports))
    at = part.steps[-1].at
    if reason == "another service":
        return part.stopped(at, "wrong", reason, _deciding_forward(part))
    return part.refused(at, reason, _deciding_forward(part))


def _deciding_forward(leg: Leg) -> SitePath | None:
    """The forward that led here, since it decided which host and port were meant."""
    return next((step.place for step in reversed(leg.steps) if step.does == "forward"), None)


def _control_ports(topology: Topology) -> PortSet:
    return PortSet.of(*((each.control_port.number,) * 2 for each in topology.site.services))


def _predict_shut(topology: Topology, forecast: Forecast) -> Forecast:
    """Whether any outside port at any address that leads anywhere leads to the service's control port."""
    port, position = forecast.service.control_port.number, forecast.position
    if not position.sources:
        return _stopped_at(forecast, "unknown", "connect", _unknown_stop(position.name, "client has no address"))
    control: list[Journey] = []
    typed = (*targets(topology, position), *topology.server.addresses.each)
    for address in ways_in(topology, position):
        flow = Flow("tcp", position.sources, UNPRIVILEGED, address, EVERY_PORT)
        found = [each for each in trace(topology, position.origin, flow) if _leads_to(topology, each, port)]
        # An address that is no way to this server and leads nowhere is not worth a word.
        control += (_one_way(each) for each in found if address in typed or each.outcome in ("ok", "unknown"))
    outcomes = {each.outcome for each in control}
    extent: Extent = "works" if "ok" in outcomes else "unknown" if "unknown" in outcomes else "fails"
    target = control[0].asked.to if control else None
    stops = stops_of(tuple(control))
    return replace(forecast, predicted=extent, target=target, control=tuple(control), rung="connect", stops=stops)


def _one_way(journey: Journey) -> Journey:
    """What gets in and is not answered to the client is not shut: routes may lead the next answer back."""
    if journey.reason not in ("answers go elsewhere", "answers bypass it"):
        return journey
    return replace(journey, outcome="unknown")


def _leads_to(topology: Topology, journey: Journey, port: int) -> bool:
    """Whether a journey opens this port of the server, or stopped on its way to it."""
    return port in journey.flow.ports and (journey.outcome != "ok" or journey.end.at == topology.server.name)


def _predict_passive(topology: Topology, forecast: Forecast) -> Forecast:
    passive = forecast.service.passive or Passive()
    position, target, control = forecast.position, forecast.target, forecast.control[0]
    assert target is not None
    extended = position.spec.extends(forecast.service, target.family)
    if extended is None:
        return _without_epsv(topology, forecast)
    replied = _announced_address(topology, passive, control)
    if replied is None:
        return _stopped_at(forecast, "unknown", "announce", _unknown_stop(topology.server.name, "no announced address"))
    plain = not position.spec.secures(forecast.service.tls)
    if plain and (reader := reads_twice(topology, control)) is not None:
        return _stopped_at(forecast, "unknown", "announce", _read_twice(reader))
    followed = (
        announced_to_all(topology, forecast.control, position.network, replied, extended)
        if plain
        else Followed(replied)
    )
    if followed is None:
        return _stopped_at(forecast, "unknown", "announce", _unknown_stop(topology.server.name, "read apart"))
    if plain and (extended or replied == control.flow.to):
        followed = _read_at_server(topology, control, followed, _all_peers(forecast))
    data_to = target if extended else _followed(position.spec, followed.address, target)
    flow = Flow("tcp", position.sources, UNPRIVILEGED, data_to, passive.ports)
    flows = tuple(replace(flow, protocol=each) for each in passive.protocols)
    journeys = tuple(
        settled
        for each_flow in flows
        for each in trace(topology, position.origin, each_flow, followed.helped)
        for part in _at_destination(topology, each, _listening_ports(control, each))
        for settled in (_accepted(topology, forecast, part),)
    )
    announced = None if extended else followed.address
    settled_on = replace(forecast, announced=announced, helped=followed.helped)
    return _with_data(topology, settled_on, flows, journeys, position.name)


def _read_at_server(topology: Topology, control: Journey, followed: Followed, peers: AddressSet) -> Followed:
    """What a helper in the server host's own filter adds: it lets through the data of whom it has read, as long as
    the words name the very ends of the control connection."""
    server = topology.site.server
    if not server.ftp_helper or not control.flow.ports <= server.helper_ports:
        return followed
    return Followed(followed.address, {**followed.helped, server.name: Expected(peers)})


def _listening_ports(control: Journey, data: Journey) -> PortSet:
    """The ports on which a server waits for this data: those that it named, on the address of the control connection
    alone (RFC 959, section 3.2)."""
    named = data.asked.ports == data.flow.ports and data.flow.to == control.flow.to
    return data.asked.ports if named else PortSet()


def _followed(client: CompleteClient, announced: Address, target: Address) -> Address:
    """Where a client goes that gets an address for data; ``target`` is where its control connection goes."""
    if client.trusts_announced == "unless-private":
        return target if announced.kind != "public" == target.kind else announced
    return announced if client.trusts_announced else target


def _announced_address(topology: Topology, passive: Passive, control: Journey) -> Address | None:
    """The address in the server's reply: PASV (RFC 959) has room for IPv4 only."""
    own = control.flow.to
    destination = passive.announce
    if passive.announce_inside and is_inside(topology, control):
        destination = passive.announce_inside
    if destination.own or own.family == 6:
        return own
    return next(iter(resolved(topology, destination).of_family(4)), None)


def _accepted(topology: Topology, forecast: Forecast, journey: Journey) -> Journey:
    """What the server states to a data connection that reached its port."""
    service = forecast.service
    journey = _resumed(topology, forecast, journey)
    if journey.outcome != "ok" or not service.peer_must_match:
        return journey
    leg = Leg(journey.asked, journey.flow, journey.steps)
    place: SitePath = ("services", topology.site.services.index(service))
    if not journey.flow.sources & _peers(forecast, journey):
        return leg.stopped(topology.server.name, "refused", "another peer", (*place, "peer_must_match"))
    if journey.flow.pooled and _pools_arbitrarily(topology, journey):
        return leg.stopped(topology.server.name, "unknown", "source address may change", (*place, "peer_must_match"))
    return journey


def _resumed(topology: Topology, forecast: Forecast, journey: Journey) -> Journey:
    """What comes of a data connection under TLS, whoever opened it, where the server wants it to resume the
    session of the control connection."""
    tls = forecast.service.tls
    client = forecast.position.spec
    demanded = client.secures(tls) and tls.protects_data and tls.reuse_required
    if journey.outcome != "ok" or not demanded or client.resumes_tls:
        return journey
    place: SitePath = ("services", topology.site.services.index(forecast.service), "tls", "reuse_required")
    leg = Leg(journey.asked, journey.flow, journey.steps)
    return leg.stopped(topology.server.name, "refused", "session reuse", place)


def _peers(forecast: Forecast, journey: Journey) -> AddressSet:
    """The addresses that the control connections of the same clients come from; where nobody's own
    address is given, some clients may be treated otherwise than others."""
    found = AddressSet()
    for each in forecast.control:
        if each.asked.sources & journey.asked.sources:
            found = found | each.flow.sources
    return found


def _pools_arbitrarily(topology: Topology, journey: Journey) -> bool:
    passed = {step.at for step in journey.steps}
    return any(each.name in passed and each.spec.pooling == "arbitrary" for each in topology.devices)


def _predict_active(topology: Topology, forecast: Forecast) -> Forecast:
    active = forecast.service.active or Active()
    position, control = forecast.position, forecast.control[0]
    family = control.asked.to.family
    named = position.spec.active_address or _seen_as(position, control.asked.to)
    if named is None:
        return _stopped_at(forecast, "unknown", "announce", _unknown_stop(position.name, "client has no address"))
    plain = not position.spec.secures(forecast.service.tls)
    if plain and (reader := reads_twice(topology, control)) is not None:
        return _stopped_at(forecast, "unknown", "announce", _read_twice(reader))
    if plain and named.family != family and (reader := first_reader(topology, control, position.network)) is not None:
        dropped = Stop(PortSet(), "silent", reader.name, None, "other family", (*reader.place, "ftp_helper"))
        return _stopped_at(replace(forecast, announced=named), "fails", "announce", dropped)
    if position.spec.extends(forecast.service, named.family) is None:
        return _without_epsv(topology, forecast)
    followed = named_through(topology, control, position.network, named) if plain else Followed(named)
    back_to = followed.address
    if (drawing := followed.drawn_at) is not None:
        place: SitePath = (*drawing.place, "ftp_helper")
        drawn = Stop(PortSet(), "unknown", drawing.name, None, "source address may change", place)
        return _stopped_at(replace(forecast, announced=named), "unknown", "announce", drawn)
    if plain and _all_peers(forecast) == AddressSet.single(back_to):
        followed = _read_at_server(topology, control, followed, AddressSet.single(back_to))
    if active.repairs_private and back_to.kind != "public":
        peers = _all_peers(forecast)
        if len(peers) != 1:
            place = ("services", topology.site.services.index(forecast.service), "active", "repairs_private")
            drawn = Stop(PortSet(), "unknown", topology.server.name, None, "source address may change", place)
            return _stopped_at(replace(forecast, announced=named), "unknown", "announce", drawn)
        back_to = Address(peers.lowest)
    elif not active.accepts_other_address and (doubt := _not_its_own(topology, forecast, back_to)) is not None:
        extent: Extent = "fails" if doubt.outcome == "refused" else "unknown"
        return _stopped_at(replace(forecast, announced=back_to), extent, "announce", doubt)
    from_ports = PortSet.single(active.from_port.number) if active.from_port else UNPRIVILEGED
    own = AddressSet.single(control.flow.to)
    flow = Flow("tcp", own, from_ports, back_to, position.spec.active_ports)
    arrived = trace(topology, topology.server, flow, followed.helped)
    back = (part for each in arrived for part in _back_at_client(topology, position, each))
    journeys = tuple(_resumed(topology, forecast, each) for each in back)
    settled_on = replace(forecast, announced=named, helped=followed.helped)
    return _with_data(topology, settled_on, (flow,), journeys, topology.server.name)


def _not_its_own(topology: Topology, forecast: Forecast, named: Address) -> Stop | None:
    """What a server does that connects to nobody but its peer: it refuses an address that no control connection of
    the client comes from; of one that only some may come from it is unknown."""
    peers = _all_peers(forecast)
    if peers == AddressSet.single(named):
        return None
    place: SitePath = ("services", topology.site.services.index(forecast.service), "active", "accepts_other_address")
    server = topology.server.name
    if named.number not in peers:
        return Stop(PortSet(), "refused", server, None, "address refused", place)
    if any(each.flow.pooled for each in forecast.control):
        return Stop(PortSet(), "unknown", server, None, "source address may change", place)
    return _unknown_stop(forecast.position.name, "client has no address")


def _all_peers(forecast: Forecast) -> AddressSet:
    """Every address that the control connection may come from."""
    peers = AddressSet()
    for each in forecast.control:
        peers = peers | each.flow.sources
    return peers


def _seen_as(position: ClientPosition, target: Address) -> Address | None:
    """The address that a client has towards where it goes: on the server host the very same, where that is its own."""
    own = position.spec.address
    return target if target in own.each else next(iter(own.of_family(target.family)), None)


def _back_at_client(topology: Topology, position: ClientPosition, journey: Journey) -> Iterator[Journey]:
    """An active connection counts only at the client that waits for it, on the port it named; nobody else
    waits for data, but the server's own services listen, where it is led back there."""
    home = topology.server.name if position.spec.on_server else position.name
    if journey.outcome == "ok" and not (journey.end.at == home and journey.asked.ports == journey.flow.ports):
        yield from _at_destination(topology, journey, PortSet())
    else:
        yield journey


def _with_data(
    topology: Topology, forecast: Forecast, flows: tuple[Flow, ...], journeys: tuple[Journey, ...], at: str
) -> Forecast:
    """The forecast with what becomes of its data connections, which begin ``at`` a host or network."""
    data = data_of(flows, journeys, at)
    found = replace(forecast, predicted=extent_of(data), stops=data.stops, data=data, data_flow=flows[0])
    if data.stops:
        return replace(found, rung=rung_of(data.stops[0].reason))
    return _until_the_end(topology, found)


def _until_the_end(topology: Topology, forecast: Forecast) -> Forecast:
    """A transfer of typical size, from its first full packet to its end."""
    journeys = forecast.data.journeys if forecast.data else ()
    return _in_full_packets(topology, forecast, journeys) or _kept_in_mind(topology, forecast)


def _in_full_packets(topology: Topology, forecast: Forecast, journeys: tuple[Journey, ...]) -> Forecast | None:
    """Where a line on the way takes no full packets and senders are not notified, every longer transfer hangs."""
    passed: dict[Gateway, int] = {}
    for device in topology.devices:
        ways = [each.steps for each in journeys if any(step.at == device.name for step in each.steps)]
        if ways:
            passed[device.spec] = min(largest_passing(device.spec, steps) for steps in ways)
    swallower = swallowing(passed)
    if swallower is None:
        return None
    place: SitePath = ("gateways", topology.site.gateways.index(swallower), "too_big")
    stop = Stop(PortSet(), "silent", swallower.name, None, "packets too big", place)
    return _stopped_at(forecast, "fails", "send", stop)


def _kept_in_mind(topology: Topology, forecast: Forecast) -> Forecast:
    """While data moves, control is quiet: a gateway that forgets it sooner breaks the end of a
    transfer of typical size and rate."""
    seconds = forecast.service.transfer_seconds
    passed = {step.at for each in forecast.control for step in each.steps}
    kept = forecast.position.spec.keeps_alive
    for device in topology.devices:
        timeout = device.spec.idle_timeout
        if kept is not None and timeout is not None and kept.amount < timeout.amount:
            continue
        if device.name in passed and timeout is not None and seconds is not None and seconds > timeout.amount:
            stop = Stop(PortSet(), "silent", device.name, None, "control forgotten", (*device.place, "idle_timeout"))
            return _stopped_at(forecast, "fails", "send", stop)
    return forecast
