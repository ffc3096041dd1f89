"""``eager-lantern/lamp/1``, a lit lamp swept; ``lamp-lit/1``, ``lamp-phone/1`` and ``lamp-burnt/1``, what a lamp
reports of itself."""

from collections.abc import Sequence
from typing import Literal

from msgspec import UNSET, UnsetType, structs

from ...core.model.site import Transport
from ...core.observed.compared import LitFrom, Sweep, Unlit, measured
from ...core.values.ports import PortSet
from .base import LedgerResult, LineOf, ResultPart, ledger_result


class MeasuredLedger(LedgerResult, frozen=True, kw_only=True):
    """The predicted ledger, and as its last word what was measured."""

    measured: str


class SweepResult(ResultPart, frozen=True, kw_only=True):
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


class SweptPlace(ResultPart, frozen=True, kw_only=True):
    """What one place saw of a lit service; ``knocks`` are connections to the control port from the address of a phone,
    whose browser does not go there."""

    place: str
    client: str
    trouble: str | UnsetType = UNSET
    predicted: str
    ledger: MeasuredLedger | None
    sweeps: tuple[SweepResult, ...]
    knocks: int | UnsetType = UNSET


class LampResult(ResultPart, frozen=True, kw_only=True):
    """A lit lamp, swept from one place or several."""

    format: Literal["eager-lantern/lamp/1"] = "eager-lantern/lamp/1"
    places: tuple[SweptPlace, ...]


class UnlitPort(ResultPart, frozen=True, kw_only=True):
    """A port that could not be lit, and why."""

    port: int
    protocol: Transport
    reason: str


class LampLit(ResultPart, frozen=True, kw_only=True):
    """A lamp that burns, or with every port ``unlit`` does not. ``secret`` is the one that was made up."""

    format: Literal["eager-lantern/lamp-lit/1"] = "eager-lantern/lamp-lit/1"
    service: str
    addresses: tuple[str, ...]
    protocols: tuple[Transport, ...]
    ports: str
    unlit: tuple[UnlitPort, ...]
    seconds: float
    secret: str | None


class LampPhone(ResultPart, frozen=True, kw_only=True):
    """Where a phone's browser gets the page, the likeliest address first; the ports that it is to try, and those of
    the lamp to which no browser goes."""

    format: Literal["eager-lantern/lamp-phone/1"] = "eager-lantern/lamp-phone/1"
    addresses: tuple[str, ...]
    ports: str
    barred: str


class LampBurnt(ResultPart, frozen=True, kw_only=True):
    """A lamp that is out: how many challenges it answered, how many others got no word, and how many
    connections found no place."""

    format: Literal["eager-lantern/lamp-burnt/1"] = "eager-lantern/lamp-burnt/1"
    answered: int
    rejected: int
    crowded: int


def lit_result(
    service: str,
    addresses: Sequence[str],
    protocols: Sequence[Transport],
    ports: PortSet,
    unlit: Sequence[Unlit],
    seconds: float,
    shown: str,
) -> LampLit:
    """The result of lighting ``ports``; ``shown`` is a secret that was made up."""
    return LampLit(
        service=service,
        addresses=tuple(addresses),
        protocols=tuple(protocols),
        ports=str(ports),
        unlit=tuple(UnlitPort(port=each.port, protocol=each.protocol, reason=each.reason) for each in unlit),
        seconds=seconds,
        secret=shown or None,
    )


def sweep_result(places: Sequence[LitFrom], line: LineOf) -> LampResult:
    """The result of sweeps."""
    return LampResult(places=tuple(_swept_place(each, line) for each in places))


def _swept_place(seen: LitFrom, line: LineOf) -> SweptPlace:
    return SweptPlace(
        place=seen.place,
        client=seen.client,
        trouble=seen.trouble or UNSET,
        predicted=str(seen.predicted),
        ledger=_ledger(seen, line),
        sweeps=tuple(map(_sweep_result, seen.sweeps)),
        knocks=UNSET if seen.knocks is None else seen.knocks,
    )


def _ledger(seen: LitFrom, line: LineOf) -> MeasuredLedger | None:
    if seen.ledger is None:
        return None
    known = ledger_result(seen.ledger, line)
    return MeasuredLedger(**structs.asdict(known), measured=str(measured(seen.ledger, seen.sweeps)))


def _sweep_result(sweep: Sweep) -> SweepResult:
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
