"""The first rung: from the name that users type to an address."""

import contextlib
import socket

from ...core.values.addresses import Address
from ...wire.endpoints import Endpoint
from ...wire.terminal_safe import printable
from ..failure import Failed
from .visit_plan import VisitPlan


def target_of(plan: VisitPlan) -> str:
    """What a visit is made to, as it is shown."""
    if plan.address not in (None, plan.name):
        return f"{plan.name} ({Endpoint(plan.address or '', plan.port)})"
    return str(Endpoint(plan.name, plan.port))


async def looked_up(plan: VisitPlan) -> tuple[str, str]:
    """The address to connect to, and how it was found. Raises Failed."""
    if plan.address is not None:
        return plan.address, f"{plan.name} is {plan.address}, as given"
    with contextlib.suppress(ValueError):
        return str(Address.parse(plan.name)), "an address, nothing to look up"
    try:
        address = await plan.vantage.find(plan.name, plan.port)
    except socket.gaierror as error:
        raise Failed(
            "wrong", f"{printable(plan.name)} has no address as seen from {plan.vantage.name}: {error.strerror}"
        ) from None
    except UnicodeError:
        raise Failed("wrong", f"{printable(plan.name)} is no host name") from None
    return address, f"{plan.name} is {address}"
