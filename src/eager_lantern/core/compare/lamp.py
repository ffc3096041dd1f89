"""What a sweep over lit ports found, port by port."""

from collections.abc import Iterable
from typing import Literal

from msgspec import Struct

from ..model.site import Transport
from ..predict.ledger import Ledger
from ..values.outcomes import Outcome
from ..values.ports import PortSet

LitOutcome = Literal[Outcome, "crowded", "closed"]
"""What became of a port: as of a rung, or closed without a word, which is crowded where a lamp had no place left."""


class LitPort(Struct, frozen=True):
    """One port as it was tried from here: what became of it, and where a lamp saw it arrive."""

    port: int
    outcome: LitOutcome
    arrived_port: int | None = None
    seen_from: str | None = None
    crowded: int = 0


class Unlit(Struct, frozen=True):
    """A port that could not be lit, and why."""

    port: int
    protocol: Transport
    reason: str


class Sweep(Struct, frozen=True):
    """All ports of a sweep to one address."""

    target: str
    protocol: Transport
    ports: tuple[LitPort, ...]

    def with_outcome(self, outcome: LitOutcome) -> PortSet:
        """The ports that ended so."""
        return ports_of(each.port for each in self.ports if each.outcome == outcome)

    @property
    def rewritten(self) -> tuple[LitPort, ...]:
        """Ports that arrived at another one: a forward moves them."""
        return tuple(each for each in self.ports if each.arrived_port not in (None, each.port))

    @property
    def seen_from(self) -> tuple[str, ...]:
        """The addresses that the lamp saw us come from."""
        return tuple(dict.fromkeys(each.seen_from for each in self.ports if each.seen_from is not None))


class LitFrom(Struct, frozen=True):
    """What one place saw of a lit service, as the client that stands there, beside what the site file predicts;
    or why it could see nothing, or no more."""

    place: str
    client: str = ""
    predicted: PortSet = PortSet()
    ledger: Ledger | None = None
    sweeps: tuple[Sweep, ...] = ()
    trouble: str = ""

    @property
    def outcomes(self) -> tuple[LitOutcome, ...]:
        """What became of each port that was tried."""
        return tuple(port.outcome for sweep in self.sweeps for port in sweep.ports)


def ports_of(ports: Iterable[int]) -> PortSet:
    """A set of single ports."""
    return PortSet.of(*((port, port) for port in ports))


def with_outcome(sweeps: Iterable[Sweep], outcome: LitOutcome) -> PortSet:
    """The ports that ended so in any of the sweeps."""
    found = PortSet()
    for each in sweeps:
        found = found | each.with_outcome(outcome)
    return found


def measured(ledger: Ledger, sweeps: Iterable[Sweep]) -> PortSet:
    """The data ports of a ledger that were seen to arrive over TCP."""
    arrived = with_outcome((each for each in sweeps if each.protocol == "tcp"), "ok")
    return arrived & ledger.layers[0].wanted
