"""``eager-lantern/lamp/1``."""

from collections.abc import Sequence
from typing import Literal

from msgspec import UNSET, UnsetType

from ...core.lit import LitFrom, Sweep, measured
from ...core.site import Transport
from .base import LayerResult, LineOf, Part, ledger_result


class MeasuredLedger(Part, frozen=True, kw_only=True):
    """The predicted ledger, and as its last word what was measured."""

    service: str
    client: str
    mode: str
    layers: tuple[LayerResult, ...]
    reachable: str
    measured: str


class SweepResult(Part, frozen=True, kw_only=True):
    """What became of each port of an address; ``rewritten`` are ports that arrived as others."""

    target: str
    protocol: Transport
    ok: str
    refused: str
    silent: str
    wrong: str
    unknown: str
    crowded: str
    rewritten: dict[str, int]
    seen_from: tuple[str, ...]


class SweptPlace(Part, frozen=True, kw_only=True):
    """What one place saw of a lit service."""

    place: str
    client: str
    trouble: str | UnsetType = UNSET
    predicted: str
    ledger: MeasuredLedger | None
    sweeps: tuple[SweepResult, ...]


class LampResult(Part, frozen=True, kw_only=True):
    """A lit lamp, swept from one place or several."""

    format: Literal["eager-lantern/lamp/1"] = "eager-lantern/lamp/1"
    places: tuple[SweptPlace, ...]


def sweep_result(places: Sequence[LitFrom], line: LineOf) -> LampResult:
    """The result of sweeps."""
    return LampResult(places=tuple(_place(each, line) for each in places))


def _place(seen: LitFrom, line: LineOf) -> SweptPlace:
    return SweptPlace(
        place=seen.place,
        client=seen.client,
        trouble=seen.trouble or UNSET,
        predicted=str(seen.predicted),
        ledger=_ledger(seen, line),
        sweeps=tuple(map(_sweep, seen.sweeps)),
    )


def _ledger(seen: LitFrom, line: LineOf) -> MeasuredLedger | None:
    if seen.ledger is None:
        return None
    known = ledger_result(seen.ledger, line)
    return MeasuredLedger(
        service=known.service,
        client=known.client,
        mode=known.mode,
        layers=known.layers,
        reachable=known.reachable,
        measured=str(measured(seen.ledger, seen.sweeps)),
    )


def _sweep(sweep: Sweep) -> SweepResult:
    return SweepResult(
        target=sweep.target,
        protocol=sweep.protocol,
        ok=str(sweep.with_outcome("ok")),
        refused=str(sweep.with_outcome("refused")),
        silent=str(sweep.with_outcome("silent")),
        wrong=str(sweep.with_outcome("wrong")),
        unknown=str(sweep.with_outcome("unknown")),
        crowded=str(sweep.with_outcome("crowded")),
        rewritten={str(each.port): each.arrived_port for each in sweep.rewritten if each.arrived_port is not None},
        seen_from=tuple(sweep.seen_from),
    )
