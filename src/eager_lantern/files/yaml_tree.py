"""YAML read as a tree that remembers where everything stands.

The composer is libyaml's where the platform has it (about twenty times as fast as the
pure one). Scalars are read by the core schema of YAML 1.2: ``true`` and ``false`` are the
only truth values and ``no`` is a word.
"""

import re
from pathlib import Path

import yaml
from yaml.nodes import MappingNode, Node, ScalarNode

from ..core.place import Place
from .problem import BadInput, InputProblem

MOST_BYTES = 32_000_000
MOST_DEPTH = 40
MOST_REPEATS = 10_000
_WORDS = {"": None, "~": None, "null": None, "Null": None, "NULL": None, "true": True, "True": True, "TRUE": True}
_WORDS |= {"false": False, "False": False, "FALSE": False}
_WHOLE = re.compile(r"[-+]?[0-9]{1,18}")

_Loader: type = getattr(yaml, "CBaseLoader", yaml.BaseLoader)


def read_text(path: Path) -> str:
    """The text of a file. Raises BadInput when it is no text file of a sensible size."""
    try:
        size = path.stat().st_size
        if path.is_dir():
            raise BadInput(str(path), InputProblem(0, "is a folder; name a site file in it"))
        if size > MOST_BYTES:
            limit = f"a site file has at most {MOST_BYTES // 1_000_000} MB"
            raise BadInput(str(path), InputProblem(0, f"has {size / 1e6:.0f} MB; {limit}"))
        raw = path.read_bytes()
    except OSError as error:
        raise BadInput(str(path), InputProblem(0, f"cannot be read: {_why(error)}")) from None
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = raw.count(b"\n", 0, error.start) + 1
        message = f"is not text: byte 0x{raw[error.start]:02x} is no UTF-8; save the file as UTF-8 text"
        raise BadInput(str(path), InputProblem(line, message)) from None


def _why(error: OSError) -> str:
    return {2: "there is no such file", 13: "permission denied"}.get(error.errno or 0, str(error.strerror))


class YamlTree:
    """One YAML document: its data, and the line of every place in it."""

    def __init__(self, file: str, text: str) -> None:
        self.file = file
        root = self._composed(text)
        if root is None:
            raise BadInput(file, InputProblem(1, "is empty; a site file starts with: lantern: 1"))
        self._root = root
        self._met: set[int] = set()
        self._repeats = 0
        self.data = self._value(root, 0)

    def _composed(self, text: str) -> Node | None:
        try:
            return yaml.compose(text, Loader=_Loader)  # type: ignore[no-any-return]
        except yaml.MarkedYAMLError as error:
            mark = error.problem_mark or error.context_mark
            line = mark.line + 1 if mark else 1
            raise BadInput(self.file, InputProblem(line, _not_yaml(error, text, line))) from None
        except yaml.reader.ReaderError as error:
            line = text.count("\n", 0, error.position) + 1
            message = "has a control character that YAML does not allow; is this a text file?"
            raise BadInput(self.file, InputProblem(line, message)) from None
        except RecursionError:
            raise self._too_deep(1) from None

    def _too_deep(self, line: int) -> BadInput:
        return BadInput(self.file, InputProblem(line, f"is nested deeper than {MOST_DEPTH} levels; a site never is"))

    def _value(self, node: Node, depth: int) -> object:
        if isinstance(node, ScalarNode):
            return _scalar(node)
        line = node.start_mark.line + 1
        if depth > MOST_DEPTH:
            raise self._too_deep(line)
        self._repeats += id(node) in self._met
        self._met.add(id(node))
        if self._repeats > MOST_REPEATS:
            raise BadInput(
                self.file, InputProblem(line, f"aliases repeat more than {MOST_REPEATS} parts; write them out")
            )
        if isinstance(node, MappingNode):
            return self._mapping(node, depth)
        return [self._value(item, depth + 1) for item in node.value]

    def _mapping(self, node: MappingNode, depth: int) -> dict[str, object]:
        lines: dict[str, int] = {}
        data: dict[str, object] = {}
        for key, value in node.value:
            line = key.start_mark.line + 1
            if not isinstance(key, ScalarNode):
                raise BadInput(self.file, InputProblem(line, "a key is one word here, found a list or a mapping"))
            name = str(key.value)
            if name in lines:
                message = f"“{name}” stands here a second time (first in line {lines[name]}); keep one"
                raise BadInput(self.file, InputProblem(line, message))
            lines[name] = line
            data[name] = self._value(value, depth + 1)
        return data

    def line(self, place: Place) -> int:
        """The line, from 1, of a place, or of the nearest thing around it that is written."""
        node, line = self._root, self._root.start_mark.line + 1
        for part in place:
            found = _below(node, part)
            if found is None:
                break
            line, node = found
        return line


def _below(node: Node, part: str | int) -> tuple[int, Node] | None:
    """The line and the node of one key or index."""
    if isinstance(node, MappingNode):
        return next(((key.start_mark.line + 1, value) for key, value in node.value if key.value == part), None)
    if isinstance(part, int) and not isinstance(node, ScalarNode) and part < len(node.value):
        return node.value[part].start_mark.line + 1, node.value[part]
    return None


def _scalar(node: ScalarNode) -> object:
    if node.style:  # quoted or a block: text, whatever it looks like
        return node.value
    if node.value in _WORDS:
        return _WORDS[node.value]
    return int(node.value) if _WHOLE.fullmatch(node.value) else node.value


def _not_yaml(error: yaml.MarkedYAMLError, text: str, line: int) -> str:
    lines = text.splitlines()
    written = lines[line - 1] if line <= len(lines) else ""
    if "\t" in written[: len(written) - len(written.lstrip())]:
        return "is indented with a tab; YAML is indented with spaces"
    problem = (error.problem or "cannot be understood").replace("did not find expected", "missing")
    around = f" {error.context}" if error.context else ""
    return f"is not YAML{around}: {problem}; check indentation, quotes and brackets here and in the line before"
