"""Where a server was reached from outside, as results that were kept tell it: visits, and sweeps over a lamp."""

import json
from collections.abc import Iterator
from pathlib import Path

import msgspec

from ..core.observed.survey import OutsideSeen
from ..core.values.addresses import address_or_none
from .guarded import guarded
from .json_line import json_line
from .problem import BadInput, InputProblem
from .results.lamp import LampResult
from .seen_file import read_seen
from .yaml_tree import read_text

LAMP = "eager-lantern/lamp/1"


@guarded
def read_lamp(path: Path) -> LampResult | None:
    """A sweep that was kept; None for another result. Raises BadInput for a damaged one."""
    text = read_text(path)
    try:
        form = json.loads(text).get("format", "")
        return msgspec.json.decode(text, type=LampResult) if form == LAMP else None
    except (ValueError, AttributeError, RecursionError) as error:
        raise BadInput(str(path), InputProblem(json_line(text, error), f"is no kept result: {error}")) from None


@guarded
def reached_at(path: Path) -> tuple[OutsideSeen, ...]:
    """The public addresses at which a kept visit or a sweep has reached the server. Raises BadInput."""
    lamp = read_lamp(path)
    return tuple(_of_visits(path) if lamp is None else _of_lamp(lamp, path.name))


def _of_visits(path: Path) -> Iterator[OutsideSeen]:
    kept = read_seen(path)
    for climb in kept.climbs:
        connected = any(each.rung == "connect" and each.outcome == "ok" for each in climb.rungs)
        place = climb.target.rpartition("(")[2].rstrip(")").rpartition(":")[0].strip("[]")
        if connected:
            yield from _seen(place, f"reached so by {kept.taken.host}, {kept.taken.time}")


def _of_lamp(lamp: LampResult, name: str) -> Iterator[OutsideSeen]:
    for place in lamp.places:
        for each in place.sweeps:
            if each.ok:
                yield from _seen(each.target, f"its lamp was seen so from {place.place}, in {name}")


def _seen(place: str, by: str) -> Iterator[OutsideSeen]:
    address = address_or_none(place)
    if address is not None and address.kind == "public":
        yield OutsideSeen(address, "seen", by)
