"""A plan from a site: a session as one of its clients has it."""

from ...core.model.site import Client, Mode, Service, TlsMode
from ...core.network.topology import Topology
from ...core.predict.endpoints import typed_port
from ...core.predict.forecast import Stand
from .secret import Secret
from .visit_plan import Credentials, DataHabits, Security, Target, VisitPlan


def plan_of(
    topology: Topology, stand: Stand, player: Client, service: Service, mode: Mode, user: str, password: Secret
) -> VisitPlan:
    """What the site tells of a session of who stands somewhere, with the habits of the client that plays it.
    Where to connect, by which name, is for whoever makes it to add."""
    tls = service.tls
    mode_of_tls: TlsMode = tls.mode if player.secures(tls) else "none"
    return VisitPlan(
        Target("", typed_port(topology, stand, service), client=stand.name, service=service.name),
        Credentials(user, password),
        Security(mode_of_tls, protects_data=tls.protects_data, resumes=player.resumes_tls),
        DataHabits(mode, extended=player.uses_epsv, active_ports=player.active_ports),
    )
