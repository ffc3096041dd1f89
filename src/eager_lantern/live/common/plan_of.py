"""A plan from a site: a session as one of its clients has it."""

from ...core.model.site import Client, Mode, Service
from ...core.network.topology import Topology
from ...core.predict.endpoints import typed_port
from ...core.predict.forecast import Stand
from .secret import Secret
from .visit_plan import VisitPlan


def plan_of(
    topology: Topology, stand: Stand, player: Client, service: Service, mode: Mode, user: str, password: Secret
) -> VisitPlan:
    """What the site tells of a session of who stands somewhere, with the habits of the client that plays it.
    Where to connect, by which name, is for whoever makes it to add."""
    return VisitPlan(
        name="",
        port=typed_port(topology, stand, service),
        user=user,
        password=password,
        security=service.tls.mode,
        protects_data=service.tls.protects_data,
        mode=mode,
        extended=player.uses_epsv,
        resumes=player.resumes_tls,
        active_ports=player.active_ports,
        client=stand.name,
        service=service.name,
    )
