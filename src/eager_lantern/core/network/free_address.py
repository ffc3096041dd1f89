"""Addresses that nobody of the site has."""

from ..model.site import INTERNET
from ..values.addresses import Address, AddressSet, Family
from .topology import Topology


def free_address(topology: Topology, network: str, family: Family) -> Address | None:
    """An address that nobody of the site has, on a network."""
    if network == INTERNET:
        prefixes = ("192.0.2.0/24", "198.51.100.0/24", "203.0.113.0/24") if family == 4 else ("2001:db8:ffff::/64",)
        spans = [AddressSet.parse(each) for each in prefixes]
    else:
        spans = [topology.subnets.get(network, AddressSet()).of_family(family)]
    held = AddressSet.single(*topology.held_on(network))
    return next((Address(_tenth(free)) for span in spans if (free := span - held)), None)


def _tenth(free: AddressSet) -> int:
    """An address that looks like a host's, not like a network's own."""
    low, high = free.spans[-1]
    return min(low + 10, high)
