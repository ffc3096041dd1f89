"""What is unwise in gateways, addresses and names, seen in the file alone."""

from collections.abc import Iterator

from ..model.change import Change, change, value_at
from ..model.entries import Typed
from ..model.site import INTERNET, Forward, Gateway, Site
from ..model.unfilled import open_places
from ..network.flow import Flow
from ..network.journey import trace
from ..network.topology import Topology
from ..network.translation import entries
from ..predict.endpoints import position_of, targets, typed_port
from ..predict.forecast import ClientPosition, stops_of
from ..values.addresses import FAMILIES, Addresses
from ..values.phrases import ports_phrase, the
from ..values.ports import UNPRIVILEGED, PortSet
from ..values.text_value import SitePath
from .finding import Finding, set_to
from .forwards import not_public


def device_findings(topology: Topology) -> Iterator[Finding]:
    """Findings about gateways, leases, and addresses of both families."""
    for i, gateway in enumerate(topology.site.gateways):
        place: SitePath = ("gateways", i)
        yield from _not_public(gateway, place)
        yield from _forwards_twice(topology, gateway, place)
        yield from _does_not_hold(gateway, place)
        yield from _moving_outside(topology, gateway, place)
        yield from _expiring_forwards(topology.site, gateway, place)
        yield from _untold(gateway, place)
    yield from _moving_server(topology)
    yield from _six_without_path(topology)
    yield from _not_filled_in(topology.site)


def _not_public(gateway: Gateway, place: SitePath) -> Iterator[Finding]:
    forwards = any(each.forwarded for each in entries(gateway))
    special = any(each.kind != "public" for each in gateway.outside.address.each)
    if gateway.outside.network == INTERNET and special and forwards:
        cause = not_public(gateway, place, PortSet())
        yield Finding(cause.kind, "risks", cause.message, cause.advice, cause.place)


def _forwards_twice(topology: Topology, gateway: Gateway, place: SitePath) -> Iterator[Finding]:
    """Ports that two forwards claim: the one that the device asks first has them."""
    listed = [each for each in entries(gateway) if each.protocol]
    written: dict[SitePath, Forward] = {("forwards", i): each for i, each in enumerate(gateway.forwards)}
    for index, later in enumerate(listed):
        for earlier in listed[:index]:
            both = earlier.ports & later.ports
            same = earlier.protocol == later.protocol and earlier.to.family == later.to.family
            same = same and (None in (earlier.outside, later.outside) or earlier.outside == later.outside)
            if both and same and earlier.sources is None and later.sources is None:
                message = (
                    f"{gateway.name} forwards {ports_phrase(both)} twice: to {earlier.to} first, so never to {later.to}"
                )
                if earlier.to == later.to and earlier.offset == later.offset:
                    message = f"{gateway.name} forwards {ports_phrase(both)} to {later.to} twice"
                where = (*place, *later.place)
                left = later.ports - earlier.ports
                off = set_to(topology.site, (*where, "enabled"), False)
                less = (
                    set_to(topology.site, (*where, "ports"), left)
                    if left and written[later.place].to_port is None
                    else ()
                )
                yield Finding("port-taken-twice", "risks", message, "keep one of the two", where, less or off)
                break


def _does_not_hold(gateway: Gateway, place: SitePath) -> Iterator[Finding]:
    wanted = [each for each in gateway.forwards if each.enabled]
    ranges = [each for each in wanted if len(each.ports) > 1]
    if ranges and not gateway.forward_ranges:
        j = gateway.forwards.index(ranges[0])
        message = f"{gateway.name} takes single ports only, and {len(ranges)} of its forwards are ranges"
        cure = "write one forward for each port, with a range as small as the load allows (forward_limit)"
        yield Finding("range-not-forwardable", "risks", message, cure, (*place, "forwards", j, "ports"))
    elif gateway.forward_limit is not None and len(wanted) > gateway.forward_limit:
        message = f"{gateway.name} holds {gateway.forward_limit} forwards, and {len(wanted)} are switched on"
        cure = "join neighbouring ports into ranges, or take out what nobody needs"
        yield Finding("forward-table-full", "risks", message, cure, (*place, "forward_limit"))


_FILL_IN = {
    "address": "put in the address that the device itself shows, or that the client has",
    "outside": "put in the outside address, as the provider or cloud gives it",
    "addresses": "put in the address that the name is to lead to",
    "from": "put in the address or network that they come from",
    "announce": "put in the outside address that clients reach",
    "reaches": "put in what these clients type: a name, or the outside address",
}
"""What is to be written in place of a question mark, by the key that it stands at."""


def _not_filled_in(site: Site) -> Iterator[Finding]:
    for place in open_places(site):
        key = str(place[-1])
        whose = next((name for depth in (4, 2, 1) if (name := getattr(value_at(site, place[:depth]), "name", ""))), "")
        yield Finding("not-filled-in", "risks", f"{key} of {whose or place[0]} is not known yet", _FILL_IN[key], place)


def _untold(gateway: Gateway, place: SitePath) -> Iterator[Finding]:
    """What the site file marks as unknown: where outside ports lead, and how clients inside are turned back."""
    if ports := gateway.unknown_ports.ports:
        message = f"where {gateway.name} leads {ports_phrase(ports)} of its outside address is not known"
        cure = "look at the device: write a forward for what leads inside, and take the ports out here"
        yield Finding("rule-unknown", "risks", message, cure, (*place, "unknown_ports"))
    if gateway.hairpin and gateway.hairpin_source == "unknown":
        message = f"whether and how {gateway.name} hairpins clients inside that use its outside address is not known"
        cure = "try it from inside, and write what you find: hairpin: false, or hairpin_source inside, outside or kept"
        yield Finding("rule-unknown", "risks", message, cure, (*place, "hairpin_source"))


def _expiring_forwards(site: Site, gateway: Gateway, place: SitePath) -> Iterator[Finding]:
    """Forwards that programs ask a device for end by themselves unless they are asked for again (RFC 6887)."""
    for j, each in enumerate(gateway.forwards):
        if each.enabled and each.lifetime is not None:
            message = f"{gateway.name} drops {the('forward', each.name)} after {each.lifetime} unless it is renewed"
            cure = "enter it by hand to stay, and take lifetime out; or see that what asked for it keeps asking"
            where = (*place, "forwards", j, "lifetime")
            yield Finding("forward-ends", "risks", message, cure, where, set_to(site, where, None))


def _moving_outside(topology: Topology, gateway: Gateway, place: SitePath) -> Iterator[Finding]:
    """An outside address that the provider may change, announced or typed."""
    if gateway.outside.lease != "dynamic" or not any(each.forwarded for each in entries(gateway)):
        return
    for i, service in enumerate(topology.site.services):
        seen = service.passive.announce.addresses if service.passive else None
        if seen and any(each in gateway.outside.address for each in seen.each):
            message = f"{service.name} announces {seen}, which the provider of {gateway.name} may change at any time"
            cure = "ask for a fixed address, or announce a name that follows it"
            yield Finding("announces-stale-address", "risks", message, cure, ("services", i, "passive", "announce"))
    own = gateway.outside.address
    typing = [
        (i, each)
        for i, each in enumerate(topology.site.clients)
        if each.reaches and not each.reaches.name and any(one in own for one in each.reaches.addresses.each)
    ]
    if typing:
        who = ", ".join(each.name for _, each in typing)
        message = f"the address that is typed ({who}) is one that the provider of {gateway.name} may change at any time"
        cure = "ask for a fixed address, or let clients type a name that follows it"
        yield Finding("server-address-may-change", "risks", message, cure, ("clients", typing[0][0], "reaches"))


def _moving_server(topology: Topology) -> Iterator[Finding]:
    server = topology.site.server
    led = [each for gateway in topology.site.gateways for each in entries(gateway) if each.to in server.address]
    if server.lease == "dynamic" and led:
        what = "forwards lead" if any(each.protocol for each in led) else "a gateway leads"
        message = f"{server.name} gets its address by a lease that may change, and {what} to {server.address}"
        cure = "reserve the address for it, or set it on the server: lease: reserved"
        where: SitePath = ("server", "lease")
        reserved = set_to(topology.site, where, "reserved")
        yield Finding("server-address-may-change", "risks", message, cure, where, reserved)


def by_ipv4_alone(topology: Topology, position: ClientPosition) -> Change | None:
    """The IPv6 addresses taken out of the name that a client types, or of what it types; None where it has no other."""
    four = Addresses(tuple(each for each in targets(topology, position) if each.family == 4))
    reaches = position.spec.reaches
    if not four.each or reaches is None:
        return None
    for j, published in enumerate(topology.site.names):
        if published.name == reaches.name:
            return change(topology.site, ("names", j, "addresses"), four)
    place: SitePath = ("clients", topology.client_index(position.name), "reaches")
    return change(topology.site, place, Typed(four, port=reaches.port))


def _six_without_path(topology: Topology) -> Iterator[Finding]:
    """A published IPv6 address that a client prefers and that leads nowhere."""
    seen: set[str] = set()
    promised = {(each.client, each.service) for each in topology.site.promises}
    for i, client in enumerate(topology.site.clients):
        name = client.reaches.name if client.reaches else ""
        position = position_of(topology, client.name)
        tried = targets(topology, position)
        six = [each for each in tried if each.family == 6]
        if not six or len(six) == len(tried) or not all(position.sources.of_family(each) for each in FAMILIES):
            continue
        for service in topology.site.services:
            if (client.name, service.name) not in promised or name in seen:
                continue
            port = PortSet.single(typed_port(topology, position, service))
            journeys = trace(topology, position.origin, Flow("tcp", position.sources, UNPRIVILEGED, six[0], port))
            if any(each.outcome != "unknown" for each in stops_of(journeys)):
                seen.add(name)
                message = (
                    f"{client.name} has IPv6 and prefers {six[0]}, which does not answer: it waits before IPv4 is tried"
                )
                cure = "let IPv6 in as well, or take the IPv6 address out of the name"
                four = by_ipv4_alone(topology, position)
                place: SitePath = four.place if four else ("clients", i, "reaches")
                cures = (four,) if four else ()
                yield Finding("ipv6-without-path", "risks", message, cure, place, cures)
