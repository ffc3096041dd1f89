"""Results of surveys that were kept (``survey --save``), read again by the types that write them."""

from pathlib import Path

import msgspec
from msgspec.structs import replace

from ..core.adoption.told import Reading, Told
from ..core.model.site import Forward
from ..core.observed.survey import Survey
from ..core.surveyed.mapped import forwards_of
from .guarded import guarded
from .json_line import json_line
from .problem import BadInput, InputProblem
from .results.survey import SurveyResult, survey_of
from .results.visit import Taken
from .rule_table import tidy_name
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


@guarded
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
        raise BadInput(str(path), InputProblem(json_line(text, error), message)) from None
    return KeptSurvey(survey_of(found), found.taken, found.place)


@guarded
def read_mappings(file: str) -> Reading:
    """The router's mappings in a kept survey, as the forwards of a device. Raises BadInput."""
    found = read_survey(Path(file)).survey
    if not found.mappings:
        raise BadInput(file, InputProblem(0, "has no mappings of a router: it was not asked, or lists none"))
    told = tuple(Told((), tidied(each), 0) for each in forwards_of(found.mappings))
    return Reading(file, "forwards", told)


def tidied(forward: Forward) -> Forward:
    """The forward with its name as a site file can have it."""
    return replace(forward, name=tidy_name(forward.name))
