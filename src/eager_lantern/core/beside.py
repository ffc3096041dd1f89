"""Predicted beside observed, rung by rung: where the described site and the real one part."""

from collections.abc import Iterator, Sequence

from msgspec import Struct

from .forecast import Forecast
from .ladder import RUNGS, Climb, Climbed, Outcome, Rung

Expected = Outcome
_TOGETHER: tuple[Rung, ...] = ("data", "list", "send", "fetch", "tidy")
"""From the data connection on, what works in part may do or not, as the server picks a port."""


class Beside(Struct, frozen=True):
    """One rung: what was predicted, what was seen, and whether the two agree; None where one of
    them says nothing. ``either`` is where the prediction allows both."""

    rung: Rung
    predicted: Expected
    either: bool
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
    seen = {each.rung: each for each in climb.rungs}
    for rung in RUNGS if climb.mode else RUNGS[:2]:
        each = seen.get(rung, Climbed(rung, "untried", ""))
        predicted, either = _predicted(forecast, rung)
        yield Beside(rung, predicted, either, each.outcome, each.detail, _agree(predicted, either, each.outcome))


def _predicted(forecast: Forecast, rung: Rung) -> tuple[Expected, bool]:
    """What a rung comes to by the prediction, and whether it may as well succeed."""
    if not forecast.stops:
        return "ok", False
    if forecast.rung is None:  # what stays shut is stopped on the way
        return ("ok" if rung == "name" else forecast.stops[0].outcome), False
    at, stops_at = RUNGS.index(rung), RUNGS.index(forecast.rung)
    partly = forecast.predicted == "partly" and rung in _TOGETHER
    if at < stops_at:
        return "ok", False
    return (forecast.stops[0].outcome, partly) if at == stops_at else ("untried", partly)


def _agree(predicted: Expected, either: bool, observed: Outcome) -> bool | None:
    if "unknown" in (predicted, observed):
        return None
    if observed == "untried":
        return None if predicted != "untried" else True
    if either:
        return True
    return None if predicted == "untried" else predicted == observed
