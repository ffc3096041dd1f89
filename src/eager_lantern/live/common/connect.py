"""One connection to where a visit goes, and what the network says where there is none."""

import errno

from ...wire.endpoints import Endpoint
from ..failure import Failed
from ..vantage.base import Connected
from .visit_plan import VisitPlan

_OWN = {errno.ENETUNREACH, errno.EADDRNOTAVAIL, errno.EAFNOSUPPORT, errno.EINVAL}
"""What a system says of itself, before anything was sent."""
_TOLD = "a device on the way says so: nobody has the address behind it, or a filter forbids it"


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
        if error.errno in _OWN:
            raise Failed("unknown", f"{endpoint}: {error.strerror}") from None
        told = f" ({_TOLD})" if error.errno in (errno.EHOSTUNREACH, errno.EACCES) else ""
        raise Failed("refused", f"{endpoint}: {error.strerror}{told}") from None
