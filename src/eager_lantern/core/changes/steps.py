"""What differs between two states of a site, cut into the edits that an administrator makes, and every state in
between.

Theory: a site between two sites
================================
An edit is one entry that comes, goes or changes (a forward, a rule), or one key that gets another value. Two sites are
laid over each other once: what they have in common, and at each place where they differ an edit with the old and the
new. With any set of these edits made there is a site in between; made one after the other they lead from the one to
the other, in any order, and where an edit stands does not depend on which others have been made.

Entries of lists that have a name are the same where their names are, others where they are equal, and rules and
forwards without a name also where only their ports differ. The order of rules
means something, so it is kept: what is moved is put where it comes to stand, and taken away where it stood, by two
edits.

>>> from eager_lantern.api import PortSet
>>> from eager_lantern.core.model.site import Filter, Rule
>>> ssh, web = (Rule(action="allow", ports=PortSet.parse(each)) for each in ("22", "443"))
>>> overlay = Overlay(Filter(default="deny", rules=(ssh,)), Filter(default="refuse", rules=(web, ssh)))
>>> [(each.path, each.entry) for each in overlay.edits]
[(('default',), False), (('rules',), True)]
>>> [str(each.ports) for each in overlay.between({1}).rules], overlay.between({1}).default
(['443', '22'], 'deny')
"""

from collections import Counter
from collections.abc import Collection, Iterator, Sequence
from difflib import SequenceMatcher
from typing import Any

from msgspec import Struct, to_builtins
from msgspec.structs import replace

from ..network.topology import Topology
from ..predict.access import Reached
from ..values.addresses import FAMILIES, AddressSet
from ..values.phrases import quoted
from ..values.text_value import SitePath


class Edit(Struct, frozen=True):
    """One entry or key that differs. ``old`` of None is what comes, ``new`` of None what goes; ``before`` and ``after``
    are the places of the two in their files, or of what they would stand in. ``path`` leads there with names for
    numbers: to a key, or to the list of which it is an ``entry``."""

    path: tuple[str, ...]
    entry: bool
    old: Any
    new: Any
    before: SitePath
    after: SitePath


class _Whole(Struct, frozen=True):
    """What both have, or an edit by its number."""

    value: Any
    edit: int = -1
    new: Any = None

    def made(self, done: Collection[int]) -> Any:
        return self.new if self.edit in done else self.value


class _Mapping(Struct, frozen=True):
    """A mapping of which some keys differ, or something in them does."""

    value: Any
    parts: dict[str, "_Node"]

    def made(self, done: Collection[int]) -> Any:
        return replace(self.value, **{name: part.made(done) for name, part in self.parts.items()})


class _List(Struct, frozen=True):
    """Entries of both in an order that fits either."""

    parts: tuple["_Node", ...]

    def made(self, done: Collection[int]) -> Any:
        made = [
            (part.new if part.edit in done else part.value) if type(part) is _Whole else part.made(done)
            for part in self.parts
        ]
        return tuple(each for each in made if each is not None)


_Node = _Whole | _Mapping | _List
Names = tuple[str, ...]


class Overlay:
    """Two values of one type laid over each other: their ``edits``, and what is ``between``."""

    def __init__(self, before: Any, after: Any) -> None:
        self.before, self.after = before, after
        self.edits: list[Edit] = []
        self._root = self._laid(before, after, (), (), ())

    def between(self, done: Collection[int]) -> Any:
        """The value with those of the edits made, by their numbers."""
        return self._root.made(done)

    def _edit(self, edit: Edit) -> _Whole:
        self.edits.append(edit)
        return _Whole(edit.old, len(self.edits) - 1, edit.new)

    def _laid(self, old: Any, new: Any, before: SitePath, after: SitePath, path: Names) -> _Node:
        if old == new:
            return _Whole(old)
        if isinstance(old, Struct) and type(old) is type(new):
            return self._mapping(old, new, before, after, path)
        if _are_lists(old, new):
            return self._list(old, new, before, after, path)
        return self._edit(Edit(path, False, old, new, before, after))

    def _mapping(self, old: Struct, new: Struct, before: SitePath, after: SitePath, path: Names) -> _Mapping:
        parts = {}
        for name, key in zip(old.__struct_fields__, old.__struct_encode_fields__, strict=True):
            a, b = getattr(old, name), getattr(new, name)
            if a != b:
                parts[name] = self._laid(a, b, (*before, key), (*after, key), (*path, key))
        return _Mapping(old, parts)

    def _list(self, old: Sequence[Any], new: Sequence[Any], before: SitePath, after: SitePath, path: Names) -> _List:
        parts: list[_Node] = []
        aligned = _aligned(_keys(old, new), _keys(new, old))
        for i, j in _with_changed_lines(aligned, old, new) if path[-1] in LINES else aligned:
            a, b = old[i] if i is not None else None, new[j] if j is not None else None
            at_before = (*before, i) if i is not None else before
            at_after = (*after, j) if j is not None else after
            if a == b:
                parts.append(_Whole(a))
            elif a is None or b is None or path[-1] in LINES:
                parts.append(self._edit(Edit(path, True, a, b, at_before, at_after)))
            else:
                parts.append(self._laid(a, b, at_before, at_after, (*path, a.name)))
        return _List(tuple(parts))


PLACES = ("networks", "gateways", "habits", "clients", "names")
"""Sections whose entries are where somebody makes an edit; all others are the server's."""
LINES = ("forwards", "rules", "folders")
"""Lists whose named entries are one line each, which is changed as a whole."""


def _are_lists(old: Any, new: Any) -> bool:
    """Whether these are lists of entries, one of which may be empty."""
    both = isinstance(old, tuple) and isinstance(new, tuple)
    return both and any(isinstance(each, Struct) for each in (*old, *new))


def _keys(entries: Sequence[Any], others: Sequence[Any]) -> list[Any]:
    """By what each entry is known in both lists: its name where that stands for one entry in each, else all of it."""
    names = [getattr(each, "name", "") for each in entries]
    ours, theirs = Counter(names), Counter(getattr(each, "name", "") for each in others)
    return [
        name if name and ours[name] == theirs[name] == 1 else each for name, each in zip(names, entries, strict=True)
    ]


def _aligned(ours: Sequence[Any], theirs: Sequence[Any]) -> Iterator[tuple[int | None, int | None]]:
    """Pairs of indexes, in an order that fits both; what comes stands before what goes at the same place."""
    head = _common_length(ours, theirs)
    tail = _common_length(ours[head:][::-1], theirs[head:][::-1])
    yield from ((each, each) for each in range(head))
    inner = ours[head : len(ours) - tail], theirs[head : len(theirs) - tail]
    yield from ((None if i is None else head + i, None if j is None else head + j) for i, j in _matched(*inner))
    yield from ((len(ours) - each, len(theirs) - each) for each in range(tail, 0, -1))


def _common_length(ours: Sequence[Any], theirs: Sequence[Any]) -> int:
    """How many are the same from the start."""
    pairs = zip(ours, theirs, strict=False)
    return next((at for at, (a, b) in enumerate(pairs) if a != b), min(len(ours), len(theirs)))


def _matched(ours: Sequence[Any], theirs: Sequence[Any]) -> Iterator[tuple[int | None, int | None]]:
    if not ours or not theirs:
        yield from ((None, each) for each in range(len(theirs)))
        yield from ((each, None) for each in range(len(ours)))
        return
    for tag, i, i_end, j, j_end in SequenceMatcher(None, ours, theirs, autojunk=False).get_opcodes():
        if tag == "equal":
            yield from zip(range(i, i_end), range(j, j_end), strict=True)
        else:
            yield from ((None, each) for each in range(j, j_end))
            yield from ((each, None) for each in range(i, i_end))


_Pair = tuple[int | None, int | None]


def _with_changed_lines(aligned: Iterator[_Pair], old: Sequence[Any], new: Sequence[Any]) -> Iterator[_Pair]:
    """The same pairs, and lines without a name that came where one went which has other ports and is like it else: that
    is the line, changed."""
    comes, goes = list[int](), list[int]()
    for i, j in aligned:
        if i is not None and j is not None:
            yield from _settled(comes, goes, old, new)
            comes, goes = [], []
            yield i, j
        else:
            comes += [j] if j is not None else []
            goes += [i] if i is not None else []
    yield from _settled(comes, goes, old, new)


def _settled(comes: list[int], goes: list[int], old: Sequence[Any], new: Sequence[Any]) -> Iterator[_Pair]:
    for i in goes.copy():
        j = next((j for j in comes if _has_other_ports(old[i], new[j])), None)
        if j is not None:
            yield from ((None, each) for each in comes if each < j)
            yield from ((each, None) for each in goes if each < i)
            yield i, j
            comes, goes = [each for each in comes if each > j], [each for each in goes if each > i]
    yield from ((None, each) for each in comes)
    yield from ((each, None) for each in goes)


def _has_other_ports(one: Any, other: Any) -> bool:
    """Whether two rules or forwards without a name are alike but for their ports."""
    same = [key for key in one.__struct_fields__ if key not in ("ports", "to_port")]
    is_line = "ports" in one.__struct_fields__ and not one.name
    return is_line and all(getattr(one, key) == getattr(other, key) for key in same)


FEW_OTHERS = 3
"""Spans of addresses that a text may exclude."""
_ONE = {
    "networks": "network", "gateways": "device", "services": "service", "groups": "group", "accounts": "account",
    "habits": "habits", "clients": "client", "names": "published name", "forwards": "forward", "rules": "rule",
    "pairs": "pair of addresses", "routes": "route", "folders": "folder", "promises": "promise",
}  # fmt: skip


def senders(topology: Topology, reached: Reached) -> str:
    """``anybody on internet``, or which addresses of it; a host by its name."""
    everybody = topology.everybody(reached.network)
    if not everybody:
        return reached.network
    if reached.sources in (everybody, everybody.of_family(4), everybody.of_family(6)):
        return f"anybody on {reached.network}"
    others = AddressSet()
    for family in FAMILIES:
        if reached.sources.of_family(family):
            others = others | (everybody - reached.sources).of_family(family)
    if len(others.spans) <= FEW_OTHERS < len(reached.sources.spans):
        return f"anybody on {reached.network} but {others}"
    return f"{reached.sources} on {reached.network}"


def edit_action(edit: Edit) -> str:
    """``change forward “data”: ports 61200-61327 → 61200-61455``."""
    path = edit.path[2:] if edit.path[0] in PLACES and len(edit.path) > 1 else edit.path
    if not edit.entry:
        return _key_text(".".join(path), edit.old, edit.new)
    *inside, section = path
    name = quoted(getattr(edit.old or edit.new, "name", "")).rstrip()
    what = " ".join(each for each in (_ONE[section], name, f"of {'.'.join(inside)}" if inside else "") if each)
    if edit.old is not None and edit.new is not None:
        return f"change {what}: {'; '.join(_changes(edit.old, edit.new))}"
    return f"add {what}: {as_words(edit.new)}" if edit.old is None else f"take out {what}: {as_words(edit.old)}"


def _key_text(key: str, old: Any, new: Any) -> str:
    if old is None:
        return f"set {key} to {as_words(new)}"
    return f"take out {key} ({as_words(old)})" if new is None else f"set {key} from {as_words(old)} to {as_words(new)}"


def _changes(old: Any, new: Any) -> list[str]:
    """The keys in which two entries differ; one that is left out has its default."""
    a, b = _builtins(old), _builtins(new)
    keys = [key for key in dict.fromkeys((*a, *b)) if a.get(key) != b.get(key)]
    return [f"{key} {_as_typed(a.get(key))} → {_as_typed(b.get(key))}" for key in keys]


def as_words(value: Any) -> str:
    """A value of the site file on one line."""
    return _as_typed(_builtins(value))


def _builtins(value: Any) -> Any:
    return to_builtins(value, enc_hook=str)


def _as_typed(value: Any) -> str:
    if isinstance(value, dict):
        return ", ".join(f"{key} {_as_typed(each)}" for key, each in value.items() if key != "name")
    if isinstance(value, (list, tuple)):
        return ", ".join(map(_as_typed, value)) or "nothing"
    if isinstance(value, bool):
        return "true" if value else "false"
    return "its default" if value is None else str(value)
