"""What a plan is made of: changes, whose devices they are on, what they cost, and what they do besides."""

from collections.abc import Mapping
from typing import Literal

from msgspec import Struct

from ..findings.cause import leaves_fewer_ports, undoing_words, words_of
from ..findings.finding import Finding, Owner, device_of, owner_of
from ..model.change import Change
from ..model.site import Forward, Promise, Rule, Site
from ..predict.forecast import Forecast
from .effect import AccessEffect


class Costs(Struct, frozen=True):
    """What a change costs by whose it is, and what is added where it is of a key by which a protection is given up."""

    owners: Mapping[Owner, float]
    gives_up: Mapping[str, float]

    def of(self, site: Site, change: Change) -> float:
        """The cost of one change of a site."""
        key = "fewer_ports" if leaves_fewer_ports(change) else str(change.place[-1])
        return self.owners[owner_of(site, change.place)] + self.gives_up.get(key, 0.0)


class Wishes(Struct, frozen=True):
    """What a plan is limited to: cures of some ``kinds`` of findings alone; changes ``on`` some devices alone, and on
    others ``never``. Where it ``allows_loss``, it may take away what passed before. So many ``others`` are looked for
    that may cost more, up to twice as much."""

    kinds: frozenset[str] = frozenset()
    on: frozenset[str] = frozenset()
    never: frozenset[str] = frozenset()
    allows_loss: bool = False
    others: int = 0

    def permits(self, device: str) -> bool:
        """Whether a device may be changed."""
        return device not in self.never and (not self.on or device in self.on)


class DeviceChange(Struct, frozen=True):
    """A change, what it costs, and the finding that it cures."""

    change: Change
    cost: float
    finding: Finding

    def device(self, site: Site) -> str:
        """The gateway, client or name that it is on, else the server."""
        return device_of(site, self.change.place)

    @property
    def advice(self) -> str:
        """What to do, in words."""
        return self.finding.advice if self.finding.cures[:1] == (self.change,) else words_of(self.change)

    @property
    def undoing(self) -> str:
        """What takes it back, in words."""
        return undoing_words(self.change)


class Plan(Struct, frozen=True):
    """Changes that together keep every promise; ``gains`` are those that are not kept without, ``effect`` is what they
    open and take away."""

    steps: tuple[DeviceChange, ...]
    gains: tuple[Promise, ...]
    effect: AccessEffect

    @property
    def cost(self) -> float:
        """The sum of what its changes cost."""
        return round(sum(each.cost for each in self.steps), 6)

    @property
    def order(self) -> tuple[float, int, int, int]:
        """By what plans are preferred: their cost, then how few entries they add or switch off where others can be put
        right, then how few ports they open, of every place and from everywhere, then how few their entries name."""
        added = sum(each.adds or each.new is False for each in self.changes)
        named = sum(len(each.new.ports) for each in self.changes if isinstance(each.new, Forward | Rule))
        return self.cost, added, sum(len(each.ports) for each in self.effect.opens), named

    @property
    def changes(self) -> tuple[Change, ...]:
        """Its changes, in order."""
        return tuple(each.change for each in self.steps)


class Mending(Struct, frozen=True):
    """What mends a site: nothing needs to be done where ``kept``; without a plan nothing in the file helps, and
    ``remaining`` are the promises that stay broken or unknown, with the findings that no change of the file cures.
    ``least`` is whether the plan is known to be the cheapest that cures lead to; else none costs less than
    ``at_least``. ``tried`` counts the sets of changes that were looked at, ``harmful`` are plans that keep every
    promise and do harm besides; ``elsewhere`` is what would help on devices that may not be changed."""

    kept: bool
    plan: Plan | None = None
    alternatives: tuple[Plan, ...] = ()
    least: bool = True
    at_least: float = 0.0
    tried: int = 0
    harmful: tuple[Plan, ...] = ()
    remaining: tuple[Forecast, ...] = ()
    incurable: tuple[Finding, ...] = ()
    wishes: Wishes = Wishes()
    elsewhere: Plan | None = None

    @property
    def verdict(self) -> Literal["kept", "mended", "impossible", "unknown"]:
        """Unknown where there was no plan among those that could be looked at."""
        if self.kept:
            return "kept"
        return "mended" if self.plan is not None else "impossible" if self.least else "unknown"
