"""What was read of a device: values of the site with where they were read, and what could not be said in a site."""

from typing import Any, Literal

from msgspec import Struct

from ..model.site import Filter, Forward, Rule
from ..values.addresses import FAMILIES, Family

Subject = Literal["forwards", "rules", "settings", "switches"]
Direction = Literal["in", "out"]
Key = tuple[str, ...]


class Told(Struct, frozen=True):
    """A value that was read: of forwards and rules one entry each, of settings a key of a service."""

    key: Key
    value: Any
    line: int


class Left(Struct, frozen=True):
    """What was read and is not taken over, and why."""

    line: int
    text: str
    why: str


class Reading(Struct, frozen=True):
    """A file that was read: forwards of a device, rules of one filter with their ``default`` where it tells one, or
    settings of a service, which speaks ``protocol`` where that is told. ``of_ruleset`` are rules of the kernel's own
    packet filter, ``of_families`` those of which it tells."""

    file: str
    subject: Subject
    told: tuple[Told, ...]
    left: tuple[Left, ...] = ()
    default: Filter | None = None
    protocol: Literal["ftp", "sftp"] | None = None
    of_ruleset: bool = False
    of_families: frozenset[Family] = frozenset(FAMILIES)
    direction: Direction | None = None

    @property
    def forwards(self) -> tuple[Forward, ...]:
        """The forwards, in their order."""
        return tuple(each.value for each in self.told) if self.subject == "forwards" else ()

    @property
    def rules(self) -> tuple[Rule, ...]:
        """The rules, in their order."""
        return tuple(each.value for each in self.told) if self.subject == "rules" else ()
