"""One connection of the site, chosen by what it is for or by where it goes."""

from msgspec.structs import replace

from .addresses import Address
from .flow import Flow, Journey
from .journey import travel
from .ports import UNPRIVILEGED, PortSet
from .session import foresee, stand_of, typed_port
from .site import Promise, Service, Transport
from .topology import Topology


class NoSuchWalk(ValueError):
    """The question has no connection to follow, with the reason."""


def walk_to(
    topology: Topology, client: str, to: Address, port: int, protocol: Transport, from_port: int | None
) -> tuple[Journey, ...]:
    """The journeys of one port from a client to any address.

    That something listens at the end is taken for granted. There are several journeys only
    where the fate depends on the client's source port or address.
    """
    stand = stand_of(topology, client)
    sources = PortSet.single(from_port) if from_port else UNPRIVILEGED
    journeys = travel(topology, stand.origin, Flow(protocol, stand.sources, sources, to, PortSet.single(port)))
    if not journeys:
        raise NoSuchWalk(f"{client} has no IPv{to.family} address to go to {to} from")
    return journeys


def walk_control(topology: Topology, client: str, service: Service, from_port: int | None) -> tuple[Journey, ...]:
    """The control connection of a client to a service."""
    forecast = foresee(topology, Promise(client=client, service=service.name, mode="passive"), ())
    if forecast.target is None:
        raise NoSuchWalk(f"the site file gives {client} no address that would do")
    return walk_to(topology, client, forecast.target, typed_port(topology, forecast.stand, service), "tcp", from_port)


def walk_data(topology: Topology, promise: Promise, port: int | None, from_port: int | None) -> tuple[Journey, ...]:
    """One data connection of a session: from the client in passive mode, from the server in
    active mode. Without a port, the first that fails, else the first of all."""
    forecast = foresee(topology, promise, ())
    flow, data = forecast.data_flow, forecast.data
    if flow is None or data is None:
        raise NoSuchWalk("this session never comes to a data connection; walk its control connection instead")
    chosen = port if port is not None else (data.fails or data.asked).lowest
    if chosen not in data.asked:
        raise NoSuchWalk(f"port {chosen} is none of the data ports of this session, which are {data.asked}")
    origin = topology.server if promise.mode == "active" else forecast.stand.origin
    sources = PortSet.single(from_port) if from_port else flow.from_ports
    return travel(topology, origin, replace(flow, ports=PortSet.single(chosen), from_ports=sources), forecast.helped)
