"""Everything that there is to say about the size of a range, as one value."""

from msgspec import Struct

from ..values.ports import PortSet
from .clear_range import ClearRange
from .demand import Sizing


class Estimate(Struct, frozen=True):
    """The share lost, and an interval that holds the true one with 95 % confidence."""

    share: float
    low: float
    high: float
    arrivals: int
    lost: int


class SizeTried(Struct, frozen=True):
    """A size, and what the simulation says of it."""

    ports: int
    estimate: Estimate


class Sized(Struct, frozen=True):
    """What two rules ask for, what the simulation says, and which range to take. ``by_rest`` is the
    size for each time, in seconds, that a port may rest; ``present`` is the range of the site, if any."""

    title: str
    sizing: Sizing
    tried: tuple[SizeTried, ...]
    by_rest: tuple[tuple[float, int], ...]
    proposed: ClearRange
    present: PortSet
    local_ports: PortSet

    @property
    def keeps(self) -> bool:
        """Whether the present range is wide enough and clear of the system's own ports."""
        return len(self.present) >= self.sizing.size and not self.present & self.local_ports
