"""A change of a site: what stands at one place, and what is to stand there instead.

Findings carry their cure as such a change, so that it can be tried on the model before anybody is
asked to make it, and made by a program afterwards.
"""

from collections.abc import Sequence
from typing import Any, get_args

from msgspec import Struct, structs

from ..values.text_value import SitePath
from .site import Site


class Change(Struct, frozen=True):
    """Set what stands at a place. An index one past the end of a list adds to it; ``new`` of None takes an
    entry out, or a key, so that its default counts. Mappings that are left out on the way are made. ``old`` is
    what stood there; None where nothing did. Where it ``inserts``, the new entry comes before the one there."""

    place: SitePath
    old: Any
    new: Any
    inserts: bool = False

    @property
    def adds(self) -> bool:
        """Whether a list has an entry more by it."""
        return self.old is None and isinstance(self.place[-1], int)


def change(site: Site, place: SitePath, new: Any) -> Change:
    """The change of a place to a value of the type that the site has there."""
    return Change(place, value_at(site, place), new)


def value_at(site: Site, place: SitePath) -> Any:
    """What stands at a place; None beyond the end of a list and below what is left out."""
    value: Any = site
    for part in place:
        if value is None:
            return None
        if isinstance(part, int):
            value = value[part] if part < len(value) else None
        else:
            value = getattr(value, _attribute(value, part), None)
    return value


def changed(site: Site, *changes: Change) -> Site:
    """The site with the changes made, one after the other."""
    for each in changes:
        if each.inserts:
            entries, index = value_at(site, each.place[:-1]), each.place[-1]
            site = _with_value(site, each.place[:-1], (*entries[:index], each.new, *entries[index:]))
        else:
            site = _with_value(site, each.place, each.new)
    return site


def left_out(changes: Sequence[Change], index: int) -> tuple[Change, ...]:
    """The same changes but for one, with entries of its list counted anew; nothing where another is of its entry."""
    dropped, found = changes[index], list[Change]()
    depth, at = len(dropped.place) - 1, dropped.place[-1]
    for each in changes[index + 1 :]:
        place = each.place
        moved = dropped.adds or dropped.inserts
        if moved and len(place) > depth and place[:depth] == dropped.place[:-1]:
            if place[depth] == at:
                return ()
            if isinstance(at, int) and isinstance(number := place[depth], int) and number > at:
                place = (*place[:depth], number - 1, *place[depth + 1 :])
        elif place[: depth + 1] == dropped.place:
            return ()
        found.append(structs.replace(each, place=place))
    return (*changes[:index], *found)


def _with_value(value: Any, place: SitePath, new: Any) -> Any:
    if not place:
        return new
    first, rest = place[0], place[1:]
    if isinstance(first, int) and not rest and new is None:
        return (*value[:first], *value[first + 1 :])
    if isinstance(first, int):
        inner = _with_value(value[first], rest, new) if first < len(value) else new
        return (*value[:first], inner, *value[first + 1 :])
    name = _attribute(value, first)
    if not rest and new is None:
        return structs.replace(value, **{name: _default_of(value, name)})
    inner = getattr(value, name)
    if rest and inner is None:
        inner = _mapping_for(value, name)
    return structs.replace(value, **{name: _with_value(inner, rest, new)})


def _attribute(value: Any, key: str) -> str:
    """The attribute that a key of the file is read into."""
    return value.__struct_fields__[value.__struct_encode_fields__.index(key)]  # type: ignore[no-any-return]


def _mapping_for(value: Any, name: str) -> Any:
    """A mapping that the file leaves out, with its defaults."""
    kind = next(each.type for each in structs.fields(value) if each.name == name)
    return next(each for each in get_args(kind) if isinstance(each, type) and issubclass(each, Struct))()


def _default_of(value: Any, name: str) -> Any:
    return next(each.default for each in structs.fields(value) if each.name == name)
