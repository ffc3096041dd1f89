"""Quantities with their unit, as the site file writes them: ``15 min``, ``6 MB``, ``20 Mbit/s``."""

import re
from typing import ClassVar, Self

from .text_value import Value, bounded


class Quantity(Value):
    """An amount in the base unit of its kind."""

    __slots__ = ("amount",)
    units: ClassVar[dict[str, float]] = {}
    example: ClassVar[str] = ""

    def __init__(self, amount: float) -> None:
        self.amount = amount

    @classmethod
    def parse(cls, text: str) -> Self:
        """Read a number and its unit. Raises ValueError that names the units there are."""
        match = re.fullmatch(r"\s*([0-9]{1,12}(?:\.[0-9]{1,6})?)\s*([A-Za-z/]+)\s*", bounded(text))
        if not match or match[2] not in cls.units:
            known = ", ".join(cls.units)
            raise ValueError(
                f"found “{text.strip()[:40]}”; expected a number and a unit ({known}), as in {cls.example}"
            )
        return cls(float(match[1]) * cls.units[match[2]])

    def __str__(self) -> str:
        fitting = [name for name, factor in self.units.items() if self.amount >= factor] or [next(iter(self.units))]
        short = [name for name in fitting if float(f"{self._in(name):.4g}") == self._in(name)]
        unit = (short or fitting)[-1]
        return f"{self._in(unit):g} {unit}"

    def _in(self, unit: str) -> float:
        return self.amount / self.units[unit]


class Duration(Quantity):
    """A time in seconds."""

    __slots__ = ()
    units = {"s": 1, "min": 60, "h": 3600, "d": 86400}
    example = "90 s, 15 min or 2 h"


class Size(Quantity):
    """An amount of data in bytes."""

    __slots__ = ()
    units = {"B": 1, "kB": 1e3, "MB": 1e6, "GB": 1e9, "TB": 1e12}
    example = "40 MB"


class Rate(Quantity):
    """A data rate in bits per second."""

    __slots__ = ()
    units = {"bit/s": 1, "kbit/s": 1e3, "Mbit/s": 1e6, "Gbit/s": 1e9}
    example = "20 Mbit/s"


class Chance(Value):
    """A probability."""

    __slots__ = ("share",)

    def __init__(self, share: float) -> None:
        self.share = share

    @classmethod
    def parse(cls, text: str) -> Self:
        """Read ``0.1 %``, ``0.001`` or ``1 in 1000``. Raises ValueError, also outside of 0 to 1."""
        match = re.fullmatch(r"([0-9]{1,9}(?:\.[0-9]{1,12})?)\s*(?:(%)|in\s+([0-9]{1,12}))?", bounded(text).strip())
        if not match or match[3] == "0":
            raise ValueError(f"found “{text.strip()[:40]}”; expected a chance, as in 0.1 %, 0.001 or 1 in 1000")
        share = float(match[1]) / (100 if match[2] else int(match[3] or 1))
        if not 0 < share < 1:
            raise ValueError(f"found “{text.strip()[:40]}”; expected a chance between 0 and 1, as in 0.1 %")
        return cls(share)

    def __str__(self) -> str:
        return percent(self.share)


def percent(share: float) -> str:
    """A share with the digits that count: ``32.7 %``, ``0.15 %``."""
    shown = share * 100
    if shown and shown < 0.0001:
        return "< 0.0001 %"
    return f"{shown:.2g} %" if shown < 1 else f"{shown:.3g} %"
