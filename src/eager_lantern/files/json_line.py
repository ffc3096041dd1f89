"""Where in a JSON text a decoder stumbled, from what it says of that (public interface of msgspec: its messages)."""

import contextlib
import re

from .problem import BadInput
from .yaml_tree import YamlTree

_BYTE = re.compile(r"\(byte ([0-9]{1,9})\)")
_PLACE = re.compile(r"at `\$([^`]{0,400})`")
_PART = re.compile(r"\.([A-Za-z_]\w{0,80})|\[([0-9]{1,7})\]")


def json_line(text: str, error: Exception) -> int:
    """The line, from 1, of the text that an error is about; 0 where that is not told."""
    said = str(error)
    if byte := _BYTE.search(said):
        return text.encode("utf-8", "surrogatepass")[: int(byte[1])].count(b"\n") + 1
    if "truncated" in said:
        return text.count("\n") + 1
    if place := _PLACE.search(said):
        parts = tuple(each[1] or int(each[2]) for each in _PART.finditer(place[1]))
        with contextlib.suppress(BadInput):  # JSON is YAML (YAML 1.2, section 1.3), whose reader keeps lines
            return YamlTree("", text).line(parts)
    return 0
