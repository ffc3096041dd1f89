"""Predicted beside observed: rung by rung, place by place, port by port."""

from collections.abc import Iterable, Iterator, Sequence
from typing import Literal

from msgspec import Struct

from ..model.site import Transport
from ..predict.forecast import Forecast
from ..predict.ledger import Ledger
from ..values.outcomes import ORDER, Outcome, Rung
from ..values.ports import PortSet
from .climb import Climb, RungSeen

_TOGETHER: tuple[Rung, ...] = ("data", "list", "send", "fetch", "tidy")
"""From the data connection on, what works in part may do or not, as the server picks a port."""


class Beside(Struct, frozen=True):
    """One rung: what may be by the prediction, what was seen, and whether the two agree; None where
    one of them states nothing."""

    rung: Rung
    predicted: tuple[Outcome, ...]
    observed: Outcome
    detail: str
    agree: bool | None


class Compared(Struct, frozen=True):
    """A promise, predicted and seen."""

    forecast: Forecast
    climb: Climb
    rungs: tuple[Beside, ...]

    @property
    def parts_at(self) -> Beside | None:
        """The first rung at which prediction and reality part."""
        return next((each for each in self.rungs if each.agree is False), None)


def compared_visits(forecasts: Sequence[Forecast], climbs: Sequence[Climb]) -> tuple[Compared, ...]:
    """Every visit that stands for one of the promises, in the order of the promises."""
    return tuple(
        Compared(forecast, climb, tuple(_rung_pairs(forecast, climb)))
        for forecast in forecasts
        for climb in climbs
        if _stands_for(climb, forecast)
    )


def _stands_for(climb: Climb, forecast: Forecast) -> bool:
    promise = forecast.promise
    same = (climb.client, climb.service) == (promise.client, promise.service)
    return same and climb.holds == promise.holds and (promise.mode or "") == climb.mode


def _rung_pairs(forecast: Forecast, climb: Climb) -> Iterator[Beside]:
    diverted = _diverted(forecast, climb)
    for each in climb.rungs:
        rung = each.rung
        predicted = ("wrong",) if diverted and rung == "announce" else _predicted_outcomes(forecast, rung)
        agree = None if diverted and rung in _TOGETHER else _agree(predicted, each.outcome)
        yield Beside(rung, predicted, each.outcome, each.detail, agree)


def _diverted(forecast: Forecast, climb: Climb) -> bool:
    """Whether the server named another host, as the site file states, and the visit did not follow: what it
    tried instead, no client of the site would."""
    elsewhere = forecast.announced is not None and forecast.announced != forecast.target
    return elsewhere and any((each.rung, each.outcome) == ("announce", "wrong") for each in climb.rungs)


def _predicted_outcomes(forecast: Forecast, rung: Rung) -> tuple[Outcome, ...]:
    """What a rung may come to by the prediction."""
    stops: tuple[Outcome, ...] = tuple(dict.fromkeys(each.outcome for each in forecast.stops))
    if not stops:
        return ("ok",)
    if forecast.rung is None:  # what stays shut is stopped on the way
        return ("ok",) if rung == "name" else stops
    at, stops_at = ORDER.index(rung), ORDER.index(forecast.rung)
    either: tuple[Outcome, ...] = ("ok",) if forecast.predicted == "partly" and rung in _TOGETHER else ()
    if at < stops_at:
        return ("ok",)
    return (*stops, *either) if at == stops_at else ("untried", *either)


def _agree(predicted: tuple[Outcome, ...], observed: Outcome) -> bool | None:
    if "unknown" in (*predicted, observed):
        return None
    if observed in predicted:
        return True
    return None if "untried" in (*predicted, observed) else False


_CONNECTING: tuple[Rung, ...] = ("connect", "data")


class Outlook(Struct, frozen=True):
    """What was seen from one place, or why nothing could be; every step of its sessions has taken
    ``round_trip_seconds`` more than it would have there."""

    name: str
    climbs: tuple[Climb, ...]
    trouble: str = ""
    round_trip_seconds: float | None = None


class VantageRow(Struct, frozen=True):
    """One promise, whoever it is to, as each place has seen it; None where a place has none such."""

    service: str
    mode: str
    holds: Literal["works", "shut"]
    climbs: tuple[Climb | None, ...]

    @property
    def rungs(self) -> tuple[Rung, ...]:
        """The rungs that any of the places has."""
        had = {each.rung for climb in self.climbs if climb for each in climb.rungs}
        return tuple(rung for rung in ORDER if rung in had)

    @property
    def all_kept(self) -> bool:
        """Whether every place has seen what is promised."""
        return all(climb.kept is True for climb in self.climbs if climb)


def rows(places: Sequence[Outlook]) -> tuple[VantageRow, ...]:
    """Every promise that any of the places has, in the order in which they come."""
    keys = dict.fromkeys(_row_key(climb) for place in places for climb in place.climbs)
    return tuple(VantageRow(*key, tuple(_with(place.climbs, key) for place in places)) for key in keys)


_Key = tuple[str, str, Literal["works", "shut"]]


def _row_key(climb: Climb) -> _Key:
    return climb.service, climb.mode, climb.holds


def _with(climbs: Iterable[Climb], key: _Key) -> Climb | None:
    return next((climb for climb in climbs if _row_key(climb) == key), None)


def seen_rung_of(climb: Climb | None, rung: Rung) -> RungSeen | None:
    """What a climb has of a rung."""
    return next((each for each in climb.rungs if each.rung == rung), None) if climb else None


def parted(row: VantageRow, places: Sequence[Outlook]) -> str:
    """What the difference between the places shows about where to look; empty where it shows nothing.

    Where the session works from one place, and from another a connection does not come about, it is not
    the server's doing. What the server answers, as an announced address, may well be.
    """
    if row.holds == "shut":
        return ""
    pairs = [(place.name, climb) for place, climb in zip(places, row.climbs, strict=True) if climb]
    works = [name for name, climb in pairs if climb.observed == "works"]
    lost = [name for name, climb in pairs if (at := climb.stopped_at) and at.rung in _CONNECTING]
    if not works or not lost:
        return ""
    return (
        f"The server itself does its part: it works from {_and_list(works)}. "
        f"What stops {_and_list(lost)} lies on the way, "
        "or in a rule for some sources only."
    )


def _and_list(names: Sequence[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"


LitOutcome = Literal[Outcome, "crowded", "closed"]
"""What became of a port: as of a rung, or closed without a word, which is crowded where a lamp had no place left."""


class LitPort(Struct, frozen=True):
    """One port as it was tried from here: what became of it, and where a lamp saw it arrive."""

    port: int
    outcome: LitOutcome
    arrived_port: int | None = None
    seen_from: str | None = None
    crowded: int = 0


class Unlit(Struct, frozen=True):
    """A port that could not be lit, and why."""

    port: int
    protocol: Transport
    reason: str


class Sweep(Struct, frozen=True):
    """All ports of a sweep to one address."""

    target: str
    protocol: Transport
    ports: tuple[LitPort, ...]

    def with_outcome(self, outcome: LitOutcome) -> PortSet:
        """The ports that ended so."""
        return ports_of(each.port for each in self.ports if each.outcome == outcome)

    @property
    def rewritten(self) -> tuple[LitPort, ...]:
        """Ports that arrived at another one: a forward moves them."""
        return tuple(each for each in self.ports if each.arrived_port not in (None, each.port))

    @property
    def seen_from(self) -> tuple[str, ...]:
        """The addresses that the lamp saw us come from."""
        return tuple(dict.fromkeys(each.seen_from for each in self.ports if each.seen_from is not None))


class LitFrom(Struct, frozen=True):
    """What one place saw of a lit service, as the client that stands there, beside what the site file predicts;
    or why it could see nothing, or no more. ``knocks`` counts connections to the control port from the address of a
    phone, whose browser cannot go there itself."""

    place: str
    client: str = ""
    predicted: PortSet = PortSet()
    ledger: Ledger | None = None
    sweeps: tuple[Sweep, ...] = ()
    trouble: str = ""
    knocks: int | None = None

    @property
    def outcomes(self) -> tuple[LitOutcome, ...]:
        """What became of each port that was tried."""
        return tuple(port.outcome for sweep in self.sweeps for port in sweep.ports)

    @property
    def all_arrive(self) -> bool:
        """Whether every port that was tried has arrived."""
        return all(each == "ok" for each in self.outcomes)

    @property
    def differs(self) -> bool:
        """Whether any port over TCP does otherwise than predicted."""
        over_tcp = [each for each in self.sweeps if each.protocol == "tcp"]
        tried = ports_of(port.port for sweep in over_tcp for port in sweep.ports)
        return bool(over_tcp) and self.predicted & tried != with_outcome(over_tcp, "ok")


def ports_of(ports: Iterable[int]) -> PortSet:
    """A set of single ports."""
    return PortSet.of(*((port, port) for port in ports))


def with_outcome(sweeps: Iterable[Sweep], outcome: LitOutcome) -> PortSet:
    """The ports that ended so in any of the sweeps."""
    found = PortSet()
    for each in sweeps:
        found = found | each.with_outcome(outcome)
    return found


def measured(ledger: Ledger, sweeps: Iterable[Sweep]) -> PortSet:
    """The data ports of a ledger that were seen to arrive over TCP."""
    arrived = with_outcome((each for each in sweeps if each.protocol == "tcp"), "ok")
    return arrived & ledger.layers[0].wanted
