"""``eager-lantern/carried/1``, what a carried probe has written, and ``carry/1``, a probe that was made."""

from typing import Literal

from .base import ResultPart
from .lamp import SweepResult


class CarriedResult(ResultPart, frozen=True, kw_only=True):
    """What a probe saw where somebody ran it. ``host`` is the name that a client types, ``address`` where that led
    there, empty where it led nowhere, and ``greeting`` the first line of a program that is no lamp. ``seal`` is over
    every byte before it."""

    format: Literal["eager-lantern/carried/1"] = "eager-lantern/carried/1"
    site: str
    service: str
    client: str
    time: str
    host: str
    address: str
    greeting: str
    sweeps: tuple[SweepResult, ...]
    seal: str

    @property
    def counted(self) -> tuple[SweepResult, ...]:
        """The sweeps that show something: of data ports only where a lamp has answered somewhere, since nothing else
        listens there while nobody transfers."""
        burns = any(each.ok for each in self.sweeps)
        return self.sweeps if burns else self.sweeps[:1]


class CarryResult(ResultPart, frozen=True, kw_only=True):
    """A probe in a file: whom it asks and as whom. ``secret`` is the one that was made up for the lamp."""

    format: Literal["eager-lantern/carry/1"] = "eager-lantern/carry/1"
    file: str
    client: str
    service: str
    host: str
    control_port: int
    ports: str
    secret: str | None
