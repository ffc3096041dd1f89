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

import json
import re
from collections.abc import Sequence
from functools import lru_cache
from typing import Any

import yaml
from msgspec import to_builtins
from yaml.nodes import CollectionNode, MappingNode, Node, ScalarNode, SequenceNode

from ..core.model.change import Change
from ..core.values.site_path import SitePath

_PLAIN = re.compile(r"[A-Za-z0-9/][A-Za-z0-9 ./_-]*")
_ALSO_PLAIN = re.compile(r"[A-Za-z0-9./_-]+")
_WORDS = {"true", "false", "null", "yes", "no", "on", "off", "y", "n"}


def edited(text: str, changes: Sequence[Change]) -> str:
    """The text with the changes made, one after the other. The text has to be YAML of the site that they are of."""
    for each in changes:
        text = _one(text, each)
    return text


def _one(text: str, change: Change) -> str:
    node = yaml.compose(text, Loader=yaml.SafeLoader)
    assert node is not None
    for depth, part in enumerate(change.place):
        found = _child(node, part)
        if found is None:
            return _added(text, node, change.place[depth:], change.new)
        last = depth == len(change.place) - 1
        if last and change.new is None:
            return _removed(text, node, part)
        node = found
    if isinstance(node, SequenceNode) and not node.flow_style and isinstance(change.new, (list, tuple)):
        return _listed(text, node, change.old, change.new)
    start, end = node.start_mark.index, _end(node)
    quote = node.style if isinstance(node, ScalarNode) and node.style in ("'", '"') else ""
    return text[:start] + _written(change.new, quote) + text[end:]


def _listed(text: str, node: SequenceNode, old: Any, new: Sequence[Any]) -> str:
    """A list in lines of its own: what stays is moved with its lines and the remarks above and behind them."""
    column = "\n" + " " * node.start_mark.column
    lines = _entries(text, node)
    kept: dict[Any, list[str]] = {}
    for value, its in zip(old, lines, strict=True) if isinstance(old, (list, tuple)) and len(old) == len(lines) else ():
        kept.setdefault(value, []).append(its)
    plain = to_builtins(tuple(new), enc_hook=str)
    found = [
        kept[each].pop(0) if kept and kept.get(each) else f"{column}- {_flow(its)}"
        for each, its in zip(new, plain, strict=True)
    ]
    start, end = node.start_mark.index, _line_end(text, _end(node))
    return text[:start] + ("".join(found).lstrip() or "[]") + text[end:]


def _entries(text: str, node: SequenceNode) -> list[str]:
    """The lines of each entry, from the end of the line before; remarks above an entry are its own."""
    start = text.rfind("\n", 0, node.start_mark.index)
    before = "\n" if start < 0 else ""
    found = []
    for each in node.value:
        end = _line_end(text, _end(each))
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


def _end(node: Node) -> int:
    """Where a value ends; a block has nothing behind its last scalar that is its own."""
    if not isinstance(node, CollectionNode) or node.flow_style or not node.value:
        return int(node.end_mark.index)
    last = node.value[-1]
    return _end(last[1] if isinstance(last, tuple) else last)


def _added(text: str, node: Node, rest: SitePath, new: Any) -> str:
    """A key or an entry more, behind the last; what lies between is written with it."""
    assert isinstance(node, CollectionNode)
    for part in reversed(rest[1:]):
        new = [new] if isinstance(part, int) else {part: new}
    entry = _written(new) if isinstance(rest[0], int) else f"{rest[0]}: {_written(new)}"
    if node.flow_style or not node.value:
        at = node.end_mark.index - 1
        comma = ", " if node.value else ""
        return text[:at].rstrip() + comma + entry + text[at:]
    column = node.start_mark.column
    at = _line_end(text, _end(node))
    mark = "- " if isinstance(node, SequenceNode) else ""
    return f"{text[:at]}\n{' ' * column}{mark}{entry}{text[at:]}"


def _removed(text: str, node: Node, part: str | int) -> str:
    """Without a key or an entry: in a flow with its comma, in a block with its lines."""
    assert isinstance(node, CollectionNode)
    pairs = [each if isinstance(each, tuple) else (each, each) for each in node.value]
    i = part if isinstance(part, int) else [key.value for key, _ in pairs].index(str(part))
    start, end = pairs[i][0].start_mark.index, _end(pairs[i][1])
    if node.flow_style:
        if i + 1 < len(pairs):
            end = pairs[i + 1][0].start_mark.index
        elif i:
            start = _end(pairs[i - 1][1])
        return text[:start] + text[end:]
    if len(pairs) == 1:  # a block of nothing would be null
        empty = "[]" if isinstance(node, SequenceNode) else "{}"
        return text[: node.start_mark.index] + empty + text[_end(node) :]
    begin = text.rfind("\n", 0, start) + 1
    finish = text.find("\n", end)
    return text[:begin] + text[finish + 1 :] if finish >= 0 else text[:begin]


def _written(value: Any, quote: str = "") -> str:
    """A value as YAML on one line; ``quote`` is how it was quoted before."""
    return _flow(to_builtins(value, enc_hook=str), quote)


def _flow(value: Any, quote: str = "") -> str:
    if isinstance(value, str):
        return _text(value, quote)
    if isinstance(value, dict):
        return "{" + ", ".join(f"{key}: {_flow(each)}" for key, each in value.items()) + "}"
    if isinstance(value, (list, tuple)):
        return "[" + ", ".join(map(_flow, value)) + "]"
    if isinstance(value, bool):
        return "true" if value else "false"
    return str(value)


@lru_cache(maxsize=1024)  # the same few words stand in each line of a long list
def _text(value: str, quote: str) -> str:
    if quote == "'" and "'" not in value:
        return f"'{value}'"
    plain = _ALSO_PLAIN.fullmatch(value) or _PLAIN.fullmatch(value)
    if quote == '"' or not plain or value.lower() in _WORDS or value != value.strip():
        return json.dumps(value, ensure_ascii=False)
    return value
