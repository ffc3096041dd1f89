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
    if plan.target.address not in (None, plan.target.name):
        return f"{plan.target.name} ({Endpoint(plan.target.address or '', plan.target.port)})"
    return str(Endpoint(plan.target.name, plan.target.port))


async def looked_up(plan: VisitPlan) -> tuple[str, str]:
    """The address to connect to, and how it was found. Raises Failed."""
    if plan.target.address is not None:
        return plan.target.address, f"{plan.target.name} is {plan.target.address}, as given"
    with contextlib.suppress(ValueError):
        return str(Address.parse(plan.target.name)), "an address, nothing to look up"
    try:
        address = await plan.vantage.find(plan.target.name, plan.target.port)
    except socket.gaierror as error:
        raise Failed(
            "wrong", f"{printable(plan.target.name)} has no address as seen from {plan.vantage.name}: {error.strerror}"
        ) from None
    except UnicodeError:
        raise Failed("wrong", f"{printable(plan.target.name)} is no host name") from None
    return address, f"{plan.target.name} is {address}"
