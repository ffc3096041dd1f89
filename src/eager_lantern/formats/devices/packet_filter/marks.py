"""Marks that rules write on packets and on connections, and what other rules and the choice of a way may find of them
(public interface of libnftables, its JSON).

Theory: marks without a run
===========================
A mark is a number that a rule leaves for later rules, in other chains too. A packet begins with 0, and so does a
connection. What all rules together can make of that is a small set of pairs: each writing is done on each pair until
no new one appears. A question about marks that no pair answers with yes is never met, one that all answer so always
is. Of others it is in doubt, and for no more than the connections that come by a rule which writes what is asked for.

>>> written = Writing("packet", {"|": [PACKET_MARK, 0x2000]}, [EVERYTHING], "prerouting")
>>> marks = Marks.of([written])
>>> sorted(marks.pairs)
[(0, 0), (8192, 0)]
>>> marks.answer(lambda packet, connection: packet & 0x100 == 0x100)
False
>>> marks.answer(lambda packet, connection: packet == 0x2000) is None
True
>>> [mark for _, mark in marks.left_at(BEFORE_ROUTING)]
[8192]
"""

import operator
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any, Literal

from msgspec import Struct
from msgspec.structs import replace

from .boxes import EVERYTHING, Box

PACKET_MARK, CONNECTION_MARK = {"meta": {"key": "mark"}}, {"ct": {"key": "mark"}}
"""The marks of a packet and of its connection, as a rule asks for them."""
MOST_PAIRS = 256
"""Pairs of marks that are looked at; of a rule set with more nothing is known of marks."""
_OPERATORS: dict[str, Callable[[int, int], int]] = {
    "|": operator.or_, "&": operator.and_, "^": operator.xor, "<<": lambda value, by: value << min(by, 32),
    ">>": lambda value, by: value >> min(by, 32),
}  # fmt: skip
_WHOLE = 0xFFFF_FFFF
"""Marks have 32 bits."""

BEFORE_ROUTING = ("ingress", "prerouting")
"""Where a packet is before its way is chosen; at the second its destination is rewritten."""

Pair = tuple[int, int]
"""The mark of a packet, and that of its connection."""


class Unsayable(ValueError):
    """What a site has no words for, in the filter's own words."""


class Writing(Struct, frozen=True):
    """A mark that a rule writes, as a value or what it makes of the marks before, for which connections, and where the
    rule stands: its ``hook``, its line (0 where that is unknown) and its chain."""

    of: Literal["packet", "connection"]
    value: Any
    boxes: Sequence[Box]
    hook: str = ""
    line: int = 0
    where: str = ""


class Marks(Struct, frozen=True):
    """What rules write, and all pairs of marks that come of it; none where they are too many or not understood.
    ``rewrites`` is whether destinations are rewritten, behind those that write before."""

    writings: Sequence[Writing]
    pairs: frozenset[Pair]
    rewrites: bool = False

    @classmethod
    def of(cls, writings: Sequence[Writing], rewrites: bool = False) -> "Marks":
        """All marks that some writings come to."""
        pairs: frozenset[Pair] = frozenset(((0, 0),))
        while True:
            try:
                grown = pairs | {_after(each, pair) for each in writings for pair in pairs}
            except Unsayable:
                return cls(writings, frozenset(), rewrites)
            grown |= {(0, connection) for _, connection in grown}  # the next packet of the connection
            if grown == pairs or len(grown) > MOST_PAIRS:
                return cls(writings, pairs if grown == pairs else frozenset(), rewrites)
            pairs = grown

    def answer(self, asks: Callable[[int, int], bool]) -> bool | None:
        """Whether every pair answers a question with yes, or with no; None where it differs or is unknown."""
        answers = {asks(*pair) for pair in self.pairs}
        return answers.pop() if len(answers) == 1 else None

    def met_by(self, asks: Callable[[int, int], bool]) -> list[Box] | None:
        """The connections of which alone the answer may be yes: those of the rules that write it last, of which those
        before the rewriting of destinations are told by their senders alone; None where it may be any."""
        if not self.pairs or asks(0, 0):
            return None
        return [
            replace(box, targets=EVERYTHING.targets, ports=EVERYTHING.ports) if self._sees_before(each) else box
            for each in self.writings
            if any(asks(*_after(each, pair)) for pair in self.pairs)
            for box in each.boxes
        ]

    def left_at(self, hooks: Sequence[str]) -> Iterator[tuple[Writing, int | None]]:
        """The rules at some hooks that write marks of packets, each with all marks that a packet may have behind it
        but 0, which it has without a rule; None where these are unknown."""
        for each in self.writings:
            if each.of == "packet" and each.hook in hooks and each.boxes:
                found = {_after(each, pair)[0] for pair in self.pairs} - {0}
                yield from ((each, mark) for mark in (sorted(found) if self.pairs else (None,)))

    def _sees_before(self, writing: Writing) -> bool:
        return self.rewrites and writing.hook in BEFORE_ROUTING


def _after(writing: Writing, pair: Pair) -> Pair:
    value = mark_of(writing.value, *pair)
    return (value, pair[1]) if writing.of == "packet" else (pair[0], value)


def mark_of(expression: Any, packet: int, connection: int) -> int:
    """What an expression over marks comes to. Raises Unsayable for what is none."""
    if isinstance(expression, int):
        return expression & _WHOLE
    if expression == PACKET_MARK:
        return packet
    if expression == CONNECTION_MARK:
        return connection
    if isinstance(expression, dict) and len(expression) == 1:
        ((word, parts),) = expression.items()
        if word in _OPERATORS and isinstance(parts, list) and len(parts) >= 2:
            values = [mark_of(each, packet, connection) for each in parts]
            found = values[0]
            for each in values[1:]:
                found = _OPERATORS[word](found, each) & _WHOLE
            return found
    raise Unsayable(f"mark {expression}")


def asks_for_marks(left: Any) -> bool:
    """Whether what is asked for is a mark, or some of its bits."""
    if left in (PACKET_MARK, CONNECTION_MARK):
        return True
    parts: Iterable[Any] = next(iter(left.values()), ()) if isinstance(left, dict) and len(left) == 1 else ()
    return isinstance(parts, list) and any(asks_for_marks(each) for each in parts)
