"""The port mappings of a router, from a survey that was kept (``survey --save``)."""

from msgspec.structs import replace

from ...core.changes.adopted import DeviceConfig, ParsedValue
from ...core.model.site import Forward
from ...core.observed.conclusions import forwards_of
from ...core.observed.survey import Survey
from ..damage import guarded
from ..reading import bad_file
from ..results.kept import looks_kept, read_kept
from ..results.survey import SurveyResult, survey_of
from .cells import tidy_name
from .format import DeviceFormat, one_by_one


def mapped_forwards(survey: Survey) -> tuple[ParsedValue, ...]:
    """The mappings that the router lists, as forwards with names that a site file can have."""
    return tuple(ParsedValue((), _tidied(each), 0) for each in forwards_of(survey.mappings))


def _tidied(forward: Forward) -> Forward:
    return replace(forward, name=tidy_name(forward.name))


@guarded
def _read(file: str, text: str) -> DeviceConfig:
    found = read_kept(file, text, "survey")
    assert isinstance(found, SurveyResult)
    values = mapped_forwards(survey_of(found))
    if not values:
        raise bad_file(file, "found no mappings of a router; expected a survey that lists some")
    return DeviceConfig(file, "forwards", values)


FORMAT = DeviceFormat(
    "kept-survey", "a kept survey", "eager-lantern survey --save FILE",
    recognises=lambda file, text: looks_kept(text, "survey"), reads=one_by_one(_read),
)  # fmt: skip
