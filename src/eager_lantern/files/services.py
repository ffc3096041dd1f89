"""The services that ports are registered for (RFC 6335): the table that ships with the program."""

from functools import cache

from ..core.model.site import Transport
from ..core.values.ports import PortSet
from .package_data import shipped_text

MOST_NAMES = 3


@cache
def _rows() -> tuple[tuple[int, int, str, str], ...]:
    import csv  # only for who asks what usually listens somewhere

    lines = [line for line in shipped_text("services.csv").splitlines() if not line.startswith("#")]
    return tuple((int(row[0]), int(row[1]), row[2], row[3]) for row in csv.reader(lines[1:]))


@cache
def registered(protocol: Transport = "tcp") -> PortSet:
    """Every port that is registered for a service."""
    return PortSet.of(*((low, high) for low, high, transports, _ in _rows() if protocol in transports))


def usual_names(ports: PortSet, protocol: Transport) -> str:
    """The names of what usually listens on ports: ``ssh``, ``smtp, domain, http and 400 more``, or nothing."""
    found = [
        name
        for low, high, transports, name in _rows()
        if protocol in transports and any(low <= b and a <= high for a, b in ports.spans)
    ]
    names = list(dict.fromkeys(found))
    more = f" and {len(names) - MOST_NAMES} more" if len(names) > MOST_NAMES else ""
    return ", ".join(names[:MOST_NAMES]) + more
