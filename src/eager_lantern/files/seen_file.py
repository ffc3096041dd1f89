"""Results of visits that were kept (``visit --save``), read again by the types that write them."""

from pathlib import Path

import msgspec

from ..core.observed.climb import Climb
from .guarded import guarded
from .json_line import json_line
from .problem import BadInput, InputProblem
from .results.visit import Taken, VisitResult, climbs_of
from .yaml_tree import read_text

FORMAT = "eager-lantern/visit/1"


class _Head(msgspec.Struct):
    format: str


class Seen(msgspec.Struct, frozen=True):
    """The visits in a file."""

    taken: Taken
    climbs: tuple[Climb, ...]


@guarded
def read_seen(path: Path) -> Seen:
    """Read a kept result. Raises BadInput with what is not as it should be."""
    text = read_text(path)
    try:
        form = msgspec.json.decode(text, type=_Head).format
        if form != FORMAT:
            message = f"has the format “{form}”, where {FORMAT} is read here"
            raise BadInput(str(path), InputProblem(0, message))
        found = msgspec.json.decode(text, type=VisitResult)
    except (msgspec.DecodeError, RecursionError) as error:
        message = f"is no kept result of a visit: {error}; make one with eager-lantern visit --save"
        raise BadInput(str(path), InputProblem(json_line(text, error), message)) from None
    return Seen(found.taken, climbs_of(found))
