"""Exact sets of whole numbers, kept as ascending, disjoint, closed intervals.

One algebra serves ports and addresses. A set is normal when no two of its intervals
overlap or touch, so that equal sets compare equal and print alike. Every operation is
linear in the number of intervals.
"""

from collections.abc import Iterable, Iterator
from typing import Self

from .text_value import Value

Span = tuple[int, int]
MOST_REMEMBERED = 32_768
"""Texts whose meaning is remembered: a file is read more than once, and rules repeat."""


def _normal(spans: Iterable[Span]) -> Iterator[Span]:
    """Join ascending spans that overlap or touch."""
    current: Span | None = None
    for low, high in spans:
        if current is None:
            current = (low, high)
        elif low <= current[1] + 1:
            current = (current[0], max(current[1], high))
        else:
            yield current
            current = (low, high)
    if current is not None:
        yield current


class IntervalSet(Value):
    """A set of integers. Build with :meth:`of`; ``spans`` is always in normal form."""

    __slots__ = ("spans",)

    def __init__(self, spans: tuple[Span, ...] = ()) -> None:
        self.spans = spans

    @classmethod
    def of(cls, *spans: Span) -> Self:
        """The set of all numbers from ``low`` to ``high`` (both included) of each span.

        Raises ValueError for a span that ends before it starts.
        """
        for low, high in spans:
            if high < low:
                raise ValueError(f"found {low}-{high}, which ends before it starts; expected the lower end first")
        return cls(spans if len(spans) == 1 else tuple(_normal(sorted(spans))))

    def __or__(self, other: Self) -> Self:
        return type(self)(tuple(_normal(sorted((*self.spans, *other.spans)))))

    def __and__(self, other: Self) -> Self:
        if self.spans == other.spans:
            return self
        if len(self.spans) == 1 == len(other.spans):
            ((low, high),), ((first, last),) = self.spans, other.spans
            low, high = max(low, first), min(high, last)
            return type(self)(((low, high),) if low <= high else ())
        return type(self)(tuple(self._common(other)))

    def __sub__(self, other: Self) -> Self:
        if not other.spans:
            return self
        return type(self)(tuple(self._without(other)))

    def __contains__(self, number: int) -> bool:
        for low, high in self.spans:  # noqa: SIM110  (asked most often of all, and any() is slower)
            if low <= number <= high:
                return True
        return False

    def __bool__(self) -> bool:
        return bool(self.spans)

    def __len__(self) -> int:
        return sum(high - low + 1 for low, high in self.spans)

    def __eq__(self, other: object) -> bool:
        return type(other) is type(self) and self.spans == getattr(other, "spans", None)

    def __hash__(self) -> int:
        return hash(self.spans)

    def __le__(self, other: Self) -> bool:
        if len(other.spans) == 1 and self.spans:
            return other.lowest <= self.lowest and self.highest <= other.highest
        return not self - other

    def __iter__(self) -> Iterator[int]:
        for low, high in self.spans:
            yield from range(low, high + 1)

    @property
    def lowest(self) -> int:
        """The smallest member. Raises IndexError for the empty set."""
        return self.spans[0][0]

    @property
    def highest(self) -> int:
        """The largest member. Raises IndexError for the empty set."""
        return self.spans[-1][1]

    def _common(self, other: Self) -> Iterator[Span]:
        mine, theirs = iter(self.spans), iter(other.spans)
        a, b = next(mine, None), next(theirs, None)
        while a and b:
            low, high = max(a[0], b[0]), min(a[1], b[1])
            if low <= high:
                yield low, high
            if a[1] < b[1]:
                a = next(mine, None)
            else:
                b = next(theirs, None)

    def _without(self, other: Self) -> Iterator[Span]:
        cuts = other.spans
        first = 0
        for span_low, high in self.spans:
            low = span_low
            while first < len(cuts) and cuts[first][1] < low:
                first += 1
            index = first
            while index < len(cuts) and cuts[index][0] <= high:
                if low < cuts[index][0]:
                    yield low, cuts[index][0] - 1
                low = cuts[index][1] + 1
                index += 1
            if low <= high:
                yield low, high
