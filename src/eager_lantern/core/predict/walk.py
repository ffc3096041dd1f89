"""One connection of the site, chosen by what it is for or by where it goes."""

from msgspec.structs import replace

from ..model.problem import did_you_mean, network_names
from ..model.site import INTERNET, CompleteClient, Mode, Promise, Service, Transport
from ..network.flow import Flow, Journey
from ..network.journey import trace
from ..network.topology import Host, Topology
from ..values.addresses import Address, Addresses, AddressSet, address_or_none
from ..values.ports import UNPRIVILEGED, PortSet
from .endpoints import position_of, typed_port
from .forecast import ClientPosition, Forecast
from .session import predict_from


class NoSuchWalk(ValueError):
    """The question has no connection to follow, with the reason."""


def position_at(topology: Topology, text: str) -> ClientPosition:
    """Who a client's name, a network's name or a plain address stands for. Raises NoSuchWalk."""
    site = topology.site
    if text in [*(each.name for each in site.clients), *network_names(site)]:
        return position_of(topology, text)
    address = address_or_none(text)
    if address is None:
        known = [*(each.name for each in site.clients), *network_names(site)]
        raise NoSuchWalk(f"there is no client or network “{text}”; {did_you_mean(text, known)}")
    network = next((each for each in network_names(site) if topology.holds(each, address)), None)
    network = network or (INTERNET if address.kind == "public" else None)
    if network is None:
        raise NoSuchWalk(f"no network of the site holds {address}; give it to a network’s subnet first")
    holder = topology.holder(network, address)
    if isinstance(holder, Host) and holder is not topology.server:
        return position_of(topology, holder.name)
    if holder is not None:
        name = holder.name if isinstance(holder, Host) else holder.device.name
        raise NoSuchWalk(f"{address} is {name}: a walk starts at a client, or at an address that no device has")
    spec = CompleteClient(name=text, network=network, address=Addresses((address,)))
    return ClientPosition(text, network, network, AddressSet.single(address), spec)


def addresses_at(topology: Topology, text: str) -> tuple[Address, ...]:
    """The addresses of a published name, a host or a gateway (its outside ones), or the address that it is.
    Raises NoSuchWalk."""
    if address := address_or_none(text):
        return (address,)
    found = {
        **{each.name: tuple(map(Address, each.outside_addresses)) for each in topology.devices},
        **{each.name: each.addresses.each for each in (topology.server, *topology.clients)},
        **{each.name: each.addresses.each for each in topology.site.names},
    }
    if text not in found:
        hint = did_you_mean(text, found)
        raise NoSuchWalk(f"“{text}” is no address, and no host, gateway or published name of the site; {hint}")
    if not found[text]:
        raise NoSuchWalk(f"the site file has no address for {text}")
    return found[text]


def walk_to(
    topology: Topology,
    position: ClientPosition,
    to: tuple[Address, ...],
    port: int,
    protocol: Transport,
    from_port: int | None,
) -> tuple[Journey, ...]:
    """The journeys of one port from somebody to the first of these addresses that is of a family of theirs.

    That something listens at the end is taken for granted. There are several journeys only
    where the fate depends on the client's source port or address.
    """
    sources = PortSet.single(from_port) if from_port else UNPRIVILEGED
    for each in sorted(to, key=lambda address: -address.family):
        journeys = trace(
            topology, position.origin, Flow(protocol, position.sources, sources, each, PortSet.single(port))
        )
        if journeys:
            return journeys
    raise NoSuchWalk(f"{position.name} has no IPv{to[0].family} address to go to {to[0]} from")


def walk_session(
    topology: Topology,
    position: ClientPosition,
    service: Service,
    mode: Mode | None,
    port: int | None,
    data: bool | None,
) -> tuple[Forecast, PortSet, bool]:
    """The session that is meant, the port of it, and whether that is one of its data ports.

    Without a word on which connection is meant the port decides; without a port it is the control connection, and
    of data the first port that fails, else the first of all. Raises NoSuchWalk for a port that is neither.
    """
    forecast = predict_from(topology, Promise(client=position.name, service=service.name, mode=mode), position)
    control, ports = typed_port(topology, position, service), forecast.data.asked if forecast.data else PortSet()
    if data is None:
        data = port is not None and port != control
    if not data:
        if port not in (None, control):
            raise NoSuchWalk(f"port {port} is not the control port of {service.name}, which is {control} from there")
        if forecast.target is None:
            raise NoSuchWalk(f"the site file gives {position.name} no address that would do")
        return forecast, PortSet.single(control), False
    if forecast.data is None:
        raise NoSuchWalk("this session never comes to a data connection; walk its control connection instead")
    chosen = port if port is not None else (forecast.data.fails or forecast.data.asked).lowest
    if chosen not in ports:
        here = f"the control port, {control}, nor a data port" if port is not None else "a data port"
        raise NoSuchWalk(f"port {chosen} is neither {here} of this session; its data ports are {ports}")
    return forecast, PortSet.single(chosen), True


def walk_control(topology: Topology, forecast: Forecast, port: PortSet, from_port: int | None) -> tuple[Journey, ...]:
    """The control connection of a session."""
    assert forecast.target is not None
    return walk_to(topology, forecast.position, (forecast.target,), port.lowest, "tcp", from_port)


def walk_data(
    topology: Topology, forecast: Forecast, port: PortSet, from_port: int | None, protocol: Transport = "tcp"
) -> tuple[Journey, ...]:
    """One data connection of a session: from the client in passive mode, from the server in active mode."""
    assert forecast.data_flow is not None
    active = forecast.promise.mode == "active"
    origin = topology.server if active else forecast.position.origin
    sources = PortSet.single(from_port) if from_port else forecast.data_flow.from_ports
    flow = replace(forecast.data_flow, ports=port, from_ports=sources, protocol=protocol)
    return trace(topology, origin, flow, forecast.helped)
