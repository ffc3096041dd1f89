"""One connection to where a visit goes, and what the network says where there is none."""

import errno
import socket

from ...wire.endpoints import Endpoint
from ..failure import Failed
from ..vantage.base import Connected
from ..vantage.local import Here
from .visit_plan import VisitPlan

_OWN = {errno.ENETUNREACH, errno.EADDRNOTAVAIL, errno.EAFNOSUPPORT, errno.EINVAL}
"""What a system says of itself, before anything was sent."""
_TOLD = "so says this machine or a device on the way: nobody has the address behind it, or a filter forbids it"


async def connected(plan: VisitPlan, endpoint: Endpoint) -> Connected:
    """A connection. Raises Failed with what the network said."""
    try:
        way = plan.reach(endpoint.address, endpoint.port)
        return await plan.vantage.connect(way.address, way.port, way.source)
    except ConnectionRefusedError:
        raise Failed("refused", f"{endpoint} refuses the connection") from None
    except TimeoutError:
        raise Failed("silent", f"{endpoint} does not answer") from None
    except OSError as error:
        if error.errno in _OWN and not _told_of(plan, endpoint.address, error):
            raise Failed("unknown", f"{endpoint}: {error.strerror}") from None
        told = f" ({_TOLD})" if error.errno in (errno.EHOSTUNREACH, errno.EACCES, errno.ENETUNREACH) else ""
        raise Failed("refused", f"{endpoint}: {error.strerror}{told}") from None


def _told_of(plan: VisitPlan, address: str, error: OSError) -> bool:
    """Whether “network is unreachable” came from the way: where this machine has a route itself, and nothing but that
    is asked by connecting a datagram socket, it was told so by ICMPv6."""
    if error.errno != errno.ENETUNREACH or not isinstance(plan.vantage, Here):
        return False
    with socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, socket.SOCK_DGRAM) as asked:
        return asked.connect_ex((address, 9)) == 0
