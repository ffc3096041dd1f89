"""Who reaches what: every address at once, every port, every host behind the gateways."""

from collections.abc import Iterator

from msgspec import Struct

from .addresses import Address, Addresses
from .flow import Flow, Journey
from .journey import travel
from .ports import EVERY_PORT, UNPRIVILEGED, PortSet
from .site import INTERNET, Transport
from .topology import Topology


class Reach(Struct, frozen=True):
    """Ports of a host that connections from a network arrive at, by one door."""

    network: str
    host: str
    protocol: Transport
    door: Address
    ports: PortSet
    journey: Journey


def reaches(topology: Topology, network: str) -> tuple[Reach, ...]:
    """What anybody on a network reaches on hosts behind the gateways, in other networks, as exact sets.

    That something listens is taken for granted; ``ports`` are those of the host.
    """
    return tuple(_reaches(topology, network))


def _reaches(topology: Topology, network: str) -> Iterator[Reach]:
    sources = topology.sources(network, Addresses())
    protocols: tuple[Transport, ...] = ("tcp", "udp")
    homes = {host.name: host.network for host in (topology.server, *topology.clients)}
    for door in doors(topology, network):
        for protocol in protocols:
            flow = Flow(protocol, sources, UNPRIVILEGED, door, EVERY_PORT)
            for journey in travel(topology, network, flow):
                if journey.outcome == "ok" and homes[journey.end.at] not in (network, INTERNET):
                    yield Reach(network, journey.end.at, protocol, door, journey.flow.ports, journey)


def doors(topology: Topology, network: str) -> tuple[Address, ...]:
    """Every address beyond a network that may lead to a host: outside addresses of gateways, and
    hosts that can be seen without translation."""
    visible = topology.visible(network)
    found: dict[Address, None] = {}
    for device in topology.devices:
        if device.spec.outside.network in visible:
            found |= {Address(number): None for number in device.outside_addresses}
    for host in (topology.server, *topology.clients):
        if host.network in visible and host.network != network:
            found |= dict.fromkeys(host.addresses.each)
    return tuple(found)
