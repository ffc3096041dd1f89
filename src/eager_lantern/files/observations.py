"""What was seen, from results that were kept: of visits, of sweeps over a lamp, of rehearsals."""

import json
from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec

from ..core.diagnosis.of_climb import sighting_of
from ..core.diagnosis.sighting import PortFate, Sighting
from ..core.diagnosis.situation import Situation
from ..core.model.problem import did_you_mean, network_names
from ..core.model.site import Promise, Site
from ..core.observed.climb import Climb, RungSeen
from ..core.values.addresses import Address
from ..core.values.outcomes import Outcome, Rung
from ..core.values.ports import PortSet
from .guarded import guarded
from .json_line import json_line
from .problem import BadInput, InputProblem
from .results.lamp import LampResult, SweepResult
from .results.rehearse import RehearsedPromise, RehearseResult
from .results.visit import VisitResult, climbs_of
from .yaml_tree import read_text

READ: dict[str, type[msgspec.Struct]] = {"visit": VisitResult, "lamp": LampResult, "rehearse": RehearseResult}
"""The results that tell what was seen, by the names of their formats."""
VERSION = "1"
_SWEPT: tuple[Outcome, ...] = ("refused", "silent")


@guarded
def read_sightings(path: Path, site: Site, client: str) -> tuple[Sighting, ...]:
    """Everything that a result tells of a site; ``client`` is whose place it was taken at, where it does not say.

    Raises BadInput for what is no such result, or one of another site.
    """
    text = read_text(path)
    name = _format(path, text)
    try:
        found = msgspec.json.decode(text, type=READ[name], dec_hook=_decoded)
    except (msgspec.DecodeError, RecursionError, ValueError) as error:
        why = f"is no kept result of {name}: {error}"
        raise BadInput(str(path), InputProblem(json_line(text, error), why)) from None
    sightings = tuple(_sightings(found, path, site, client))
    if not sightings:
        raise _bad(path, "tells of nothing that was tried")
    return sightings


def _decoded(kind: type, value: object) -> object:
    return kind.parse(value)  # type: ignore[attr-defined]


def _bad(path: Path, message: str) -> BadInput:
    return BadInput(str(path), InputProblem(0, message))


def _format(path: Path, text: str) -> str:
    """The name of the format. Raises BadInput for one that is not read here."""
    wanted = ", ".join(f"eager-lantern/{each}/{VERSION}" for each in READ)
    try:
        head = json.loads(text)
        form = head.get("format", "") if isinstance(head, dict) else ""
    except (ValueError, RecursionError):
        raise _bad(path, "is no JSON; a session log goes to --log, a kept result (visit --save) to --seen") from None
    product, _, rest = str(form).partition("/")
    name, _, version = rest.partition("/")
    if product != "eager-lantern" or name not in READ:
        raise _bad(path, f"has the format “{form}”, where one of {wanted} is read")
    if version != VERSION:
        newer = "which a newer version of this program has written; this one reads"
        raise _bad(path, f"has the format “{form}”, {newer} {wanted}")
    return name


def _sightings(found: msgspec.Struct, path: Path, site: Site, client: str) -> Iterator[Sighting]:
    if isinstance(found, VisitResult):
        for climb in climbs_of(found):
            where = client or _client(path, site, climb.client)
            yield sighting_of(climb, where, _service(path, site, where, climb), _source(path, climb.place))
    elif isinstance(found, RehearseResult):
        yield from sightings_of_rehearsal(found, site, path)
    elif isinstance(found, LampResult):
        for place in found.places:
            where = client or _client(path, site, place.client)
            source = _source(path, place.place)
            yield from (_swept(each, where, source) for each in place.sweeps if each.protocol == "tcp")


def sightings_of_rehearsal(found: RehearseResult, site: Site, path: Path = Path("rehearsal")) -> tuple[Sighting, ...]:
    """What a lab saw of the promises of a site. Raises BadInput for a promise that the site has not."""
    return tuple(_rehearsed(each, path, site) for each in found.promises if each.rungs)


def _source(path: Path, place: str) -> str:
    return path.name if place == "here" else f"{path.name}, from {place}"


def _client(path: Path, site: Site, name: str) -> str:
    """The client that a result names. Raises BadInput where the site has none of this name."""
    known = [*(each.name for each in site.clients), *network_names(site)]
    if name not in known:
        who = f"“{name}”, whom {site.site} does not have{did_you_mean(name, known)}"
        raise _bad(path, f"was taken by {who}; say who it was: CLIENT={path.name}")
    return name


def _service(path: Path, site: Site, client: str, climb: Climb) -> str:
    """The service that a visit was of; one that names none was of a host, and there may be only one that it fits.
    Raises BadInput."""
    names = [each.name for each in site.services]
    if climb.service in names:
        return climb.service
    if climb.service:
        hint = did_you_mean(climb.service, names)
        raise _bad(path, f"is of “{climb.service}”, a service that {site.site} does not have{hint}")
    protocol = "sftp" if any(each.rung == "host-key" for each in climb.rungs) else "ftp"
    return service_for(path, site, client, protocol)


def service_for(path: Path, site: Site, client: str, protocol: str) -> str:
    """The service of a protocol that a client uses, or the only one. Raises BadInput where that is none or several."""
    fitting = [each.name for each in site.services if each.protocol == protocol]
    promised = [each.service for each in site.promises if each.client == client and each.service in fitting]
    candidates = list(dict.fromkeys(promised)) or fitting
    if len(candidates) != 1:
        known = ", ".join(candidates) or "none"
        raise _bad(path, f"does not say of which service it is; of {protocol} {client} may mean: {known}")
    return candidates[0]


def _rehearsed(each: RehearsedPromise, path: Path, site: Site) -> Sighting:
    rungs = tuple(RungSeen(rung.rung, rung.outcome, rung.detail, rung.ms, rung.advice) for rung in each.rungs)
    if Promise(client=each.client, service=each.service, mode=each.mode, holds=each.holds) not in site.promises:
        raise _bad(path, f"rehearses {each.client} → {each.service}, which {site.site} does not promise")
    knocked = all(rung.rung in ("name", "connect") for rung in rungs)
    proves: tuple[Rung, ...] = ("connect",) if knocked else ("list", "send", "fetch")
    climb = Climb(each.target or "", each.service, each.client, each.mode or "", rungs, each.holds, proves)
    seen = sighting_of(climb, each.client, each.service, path.name)
    seen = msgspec.structs.replace(seen, tried=msgspec.structs.replace(seen.tried, reports=False), more=0)
    if each.data is None:
        return seen
    fates = [PortFate(PortSet.parse(stop.ports), stop.rung, (stop.outcome,)) for stop in each.data.stopped]
    if works := PortSet.parse(each.data.works):
        fates.append(PortFate(works))
    if seen.rung in ("send", "fetch"):  # what comes after the first data connection no port tells
        return msgspec.structs.replace(seen, fates=tuple(fates))
    return msgspec.structs.replace(seen, rung=None, outcomes=(), works=False, fates=tuple(fates))


def _swept(sweep: SweepResult, client: str, source: str) -> Sighting:
    """A port that a lamp has answered on was reached; one that nothing was heard of, or a refusal, was not."""
    lost = [(PortSet.parse(getattr(sweep, each)), each) for each in _SWEPT]
    fates = [PortFate(ports, "connect", (outcome,)) for ports, outcome in lost if ports]
    if reached := PortSet.parse(sweep.ok):
        fates.append(PortFate(reached))
    every = PortSet.of(*(span for fate in fates for span in fate.ports.spans))
    return Sighting(Situation(client, "", lit=(Address.parse(sweep.target), every)), source, fates=tuple(fates))


def clients_of(site: Site) -> Sequence[str]:
    """The clients that somebody may have stood at."""
    return [each.name for each in site.clients]
