"""Quantities with their unit, as the site file writes them: ``15 min``, ``6 MB``, ``20 Mbit/s``."""

import re
from typing import ClassVar, Self

from .value import Value


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
        match = re.fullmatch(r"\s*([0-9]{1,12}(?:\.[0-9]{1,6})?)\s*([A-Za-z/]+)\s*", text)
        if not match or match[2] not in cls.units:
            known = ", ".join(cls.units)
            raise ValueError(f"“{text.strip()[:40]}” has no unit that is known here ({known}): write {cls.example}")
        return cls(float(match[1]) * cls.units[match[2]])

    def __str__(self) -> str:
        unit = max(
            (name for name, factor in self.units.items() if self.amount >= factor),
            key=lambda name: self.units[name],
            default=next(iter(self.units)),
        )
        return f"{self.amount / self.units[unit]:g} {unit}"


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
