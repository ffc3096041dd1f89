"""Every fault that a site may have, made from the site itself."""

from collections.abc import Iterator

from ..model.site import Site
from ..network.topology import Topology
from ..values.ports import PortSet
from .fault import Fault, consistent
from .of_clients import client_faults
from .of_filters import filter_faults
from .of_forwards import forward_faults
from .of_gateways import gateway_faults
from .of_server import server_faults


def faults_of(site: Site, seen: PortSet = PortSet()) -> tuple[Fault, ...]:
    """All single faults of a consistent site, in the order of the way from outside in. ``seen`` are data ports of
    which something is known: a range may end between any two of them."""
    topology = Topology(site)
    return tuple(good for each in _every(topology, seen) if (good := consistent(site, each)) is not None)


def _every(topology: Topology, seen: PortSet) -> Iterator[Fault]:
    yield from client_faults(topology.site)
    yield from gateway_faults(topology)
    yield from forward_faults(topology, seen)
    yield from filter_faults(topology, seen)
    yield from server_faults(topology, seen)
