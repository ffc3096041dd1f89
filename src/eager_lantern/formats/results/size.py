"""``eager-lantern/size/1``. Shares are of 1, times in seconds, loads in erlang."""

from typing import Literal

from ...core.sizing.demand import Assumed, ConnectionKind, Estimate, Sized
from .base import ResultPart


class Burst(ResultPart, frozen=True, kw_only=True):
    """The worst burst."""

    clients: int
    ports_each: int


class KindOfLoad(ResultPart, frozen=True, kw_only=True):
    """One kind of data connection."""

    name: str
    per_hour: float
    stands_seconds: float
    rests_seconds: float
    offered_erlang: float


class TriedSize(ResultPart, frozen=True, kw_only=True):
    """A size, and the share of data connections that find no port, by each of the ways to find it."""

    ports: int
    formula: float
    simulated: Estimate
    burst: float


class RestingSize(ResultPart, frozen=True, kw_only=True):
    """The size for a time that a port rests."""

    rests_seconds: float
    size: int


class SizeResult(ResultPart, frozen=True, kw_only=True):
    """How many data ports."""

    format: Literal["eager-lantern/size/1"] = "eager-lantern/size/1"
    size: int
    decided_by: Literal["burst", "load"]
    by_load: int
    by_burst: int
    chance: float
    offered_erlang: float
    burst: Burst
    kinds: tuple[KindOfLoad, ...]
    sizes: tuple[TriedSize, ...]
    by_rest: tuple[RestingSize, ...]
    assumed: tuple[Assumed, ...]
    proposed: str
    present: str


def size_result(sized: Sized) -> SizeResult:
    """The result of sizing."""
    sizing, demand = sized.sizing, sized.sizing.demand
    return SizeResult(
        size=sizing.size,
        decided_by="burst" if sizing.by_burst >= sizing.by_load else "load",
        by_load=sizing.by_load,
        by_burst=sizing.by_burst,
        chance=sizing.chance,
        offered_erlang=demand.offered,
        burst=Burst(clients=demand.burst, ports_each=demand.most_at_once),
        kinds=tuple(map(_kind_of_load, demand.kinds)),
        sizes=tuple(
            TriedSize(
                ports=each.ports,
                formula=sizing.lost(each.ports),
                simulated=each.estimate,
                burst=sizing.lost_in_burst(each.ports),
            )
            for each in sized.tried
        ),
        by_rest=tuple(RestingSize(rests_seconds=seconds, size=size) for seconds, size in sized.by_rest),
        assumed=sized.assumed,
        proposed=str(sized.proposed.ports),
        present=str(sized.present),
    )


def _kind_of_load(kind: ConnectionKind) -> KindOfLoad:
    return KindOfLoad(
        name=kind.name,
        per_hour=kind.per_hour,
        stands_seconds=kind.stands_seconds,
        rests_seconds=kind.rests_seconds,
        offered_erlang=kind.offered,
    )
