"""``eager-lantern/survey/1``, written and read again (``survey --save``, ``check --survey``)."""

from typing import Literal

from ...core.observed.conclusions import ConclusionKind, conclusions
from ...core.observed.survey import MappingSeen, NameSeen, OutsideSeen, Survey, SurveyedHost, Unlearnt
from ...core.values.addresses import Address
from .base import ResultPart
from .visit import Taken


class ConclusionResult(ResultPart, frozen=True, kw_only=True):
    """What follows from what was seen: well (true), a hindrance (false), or neither (null)."""

    kind: ConclusionKind
    good: bool | None
    message: str
    advice: str


class SurveyResult(ResultPart, frozen=True, kw_only=True):
    """What is there: the host, its outside by every means, names, the router's mappings, what follows, and what could
    not be learnt. Each fact has ``by``, how it was learnt."""

    format: Literal["eager-lantern/survey/1"] = "eager-lantern/survey/1"
    taken: Taken
    place: str
    host: SurveyedHost
    router: Address | None
    outside: tuple[OutsideSeen, ...]
    names: tuple[NameSeen, ...]
    mappings: tuple[MappingSeen, ...]
    conclusions: tuple[ConclusionResult, ...]
    unknown: tuple[Unlearnt, ...]


def survey_result(found: Survey, place: str, taken: Taken) -> SurveyResult:
    """The result of a survey."""
    return SurveyResult(
        taken=taken,
        place=place,
        host=found.host,
        router=found.router,
        outside=found.outside,
        names=found.names,
        mappings=found.mappings,
        conclusions=tuple(
            ConclusionResult(kind=each.kind, good=each.good, message=each.message, advice=each.advice)
            for each in conclusions(found)
        ),
        unknown=found.unknown,
    )


def survey_of(result: SurveyResult) -> Survey:
    """The survey that a result tells of."""
    return Survey(result.host, result.router, result.outside, result.names, result.mappings, result.unknown)
