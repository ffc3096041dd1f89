"""Prediction and observation of a promise side by side.

What a lab saw is compared with what was predicted, port by port where data is concerned. A
prediction that is unknown has nothing to be held against, and where one port's fate depends
on more than the port, that port is left out.
"""

from collections.abc import Iterable, Mapping
from typing import Literal

from msgspec import Struct

from ..model.site import Transport
from ..predict.forecast import Forecast, rung_of
from ..values.outcomes import Extent, Outcome, Rung
from ..values.phrases import ports_phrase
from ..values.ports import PortSet
from .climb import Climb

Fate = tuple[Rung, Outcome]
ARRIVES: Fate = ("list", "ok")
MOST_TRIED = 4096
SAMPLE = 128
_DATA_RUNGS = ("data", "list", "send", "fetch")

_FULL_PACKETS: tuple[Fate, ...] = (
    ("secure", "silent"),
    ("login", "silent"),
    ("list", "silent"),
    ("send", "silent"),
    ("fetch", "silent"),
    ("fetch", "wrong"),
)
"""How the loss of full packets may show: whoever sends keys and certificates needs one early, and a server may take
an upload for complete that has broken off."""


class FateGroup(Struct, frozen=True):
    """Data ports that ended at the same rung in the same way."""

    ports: PortSet
    rung: Rung
    outcome: Outcome


class Observed(Struct, frozen=True):
    """What a lab saw of a promise: a session, and what became of each data port tried; ``untried``
    are those that no session got as far as."""

    climb: Climb
    groups: tuple[FateGroup, ...] = ()
    untried: PortSet = PortSet()

    @property
    def tried(self) -> PortSet:
        """The data ports that were tried."""
        return PortSet.of(*(span for each in self.groups for span in each.ports.spans))

    @property
    def works(self) -> PortSet:
        """The data ports that carried a listing."""
        return PortSet.of(*(span for each in self.groups if each.outcome == "ok" for span in each.ports.spans))

    @property
    def extent(self) -> Extent:
        """By the data ports where there are any, and by the session."""
        stopped = self.climb.stopped_at
        if self.untried and self.works == self.tried:
            return "unknown"
        if not self.groups and stopped is None:
            return "works"
        if not self.groups:
            return self.climb.observed
        if stopped is not None and self.works == self.tried:
            return "fails"
        if self.works == self.tried:
            return "works"
        return "partly" if self.works else "fails"


class PacketSeen(Struct, frozen=True, order=True):
    """One packet seen at a node; ``seconds`` on the clock of this machine."""

    seconds: float
    node: str
    wire: str
    way: Literal["in", "out"]
    protocol: Transport
    what: Literal["opens", "answers", "refuses"]
    source: str
    source_port: int
    to: str
    port: int


class Rehearsed(Struct, frozen=True):
    """A promise predicted and observed; without ``observed``, ``reason`` states why there is none.
    Where the two part, ``sightings`` follow one connection that differs, packet by packet."""

    forecast: Forecast
    observed: Observed | None
    reason: str = ""
    observations: tuple[PacketSeen, ...] = ()

    @property
    def differences(self) -> tuple[str, ...]:
        """In what they part, each in a few words."""
        return tuple(_differences(self.forecast, self.observed)) if self.observed else ()

    @property
    def agree(self) -> bool | None:
        """None where there is nothing to compare: not observed, or not all of it, not known, or by
        chance, where the control connection depends on the client's source port."""
        by_chance = self.forecast.predicted == "partly" and self.forecast.data is None
        if self.observed is None or self.forecast.predicted == "unknown" or by_chance:
            return None
        return None if self.observed.untried and not self.differences else not self.differences

    @property
    def parted_port(self) -> int | None:
        """A data port that ended otherwise than predicted; None where it is not the data ports."""
        if self.observed is None or self.forecast.data is None:
            return None
        apart = (self.observed.works - self.forecast.data.works) | (self.forecast.data.works - self.observed.works)
        within = apart & self.observed.tried
        return within.lowest if within else None

    @property
    def kept(self) -> bool | None:
        """Whether the promise was seen to hold; None where it was not seen."""
        if self.observed is None or self.observed.extent == "unknown":
            return None
        return self.observed.extent == ("fails" if self.forecast.promise.holds == "shut" else "works")


def grouped_fates(fates: Mapping[int, Fate]) -> tuple[FateGroup, ...]:
    """The fates of single ports, gathered; the most ports first."""
    ports: dict[Fate, list[tuple[int, int]]] = {}
    for port, fate in fates.items():
        ports.setdefault(fate, []).append((port, port))
    groups = [FateGroup(PortSet.of(*spans), *fate) for fate, spans in ports.items()]
    return tuple(sorted(groups, key=lambda each: -len(each.ports)))


def to_try(forecast: Forecast) -> tuple[int, ...]:
    """The data ports that a lab is to try: all, or of more than ``MOST_TRIED`` the edges of what
    is predicted and a spread of the rest. Those that should work come first."""
    data = forecast.data
    if data is None:
        return ()
    parts = (data.works, data.unknown, data.fails)
    if len(data.asked) <= MOST_TRIED:
        return tuple(port for part in parts for port in part)
    return tuple(dict.fromkeys(port for part in parts for port in _spread(part)))


def _spread(ports: PortSet) -> Iterable[int]:
    """Both ends of each span, and others at even distances."""
    for low, high in ports.spans:
        yield from (low, high)
        yield from range(low, high, max(1, (high - low) // SAMPLE))


def _differences(forecast: Forecast, observed: Observed) -> Iterable[str]:
    if forecast.promise.holds == "shut" or forecast.service.protocol == "other":
        if forecast.predicted not in ("unknown", "partly") and forecast.predicted != observed.extent:
            yield f"predicted {forecast.predicted}, observed {observed.extent}"
        return
    if forecast.data is None or not observed.groups:
        yield from _difference_lines(_predicted_fates(forecast), _observed_fate(observed))
        return
    expected = _expected(forecast)
    for group in observed.groups:
        for fate in dict.fromkeys(expected.values()):
            ports = PortSet.of(*((port, port) for port in group.ports if expected.get(port) == fate))
            if ports and not _is_same_fate(fate, (group.rung, group.outcome)):
                seen = _fate_text((group.rung, group.outcome))
                yield f"{ports_phrase(ports)}: predicted {_fate_text(fate)}, observed {seen}"
    stopped = _observed_fate(observed)
    if forecast.rung == "send":
        yield from _difference_lines(_predicted_fates(forecast), stopped)
    elif stopped is not None and (
        stopped[0] not in _DATA_RUNGS or not (observed.tried - observed.works or observed.untried)
    ):
        yield f"data ports work, and the session observed {_fate_text(stopped)}"


def _predicted_fates(forecast: Forecast) -> tuple[Fate, ...]:
    """How the session may end: a control connection may be stopped otherwise from one source port than
    from another."""
    if forecast.rung is None or forecast.predicted == "partly":
        return (ARRIVES,)
    if forecast.stops and forecast.stops[0].reason == "packets too big":
        return _FULL_PACKETS
    stops = forecast.stops if forecast.data is None else forecast.stops[:1]
    return tuple(dict.fromkeys((forecast.rung, each.outcome) for each in stops)) or ((forecast.rung, "unknown"),)


def _observed_fate(observed: Observed) -> Fate | None:
    stopped = observed.climb.stopped_at
    return (stopped.rung, stopped.outcome) if stopped else None


def _difference_lines(predicted: tuple[Fate, ...], seen: Fate | None) -> Iterable[str]:
    if not any(_is_same_fate(each, seen or ARRIVES) for each in predicted):
        yield f"predicted {' or '.join(map(_fate_text, predicted))}, observed {_fate_text(seen)}"


def _expected(forecast: Forecast) -> dict[int, Fate]:
    """The predicted fate of each data port that has just one."""
    assert forecast.data is not None
    fates: dict[int, set[Fate]] = {}
    for journey in forecast.data.journeys:
        fate = ARRIVES if journey.outcome == "ok" else (rung_of(journey.reason), journey.outcome)
        for port in journey.asked.ports:
            fates.setdefault(port, set()).add(fate)
    single = {port: next(iter(each)) for port, each in fates.items() if len(each) == 1}
    return {port: fate for port, fate in single.items() if fate[1] != "unknown"}


def _is_same_fate(predicted: Fate, seen: Fate) -> bool:
    """A data connection that comes out elsewhere may show as anything but a listing."""
    if predicted[1] == "wrong" and predicted[0] in ("data", "greet"):
        return seen[1] != "ok" and seen[0] in ("data", "list", "greet", "secure")
    return predicted == seen


def _fate_text(fate: Fate | None) -> str:
    return "works" if fate in (None, ARRIVES) else f"{fate[1]} at {fate[0]}"
