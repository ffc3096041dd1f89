"""The log of a session in a file, as what was seen of a client's try."""

from functools import cache
from pathlib import Path

from msgspec import convert

from ..core.model.site import Site
from ..core.observed.observation import Observation, PortFate, Situation
from ..core.values.addresses import address_or_none
from ..core.values.outcomes import ORDER, Outcome
from ..core.values.ports import PortSet
from ..wire.session_log import Errors, NoSessionLog, SessionTold, read_log
from .damage import guarded
from .reading import BadInput, InputProblem
from .results.observations import service_for
from .shipped import shipped_text
from .site.yaml_tree import YamlTree, read_text


@guarded
def read_session_log(path: Path, site: Site, client: str) -> Observation:
    """What a log tells of a try of a client. Raises BadInput for what is no log of a session, or not of a service of
    this site. Nothing of the log but addresses and ports is kept, and so no password."""
    try:
        log = read_log(read_text(path), _system_errors())
    except NoSessionLog as error:
        raise BadInput(str(path), InputProblem(0, f"is no log of a session: it {error}")) from None
    service = service_for(path, site, client, log.protocol)
    last = log.endpoints[-1] if log.endpoints else None
    announced = address_or_none(last.address) if last and last.address else None
    tried = Situation(client, service, log.mode, extended=log.extended, secured=_logged_under_tls(log, site, service))
    return Observation(
        tried,
        path.name,
        log.reached,
        log.rung,
        log.outcomes,
        log.works,
        announced=announced,
        fates=_logged_fates(log),
        more=max(0, len(log.carried) - sum(each >= 0 for each in log.carried)),
    )


@cache
def _system_errors() -> Errors:
    """What systems call their errors in every language of ``data/system-errors.yaml``."""
    found = convert(YamlTree("system-errors.yaml", shipped_text("system-errors.yaml")).data, dict[Outcome, list[str]])
    return {text.lower(): outcome for outcome, texts in found.items() for text in texts}


def _logged_under_tls(log: SessionTold, site: Site, name: str) -> bool | None:
    """Whether it was under TLS. Who was let in where nobody is without it had it, if the log lacks the lines."""
    tls = next(each.tls for each in site.services if each.name == name)
    let_in = log.reached is not None and ORDER.index(log.reached) >= ORDER.index("login")
    return None if tls.demanded and let_in and log.secured is False else log.secured


def _logged_fates(log: SessionTold) -> tuple[PortFate, ...]:
    """What became of each data port that the server named."""
    carried = [log.endpoints[i].port for i in log.carried if 0 <= i < len(log.endpoints)]
    found = [PortFate(PortSet.single(port), drawn=True) for port in dict.fromkeys(carried)]
    last = log.endpoints[-1].port if log.endpoints else None
    if log.rung in ("data", "list") and last is not None and last not in carried:
        found.append(PortFate(PortSet.single(last), log.rung, log.outcomes, drawn=True))
    return tuple(found)
