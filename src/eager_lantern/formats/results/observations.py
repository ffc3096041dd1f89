"""What kept results show: observations of a site's promises, and addresses at which its server was reached."""

from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec

from ...core.model.problem import did_you_mean, network_names
from ...core.model.site import Promise, Service, Site
from ...core.network.topology import Topology, listens_on
from ...core.observed.climb import Climb, RungSeen
from ...core.observed.compared import LitFrom, LitOutcome, LitPort, Sweep, ports_of
from ...core.observed.observation import Observation, PortFate, Situation, observation_of
from ...core.observed.phone import expected, phone_ledger, phone_position
from ...core.observed.survey import OutsideSeen
from ...core.predict.endpoints import position_of
from ...core.predict.ledger import measure
from ...core.predict.session import predict_from
from ...core.values.addresses import Address, address_or_none
from ...core.values.outcomes import Outcome, Rung
from ...core.values.ports import PortSet
from ..damage import guarded
from ..reading import BadInput, bad_file
from ..site.yaml_tree import read_text
from .carried import CarriedResult
from .kept import Kept, read_kept
from .lamp import LampResult, SweepResult, SweptPlace
from .rehearse import RehearsedPromise, RehearseResult
from .visit import VisitResult, climbs_of

_SWEPT: tuple[Outcome, ...] = ("refused", "silent")


@guarded
def read_observations(path: Path, site: Site, client: str, secret: bytes = b"") -> tuple[Observation, ...]:
    """What a kept result shows of a site; ``client`` is whose place it was taken at, where it does not say, ``secret``
    that of a lamp, with which a carried probe has sealed its result.

    Raises BadInput for any other file, and for a result of another site.
    """
    found = read_kept(path, read_text(path), "visit", "lamp", "rehearse", "carried", secret=secret)
    observations = tuple(_observations(found, path, site, client))
    if not observations:
        raise _file_error(path, "found no attempt in it; expected a result of at least one")
    return observations


def _file_error(path: Path, message: str) -> BadInput:
    return bad_file(path, message)


def _observations(found: msgspec.Struct, path: Path, site: Site, client: str) -> Iterator[Observation]:
    if isinstance(found, VisitResult):
        for climb in climbs_of(found):
            where = client or _client_of(path, site, climb.client)
            yield observation_of(climb, where, _service(path, site, where, climb), _source_name(path, climb.place))
    elif isinstance(found, RehearseResult):
        yield from observations_of_rehearsal(found, site, path)
    elif isinstance(found, CarriedResult):
        yield from _carried_observations(found, client or _client_of(path, site, found.client), path, site)
    elif isinstance(found, LampResult):
        for place in found.places:
            where = client or _client_of(path, site, place.client)
            source = _source_name(path, place.place)
            yield from (_swept_observation(each, where, source) for each in place.sweeps if each.protocol == "tcp")


def _carried_observations(found: CarriedResult, client: str, path: Path, site: Site) -> Iterator[Observation]:
    """What a probe saw: a name that leads nowhere, a server that greets, and the ports of a lamp."""
    source = f"{path.name}, from a carried probe"
    if found.address and not found.greeting:
        yield from (_swept_observation(each, client, source) for each in found.counted if each.protocol == "tcp")
        return
    dialled = address_or_none(found.address)
    tried = Situation(client, _service_named(path, site, found.service).name, dialled=dialled)
    if found.greeting:
        yield Observation(tried, source, "greet", typed=found.host)
    else:
        yield Observation(tried, source, rung="name", outcomes=("refused",), typed=found.host)


def observations_of_rehearsal(
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
        expected = f"expected a client of {site.site} ({did_you_mean(name, known)}): write CLIENT={path.name}"
        raise _file_error(path, f"found the client “{name}”; {expected}")
    return name


def _service(path: Path, site: Site, client: str, climb: Climb) -> str:
    """The service that a visit was of; one that names none was of a host, and there may be only one that it fits.
    Raises BadInput."""
    if climb.service:
        return _service_named(path, site, climb.service).name
    protocol = "sftp" if any(each.rung == "host-key" for each in climb.rungs) else "ftp"
    return service_for(path, site, client, protocol)


def service_for(path: Path, site: Site, client: str, protocol: str) -> str:
    """The service of a protocol that a client uses, or the only one. Raises BadInput where that is none or several."""
    fitting = [each.name for each in site.services if each.protocol == protocol]
    promised = [each.service for each in site.promises if each.client == client and each.service in fitting]
    candidates = list(dict.fromkeys(promised)) or fitting
    if len(candidates) != 1:
        known = ", ".join(candidates) or "none"
        raise _file_error(
            path, f"found no name of a service; expected one of those that {client} may use by {protocol}: {known}"
        )
    return candidates[0]


def _rehearsed_observation(each: RehearsedPromise, path: Path, site: Site) -> Observation:
    rungs = tuple(RungSeen(rung.rung, rung.outcome, rung.detail, rung.ms, rung.advice) for rung in each.rungs)
    if Promise(client=each.client, service=each.service, mode=each.mode, holds=each.holds) not in site.promises:
        raise _file_error(path, f"found {each.client} → {each.service}; expected what {site.site} promises")
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


@guarded
def lit_places(path: Path, found: LampResult | CarriedResult, site: Site) -> tuple[LitFrom, ...]:
    """What each place has seen of a lamp, beside what a site file predicts for it now. Raises BadInput for the place of
    a client that the site has not, and for a service that it has not."""
    topology = Topology(site)
    if isinstance(found, CarriedResult):
        place = SweptPlace(
            place="a carried probe", client=found.client, predicted="", ledger=None, sweeps=found.counted
        )
        return (_lit_place(place, _service_named(path, site, found.service), topology, path),)
    return tuple(_lit_place(each, _lit_service(each, path, site), topology, path) for each in found.places)


def _lit_service(place: SweptPlace, path: Path, site: Site) -> Service:
    """The service whose lamp a place has seen. Raises BadInput."""
    client = _client_of(path, site, place.client)
    return _service_named(path, site, place.ledger.service if place.ledger else service_for(path, site, client, "ftp"))


def _service_named(path: Path, site: Site, name: str) -> Service:
    """Raises BadInput where the site has none of this name."""
    service = next((each for each in site.services if each.name == name), None)
    if service is None:
        hint = did_you_mean(name, [each.name for each in site.services])
        raise _file_error(path, f"found the service “{name}”; expected one of {site.site}: {hint}")
    return service


def _lit_place(place: SweptPlace, service: Service, topology: Topology, path: Path) -> LitFrom:
    client = _client_of(path, topology.site, place.client)
    source = next((address_or_none(each) for sweep in place.sweeps for each in sweep.seen_from), None)
    of_network = topology.client(client) is None
    position = phone_position(topology, source, "") if of_network else position_of(topology, client)
    sweeps = tuple(map(_sweep_of, place.sweeps))
    predicted = PortSet()
    for each in sweeps:
        tried = ports_of(port.port for port in each.ports)
        if each.protocol == "tcp" and tried:
            predicted |= expected(topology, position, Address.parse(each.target), tried, listens_on(service)).arrives
    promise = Promise(client=position.name, service=service.name, mode="passive" if service.protocol == "ftp" else None)
    ledger = measure(topology, predict_from(topology, promise, position)).ledger
    if ledger is not None and str(ledger.announced) not in [each.target for each in sweeps]:
        ledger = phone_ledger(topology, service, position)  # the announced address is not where it was tried
    knocks = place.knocks if isinstance(place.knocks, int) else None
    return LitFrom(place.place, position.name, predicted, ledger, sweeps, place.trouble or "", knocks)


_FATES: tuple[LitOutcome, ...] = ("ok", "refused", "silent", "wrong", "unknown", "crowded")


def _sweep_of(sweep: SweepResult) -> Sweep:
    """A sweep as it was kept."""
    source = next(iter(sweep.seen_from), None)
    found = [
        LitPort(port, fate, sweep.rewritten.get(str(port), port), source) if fate == "ok" else LitPort(port, fate)
        for fate in _FATES
        for port in PortSet.parse(getattr(sweep, fate))
    ]
    return Sweep(sweep.target, sweep.protocol, tuple(sorted(found, key=lambda each: each.port)))


def clients_of(site: Site) -> Sequence[str]:
    """The clients that somebody may have stood at."""
    return [each.name for each in site.clients]


@guarded
def reached_at(path: Path) -> tuple[OutsideSeen, ...]:
    """The public addresses at which a kept visit or a sweep has reached the server. Raises BadInput."""
    found = read_kept(path, read_text(path), "visit", "lamp")
    return tuple(_of_lamp(found, path.name) if isinstance(found, LampResult) else _outside_visits(found))


def _outside_visits(kept: Kept) -> Iterator[OutsideSeen]:
    assert isinstance(kept, VisitResult)
    for climb in climbs_of(kept):
        connected = any(each.rung == "connect" and each.outcome == "ok" for each in climb.rungs)
        if connected and climb.dialled is not None:
            place = climb.dialled.address or climb.dialled.name
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
