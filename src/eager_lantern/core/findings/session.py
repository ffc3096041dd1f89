"""Causes of a broken promise: first every layer that stops a port, then the session itself (addresses, peers, modes,
timeouts).

Every layer that stops something is asked for its causes, then the session itself. Where a
helper in a gateway makes all the difference, that is the one cause that is reported.
"""

from collections.abc import Iterator
from math import ceil

from msgspec.structs import replace

from ..model.change import value_at
from ..model.entries import OWN, Destination, Typed
from ..model.site import INTERNET, Forward, Gateway, Rule
from ..network.flow import Journey, Step, segment_bytes
from ..network.reachability import closed, opener
from ..network.topology import Device, Topology
from ..predict.endpoints import entrances, is_inside, resolved, typed_port
from ..predict.forecast import Forecast, Stop
from ..predict.ledger import Layer, Route, Study, next_hops
from ..predict.logins import AT_LOGIN
from ..values.addresses import Address, Addresses, AddressSet, Family
from ..values.phrases import article
from ..values.ports import PortSet
from ..values.quantities import Duration
from ..values.text_value import SitePath
from .cause import FEW, Cause, Mend, Role, adds, by_passive, inserts, made, sets
from .filters import Stopped, filter_causes
from .finding import FindingKind
from .forwards import forward_causes, going_straight, helper_cause
from .server import login_cause

LEAST_IDLE_SECONDS = 7440.0
"""Two hours and four minutes: how long a translator keeps a quiet TCP connection at least (RFC 5382, REQ-5)."""


def announced_cause(topology: Topology, forecast: Forecast, layer: Layer) -> Cause:
    """The client gets an address that leads nowhere from where it stands."""
    assert forecast.data is not None
    site = topology.site
    announced, server, client = forecast.announced, topology.server.name, forecast.position.name
    good = ", ".join(str(each) for each in entrances(topology, forecast.position.network) if each.family == 4)
    text = f"{server} announces {announced} to {client}"
    if hider := _hider(topology, forecast):
        place = (*hider.place, "forwards_hide_source")
        text = f"{hider.name} leads clients in under its own address, so {server} takes them for inside ones"
        cure = "set forwards_hide_source: false, or let the server announce its outside address to everybody"
        return Cause("clients-hidden", place, layer.shut, f"{text} and announces {announced}", cure,
                     mends=sets(site, place, False))  # fmt: skip
    turning = next(
        (each for each in topology.devices if announced and announced.number in each.outside_addresses), None
    )
    if is_inside(topology, forecast.control[0]) or any(s.reason == "no hairpin" for s in forecast.data.stops):
        place = (*layer.place[:-1], "announce_inside")
        text += f", which is inside{_turning_back(turning)}"
        cure = "set announce_inside: own, or hairpin: true where the device can"
        return Cause("announces-outside-to-inside", place, layer.shut, text, cure, mends=sets(site, place, OWN))
    four = [each for each in entrances(topology, forecast.position.network) if each.family == 4]
    mends = sets(site, layer.place, Destination(addresses=Addresses((four[0],)))) if four else ()
    mends = (*mends, *_by_epsv(topology, forecast))
    if announced is not None and announced.kind != "public":
        text += f": {article(announced.kind)} address, which nobody outside can reach"
        cure = f"set announce: {good}"
        return Cause("announces-private-address", layer.place, layer.shut, text, cure, mends=mends)
    text += f", but is reached at {good}"
    return Cause("announces-stale-address", layer.place, layer.shut, text, f"set announce: {good}", mends=mends)


def _by_epsv(topology: Topology, forecast: Forecast) -> tuple[Mend, ...]:
    """A client that asks for data with EPSV, whose reply names no address, where the server knows it."""
    known = forecast.service.speaks_epsv and topology.client(forecast.promise.client) is not None
    if not known:
        return ()
    return sets(topology.site, ("clients", topology.client_index(forecast.promise.client), "uses_epsv"), True)


def _hider(topology: Topology, forecast: Forecast) -> Device | None:
    """The device under whose own address this client's control connection comes in, where it is not turned back."""
    hidden = {step.at for each in forecast.control for step in each.steps if step.does == "hide"}
    return next((each for each in topology.devices if each.name in hidden), None)


def _turning_back(device: Device | None) -> str:
    if device is None:
        return ""
    if device.spec.hairpin:
        return f": hairpinned by {device.name}, data comes from another address than the control connection"
    return f": {device.name} does not turn connections back"


def no_way_in(topology: Topology, forecast: Forecast) -> Iterator[Cause]:
    """The client goes to an address that does not lead to the server at all."""
    if forecast.target is None or forecast.position.spec.reaches is None:
        return
    if any(each.reason == "no common family" for each in forecast.stops):
        yield _no_common_family(topology, forecast, forecast.position.spec.reaches)
        return
    good = ", ".join(map(str, _ways(topology, forecast))) or "no address of the site"
    port = PortSet.single(typed_port(topology, forecast.position, forecast.service))
    reached = f"{topology.server.name} is reached from {forecast.position.network} at {good}"
    name = forecast.position.spec.reaches.name if forecast.position.spec.reaches else ""
    for i, published in enumerate(topology.site.names):
        if published.name == name:
            text = f"{name} leads to {published.addresses}, but {reached}"
            where: SitePath = ("names", i, "addresses")
            ways = Addresses(_ways(topology, forecast))
            mends = sets(topology.site, where, ways) if ways else ()
            yield Cause("announced-name-disagrees", where, port, text, f"set addresses: [{good}]", mends=mends)
            return
    place: SitePath = ("clients", topology.client_index(forecast.position.name), "reaches")
    text = f"{forecast.position.name} goes to {forecast.target}, but {reached}"
    ways = Addresses(_ways(topology, forecast))
    typed = Typed(ways, port=forecast.position.spec.reaches.port)
    mends = sets(topology.site, place, typed) if ways else ()
    yield Cause("no-way-in", place, port, text, f"let it reach {good}", mends=mends)


def _ways(topology: Topology, forecast: Forecast) -> tuple[Address, ...]:
    """The addresses under which the server is reached from where a client stands, but for those that a NAT64 makes."""
    made = topology.stands_for_ipv4(forecast.position.network)
    every = entrances(topology, forecast.position.network)
    return tuple(each for each in every if made is None or made.within(each) is None)


def _no_common_family(topology: Topology, forecast: Forecast, typed: Typed) -> Cause:
    """A client of one family of addresses, and a server that it knows by one of the other alone."""
    site, client = topology.site, forecast.position.name
    have: Family = 6 if forecast.position.sources.of_family(6) else 4
    known = resolved(topology, typed)
    text = f"{client} has IPv{have} alone, and {typed.name or 'what it types'} leads to {known}"
    found = [each for each in _ways(topology, forecast) if each.family == have]
    if not found:
        cure = f"give {topology.server.name} an IPv{have} address and a way in, or {client} one of the other family"
        return Cause("no-common-family", forecast.place, PortSet(), text, cure, "risks", about=client)
    whole = Addresses((*known.each, found[0]))
    index = next((i for i, each in enumerate(site.names) if each.name == typed.name), None)
    if index is not None:
        mends = sets(site, ("names", index, "addresses"), whole)
        return Cause("no-common-family", ("names", index, "addresses"), PortSet(), text,
                     f"add {found[0]} to the addresses of {typed.name}", "risks", mends=mends)  # fmt: skip
    place: SitePath = ("clients", topology.client_index(client), "reaches")
    mends = sets(site, place, Typed(Addresses((found[0],)), port=typed.port))
    return Cause("no-common-family", place, PortSet(), text, f"let it reach {found[0]}", "risks", mends=mends)


def cannot_return(topology: Topology, study: Study) -> Iterator[Cause]:
    """Active mode: what keeps the server's connection back from the client. A device on the client's side that
    lets a part of the ports in has a forward or a rule to widen, as any other."""
    forecast = study.forecast
    if forecast.kept is None:
        return
    stop = forecast.stops[0] if forecast.stops else None
    server, client = topology.server.name, forecast.position.name
    cure = f"let {client} use passive mode; active mode needs its side to let connections in from {server}"
    if stop and stop.reason in ("address refused", "no path", "nobody there") and _names_another(forecast):
        yield _named_elsewhere(topology, forecast, stop, cure)
        return
    for layer in study.data:
        if not layer.shut or layer.aspect == "control":  # whoever is not let in at all has causes of that
            continue
        if layer.aspect in ("outgoing", "outward") and on_server_side(topology, layer.at):
            text = f"{server} cannot connect back to {client}: {layer.at} does not let it out"
            ports = forecast.service.active.from_port if forecast.service.active else None
            out = f"allow connections from port {ports} out" if ports else "allow the server's connections out"
            advice = f"{out}, or let {client} use passive mode"
            mends = (*_let_out(topology, forecast, layer), *by_passive(topology, forecast))
            yield Cause("active-outgoing-blocked", layer.place, layer.shut, text, advice, mends=mends)
        elif not layer.ports & layer.wanted:
            text = f"{server} cannot connect back to {client}: {layer.at} {_stops(layer)}"
            mends = (*by_passive(topology, forecast), *_let_back(topology, study, layer))
            yield Cause("active-cannot-return", layer.place, layer.shut, text, cure, mends=mends)


MOST_ACTIVE_PORTS = 4096
"""Ports that a forward for active mode may open on the client's side."""


def _let_back(topology: Topology, study: Study, layer: Layer) -> tuple[Mend, ...]:
    """A forward or rule on the client's side for the server's connections back to ports that are fixed."""
    site, route = topology.site, study.data_route
    stopped = Stopped.at(layer, None, study.forecast.service.name)
    if route is None or len(layer.wanted) > MOST_ACTIVE_PORTS or not stopped.whom:
        return ()
    if layer.aspect == "forwards":
        gateway = topology.gateway(layer.at)
        to = next_hops(route, gateway)
        made = (
            Forward(name=f"{stopped.service} active", ports=layer.wanted, to=to.each[0], from_=stopped.whom)
            if to
            else None
        )
        place: SitePath = ("gateways", site.gateways.index(gateway), "forwards")
        return adds(site, place, lambda ports, whom: made) if made else ()
    index = next((i for i, each in enumerate(site.clients) if each.name == layer.at), None)
    if layer.aspect != "incoming" or index is None:
        return ()
    rule = stopped.rule(layer.wanted, stopped.whom)
    return adds(site, ("clients", index, "filter", "incoming", "rules"), lambda ports, whom: rule)


def _let_out(topology: Topology, forecast: Forecast, layer: Layer) -> tuple[Mend, ...]:
    """A rule that lets the server's active data connections out to this client, where a filter of the site stops
    them."""
    site, active = topology.site, forecast.service.active
    from_ports = PortSet.single(active.from_port.number) if active and active.from_port else None
    stopped = Stopped.at(layer, None, forecast.service.name)
    own = stopped.to or AddressSet.single(*(each.flow.to for each in layer.journeys))
    name = f"{forecast.service.name} active"
    made = Rule(action="allow", name=name, protocol="tcp", ports=layer.shut, to=own or None, from_ports=from_ports)
    if layer.at == site.server.name:
        return adds(site, ("server", "filter", "outgoing", "rules"), lambda ports, whom: made)
    index = next(i for i, each in enumerate(site.gateways) if each.name == layer.at)
    made = replace(made, from_=stopped.whom or None)
    return adds(site, ("gateways", index, "filter", "outward", "rules"), lambda ports, whom: made)


def _names_another(forecast: Forecast) -> bool:
    """Whether a client names an address for the connection back at which the server does not see it."""
    named = forecast.announced
    return named is not None and all(named.number not in each.flow.sources for each in forecast.control)


def _named_elsewhere(topology: Topology, forecast: Forecast, stop: Stop, cure: str) -> Cause:
    """The client names an address that the server does not see it at."""
    named, client, server = forecast.announced, forecast.position.name, topology.server.name
    refuses = "sees it elsewhere and refuses" if stop.reason == "address refused" else "finds nobody there"
    text = f"{client} names {named} for the connection back, {server} {refuses}"
    key = "active_address" if forecast.position.spec.active_address else "address"
    index = topology.client_index(client)
    place: SitePath = ("clients", index, key)
    seen = AddressSet()
    for each in forecast.control:
        seen = seen | each.flow.sources
    mends = by_passive(topology, forecast)
    if len(seen) == 1:
        address = Address(seen.lowest)
        own = address in forecast.position.spec.address.each
        names = sets(topology.site, ("clients", index, "active_address"), None if own else address)
        mends = (*names, *mends) if own else (*mends, *names)  # where it is not its own, something has to lead back
        cure = f"let it use passive mode, or name {address} (active_address)"
    private = named is not None and named.kind != "public"
    kind: FindingKind = "active-client-names-private" if private else "active-cannot-return"
    return Cause(kind, place, PortSet(), text, cure, mends=mends)


def on_server_side(topology: Topology, at: str) -> bool:
    """Whether a device is the server or stands between it and the outside."""
    return at == topology.server.name or any(
        each.device.name == at and each.way == "outward"
        for each in topology.chain(topology.server.network, INTERNET) or ()
    )


def _stops(layer: Layer) -> str:
    return "has no forward for it" if layer.aspect == "forwards" else "does not let it in"


def session_causes(topology: Topology, forecast: Forecast) -> Iterator[Cause]:
    """What the server itself, or a device's patience, has to say."""
    service = topology.site.services.index(forecast.service)
    for stop in forecast.stops:
        place = stop.place or forecast.place
        if stop.reason == "another peer":
            text = (
                f"{forecast.position.name} comes for data from another address than for control, {stop.at} refuses that"
            )
            cure = "let control and data take the same way, or set peer_must_match: false"
            mends = going_straight(topology, forecast.position.name)
            yield Cause("peer-address-changes", place, stop.ports, text, cure, mends=mends)
        elif stop.reason == "source address may change":
            yield from _drawn_from_a_pool(topology, forecast, stop, place)
        elif stop.reason == "session reuse":
            text = f"{topology.server.name} demands that data resumes the TLS session, {forecast.position.name} cannot"
            cure = "set reuse_required: false on the server, or use a client that resumes sessions"
            where: SitePath = ("services", service, "tls", "reuse_required")
            mends = sets(topology.site, where, False)
            yield Cause("tls-reuse-trap", where, stop.ports, text, cure, mends=mends)
        elif stop.reason == "TLS demanded":
            text = f"{topology.server.name} demands TLS, and {forecast.position.name} speaks none"
            cure = f"let {forecast.position.name} use a program that speaks TLS; without it passwords travel in clear"
            about = forecast.position.name
            yield Cause("tls-not-spoken", place, stop.ports, text, cure, about=about, mends=_speaks(topology, about))
        elif stop.reason in AT_LOGIN:
            yield login_cause(topology.site, forecast, stop.reason, place)
        elif stop.reason == "EPSV unknown":
            server, client = topology.server.name, forecast.position.name
            text = f"{server} supports neither EPSV nor EPRT, and {client} uses nothing else"
            cure = "switch them on at the server (speaks_epsv: true); over IPv4 a client that tries them first will do"
            mends = sets(topology.site, place, True)
            yield Cause("epsv-missing", place, stop.ports, text, cure, about=forecast.position.name, mends=mends)
        elif stop.reason == "no way back":
            yield _untranslated(topology, forecast, stop)
        elif stop.reason == "answers go elsewhere":
            yield _astray_cause(topology, forecast, stop)
        elif stop.reason == "control forgotten":
            yield _impatient(topology, forecast, stop)
        elif stop.reason == "packets too big":
            yield _swallowed(topology, stop)


def _speaks(topology: Topology, name: str) -> tuple[Mend, ...]:
    """A client that takes another program, or switches TLS on in its own."""
    if topology.client(name) is None:
        return ()
    return sets(topology.site, ("clients", topology.client_index(name), "speaks_tls"), "where-offered")


def _paired(topology: Topology, forecast: Forecast) -> tuple[Mend, ...]:
    """The devices on the way that may give a client another address for each connection, told to keep to one."""
    passed = {step.at for each in forecast.control for step in each.steps}
    pools = [each for each in topology.devices if each.name in passed and each.spec.pooling == "arbitrary"]
    return tuple(mend for each in pools for mend in sets(topology.site, (*each.place, "pooling"), "paired"))


def _drawn_from_a_pool(topology: Topology, forecast: Forecast, stop: Stop, place: SitePath) -> Iterator[Cause]:
    """Who minds that a pool may give another address; a rule or forward by source has causes of its own."""
    client, ports, mends = forecast.position.name, stop.ports, _paired(topology, forecast)
    text = f"{client} may come for data from another address of a pool than for control"
    paired = "set pooling: paired on that device where it can"
    if place[-1] == "peer_must_match":
        cure = f"{paired}, or peer_must_match: false on the server"
        yield Cause("peer-address-changes", place, ports, text, cure, "risks", mends=mends)
    elif place[-1] == "ftp_helper":
        text += f", and the helper of {stop.at} waits for the same one"
        cure = f"{paired}, or forward the data range there"
        yield Cause("peer-address-changes", place, ports, text, cure, "risks", mends=mends)
    elif place[-1] == "accepts_other_address":
        text = f"{client} names one address of a pool for the connection back, and may be seen at another"
        cure = f"{paired}, or let {client} use passive mode"
        yield Cause("peer-address-changes", place, ports, text, cure, "risks", mends=mends)


def _astray_cause(topology: Topology, forecast: Forecast, stop: Stop) -> Cause:
    """A host whose answers leave by another gateway than the one through which the connection came."""
    came = [step.at for each in forecast.control for step in each.steps if step.at in _device_names(topology)]
    through = came[-1] if came else "the gateway that it came through"
    text = f"{stop.at} sends its answers to {forecast.position.name} another way than through {through}"
    place = stop.place or forecast.place
    mends = sets(topology.site, place, through) if came and place[-1] == "gateway" else ()
    cure = f"set gateway: {through} there, or give it a route that leads back through {through}"
    return Cause("answers-go-elsewhere", place, stop.ports, text, cure, mends=mends)


def _device_names(topology: Topology) -> set[str]:
    return {each.name for each in topology.devices}


def _untranslated(topology: Topology, forecast: Forecast, stop: Stop) -> Cause:
    """Private addresses that leave for the internet as they are."""
    routed = [step for step in forecast.control[0].steps if step.does == "route"]
    at = routed[-1].at if routed else forecast.position.name
    place: SitePath = (*(routed[-1].place or ()), "translate") if routed else forecast.place
    text = f"{at} lets private addresses out to the internet as they are, where no answer finds back to them"
    mends = sets(topology.site, place, "outward") if routed else ()
    cure = "set translate: outward and the outside address"
    return Cause("not-translated", place, stop.ports, text, cure, mends=mends)


def _impatient(topology: Topology, forecast: Forecast, stop: Stop) -> Cause:
    seconds = forecast.service.transfer_seconds or 0
    timeout = next(each.spec.idle_timeout for each in topology.devices if each.name == stop.at)
    text = f"{stop.at} forgets quiet connections after {timeout}, a typical transfer takes {Duration(round(seconds))}"
    cure = "raise its idle timeout, or let clients keep the control connection alive (keeps_alive)"
    longer = Duration(max(LEAST_IDLE_SECONDS, 60.0 * ceil(2 * seconds / 60)))
    mends = sets(topology.site, stop.place or (), longer)
    return Cause("idle-too-short", stop.place or (), PortSet(), text, cure, mends=mends)


def _swallowed(topology: Topology, stop: Stop) -> Cause:
    device = next(each for each in topology.devices if each.name == stop.at)
    text = (
        f"the line of {stop.at} has an MTU of {device.spec.mtu} bytes, and senders of larger packets are not notified"
    )
    size = segment_bytes(device.spec, 4)
    cure = f"let {stop.at} clamp the MSS to {size} (clamps_mss: true), or let ICMP “fragmentation needed” pass"
    mends = sets(topology.site, (*device.place, "clamps_mss"), True)
    return Cause("packets-too-big", stop.place or (), PortSet(), text, cure, mends=mends)


def udp_causes(topology: Topology, forecast: Forecast) -> Iterator[Cause]:
    """UDP that is wanted beside TCP on the data ports, and stopped where TCP passes."""
    if forecast.data is None:
        return
    by_tcp, by_udp = PortSet(), PortSet()
    for journey in forecast.data.journeys:
        if journey.outcome != "ok" and journey.asked.protocol == "tcp":
            by_tcp = by_tcp | journey.asked.ports
        elif journey.outcome != "ok":
            by_udp = by_udp | journey.asked.ports
    for journey in forecast.data.journeys:
        missing = journey.asked.ports & (by_udp - by_tcp)
        if missing and journey.outcome != "ok" and journey.asked.protocol == "udp":
            text = f"{journey.end.at} lets TCP pass on the data range and stops UDP on {{ports}}"
            where = journey.end.place or forecast.place
            mends = _udp_beside(topology, journey, where)
            yield Cause("udp-missing", where, missing, text, "add the same range with protocol: udp there", mends=mends)


def _udp_beside(topology: Topology, journey: Journey, where: SitePath) -> tuple[Mend, ...]:
    """The entry that passes the same ports by TCP, once more for UDP."""
    place = where
    if journey.reason == "no forward":
        place = ("gateways", next(i for i, each in enumerate(topology.site.gateways) if each.name == journey.end.at))
        place = (*place, "forwards")
    elif "rules" in where or journey.reason == "filter default":
        place = (*(where[: where.index("rules")] if "rules" in where else where[:-1]), "rules")
    found = value_at(topology.site, place)
    entries: tuple[Rule | Forward, ...] = found if isinstance(found, tuple) else ()
    ports = journey.asked.ports
    passing = (each for each in entries if each.protocol == "tcp" and each.enabled and each.ports & ports)
    twin = next((each for each in passing if isinstance(each, Forward) or each.action == "allow"), None)
    if twin is None:
        return ()
    if "rules" in where:
        return inserts(where, lambda ports, whom: replace(twin, protocol="udp", ports=ports))
    return adds(topology.site, place, lambda ports, whom: replace(twin, protocol="udp", ports=ports))


def opened_against_promise(topology: Topology, forecast: Forecast) -> Iterator[Cause]:
    """A service that ought to be shut and is open, once for each line that opens it."""
    port = PortSet.single(forecast.service.control_port.number)
    for journey in forecast.control:
        if journey.outcome == "ok":
            step = opener(journey)
            through = f"through {_step_name(step)} of {step.at}" if step.does != "arrive" else "with nothing in between"
            text = f"{forecast.position.name} reaches {forecast.service.name}, which is to stay shut, {through}"
            cure = "take it out, or limit it to the addresses that need it"
            place = step.place or forecast.place
            by_entry = (mend for each in closed(topology.site, journey, port) for mend in made(each))
            mends = (*by_entry, *_shut_at_server(topology, port, forecast.service.name))
            yield Cause(
                "exposed-inside-service",
                place,
                journey.asked.ports,
                text,
                cure,
                about=forecast.service.name,
                mends=mends,
            )


def _shut_at_server(topology: Topology, port: PortSet, name: str) -> tuple[Mend, ...]:
    """Two rules in the server's own filter, where that lets everything in: its port is for the networks of the site,
    and for nobody else."""
    site, inside = topology.site, AddressSet()
    for each in site.networks:
        inside = inside | topology.subnets.get(each.name, AddressSet())
    table = site.server.filter.incoming
    if table.default != "allow" or not inside or len(inside.spans) > FEW:
        return ()
    allowed = Rule(action="allow", name=f"{name} inside", protocol="tcp", ports=port, from_=inside)
    shut = Rule(action="deny", name=f"{name} outside", protocol="tcp", ports=port)
    return sets(site, ("server", "filter", "incoming", "rules"), (allowed, shut, *table.rules))


def _step_name(step: Step) -> str:
    kind = {"forward": "forward", "let-in": "rule", "translate": "a pair of addresses"}.get(step.does, "what allows it")
    if step.does == "let-in" and step.place and step.place[-1] == "default":
        return "the default"
    return f"{kind} “{step.rule}”" if step.rule else f"a {kind}" if kind in ("forward", "rule") else kind


def causes_of(topology: Topology, study: Study) -> list[Cause]:
    """Everything that keeps a promise from being kept."""
    forecast = study.forecast
    if forecast.promise.holds == "shut":
        return list(opened_against_promise(topology, forecast))
    if study.control_route is None:
        return list(no_way_in(topology, forecast))
    helper, found = helper_cause(topology, study), _without_helper(topology, study, study.control_route)
    if helper is None:
        return found
    instead = tuple(mend for each in found for cure in each.cures for mend in made(cure))
    return [replace(helper, mends=(*helper.mends, *instead))]


def _without_helper(topology: Topology, study: Study, control_route: Route) -> list[Cause]:
    """What keeps a promise from being kept, had it to do without a helper."""
    forecast = study.forecast
    found = [cause for layer in study.control for cause in _of_layer(topology, study, control_route, layer, "control")]
    if forecast.promise.mode == "active":
        found += cannot_return(topology, study)
        partly = [each for each in study.data if each.ports & each.wanted and not _own_side(topology, each)]
    else:
        partly = list(study.data)
        found += udp_causes(topology, forecast)
    if any(each.missing for each in study.control):  # what a helper lets in by itself shows once there is a session
        partly = [each for each in partly if not _may_follow(topology, forecast, each)]
    if study.data_route:
        found += [cause for layer in partly for cause in _of_layer(topology, study, study.data_route, layer, "data")]
    turned_back = any(each.kind == "announces-outside-to-inside" for each in found)
    for cause in session_causes(topology, forecast):
        if not (turned_back and cause.kind == "peer-address-changes"):
            found.append(cause)
    return found


def _may_follow(topology: Topology, forecast: Forecast, layer: Layer) -> bool:
    """Whether the helper of a gateway may read these sessions and lead their data on."""
    helpers = {each.name for each in topology.site.gateways if each.ftp_helper}
    clear = not forecast.position.spec.secures(forecast.service.tls)
    return layer.at in helpers and layer.aspect in ("forwards", "inward") and clear


def _own_side(topology: Topology, layer: Layer) -> bool:
    """Whether it is reported as what keeps the server from connecting out."""
    return layer.aspect in ("outgoing", "outward") and on_server_side(topology, layer.at)


def _of_layer(topology: Topology, study: Study, route: Route, layer: Layer, role: Role) -> Iterator[Cause]:
    if not layer.shut or layer.aspect in ("hands-out", "control"):
        return
    if layer.aspect == "address":
        yield announced_cause(topology, study.forecast, layer)
    elif layer.aspect == "provider":
        gateway = topology.gateway(layer.at)
        if (share := gateway.outside.ports) is not None and layer.shut - share:
            yield _outside_share(topology, gateway, share, layer, role)
            return
        text = f"the provider of {gateway.name} blocks {{ports}}"
        yield Cause("provider-blocks-port", layer.place, layer.shut, text, "use ports that the provider does not block")
    elif layer.aspect == "forwards":
        yield from forward_causes(topology, route, layer, role, study.forecast.service.name)
    else:
        yield from filter_causes(topology, layer, role, study.forecast.service.name)


def _outside_share(topology: Topology, gateway: Gateway, share: PortSet, layer: Layer, role: Role) -> Cause:
    """Ports of an outside address that belong to other customers, and what of the own ones would do."""
    place: SitePath = ("gateways", topology.site.gateways.index(gateway), "outside", "ports")
    text = f"{gateway.name} has only ports {share} of its outside address, so {{ports}} never come to it"
    room = [(low, high) for low, high in share.spans if high - low + 1 >= len(layer.wanted)]
    if not room:
        cure = f"no range of its share holds {len(layer.wanted)} ports: ask the provider for an address of its own"
        return Cause("port-outside-share", place, layer.shut - share, text, cure)
    many = len(layer.wanted)
    data = f"use {many} ports of its share for data, on the server as well"
    door = "let clients type a port of its share, and forward that to the control port by to_port"
    cure = data if role == "data" else door
    return Cause("port-outside-share", place, layer.shut - share, text, cure)
