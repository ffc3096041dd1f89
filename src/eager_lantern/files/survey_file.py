"""Results of surveys that were kept (``survey --save``), read again by the types that write them."""

from pathlib import Path

import msgspec

from ..core.observed.survey import Survey
from .problem import BadInput, InputProblem
from .results.survey import SurveyResult, survey_of
from .results.visit import Taken
from .type_faults import from_text
from .yaml_tree import read_text

FORMAT = "eager-lantern/survey/1"


class _Head(msgspec.Struct):
    format: str


class KeptSurvey(msgspec.Struct, frozen=True):
    """A survey, where and when it was taken."""

    survey: Survey
    taken: Taken
    place: str


def read_survey(path: Path) -> KeptSurvey:
    """Read a kept survey. Raises BadInput with what is not as it should be."""
    text = read_text(path)
    try:
        form = msgspec.json.decode(text, type=_Head).format
        if form != FORMAT:
            message = f"has the format “{form}”, where {FORMAT} is read here"
            raise BadInput(str(path), InputProblem(0, message))
        found = msgspec.json.decode(text, type=SurveyResult, dec_hook=from_text)
    except (msgspec.DecodeError, RecursionError, ValueError) as error:
        message = f"is no kept result of a survey: {error}; make one with eager-lantern survey --save"
        raise BadInput(str(path), InputProblem(0, message)) from None
    return KeptSurvey(survey_of(found), found.taken, found.place)
