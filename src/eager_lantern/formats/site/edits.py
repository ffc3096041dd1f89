"""A site file changed where it has to be, and every other byte as it was.

Comments, order, quotes and line breaks are the author's. So nothing is written anew: the value that changes is replaced
where it stands, a key or an entry that is added comes behind the last one of its mapping or list, in the style that
this has, and what is taken out goes with its comma or its line.

>>> text = "gateways:\\n  - name: a  # ours\\n    hairpin: no\\n"
>>> print(edited(text, (Change(("gateways", 0, "hairpin"), False, True),)))
gateways:
  - name: a  # ours
    hairpin: true
<BLANKLINE>
"""

import difflib
import json
import re
from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import Any, NamedTuple

import yaml
from msgspec import to_builtins
from yaml.nodes import CollectionNode, MappingNode, Node, ScalarNode, SequenceNode

from ...core.changes.adopted import DeviceConfig, ParsedValue, changes_between
from ...core.changes.steps import Overlay
from ...core.mending.plan import Plan
from ...core.model.change import Change, changed, value_at
from ...core.model.site import Site
from ...core.values.text_value import SitePath
from ...wire.terminal_safe import printable
from ..reading import BadInput, bad_file
from .site_file import SiteFile, parse_site

_PLAIN = re.compile(r"[A-Za-z0-9/][A-Za-z0-9 ./_-]*")
_ALSO_PLAIN = re.compile(r"[A-Za-z0-9./_-]+")
_WORDS = {"true", "false", "null", "yes", "no", "on", "off", "y", "n"}


def edited(text: str, changes: Sequence[Change]) -> str:
    """The text with the changes made, one after the other. The text has to be YAML of the site that they are of."""
    for each in changes:
        text = _apply_one(text, each)
    return text


def _apply_one(text: str, change: Change) -> str:
    node = yaml.compose(text, Loader=yaml.SafeLoader)
    assert node is not None
    for depth, part in enumerate(change.place):
        found = _child(node, part)
        if found is None:
            return _added(text, node, change.place[depth:], change.new)
        last = depth == len(change.place) - 1
        if last and change.inserts:
            return _put_before(text, node, found, change.new)
        if last and change.new is None:
            return _removed(text, node, part)
        node = found
    if isinstance(node, SequenceNode) and not node.flow_style and isinstance(change.new, (list, tuple)):
        return _block_list(text, node, change.old, change.new)
    start, end = node.start_mark.index, _end_of(node)
    quote = node.style if isinstance(node, ScalarNode) and node.style in ("'", '"') else ""
    return text[:start] + _yaml_scalar(change.new, quote) + text[end:]


def _block_list(text: str, node: SequenceNode, old: Any, new: Sequence[Any]) -> str:
    """A list in lines of its own: what stays is moved with its lines and the remarks above and behind them."""
    column = "\n" + " " * node.start_mark.column
    lines = _entry_lines(text, node)
    kept: dict[Any, list[str]] = {}
    for value, its in zip(old, lines, strict=True) if isinstance(old, (list, tuple)) and len(old) == len(lines) else ():
        kept.setdefault(value, []).append(its)
    plain = to_builtins(tuple(new), enc_hook=str)
    found = [
        kept[each].pop(0) if kept and kept.get(each) else f"{column}- {_entry(node, its)}"
        for each, its in zip(new, plain, strict=True)
    ]
    start, end = node.start_mark.index, _line_end(text, _end_of(node))
    return text[:start] + ("".join(found).lstrip() or "[]") + text[end:]


def _entry_lines(text: str, node: SequenceNode) -> list[str]:
    """The lines of each entry, from the end of the line before; remarks above an entry are its own."""
    start = text.rfind("\n", 0, node.start_mark.index)
    before = "\n" if start < 0 else ""
    found = []
    for each in node.value:
        end = _line_end(text, _end_of(each))
        found.append(before + text[max(start, 0) : end])
        start, before = end, ""
    return found


def _line_end(text: str, place: int) -> int:
    found = text.find("\n", place)
    return len(text) if found < 0 else found


def _child(node: Node, part: str | int) -> Node | None:
    if isinstance(node, MappingNode):
        return next((value for key, value in node.value if key.value == str(part)), None)
    if isinstance(node, SequenceNode) and isinstance(part, int) and part < len(node.value):
        found: Node = node.value[part]
        return found
    return None


def _end_of(node: Node) -> int:
    """Where a value ends; a block has nothing behind its last scalar that is its own."""
    if not isinstance(node, CollectionNode) or node.flow_style or not node.value:
        return int(node.end_mark.index)
    last = node.value[-1]
    return _end_of(last[1] if isinstance(last, tuple) else last)


def _added(text: str, node: Node, rest: SitePath, new: Any) -> str:
    """A key or an entry more, behind the last; what lies between is written with it."""
    assert isinstance(node, CollectionNode)
    for part in reversed(rest[1:]):
        new = [new] if isinstance(part, int) else {part: new}
    plain = to_builtins(new, enc_hook=str)
    entry = _entry(node, plain) if isinstance(node, SequenceNode) else f"{rest[0]}: {_flow(plain)}"
    if node.flow_style or not node.value:
        at = node.end_mark.index - 1
        comma = ", " if node.value else ""
        return text[:at].rstrip() + comma + entry + text[at:]
    column = node.start_mark.column
    at = _line_end(text, _end_of(node))
    mark = "- " if isinstance(node, SequenceNode) else ""
    return f"{text[:at]}\n{' ' * column}{mark}{entry}{text[at:]}"


def _put_before(text: str, node: Node, first: Node, new: Any) -> str:
    """An entry more of a list, before one of it; in lines of their own before the remarks above that."""
    assert isinstance(node, SequenceNode)
    entry = _entry(node, to_builtins(new, enc_hook=str))
    if node.flow_style:
        at = first.start_mark.index
        return f"{text[:at]}{entry}, {text[at:]}"
    at, lines = node.start_mark.index, _entry_lines(text, node)
    for each, its in zip(node.value, lines, strict=True):
        if each is first:
            at = _line_end(text, _end_of(each)) - len(its)
    indent = " " * node.start_mark.column
    return f"{text[:at]}\n{indent}- {entry}{text[at:]}" if at > 0 else f"{indent}- {entry}\n{text}"


def _entry(node: SequenceNode, new: Any) -> str:
    """A new entry of a list as its neighbours are written: their keys in their order, with their quotes, and a line for
    each key where the last of them has that; alone its name comes first."""
    if not isinstance(new, dict):
        return _flow(new)
    beside = [each for each in node.value if isinstance(each, MappingNode)]
    ordered = {key: new[key] for key in sorted(new, key=_places(beside, [*new]).__getitem__)}
    quotes = {
        key.value: value.style or ""
        for each in beside
        for key, value in each.value
        if isinstance(value, ScalarNode) and value.style != "|" and value.style != ">"
    }
    pairs = [f"{key}: {_flow(value, quotes.get(key, ''))}" for key, value in ordered.items()]
    if node.flow_style or not beside or beside[-1].flow_style or not pairs:
        return "{" + ", ".join(pairs) + "}"
    return f"\n{' ' * beside[-1].start_mark.column}".join(pairs)


def _places(beside: Sequence[MappingNode], keys: Sequence[str]) -> dict[str, int]:
    """Where each key comes: as in the neighbours, and what none of them has behind that, but for a name."""
    order: list[str] = []
    for each in beside:
        at = 0
        for key, _ in each.value:
            if key.value in order:
                at = order.index(key.value) + 1
            else:
                order.insert(at, key.value)
                at += 1
    if "name" not in order:
        order.insert(0, "name")
    return {key: i for i, key in enumerate(dict.fromkeys((*order, *keys)))}


def _removed(text: str, node: Node, part: str | int) -> str:
    """Without a key or an entry: in a flow with its comma, in a block with its lines."""
    assert isinstance(node, CollectionNode)
    pairs = [each if isinstance(each, tuple) else (each, each) for each in node.value]
    i = part if isinstance(part, int) else [key.value for key, _ in pairs].index(str(part))
    start, end = pairs[i][0].start_mark.index, _end_of(pairs[i][1])
    if node.flow_style:
        if i + 1 < len(pairs):
            end = pairs[i + 1][0].start_mark.index
        elif i:
            start = _end_of(pairs[i - 1][1])
        return text[:start] + text[end:]
    if len(pairs) == 1:  # a block of nothing would be null
        empty = "[]" if isinstance(node, SequenceNode) else "{}"
        return text[: node.start_mark.index] + empty + text[_end_of(node) :]
    begin = text.rfind("\n", 0, start) + 1
    finish = text.find("\n", end)
    return text[:begin] + text[finish + 1 :] if finish >= 0 else text[:begin]


def _yaml_scalar(value: Any, quote: str = "") -> str:
    """A value as YAML on one line; ``quote`` is how it was quoted before."""
    return _flow(to_builtins(value, enc_hook=str), quote)


def _flow(value: Any, quote: str = "") -> str:
    if isinstance(value, str):
        return _yaml_text(value, quote)
    if isinstance(value, dict):
        return "{" + ", ".join(f"{key}: {_flow(each)}" for key, each in value.items()) + "}"
    if isinstance(value, (list, tuple)):
        return "[" + ", ".join(map(_flow, value)) + "]"
    if isinstance(value, bool):
        return "true" if value else "false"
    return str(value)


@lru_cache(maxsize=1024)  # the same few words stand in each line of a long list
def _yaml_text(value: str, quote: str) -> str:
    if quote == "'" and "'" not in value:
        return f"'{value}'"
    plain = _ALSO_PLAIN.fullmatch(value) or _PLAIN.fullmatch(value)
    if quote == '"' or not plain or value.lower() in _WORDS or value != value.strip():
        return json.dumps(value, ensure_ascii=False)
    return value


def mended_text(source: SiteFile, text: str, plan: Plan) -> str:
    """The text with a plan's changes made, read again and found to be that very site. Raises BadInput where the file
    is written in a way that does not let them be made in their places alone."""
    found, again = text, None
    try:
        found = _with_old_remarks(text, edited(text, plan.changes))
        again = parse_site(source.file, found).site
    except (BadInput, yaml.YAMLError):
        pass  # the author's hand does it better
    if again != changed(source.site, *plan.changes):
        line = source.line(plan.changes[0].place) or 0
        message = "found text that cannot be changed in this place alone (an alias, perhaps); expected a change by hand"
        raise bad_file(source.file, message, line)
    return found


_READ_FROM = re.compile(r"(   # )(as [^#\n]+)$")


def _with_old_remarks(before: str, after: str) -> str:
    """The later text, where a line that differs no longer claims to be as a device was read."""
    known = set(before.splitlines())
    lines = after.split("\n")
    changed_lines = (each if each in known else _READ_FROM.sub(r"\1changed since; before \2", each) for each in lines)
    return "\n".join(changed_lines)


def patch(before: str, after: str, file: str) -> str:
    """What changes, as a unified diff."""
    lines = difflib.unified_diff(before.splitlines(True), after.splitlines(True), file, file)
    return "".join(each if each.endswith("\n") else f"{each}\n\\ No newline at end of file\n" for each in lines)


MOST_SINGLY = 60
"""Changes that are made one after the other in the text; more are made list by list."""
MOST_REMARKS = 24
"""Lines of one list that bear the same remark each."""


class MadeText(NamedTuple):
    """A text, and what it was read as."""

    text: str
    source: SiteFile


def adopted_text(source: SiteFile, text: str, wanted: Overlay, configs: Sequence[DeviceConfig], day: str) -> MadeText:
    """The text changed where the site that is laid over its own differs, read again and found to be that very site.
    Raises BadInput where the file does not let that be done in its places alone."""
    if not wanted.edits:
        return MadeText(text, source)
    changes = changes_between(source.site, wanted) if len(wanted.edits) <= MOST_SINGLY else ()
    found = _adopted_text(source, text, wanted.after, changes) if 0 < len(changes) <= MOST_SINGLY else None
    if found is None:  # where entries come between others, their list is written anew
        found = _adopted_text(source, text, wanted.after, _with_parents(text, wanted, _by_lists(wanted)))
    if found is None:
        message = (
            "found text that cannot be changed in these places alone (an alias, perhaps); expected a change by hand"
        )
        raise bad_file(source.file, message)
    return _remarked(found, wanted, configs, day)


def _adopted_text(source: SiteFile, text: str, wanted: Site, changes: Sequence[Change]) -> MadeText | None:
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
                found[place] = Change(place, value_at(overlay.before, place), value_at(overlay.after, other))
        else:
            found[place] = Change(place, each.old, each.new)
    return tuple(found.values())


def _with_parents(text: str, overlay: Overlay, changes: Sequence[Change]) -> tuple[Change, ...]:
    """The same changes, where a value that the file does not have yet is written with all that belongs to it: a filter
    is more than its rules."""
    node, found = yaml.compose(text, Loader=yaml.SafeLoader), dict[SitePath, Change]()
    for each in changes:
        at: Node | None = node
        depth = 0
        while depth < len(each.place) and at is not None:
            at = _child(at, each.place[depth])
            depth += 1
        missing = each.place[:depth]
        whole = at is None and depth < len(each.place)
        found.setdefault(missing, Change(missing, None, value_at(overlay.after, missing)) if whole else each)
    return tuple(found.values())


def _remarked(made: MadeText, overlay: Overlay, configs: Sequence[DeviceConfig], day: str) -> MadeText:
    """The text with a remark behind each line that has something adopted, and none yet; where a long list has many of
    one remark, behind the line of its key alone."""
    lists: dict[tuple[SitePath, str], list[SitePath]] = {}
    read_where = _by_value(configs)
    for edit in overlay.edits:
        if edit.new is not None and (read := _read_at(edit.new, edit.path, configs, read_where)):
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


def _by_value(configs: Sequence[DeviceConfig]) -> dict[object, str]:
    """Where each entry of a table was read first; settings are found by their keys."""
    found: dict[object, str] = {}
    for config in configs:
        name = _file_name(config)
        for parsed in config.values if config.subject in ("forwards", "rules", "switches") else ():
            found.setdefault(parsed.value, _origin(name, parsed))
    return found


def _file_name(config: DeviceConfig) -> str:
    return printable(config.file.replace("\\", "/").rpartition("/")[2], 60)


def _origin(name: str, parsed: ParsedValue) -> str:
    return f"{name} line {parsed.line}" if parsed.line else name


def _read_at(
    value: object, path: tuple[str, ...], configs: Sequence[DeviceConfig], read_where: Mapping[object, str]
) -> str:
    if where := read_where.get(value):
        return where
    settings = ((each, parsed) for each in configs if each.subject == "settings" for parsed in each.values)
    found = (
        (each, parsed)
        for each, parsed in settings
        if path[2 : 2 + len(parsed.key)] == parsed.key or parsed.value == value
    )
    return next((_origin(_file_name(config), parsed) for config, parsed in found), "")


def _with_notes(lines: Sequence[str], notes: Mapping[int, str]) -> str:
    lines = list(lines)
    for number, note in notes.items():
        line = lines[number - 1].rstrip("\r")
        if "#" not in line:
            lines[number - 1] = f"{line}   # as {note}"
    return "\n".join(lines)
