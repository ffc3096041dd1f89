"""The log of a session in a file, as what was seen of a client's try."""

from pathlib import Path

from ..core.diagnosis.sighting import PortFate, Sighting
from ..core.diagnosis.situation import Situation
from ..core.model.site import Site
from ..core.values.addresses import address_or_none
from ..core.values.outcomes import ORDER
from ..core.values.ports import PortSet
from ..wire.session_log import NoSessionLog, SessionTold, read_log
from .guarded import guarded
from .observations import service_for
from .problem import BadInput, InputProblem
from .yaml_tree import read_text


@guarded
def read_session_log(path: Path, site: Site, client: str) -> Sighting:
    """What a log tells of a try of a client. Raises BadInput for what is no log of a session, or not of a service of
    this site. Nothing of the log but addresses and ports is kept, and so no password."""
    try:
        told = read_log(read_text(path))
    except NoSessionLog as error:
        raise BadInput(str(path), InputProblem(0, f"is no log of a session: it {error}")) from None
    service = service_for(path, site, client, told.protocol)
    last = told.endpoints[-1] if told.endpoints else None
    announced = address_or_none(last.address) if last and last.address else None
    tried = Situation(client, service, told.mode, extended=told.extended, secured=_secured(told, site, service))
    return Sighting(
        tried,
        path.name,
        told.reached,
        told.rung,
        told.outcomes,
        told.works,
        announced=announced,
        fates=_fates(told),
        more=max(0, len(told.carried) - sum(each >= 0 for each in told.carried)),
    )


def _secured(told: SessionTold, site: Site, name: str) -> bool | None:
    """Whether it was under TLS. Who was let in where nobody is without it had it, if the log lacks the lines."""
    tls = next(each.tls for each in site.services if each.name == name)
    let_in = told.reached is not None and ORDER.index(told.reached) >= ORDER.index("login")
    return None if tls.demanded and let_in and told.secured is False else told.secured


def _fates(told: SessionTold) -> tuple[PortFate, ...]:
    """What became of each data port that the server named."""
    carried = [told.endpoints[i].port for i in told.carried if 0 <= i < len(told.endpoints)]
    found = [PortFate(PortSet.single(port), drawn=True) for port in dict.fromkeys(carried)]
    last = told.endpoints[-1].port if told.endpoints else None
    if told.rung in ("data", "list") and last is not None and last not in carried:
        found.append(PortFate(PortSet.single(last), told.rung, told.outcomes, drawn=True))
    return tuple(found)
