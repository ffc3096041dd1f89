"""Kept results read again, in one place: recognised by their format, decoded by the types that write them."""

import json
from pathlib import Path

import msgspec

from ...core.observed.climb import Climb
from ...core.observed.survey import Survey
from ...wire.lamp import is_sealed
from ...wire.terminal_safe import printable
from ..damage import guarded, json_line
from ..reading import bad_file
from ..site.types import from_text
from ..site.yaml_tree import read_text
from .carried import CarriedResult
from .lamp import LampResult
from .rehearse import RehearseResult
from .survey import SurveyResult, survey_of
from .visit import Taken, VisitResult, climbs_of

PRODUCT, VERSION = "eager-lantern", "1"
Kept = VisitResult | SurveyResult | LampResult | RehearseResult | CarriedResult
TYPES: dict[str, type[Kept]] = {
    "visit": VisitResult, "survey": SurveyResult, "lamp": LampResult, "rehearse": RehearseResult,
    "carried": CarriedResult,
}  # fmt: skip
"""The results that are read again, by the names of their formats."""
_MADE_BY = {
    "visit": "eager-lantern visit --save FILE", "survey": "eager-lantern survey --save FILE",
    "lamp": "eager-lantern visit --lamp --save FILE", "rehearse": "eager-lantern rehearse --format json",
    "carried": "a probe of eager-lantern visit --carry",
}  # fmt: skip


class KeptVisits(msgspec.Struct, frozen=True):
    """The visits in a file."""

    taken: Taken
    climbs: tuple[Climb, ...]


class KeptSurvey(msgspec.Struct, frozen=True):
    """A survey, where and when it was taken."""

    survey: Survey
    taken: Taken
    place: str


def looks_kept(text: str, *names: str) -> bool:
    """Whether a text looks like a result of one of these commands, before anything of it is decoded."""
    start = text.lstrip()[:200]
    return start.startswith("{") and any(f'"{PRODUCT}/{name}/' in start for name in names)


@guarded
def read_kept(file: str | Path, text: str, *expected: str, secret: bytes = b"") -> Kept:
    """A result of one of the commands that are expected; ``secret`` is what a carried probe has sealed its own with.
    Raises BadInput, for a seal that is broken too."""
    name = _name_of_format(str(file), text, expected)
    if name == "carried":
        _check_seal(file, text, secret)
    try:
        return msgspec.json.decode(text, type=TYPES[name], dec_hook=from_text)
    except (msgspec.DecodeError, RecursionError, ValueError) as error:
        message = f"found a damaged result of {name} ({error}); expected one as {_MADE_BY[name]} writes it"
        raise bad_file(file, message, json_line(text, error)) from None


def _check_seal(file: str | Path, text: str, secret: bytes) -> None:
    """Raises BadInput for a result of a probe that is not as the probe wrote it, or where that cannot be known."""
    if not secret:
        message = "found the sealed result of a carried probe; expected EAGER_LANTERN_LAMP to be set to its secret"
        raise bad_file(file, f"{message}, as visit --carry has shown it (it also stands in the probe, under PLAN)")
    if not is_sealed(secret, text.encode("utf-8", "surrogatepass")):
        message = "found a seal that does not fit: this file is not as the probe wrote it, or EAGER_LANTERN_LAMP is"
        raise bad_file(file, f"{message} another secret than the probe's; expected the file itself, not its text")


def _name_of_format(file: str, text: str, expected: tuple[str, ...]) -> str:
    wanted = f"a result of {' or '.join(expected)}, as {_MADE_BY[expected[0]]} writes it"
    try:
        head = json.loads(text)
    except (ValueError, RecursionError) as error:
        message = f"found no JSON; expected {wanted}. (The log of a session belongs to diagnose --log)"
        raise bad_file(file, message, json_line(text, error)) from None
    form = str(head.get("format", "")) if isinstance(head, dict) else ""
    product, _, rest = form.partition("/")
    name, _, version = rest.partition("/")
    shown = printable(form, 60)
    if product != PRODUCT or name not in expected:
        found = f"found the format “{shown}”" if form else "found JSON without a format"
        raise bad_file(file, f"{found}; expected {wanted}")
    if version != VERSION:
        message = f"found the format “{shown}” of another version of this program; expected version {VERSION}"
        raise bad_file(file, message)
    return name


@guarded
def read_visits(path: Path) -> KeptVisits:
    """Kept visits. Raises BadInput."""
    found = read_kept(path, read_text(path), "visit")
    assert isinstance(found, VisitResult)
    return KeptVisits(found.taken, climbs_of(found))


@guarded
def read_visits_or_lamp(path: Path, secret: bytes) -> KeptVisits | LampResult | CarriedResult:
    """Kept visits, or a lamp as it was swept from here or by a carried probe. Raises BadInput."""
    found = read_kept(path, read_text(path), "visit", "lamp", "carried", secret=secret)
    assert isinstance(found, VisitResult | LampResult | CarriedResult)
    return KeptVisits(found.taken, climbs_of(found)) if isinstance(found, VisitResult) else found


@guarded
def read_survey(path: Path) -> KeptSurvey:
    """A kept survey. Raises BadInput."""
    found = read_kept(path, read_text(path), "survey")
    assert isinstance(found, SurveyResult)
    return KeptSurvey(survey_of(found), found.taken, found.place)
