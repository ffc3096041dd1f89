"""YAML read as a tree that remembers where everything stands.

The tree is built from the parser's events, one after the other, so that no depth of nesting
and no knot of aliases can exhaust the machine. The parser is libyaml's where the platform
has it. Scalars are read by the core schema of YAML 1.2: ``true`` and ``false`` are the only
truth values and ``no`` is a word.

Theory: lines and aliases
=========================
A parser that gives plain data has forgotten where it stood. So each node keeps its line and its parts by
key, and a place in the site, ``("ports", 1)``, is followed key by key as far as the text goes: of what is
left out the nearest thing around it is the line to tell.

An alias (``*both``) is the very node that its anchor named, not a copy: ten lines of aliases of aliases
would stand for millions of parts, and somebody else wrote the file. What a node stands for once written
out is counted as it grows (``parts``) and bounded; an alias inside of what it repeats is refused. An
alias has the line where it stands, what is inside of it the lines where that was written:

>>> tree = YamlTree("pier.site.yaml", '''site: Pier
... ports: &both
...   - 21
...   - 22
... again: *both
... ''')
>>> tree.data
{'site': 'Pier', 'ports': [21, 22], 'again': [21, 22]}
>>> tree.line(("again",)), tree.line(("again", 1)), tree.line(("site", "of", "nothing"))
(5, 4, 1)
"""

import re
from codecs import BOM_UTF8
from collections.abc import Iterable, Mapping
from functools import lru_cache
from pathlib import Path
from types import MappingProxyType
from typing import Any

import yaml
from msgspec import Struct
from yaml.events import (
    AliasEvent,
    CollectionEndEvent,
    CollectionStartEvent,
    DocumentStartEvent,
    Event,
    MappingStartEvent,
    ScalarEvent,
)

from ...core.values.text_value import SitePath
from ..reading import BadInput, bad_file, not_readable, read_regular

MOST_BYTES = 32_000_000
MOST_DEPTH = 40
MOST_PARTS = 4_000_000
MOST_CHARACTERS = 64_000_000
"""In all values, once aliases are written out: twice the largest file."""
TOO_DEEP = f"found more than {MOST_DEPTH} levels; expected fewer, as every site has"
_WORDS = {"": None, "~": None, "null": None, "Null": None, "NULL": None, "true": True, "True": True, "TRUE": True}
_WORDS |= {"false": False, "False": False, "FALSE": False}
_WHOLE = re.compile(r"[-+]?(0|[1-9][0-9]{0,17})")  # with a zero in front it is text, and told as such

_Loader: type = getattr(yaml, "CBaseLoader", yaml.BaseLoader)


def read_text(path: Path) -> str:
    """The text of a file. Raises BadInput when it is no text file of a sensible size."""
    try:
        raw = read_regular(path, MOST_BYTES).removeprefix(BOM_UTF8)
    except OSError as error:
        raise bad_file(path, not_readable(error)) from None
    try:
        return raw.decode("utf-8")
    except UnicodeDecodeError as error:
        line = raw.count(b"\n", 0, error.start) + 1
        message = f"found byte 0x{raw[error.start]:02x}, which is no text; expected a file that is saved as UTF-8 text"
        raise bad_file(path, message, line) from None


class _Node(Struct):
    """A value, its line, the lines of its parts by key or number, those of them that have parts themselves, and how
    many parts and characters it has once its aliases are written out."""

    line: int
    data: Any
    lines: Mapping[str | int, int] = MappingProxyType({})
    below: Mapping[str | int, "_Node"] = MappingProxyType({})
    parts: int = 1
    characters: int = 0


class _Branch(_Node):
    """A mapping or a list that is being read; ``key`` is what has no value yet, with its line."""

    lines: dict[str | int, int]
    below: dict[str | int, _Node]
    key: tuple[str, int] | None = None
    open: bool = True


_NOTHING = _Node(0, None)


class YamlTree:
    """One YAML document: its data, and the line of every place in it."""

    def __init__(self, file: str, text: str) -> None:
        self.file = file
        self._anchors: dict[str, _Node] = {}
        self._root = self._built(self._events(text))
        self.data = self._root.data

    def line(self, place: SitePath) -> int:
        """The line, from 1, of a place, or of the nearest thing around it that is written."""
        node, line = self._root, self._root.line
        for part in place:
            if part not in node.lines:
                break
            line, node = node.lines[part], node.below.get(part, _NOTHING)
        return line

    def _bad(self, line: int, message: str) -> BadInput:
        return bad_file(self.file, message, line)

    def _events(self, text: str) -> Iterable[Event]:
        loader = None
        try:
            loader = _Loader(text)
            yield from iter(loader.get_event, None)
        except yaml.MarkedYAMLError as error:
            mark = error.problem_mark or error.context_mark
            line = mark.line + 1 if mark else 1
            raise self._bad(line, _not_yaml(error, text, line)) from None
        except yaml.reader.ReaderError as error:
            line = text.count("\n", 0, error.position) + 1
            raise self._bad(line, "found a control character that YAML does not allow; expected a text file") from None
        finally:
            if loader is not None:
                loader.dispose()

    def _built(self, events: Iterable[Event]) -> _Node:
        root: _Node | None = None
        stack: list[_Branch] = []
        for event in events:
            if isinstance(event, ScalarEvent):
                # quoted or a block: text, whatever it looks like
                data = event.value if event.style else _scalar_value(event.value)
                line = event.start_mark.line + 1  # type: ignore[union-attr]
                if event.anchor is not None:
                    self._anchors[event.anchor] = _Node(line, data, characters=len(event.value))
                if stack:
                    stack[-1].characters += len(event.value)
                    self._hang(stack[-1], line, data)
                else:
                    root = _Node(line, data)
                continue
            if isinstance(event, CollectionStartEvent):
                stack.append(self._opened(event, len(stack)))
                continue
            if isinstance(event, CollectionEndEvent):
                node: _Node = self._closed(stack.pop())
            elif isinstance(event, AliasEvent):
                node = self._meant(event)
            elif isinstance(event, DocumentStartEvent) and root is not None:
                raise self._bad(_line_of(event), "found a second document; expected one")
            else:
                continue
            if stack:
                stack[-1].characters += node.characters
                if stack[-1].characters > MOST_CHARACTERS:
                    message = (
                        f"found more characters than {MOST_CHARACTERS} once aliases are written out; expected fewer"
                    )
                    raise self._bad(node.line, message)
                self._hang(stack[-1], node.line, node.data, node)
            else:
                root = node
        if root is None or root.data is None:
            raise self._bad(1, "found nothing; expected a site file, which starts with: lantern: 1")
        return root

    def _closed(self, node: _Branch) -> _Node:
        node.parts, node.open = node.parts + len(node.lines), False
        return node

    def _opened(self, event: CollectionStartEvent, depth: int) -> _Branch:
        node = _Branch(_line_of(event), {} if isinstance(event, MappingStartEvent) else [], lines={}, below={})
        if event.anchor is not None:
            self._anchors[event.anchor] = node
        if depth >= MOST_DEPTH:
            raise self._bad(node.line, TOO_DEEP)
        return node

    def _meant(self, event: AliasEvent) -> _Node:
        line = _line_of(event)
        meant = self._anchors.get(str(event.anchor))
        if meant is None:
            raise self._bad(line, f"found *{event.anchor}; expected an &{event.anchor} before it")
        if isinstance(meant, _Branch) and meant.open:
            raise self._bad(line, f"found *{event.anchor} inside of what it repeats; expected it outside")
        return _Node(line, meant.data, meant.lines, meant.below, meant.parts, meant.characters)

    def _hang(self, parent: _Branch, line: int, data: Any, node: _Node | None = None) -> None:
        """Put what is finished where it belongs; only what has parts is a node of its own."""
        name: str | int
        if parent.key is not None:
            name, at = parent.key
            parent.data[name] = data
            parent.key = None
        elif isinstance(parent.data, list):
            name, at = len(parent.data), line
            parent.data.append(data)
        else:
            parent.key = self._as_key(parent, line, data), line
            return
        parent.lines[name] = at
        if node is not None and node.lines:
            parent.below[name] = node
            parent.parts += node.parts
            if parent.parts > MOST_PARTS:
                raise self._bad(
                    line, f"found more parts than {MOST_PARTS} once aliases are written out; expected fewer"
                )

    def _as_key(self, mapping: _Branch, line: int, key: Any) -> str:
        if isinstance(key, (dict, list)):
            raise self._bad(line, "found a list or a mapping as a key; expected one word")
        name = str(key)
        if name in mapping.lines:
            first = mapping.lines[name]
            raise self._bad(line, f"found “{name}” a second time (first in line {first}); expected it once")
        return name


def _line_of(event: Event) -> int:
    return event.start_mark.line + 1 if event.start_mark else 1


@lru_cache(maxsize=1024)  # the same few keys and words stand in each line of a long list
def _scalar_value(value: str) -> object:
    if value in _WORDS:
        return _WORDS[value]
    return int(value) if _WHOLE.fullmatch(value) else value


def _not_yaml(error: yaml.MarkedYAMLError, text: str, line: int) -> str:
    lines = text.splitlines()
    written = lines[line - 1] if line <= len(lines) else ""
    if "\t" in written[: len(written) - len(written.lstrip())]:
        return "found a tab in front; expected spaces"
    if "depth" in str(error.problem):  # the parser has a limit of its own, and words of its own for it
        return TOO_DEEP
    if "mapping values are not allowed" in str(error.problem):
        return _second_colon(written)
    if "alias" in str(error.context) and re.search(r":\s*\*", written):
        return "found a *; expected a value (for all ports 1-65535, or no key)"
    problem = (error.problem or "cannot be understood").replace("did not find expected", "missing")
    around = f" {error.context}" if error.context else ""
    return (
        f"found no YAML{around}, {problem}; expected other indentation, quotes or brackets, here or in the line before"
    )


def _second_colon(line: str) -> str:
    """A second colon in a line, which YAML takes for a second key."""
    key, _, value = line.partition(": ")
    if ": " in value:
        quoted = f'{key.strip()[:40]}: "{value.strip()[:60]}"'
        return f"found a second colon in the line; expected quotes around the value: {quoted}"
    return "found a key where none can be; expected other indentation, of it or of the line before"
