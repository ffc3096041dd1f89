"""A site file with what was read of a device in it, each part with a remark of where it was read."""

import re
from collections.abc import Mapping, Sequence
from typing import NamedTuple

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
MOST_REMARKS = 24
"""Lines of one list that bear the same remark each."""


class MadeText(NamedTuple):
    """A text, and what it was read as."""

    text: str
    source: SiteFile


def adopted_text(source: SiteFile, text: str, wanted: Overlay, readings: Sequence[Reading], day: str) -> MadeText:
    """The text changed where the site that is laid over its own differs, read again and found to be that very site.
    Raises BadInput where the file does not let that be done in its places alone."""
    if not wanted.edits:
        return MadeText(text, source)
    changes = changes_between(source.site, wanted) if len(wanted.edits) <= MOST_SINGLY else ()
    found = _made(source, text, wanted.after, changes) if 0 < len(changes) <= MOST_SINGLY else None
    if found is None:  # where entries come between others, their list is written anew
        found = _made(source, text, wanted.after, _by_lists(wanted))
    if found is None:
        message = "is written so that what was read cannot be put in here alone (by an alias, perhaps); do it by hand"
        raise BadInput(source.file, InputProblem(0, message))
    return _remarked(found, wanted, readings, day)


def _made(source: SiteFile, text: str, wanted: Site, changes: Sequence[Change]) -> MadeText | None:
    try:
        found = edited(text, changes)
        read = parse_site(source.file, found)
        return MadeText(found, read) if read.site == wanted else None
    except (BadInput, yaml.YAMLError, AssertionError):
        return None


def _by_lists(overlay: Overlay) -> tuple[Change, ...]:
    """The same changes, where lists of lines differ each list as a whole."""
    found: dict[SitePath, Change] = {}
    for each in overlay.edits:
        place, other = each.before, each.after
        if each.entry:
            place = place if each.old is None else place[:-1]
            other = other if each.new is None else other[:-1]
            if place not in found:
                found[place] = Change(place, _at(overlay.before, place), _at(overlay.after, other))
        else:
            found[place] = Change(place, each.old, each.new)
    return tuple(found.values())


def _at(value: object, place: SitePath) -> object:
    for part in place:
        value = value[part] if isinstance(part, int) else getattr(value, part)  # type: ignore[index]
    return value


def _remarked(made: MadeText, overlay: Overlay, readings: Sequence[Reading], day: str) -> MadeText:
    """The text with a remark behind each line that has something adopted, and none yet; where a long list has many of
    one remark, behind the line of its key alone."""
    lists: dict[tuple[SitePath, str], list[SitePath]] = {}
    read_where = _by_value(readings)
    for edit in overlay.edits:
        if edit.new is not None and (read := _read_at(edit.new, edit.path, readings, read_where)):
            lists.setdefault((edit.after[:-1], read), []).append(edit.after)
    lines = made.text.split("\n")
    notes: dict[int, str] = {}
    for (place, read), found in lists.items():
        of_list = len(found) > MOST_REMARKS and _is_key(lines, made.source.line(place) or 0)
        for each in (place,) if of_list else found:
            notes.setdefault(made.source.line(each) or 0, f"{read}, {day}")
    remarked = _with_notes(lines, notes)
    if all(_is_key(lines, each) for each in notes):
        return MadeText(remarked, made.source)  # a remark behind a key alone is inside of no text
    try:
        again = parse_site(made.source.file, remarked)
    except BadInput:
        return made
    return MadeText(remarked, again) if again.site == made.source.site else made


def _is_key(lines: Sequence[str], number: int) -> bool:
    """Whether a key stands alone in a line, its value below it."""
    return re.fullmatch(r"(- )?[a-z_]+:", lines[number - 1].strip()) is not None if number else False


def _by_value(readings: Sequence[Reading]) -> dict[object, str]:
    """Where each entry of a table was read first; settings are found by their keys."""
    found: dict[object, str] = {}
    for reading in readings:
        name = _name(reading)
        for told in reading.told if reading.subject != "settings" else ():
            found.setdefault(told.value, _place(name, told))
    return found


def _name(reading: Reading) -> str:
    return printable(reading.file.replace("\\", "/").rpartition("/")[2], 60)


def _place(name: str, told: Told) -> str:
    return f"{name} line {told.line}" if told.line else name


def _read_at(
    value: object, path: tuple[str, ...], readings: Sequence[Reading], read_where: Mapping[object, str]
) -> str:
    if where := read_where.get(value):
        return where
    settings = ((each, told) for each in readings if each.subject == "settings" for told in each.told)
    found = ((each, told) for each, told in settings if path[2 : 2 + len(told.key)] == told.key or told.value == value)
    return next((_place(_name(reading), told) for reading, told in found), "")


def _with_notes(lines: Sequence[str], notes: Mapping[int, str]) -> str:
    lines = list(lines)
    for number, note in notes.items():
        line = lines[number - 1].rstrip("\r")
        if "#" not in line:
            lines[number - 1] = f"{line}   # as {note}"
    return "\n".join(lines)
