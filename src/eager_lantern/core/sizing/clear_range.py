"""Where a passive range may lie: clear of the system's own ports and of registered services."""

from typing import Literal

from msgspec import Struct

from ..model.site import Site
from ..network.topology import listens_on
from ..values.ports import PortSet

DYNAMIC = PortSet.of((49152, 65535))
"""Ports that are never registered to a service (RFC 6335, section 6)."""
USER, LOW = PortSet.of((10000, 49151)), PortSet.of((1024, 9999))
"""Ports that services are registered for (RFC 6335, section 6); the low ones are crowded with services that are
not registered, and are taken only where nothing else is left."""
ROUND = 100


class ClearRange(Struct, frozen=True):
    """A range, the part of the ports that it was taken from, and how many were left to choose from."""

    ports: PortSet
    among: Literal["dynamic", "user", "low"]
    clear: PortSet


def clear_range(size: int, taken: PortSet, registered: PortSet) -> ClearRange:
    """A range of so many ports, clear of what is taken, and of registered ports.

    The dynamic ports come first. Raises ValueError that names the largest range there is.
    """
    dynamic, user, low_ones = DYNAMIC - taken, USER - taken - registered, LOW - taken - registered
    for among, clear in (("dynamic", dynamic), ("user", user), ("low", low_ones)):
        for low, high in clear.spans:
            even = -(-low // ROUND) * ROUND
            start = even if even + size - 1 <= high else low
            if start + size - 1 <= high:
                return ClearRange(PortSet.of((start, start + size - 1)), among, clear)  # type: ignore[arg-type]
    widest = max((high - low + 1 for low, high in (*dynamic.spans, *user.spans, *low_ones.spans)), default=0)
    raise ValueError(
        f"no range of {size} ports is clear of the system's own ports and of services; "
        f"the widest gap has {widest}: let ports rest for less time, spread the burst, or use two services"
    )


def taken_by(site: Site, except_for: str) -> PortSet:
    """Ports that a new range of one service must keep clear of: the system's own and other services'."""
    others = [each for each in site.services if each.name != except_for]
    taken = site.server.own_ports
    for each in others:
        taken = taken | listens_on(each)
    return taken
