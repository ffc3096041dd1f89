"""A site file with what was read of a device in it, each part with a remark of where it was read."""

from collections.abc import Mapping, Sequence

import yaml

from ..core.adoption.adopt import changes_between
from ..core.adoption.told import Reading, Told
from ..core.comparison.edits import Overlay
from ..core.model.change import Change
from ..core.model.site import Site
from ..core.values.site_path import SitePath
from ..wire.terminal_safe import printable
from .problem import BadInput, InputProblem
from .site_edit import edited
from .site_file import SiteFile, parse_site

MOST_SINGLY = 60
"""Changes that are made one after the other in the text; more are made list by list."""


def adopted_text(source: SiteFile, text: str, wanted: Site, readings: Sequence[Reading], day: str) -> str:
    """The text changed where the wanted site differs, read again and found to be that very site. Raises BadInput where
    the file does not let that be done in its places alone."""
    changes = changes_between(source.site, wanted)
    found = _made(source, text, wanted, changes) if len(changes) <= MOST_SINGLY else None
    if found is None:  # where entries come between others, their list is written anew
        found = _made(source, text, wanted, _by_lists(source.site, wanted))
    if found is None:
        message = "is written so that what was read cannot be put in here alone (by an alias, perhaps); do it by hand"
        raise BadInput(source.file, InputProblem(0, message))
    return _remarked(parse_site(source.file, found), found, source.site, wanted, readings, day)


def _made(source: SiteFile, text: str, wanted: Site, changes: Sequence[Change]) -> str | None:
    try:
        found = edited(text, changes)
        return found if parse_site(source.file, found).site == wanted else None
    except (BadInput, yaml.YAMLError, AssertionError):
        return None


def _by_lists(before: Site, wanted: Site) -> tuple[Change, ...]:
    """The same changes, where lists of lines differ each list as a whole."""
    found: dict[SitePath, Change] = {}
    for each in Overlay(before, wanted).edits:
        place, other = each.before, each.after
        if each.entry:
            place = place if each.old is None else place[:-1]
            other = other if each.new is None else other[:-1]
            found[place] = Change(place, _at(before, place), _at(wanted, other))
        else:
            found[place] = Change(place, each.old, each.new)
    return tuple(found.values())


def _at(value: object, place: SitePath) -> object:
    for part in place:
        value = value[part] if isinstance(part, int) else getattr(value, part)  # type: ignore[index]
    return value


def _remarked(made: SiteFile, text: str, before: Site, wanted: Site, readings: Sequence[Reading], day: str) -> str:
    """The text with a remark behind each line that has something adopted, and none yet."""
    notes: dict[int, str] = {}
    read_where = _by_value(readings)
    for edit in Overlay(before, wanted).edits:
        line = made.line(edit.after)
        if edit.new is not None and line and (read := _read_at(edit.new, edit.path, readings, read_where)):
            notes.setdefault(line, f"{read}, {day}")
    remarked = _with_notes(text, notes)
    try:
        return remarked if parse_site(made.file, remarked).site == wanted else text
    except BadInput:
        return text


def _by_value(readings: Sequence[Reading]) -> dict[object, str]:
    """Where each entry of a table was read first; settings are found by their keys."""
    found: dict[object, str] = {}
    for reading in readings:
        for told in reading.told if reading.subject != "settings" else ():
            found.setdefault(told.value, _place(reading, told))
    return found


def _place(reading: Reading, told: Told) -> str:
    name = printable(reading.file.replace("\\", "/").rpartition("/")[2], 60)
    return f"{name} line {told.line}" if told.line else name


def _read_at(
    value: object, path: tuple[str, ...], readings: Sequence[Reading], read_where: Mapping[object, str]
) -> str:
    if where := read_where.get(value):
        return where
    settings = ((each, told) for each in readings if each.subject == "settings" for told in each.told)
    found = ((each, told) for each, told in settings if path[2 : 2 + len(told.key)] == told.key or told.value == value)
    return next((_place(reading, told) for reading, told in found), "")


def _with_notes(text: str, notes: Mapping[int, str]) -> str:
    lines = text.split("\n")
    for number, note in notes.items():
        line = lines[number - 1].rstrip("\r")
        if "#" not in line:
            lines[number - 1] = f"{line}   # as {note}"
    return "\n".join(lines)
