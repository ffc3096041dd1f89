"""Predicted beside observed, rung by rung: where the described site and the real one part."""

from collections.abc import Iterator, Sequence

from msgspec import Struct

from ..observed.climb import Climb
from ..predict.forecast import Forecast
from ..values.outcomes import ORDER, Outcome, Rung

_TOGETHER: tuple[Rung, ...] = ("data", "list", "send", "fetch", "tidy")
"""From the data connection on, what works in part may do or not, as the server picks a port."""


class Beside(Struct, frozen=True):
    """One rung: what may be by the prediction, what was seen, and whether the two agree; None where
    one of them says nothing."""

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


def compared(forecasts: Sequence[Forecast], climbs: Sequence[Climb]) -> tuple[Compared, ...]:
    """Every visit that stands for one of the promises, in the order of the promises."""
    return tuple(
        Compared(forecast, climb, tuple(_beside(forecast, climb)))
        for forecast in forecasts
        for climb in climbs
        if _stands_for(climb, forecast)
    )


def _stands_for(climb: Climb, forecast: Forecast) -> bool:
    promise = forecast.promise
    same = (climb.client, climb.service) == (promise.client, promise.service)
    return same and climb.holds == promise.holds and (promise.mode or "") == climb.mode


def _beside(forecast: Forecast, climb: Climb) -> Iterator[Beside]:
    diverted = _diverted(forecast, climb)
    for each in climb.rungs:
        rung = each.rung
        predicted = ("wrong",) if diverted and rung == "announce" else _predicted(forecast, rung)
        agree = None if diverted and rung in _TOGETHER else _agree(predicted, each.outcome)
        yield Beside(rung, predicted, each.outcome, each.detail, agree)


def _diverted(forecast: Forecast, climb: Climb) -> bool:
    """Whether the server named another host, as the site file has it, and the visit did not follow: what it
    tried instead, no client of the site would."""
    elsewhere = forecast.announced is not None and forecast.announced != forecast.target
    return elsewhere and any((each.rung, each.outcome) == ("announce", "wrong") for each in climb.rungs)


def _predicted(forecast: Forecast, rung: Rung) -> tuple[Outcome, ...]:
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
