"""Kept results read again: visits, surveys, rehearsals, sweeps over a lamp; and what was observed in them."""

import json
from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec
from msgspec.structs import replace

from ...core.changes.adopted import DeviceConfig, ParsedValue
from ...core.model.problem import did_you_mean, network_names
from ...core.model.site import Forward, Promise, Site
from ...core.observed.climb import Climb, RungSeen
from ...core.observed.conclusions import forwards_of
from ...core.observed.observation import Observation, PortFate, Situation, observation_of
from ...core.observed.survey import OutsideSeen, Survey
from ...core.values.addresses import Address, address_or_none
from ...core.values.outcomes import Outcome, Rung
from ...core.values.ports import PortSet
from ..damage import guarded, json_line
from ..devices.tables import tidy_name
from ..reading import BadInput, InputProblem
from ..site.types import from_text
from ..site.yaml_tree import read_text
from .lamp import LampResult, SweepResult
from .rehearse import RehearsedPromise, RehearseResult
from .survey import SurveyResult, survey_of
from .visit import Taken, VisitResult, climbs_of

VISIT = "eager-lantern/visit/1"


class _VisitHead(msgspec.Struct):
    format: str


class KeptVisits(msgspec.Struct, frozen=True):
    """The visits in a file."""

    taken: Taken
    climbs: tuple[Climb, ...]


@guarded
def read_seen(path: Path) -> KeptVisits:
    """Read a kept result. Raises BadInput with what is not as it should be."""
    text = read_text(path)
    try:
        form = msgspec.json.decode(text, type=_VisitHead).format
        if form != VISIT:
            message = f"has the format “{form}”, where {VISIT} is read here"
            raise BadInput(str(path), InputProblem(0, message))
        found = msgspec.json.decode(text, type=VisitResult)
    except (msgspec.DecodeError, RecursionError) as error:
        message = f"is no kept result of a visit: {error}; make one with eager-lantern visit --save"
        raise BadInput(str(path), InputProblem(json_line(text, error), message)) from None
    return KeptVisits(found.taken, climbs_of(found))


SURVEY = "eager-lantern/survey/1"


class _Head(msgspec.Struct):
    format: str


class KeptSurvey(msgspec.Struct, frozen=True):
    """A survey, where and when it was taken."""

    survey: Survey
    taken: Taken
    place: str


@guarded
def read_survey(path: Path) -> KeptSurvey:
    """Read a kept survey. Raises BadInput with what is not as it should be."""
    text = read_text(path)
    try:
        form = msgspec.json.decode(text, type=_Head).format
        if form != SURVEY:
            message = f"has the format “{form}”, where {SURVEY} is read here"
            raise BadInput(str(path), InputProblem(0, message))
        found = msgspec.json.decode(text, type=SurveyResult, dec_hook=from_text)
    except (msgspec.DecodeError, RecursionError, ValueError) as error:
        message = f"is no kept result of a survey: {error}; make one with eager-lantern survey --save"
        raise BadInput(str(path), InputProblem(json_line(text, error), message)) from None
    return KeptSurvey(survey_of(found), found.taken, found.place)


@guarded
def read_mappings(file: str) -> DeviceConfig:
    """The router's mappings in a kept survey, as the forwards of a device. Raises BadInput."""
    found = read_survey(Path(file)).survey
    if not found.mappings:
        raise BadInput(file, InputProblem(0, "has no mappings of a router: it was not asked, or lists none"))
    told = tuple(ParsedValue((), tidied(each), 0) for each in forwards_of(found.mappings))
    return DeviceConfig(file, "forwards", told)


def tidied(forward: Forward) -> Forward:
    """The forward with its name as a site file can have it."""
    return replace(forward, name=tidy_name(forward.name))


LAMP = "eager-lantern/lamp/1"


@guarded
def read_lamp(path: Path) -> LampResult | None:
    """A sweep that was kept; None for another result. Raises BadInput for a damaged one."""
    text = read_text(path)
    try:
        form = json.loads(text).get("format", "")
        return msgspec.json.decode(text, type=LampResult) if form == LAMP else None
    except (ValueError, AttributeError, RecursionError) as error:
        raise BadInput(str(path), InputProblem(json_line(text, error), f"is no kept result: {error}")) from None


@guarded
def reached_at(path: Path) -> tuple[OutsideSeen, ...]:
    """The public addresses at which a kept visit or a sweep has reached the server. Raises BadInput."""
    lamp = read_lamp(path)
    return tuple(_outside_visits(path) if lamp is None else _of_lamp(lamp, path.name))


def _outside_visits(path: Path) -> Iterator[OutsideSeen]:
    kept = read_seen(path)
    for climb in kept.climbs:
        connected = any(each.rung == "connect" and each.outcome == "ok" for each in climb.rungs)
        place = climb.target.rpartition("(")[2].rstrip(")").rpartition(":")[0].strip("[]")
        if connected:
            yield from _seen_from_outside(place, f"reached so by {kept.taken.host}, {kept.taken.time}")


def _of_lamp(lamp: LampResult, name: str) -> Iterator[OutsideSeen]:
    for place in lamp.places:
        for each in place.sweeps:
            if each.ok:
                yield from _seen_from_outside(each.target, f"its lamp was seen so from {place.place}, in {name}")


def _seen_from_outside(place: str, by: str) -> Iterator[OutsideSeen]:
    address = address_or_none(place)
    if address is not None and address.kind == "public":
        yield OutsideSeen(address, "seen", by)


READ: dict[str, type[msgspec.Struct]] = {"visit": VisitResult, "lamp": LampResult, "rehearse": RehearseResult}
"""The results that tell what was seen, by the names of their formats."""
VERSION = "1"
_SWEPT: tuple[Outcome, ...] = ("refused", "silent")


@guarded
def read_sightings(path: Path, site: Site, client: str) -> tuple[Observation, ...]:
    """Everything that a result tells of a site; ``client`` is whose place it was taken at, where it does not say.

    Raises BadInput for what is no such result, or one of another site.
    """
    text = read_text(path)
    name = _format(path, text)
    try:
        found = msgspec.json.decode(text, type=READ[name], dec_hook=_from_json)
    except (msgspec.DecodeError, RecursionError, ValueError) as error:
        why = f"is no kept result of {name}: {error}"
        raise BadInput(str(path), InputProblem(json_line(text, error), why)) from None
    observations = tuple(_sightings(found, path, site, client))
    if not observations:
        raise _file_error(path, "tells of nothing that was tried")
    return observations


def _from_json(kind: type, value: object) -> object:
    return kind.parse(value)  # type: ignore[attr-defined]


def _file_error(path: Path, message: str) -> BadInput:
    return BadInput(str(path), InputProblem(0, message))


def _format(path: Path, text: str) -> str:
    """The name of the format. Raises BadInput for one that is not read here."""
    wanted = ", ".join(f"eager-lantern/{each}/{VERSION}" for each in READ)
    try:
        head = json.loads(text)
        form = head.get("format", "") if isinstance(head, dict) else ""
    except (ValueError, RecursionError):
        raise _file_error(
            path, "is no JSON; a session log goes to --log, a kept result (visit --save) to --seen"
        ) from None
    product, _, rest = str(form).partition("/")
    name, _, version = rest.partition("/")
    if product != "eager-lantern" or name not in READ:
        raise _file_error(path, f"has the format “{form}”, where one of {wanted} is read")
    if version != VERSION:
        newer = "which a newer version of this program has written; this one reads"
        raise _file_error(path, f"has the format “{form}”, {newer} {wanted}")
    return name


def _sightings(found: msgspec.Struct, path: Path, site: Site, client: str) -> Iterator[Observation]:
    if isinstance(found, VisitResult):
        for climb in climbs_of(found):
            where = client or _client_of(path, site, climb.client)
            yield observation_of(climb, where, _service(path, site, where, climb), _source_name(path, climb.place))
    elif isinstance(found, RehearseResult):
        yield from sightings_of_rehearsal(found, site, path)
    elif isinstance(found, LampResult):
        for place in found.places:
            where = client or _client_of(path, site, place.client)
            source = _source_name(path, place.place)
            yield from (_swept_observation(each, where, source) for each in place.sweeps if each.protocol == "tcp")


def sightings_of_rehearsal(
    found: RehearseResult, site: Site, path: Path = Path("rehearsal")
) -> tuple[Observation, ...]:
    """What a lab saw of the promises of a site. Raises BadInput for a promise that the site has not."""
    return tuple(_rehearsed_observation(each, path, site) for each in found.promises if each.rungs)


def _source_name(path: Path, place: str) -> str:
    return path.name if place == "here" else f"{path.name}, from {place}"


def _client_of(path: Path, site: Site, name: str) -> str:
    """The client that a result names. Raises BadInput where the site has none of this name."""
    known = [*(each.name for each in site.clients), *network_names(site)]
    if name not in known:
        who = f"“{name}”, whom {site.site} does not have{did_you_mean(name, known)}"
        raise _file_error(path, f"was taken by {who}; say who it was: CLIENT={path.name}")
    return name


def _service(path: Path, site: Site, client: str, climb: Climb) -> str:
    """The service that a visit was of; one that names none was of a host, and there may be only one that it fits.
    Raises BadInput."""
    names = [each.name for each in site.services]
    if climb.service in names:
        return climb.service
    if climb.service:
        hint = did_you_mean(climb.service, names)
        raise _file_error(path, f"is of “{climb.service}”, a service that {site.site} does not have{hint}")
    protocol = "sftp" if any(each.rung == "host-key" for each in climb.rungs) else "ftp"
    return service_for(path, site, client, protocol)


def service_for(path: Path, site: Site, client: str, protocol: str) -> str:
    """The service of a protocol that a client uses, or the only one. Raises BadInput where that is none or several."""
    fitting = [each.name for each in site.services if each.protocol == protocol]
    promised = [each.service for each in site.promises if each.client == client and each.service in fitting]
    candidates = list(dict.fromkeys(promised)) or fitting
    if len(candidates) != 1:
        known = ", ".join(candidates) or "none"
        raise _file_error(path, f"does not say of which service it is; of {protocol} {client} may mean: {known}")
    return candidates[0]


def _rehearsed_observation(each: RehearsedPromise, path: Path, site: Site) -> Observation:
    rungs = tuple(RungSeen(rung.rung, rung.outcome, rung.detail, rung.ms, rung.advice) for rung in each.rungs)
    if Promise(client=each.client, service=each.service, mode=each.mode, holds=each.holds) not in site.promises:
        raise _file_error(path, f"rehearses {each.client} → {each.service}, which {site.site} does not promise")
    knocked = all(rung.rung in ("name", "connect") for rung in rungs)
    proves: tuple[Rung, ...] = ("connect",) if knocked else ("list", "send", "fetch")
    climb = Climb(each.target or "", each.service, each.client, each.mode or "", rungs, each.holds, proves)
    seen = observation_of(climb, each.client, each.service, path.name)
    seen = msgspec.structs.replace(seen, tried=msgspec.structs.replace(seen.tried, reports=False), more=0)
    if each.data is None:
        return seen
    fates = [PortFate(PortSet.parse(stop.ports), stop.rung, (stop.outcome,)) for stop in each.data.stopped]
    if works := PortSet.parse(each.data.works):
        fates.append(PortFate(works))
    if seen.rung in ("send", "fetch"):  # what comes after the first data connection no port tells
        return msgspec.structs.replace(seen, fates=tuple(fates))
    return msgspec.structs.replace(seen, rung=None, outcomes=(), works=False, fates=tuple(fates))


def _swept_observation(sweep: SweepResult, client: str, source: str) -> Observation:
    """A port that a lamp has answered on was reached; one that nothing was heard of, or a refusal, was not."""
    lost = [(PortSet.parse(getattr(sweep, each)), each) for each in _SWEPT]
    fates = [PortFate(ports, "connect", (outcome,)) for ports, outcome in lost if ports]
    if reached := PortSet.parse(sweep.ok):
        fates.append(PortFate(reached))
    every = PortSet.of(*(span for fate in fates for span in fate.ports.spans))
    return Observation(Situation(client, "", lit=(Address.parse(sweep.target), every)), source, fates=tuple(fates))


def clients_of(site: Site) -> Sequence[str]:
    """The clients that somebody may have stood at."""
    return [each.name for each in site.clients]
