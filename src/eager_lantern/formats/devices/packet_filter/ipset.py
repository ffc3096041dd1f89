"""Sets of addresses and ports beside the kernel's older filter, as ``ipset save`` prints them (public interface of
ipset)."""

import re
from collections.abc import Mapping, Sequence
from typing import Any

from msgspec import Struct

from ...reading import bad_file
from .marks import Unsayable

_CREATE = re.compile(r"create \S+ (?:hash|bitmap|list):[a-z,]+( |\Z)")
_FAMILIES = {"inet": "ip", "inet6": "ip6"}
_ADDRESSES = ("ip", "net")


class KernelSet(Struct, frozen=True):
    """One set: the family of its addresses, empty where it has none, what each of its elements states, the elements,
    and whether they leave by themselves."""

    family: str
    fields: tuple[str, ...]
    elements: tuple[tuple[str, ...], ...]
    fades: bool = False
    is_understood: bool = True

    def match(self, family: str, ends: Sequence[str]) -> tuple[Any, list[Any]]:
        """What asks whether ends of a connection (``src``, ``dst``, one for each field) are in it, as left and right
        side of a match of the newer filter. Raises Unsayable."""
        if not self.is_understood or len(ends) < len(self.fields):
            raise Unsayable(f"by {','.join(ends)}")
        if self.family not in ("", family):
            return {"meta": {"key": "nfproto"}}, []
        left: list[Any] = []
        for field, end in zip(self.fields, ends, strict=False):
            letter = {"src": "s", "dst": "d"}[end]
            if field in _ADDRESSES:
                left.append({"payload": {"protocol": family, "field": f"{letter}addr"}})
            else:
                left += [{"meta": {"key": "l4proto"}}] if len(self.fields) > 1 else []
                left.append({"payload": {"protocol": "th", "field": f"{letter}port"}})
        found = [[value for part, field in zip(each, self.fields, strict=True) for value in self._values(part, field)]
                 for each in self.elements]  # fmt: skip
        return (
            ({"concat": left}, [{"concat": each} for each in found])
            if len(left) > 1
            else (left[0], [each[0] for each in found])
        )

    def _values(self, part: str, field: str) -> list[Any]:
        """``10.61.4.0/24``, ``tcp:21``, ``21-23`` in the words of the newer filter."""
        if field in _ADDRESSES:
            address, _, length = part.partition("/")
            if "-" in part:
                return [{"range": part.split("-", 1)}]
            return [{"prefix": {"addr": address, "len": int(length)}} if length else address]
        protocol, _, ports = part.rpartition(":")
        low, _, high = ports.partition("-")
        port = {"range": [int(low), int(high)]} if high else int(low)
        return [protocol, port] if len(self.fields) > 1 else [port]


def is_ipset(text: str) -> bool:
    """Whether a text is what the command prints."""
    return _CREATE.match(text.lstrip()) is not None


def sets_of(texts: Mapping[str, str]) -> dict[str, KernelSet]:
    """All sets of some files, by name. Raises BadInput."""
    found: dict[str, KernelSet] = {}
    for file, text in texts.items():
        for number, line in enumerate(text.splitlines(), start=1):
            words = line.split()
            if words[:1] == ["create"] and len(words) >= 3:
                found[words[1]] = _created(words)
            elif words[:1] == ["add"] and len(words) >= 3 and words[1] in found:
                found[words[1]] = _with(found[words[1]], words[2], words[3:])
            elif words and not line.startswith("#"):
                raise bad_file(file, f"found “{line[:60]}”; expected a line as ipset save prints it", number)
    return found


def _created(words: Sequence[str]) -> KernelSet:
    fields = tuple(words[2].partition(":")[2].split(","))
    family = _FAMILIES.get(words[words.index("family") + 1], "") if "family" in words[:-1] else "ip"
    has_addresses = bool(set(fields) & set(_ADDRESSES))
    return KernelSet(
        family if has_addresses else "", fields, (), "timeout" in words, set(fields) <= {*_ADDRESSES, "port"}
    )


def _with(before: KernelSet, element: str, options: Sequence[str]) -> KernelSet:
    parts = tuple(element.split(","))
    other = any(
        field == "port" and ":" in part and part.split(":")[0] not in ("tcp", "udp")
        for part, field in zip(parts, before.fields, strict=False)
    )
    if other:
        return before  # of neither transport
    plain = len(parts) == len(before.fields) and "nomatch" not in options
    return KernelSet(
        before.family, before.fields, (*before.elements, parts) if plain else before.elements, before.fades,
        before.is_understood and plain,
    )  # fmt: skip
