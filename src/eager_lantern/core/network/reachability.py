"""Who reaches what: every address at once, every port, every host behind the gateways."""

from collections.abc import Iterator

from msgspec import Struct

from ..model.change import Change, change, value_at
from ..model.site import INTERNET, Client, Gateway, Server, Site, Transport
from ..values.addresses import FAMILIES, Address, AddressSet
from ..values.ports import EVERY_PORT, UNPRIVILEGED, PortSet
from .flow import Flow, Journey, Step
from .journey import trace
from .topology import Topology


class Reach(Struct, frozen=True):
    """Ports of a host that connections from a network arrive at, by one door."""

    network: str
    host: str
    protocol: Transport
    door: Address
    ports: PortSet
    journey: Journey


def opener(journey: Journey) -> Step:
    """The step that let a connection in: the forward that led it, else the outermost rule that allows it, else
    the pair of addresses that joined it, else where it arrived."""
    steps = [step for step in journey.steps if step.place]
    for wanted in ("forward", "let-in", "translate"):
        found = next((each for each in steps if each.does == wanted and (each.rule or wanted != "let-in")), None)
        if found is not None:
            return found
    return next((each for each in steps if each.does == "let-in"), journey.end)


def closed(site: Site, journey: Journey, ports: PortSet) -> tuple[Change, ...]:
    """The change that takes ports of the host where a journey arrived out of the forward or rule that let it
    in, or that switches this off where nothing else would be left of it."""
    step = opener(journey)
    if step.place is None or not isinstance(step.place[-1], int) or step.does == "translate":
        return ()
    left = value_at(site, (*step.place, "ports")) - _before_step(site, journey, step, ports)
    to_port = value_at(site, (*step.place, "to_port")) if step.does == "forward" else None
    if left and to_port is None:
        return (change(site, (*step.place, "ports"), left),)
    return (change(site, (*step.place, "enabled"), False),)


def _before_step(site: Site, journey: Journey, step: Step, ports: PortSet) -> PortSet:
    """Ports of the end of a journey, in the numbers that they have before one of its steps."""
    for each in reversed(journey.steps):
        if each.does == "forward" and each.place and isinstance(each.place[-1], int):
            ports = ports.shift(-value_at(site, each.place).offset)
        if each is step:
            break
    return ports


BOTH: tuple[Transport, ...] = ("tcp", "udp")


def reaches(topology: Topology, network: str, protocols: tuple[Transport, ...] = BOTH) -> tuple[Reach, ...]:
    """What anybody on a network reaches on hosts behind the gateways, in other networks, as exact sets; of the
    internet also on the server, where it stands there itself.

    That something listens is taken for granted; ``ports`` are those of the host.
    """
    return tuple(_reach_each(topology, network, protocols))


def _reach_each(topology: Topology, network: str, protocols: tuple[Transport, ...]) -> Iterator[Reach]:
    sources = topology.everybody(network)
    stands_there = topology.server.network == network == INTERNET
    hosts = (topology.server, *topology.clients)
    reached = {each.name for each in hosts if each.network not in (network, INTERNET)}
    reached |= {topology.server.name} if stands_there else set()
    for door in (*doors(topology, network), *(topology.server.addresses.each if stands_there else ())):
        for protocol in protocols:
            flow = Flow(protocol, sources, UNPRIVILEGED, door, EVERY_PORT)
            for journey in trace(topology.one_way, network, flow):
                if journey.outcome == "ok" and journey.end.at in reached:
                    yield Reach(network, journey.end.at, protocol, door, journey.flow.ports, journey)


def doors(topology: Topology, network: str) -> tuple[Address, ...]:
    """Every address beyond a network that may lead to a host: outside addresses of gateways, hosts that can be seen
    without translation, and those that a route leads to, be it through a gateway that translates."""
    found: dict[Address, None] = {}
    routed = _routed(topology)
    for family in FAMILIES:
        visible = topology.ways(network, family)
        for device in topology.devices:
            if device.spec.outside.network in visible:
                found |= {Address(number): None for number in device.outside_addresses.of_family(family)}
        for host in (topology.server, *topology.clients):
            if host.network != network:
                seen = host.network in visible
                held = host.addresses.of_family(family)
                found |= dict.fromkeys(each for each in held if seen or each.number in routed)
    return tuple(found)


def _routed(topology: Topology) -> AddressSet:
    """Whatever the routes of hosts and gateways lead to."""
    site = topology.site
    holders: tuple[Server | Client | Gateway, ...] = (site.server, *site.clients, *site.gateways)
    spans = [span for holder in holders for each in holder.routes for span in each.to.spans]
    return AddressSet.of(*spans)
