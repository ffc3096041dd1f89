"""Results of visits that were kept (``visit --save``), read again."""

from pathlib import Path
from typing import Literal

import msgspec

from ..core.ladder import Climb, Climbed, Outcome, Rung
from .problem import BadInput, InputProblem
from .yaml_tree import read_text

FORMAT = "eager-lantern/visit/1"


class _Rung(msgspec.Struct):
    rung: Rung
    outcome: Outcome
    detail: str
    advice: str = ""
    ms: float | None = None


class _Visit(msgspec.Struct):
    client: str
    service: str
    mode: str
    target: str
    rungs: tuple[_Rung, ...]
    holds: Literal["works", "shut"] = "works"
    place: str = "here"


class Taken(msgspec.Struct):
    """When a visit was made, on which host, with which version of the tool."""

    time: str
    host: str
    tool: str


class _File(msgspec.Struct):
    format: str
    taken: Taken
    promises: tuple[_Visit, ...]


class Seen(msgspec.Struct, frozen=True):
    """The visits in a file."""

    taken: Taken
    climbs: tuple[Climb, ...]


def read_seen(path: Path) -> Seen:
    """Read a kept result. Raises BadInput with what is not as it should be."""
    try:
        found = msgspec.json.decode(read_text(path), type=_File)
    except msgspec.DecodeError as error:
        message = f"is no kept result of a visit: {error}; make one with eager-lantern visit --save"
        raise BadInput(str(path), InputProblem(0, message)) from None
    if found.format != FORMAT:
        message = f"has the format “{found.format}”, where {FORMAT} is read here"
        raise BadInput(str(path), InputProblem(0, message))
    return Seen(found.taken, tuple(map(_climb, found.promises)))


def _climb(visit: _Visit) -> Climb:
    rungs = tuple(Climbed(each.rung, each.outcome, each.detail, each.ms, each.advice) for each in visit.rungs)
    if all(each.rung != "list" for each in rungs):  # only the port was tried
        return Climb(visit.target, visit.service, visit.client, "", rungs, visit.holds, ("connect",), place=visit.place)
    return Climb(visit.target, visit.service, visit.client, visit.mode, rungs, place=visit.place)
