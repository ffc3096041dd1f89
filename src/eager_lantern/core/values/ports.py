"""Sets of TCP or UDP ports, in the site file's own syntax both ways: ``20-21, 990``."""

import re
from functools import lru_cache
from typing import Self

from .intervals import MOST_REMEMBERED, IntervalSet, Span
from .text_value import LONGEST_MANY, bounded

LOWEST_PORT, HIGHEST_PORT = 1, 65535


SYNTAX = "21, 61200-61455 or 20-21, 990"


def port_number(text: str, example: str = SYNTAX) -> int:
    """A port from its digits. Raises ValueError with the likely slip named, and what to write."""
    digits = bounded(text).strip()
    if not re.fullmatch(r"0|[1-9][0-9]*", digits):
        raise ValueError(_slip(digits, example))
    # A number of thousands of digits is not converted: its length alone rules it out.
    if len(digits) > 9 or not LOWEST_PORT <= int(digits) <= HIGHEST_PORT:
        raise ValueError(f"found {digits[:24]}, which is no port; expected {LOWEST_PORT} to {HIGHEST_PORT}")
    return int(digits)


def _slip(text: str, example: str) -> str:
    """What is probably wrong with something that should have been a port or a range."""
    if not text:
        return f"found nothing before or after a comma; expected a port there, as in {example}"
    if re.fullmatch(r"0[0-9]+", text):
        return f"found “{text[:24]}” with a zero in front; expected {text.lstrip('0')[:24] or '1'}"
    if re.fullmatch(r"[0-9]+/(tcp|udp)", text, re.IGNORECASE):
        port, transport = text.split("/")
        return f"found “{text[:24]}”; expected a port alone (ports: {port[:12]}), and protocol: {transport.lower()}"
    if text.lower() in ("*", "any", "all", "every"):
        return f"found “{text}”; expected 1-65535, or no key ports, for all of them"
    if re.fullmatch(r"[0-9]{1,5}\s*(to|bis|through|until)\s*[0-9]{1,5}", text, re.IGNORECASE):
        return f"found “{text}”; expected a range with a hyphen: {'-'.join(re.findall('[0-9]+', text))}"
    if re.fullmatch(r"[0-9]*[oO][0-9oO]*", text):
        return f"found “{text}” with a letter O; expected digits alone: {re.sub('[oO]', '0', text)}?"
    if re.fullmatch(r"[0-9]*[lI|][0-9lI|]*", text):
        return f"found “{text}” with a letter for a one; expected digits alone: {re.sub('[lI|]', '1', text)}?"
    if re.fullmatch(r"[0-9]+([:–—/~]|\.\.+)[0-9]+", text):
        low, high = re.findall(r"[0-9]+", text)
        return f"found “{text}”; expected a range with a plain hyphen: {low}-{high}"
    if re.fullmatch(r"[0-9]{1,3}(\.[0-9]{3})+", text):
        return f"found “{text}” with a point in it; expected digits alone: {text.replace('.', '')}?"
    if re.fullmatch(r"-[0-9]+", text):
        return f"found {text}, which is no port; expected {LOWEST_PORT} to {HIGHEST_PORT}"
    return f"found “{text[:40]}”, which is no port; expected {example}"


@lru_cache(maxsize=MOST_REMEMBERED)
def _spans(text: str) -> tuple[Span, ...]:
    parts = bounded(text, LONGEST_MANY).split(",")
    return IntervalSet.of(*map(_span, parts)).spans if text.strip() else ()


def _span(part: str) -> tuple[int, int]:
    match = re.fullmatch(r"\s*([^-\s]+)\s*-\s*([^-\s]+)\s*", bounded(part))
    if not match:
        return (number := port_number(part)), number
    low, high = port_number(match[1]), port_number(match[2])
    if high < low:
        raise ValueError(
            f"found {low}-{high}, which ends before it starts; expected {_likely_range(match[1], match[2])}"
        )
    return low, high


def _likely_range(low: str, high: str) -> str:
    if len(high) < len(low):
        return f"{low} or more: is a digit missing from {high}?"
    return f"{high}-{low}?"


class PortSet(IntervalSet):
    """An immutable set of ports with exact ``|``, ``&``, ``-``, ``in``, ``len`` and ``shift``."""

    __slots__ = ()

    @classmethod
    def parse(cls, text: str) -> Self:
        """Read ``21``, ``61200-61455`` or ``20-21, 990``; the empty text is the empty set.

        Raises ValueError that states which part is wrong and what would be right.
        """
        return cls(_spans(text))

    @classmethod
    def single(cls, port: int) -> Self:
        """The set of one port."""
        return cls.of((port, port))

    def shift(self, offset: int) -> Self:
        """Every port moved by ``offset``; what would leave 1 to 65535 is dropped."""
        if offset == 0:
            return self
        moved = ((low + offset, high + offset) for low, high in self.spans)
        return type(self)(
            tuple(
                (max(low, LOWEST_PORT), min(high, HIGHEST_PORT))
                for low, high in moved
                if low <= HIGHEST_PORT and high >= LOWEST_PORT
            )
        )

    def __str__(self) -> str:
        return ", ".join(str(low) if low == high else f"{low}-{high}" for low, high in self.spans)


NO_PORTS = PortSet()
EVERY_PORT = PortSet.of((LOWEST_PORT, HIGHEST_PORT))
UNPRIVILEGED = PortSet.of((1024, HIGHEST_PORT))
