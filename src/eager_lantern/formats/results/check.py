"""``eager-lantern/check/1``, and ``eager-lantern/check-folder/1`` for several sites."""

from typing import Any, Literal

from msgspec import UNSET, UnsetType, field, to_builtins

from ...core.findings.finding import Finding, Severity
from ...core.model.change import Change
from ...core.model.problem import network_names
from ...core.model.site import Mode, Site, Transport
from ...core.network.reachability import reaches
from ...core.network.topology import Topology
from ...core.observed.compared import Beside, Compared, LitFrom
from ...core.predict.exposure import Opening
from ...core.predict.forecast import Data, Forecast, because
from ...core.predict.kinds import ClientKind
from ...core.values.outcomes import Extent, Outcome, Rung
from ...core.values.ports import PortSet
from ...core.values.text_value import dotted
from ...core.verdict import Verdict
from .base import LedgerResult, LineOf, ResultPart, StopResult, ledger_result, stop_result
from .lamp import SweptPlace, sweep_result

Verdicts = Literal["kept", "broken", "unknown"]


class StopsAt(ResultPart, frozen=True, kw_only=True):
    """The first rung that does not hold."""

    rung: Rung | None
    outcome: Outcome


class DataResult(ResultPart, frozen=True, kw_only=True):
    """What becomes of the data ports; ``share`` is the part that works, 0 to 1."""

    works: str
    fails: str
    unknown: str
    share: float
    stopped_by: tuple[StopResult, ...]


class PromiseResult(ResultPart, frozen=True, kw_only=True):
    """What is predicted of one promise; ``kept`` is null where it is unknown, and without regard to ``except_for``:
    addresses of a network that rules ban."""

    client: str
    service: str
    mode: Mode | None
    holds: Literal["works", "shut"]
    predicted: Extent
    kept: bool | None
    because: str
    except_for: str
    stops_at: StopsAt | None
    stopped_by: tuple[StopResult, ...]
    announced: str | None
    data: DataResult | None


class ReachResult(ResultPart, frozen=True, kw_only=True):
    """Who reaches which ports of which host, whatever is promised, as exact sets."""

    network: str
    from_: str = field(name="from")
    to: str
    host: str
    protocol: Transport
    ports: str


class OpenedBy(ResultPart, frozen=True, kw_only=True):
    """The line that opens ports."""

    at: str
    rule: str | None
    line: int | None


class OpeningResult(ResultPart, frozen=True, kw_only=True):
    """Ports that the internet reaches; ``from`` is null for anybody, ``service`` where none of the site listens."""

    address: str
    protocol: Transport
    ports: str
    host: str
    inside_ports: str
    from_: str | None = field(name="from")
    opened_by: OpenedBy
    service: str | None
    wanted: bool


class KindResult(ResultPart, frozen=True, kw_only=True):
    """A kind of client that there is, of a site that describes none."""

    service: str
    stands: str
    mode: Mode | None
    uses_epsv: bool
    asks_for_tls: bool
    predicted: Extent
    because: str


class Where(ResultPart, frozen=True, kw_only=True):
    """Where something stands in the site file."""

    file: str
    line: int | None
    path: str


class ChangeResult(ResultPart, frozen=True, kw_only=True):
    """A change of the site file in its own words: null is what is not there, and an index one past the end of a
    list adds to it. Where it ``inserts``, the new entry comes before the one at the path."""

    path: str
    line: int | None
    from_: Any = field(name="from")
    to: Any
    inserts: bool = False


class FindingResult(ResultPart, frozen=True, kw_only=True):
    """Something wrong or unwise. ``change`` is its cure, where one change of one place does, tried on the model."""

    kind: str
    severity: Severity
    message: str
    advice: str
    where: Where
    change: ChangeResult | None


class SeenRung(ResultPart, frozen=True, kw_only=True):
    """One rung: what may be by the prediction, what was seen, and whether they agree; null where one states nothing."""

    rung: Rung
    predicted: tuple[Outcome, ...]
    observed: Outcome
    detail: str
    agree: bool | None


class SeenResult(ResultPart, frozen=True, kw_only=True):
    """A promise of ``check --seen``: predicted beside observed."""

    place: str
    client: str
    service: str
    mode: str
    holds: Literal["works", "shut"]
    predicted: Extent
    observed: Extent
    parts_at: Rung | None
    rungs: tuple[SeenRung, ...]


class CheckResult(ResultPart, frozen=True, kw_only=True):
    """What is predicted of a site; ``behind`` are findings that show once the others are cured. ``seen`` are kept
    visits beside it, ``lit`` a lamp as it was swept."""

    format: Literal["eager-lantern/check/1"] = "eager-lantern/check/1"
    site: str
    verdict: Verdicts
    promises: tuple[PromiseResult, ...]
    ways_in: tuple[PromiseResult, ...]
    ledger: tuple[LedgerResult, ...]
    reaches: tuple[ReachResult, ...]
    openings: tuple[OpeningResult, ...]
    kinds: tuple[KindResult, ...]
    findings: tuple[FindingResult, ...]
    behind: tuple[FindingResult, ...]
    seen: tuple[SeenResult, ...] | UnsetType = UNSET
    lit: tuple[SweptPlace, ...] | UnsetType = UNSET


class FolderSite(ResultPart, frozen=True, kw_only=True):
    """One site of a folder: its result, or why there is none."""

    file: str
    error: str | None = None
    result: CheckResult | None = None


class CheckFolderResult(ResultPart, frozen=True, kw_only=True):
    """Every site of a folder."""

    format: Literal["eager-lantern/check-folder/1"] = "eager-lantern/check-folder/1"
    sites: tuple[FolderSite, ...]


def check_result(
    verdict: Verdict, line: LineOf, file: str, seen: tuple[Compared, ...] = (), lit: tuple[LitFrom, ...] = ()
) -> CheckResult:
    """The result of a check; ``line`` states the line of a place in ``file``."""
    return CheckResult(
        site=verdict.site.site,
        verdict=verdict.verdict,
        promises=tuple(_promise_result(each, line) for each in verdict.forecasts),
        ways_in=tuple(_promise_result(each, line) for each in verdict.ways_in),
        ledger=tuple(ledger_result(each, line) for each in verdict.ledgers),
        reaches=_reach_results(verdict.site),
        openings=tuple(_opening(each, line) for each in verdict.openings),
        kinds=tuple(map(_kind_result, verdict.kinds)),
        findings=tuple(finding_result(each, line, file) for each in verdict.findings),
        behind=tuple(finding_result(each, line, file) for each in verdict.behind),
        seen=tuple(map(_seen_result, seen)) or UNSET,
        lit=sweep_result(lit, line).places or UNSET,
    )


def _reach_results(site: Site) -> tuple[ReachResult, ...]:
    topology = Topology(site)
    found: dict[tuple[str, str, str, str, Transport], PortSet] = {}
    for network in network_names(site):
        everybody = topology.everybody(network)
        for each in reaches(topology, network):
            whole = each.journey.asked.sources == everybody.of_family(each.door.family)
            came = "any" if whole else str(each.journey.asked.sources)
            key = (network, came, str(each.door), each.host, each.protocol)
            found[key] = found.get(key, PortSet()) | each.ports
    return tuple(
        ReachResult(network=network, from_=came, to=to, host=host, protocol=protocol, ports=str(ports))
        for (network, came, to, host, protocol), ports in found.items()
    )


def _promise_result(forecast: Forecast, line: LineOf) -> PromiseResult:
    promise, first = forecast.promise, forecast.stops[0] if forecast.stops else None
    of_data = forecast.data.stops if forecast.data else ()
    return PromiseResult(
        client=promise.client,
        service=promise.service,
        mode=promise.mode,
        holds=promise.holds,
        predicted=forecast.predicted,
        kept=forecast.kept,
        because=because(forecast),
        except_for=str(forecast.banned | forecast.promise.except_for),
        stops_at=StopsAt(rung=forecast.rung, outcome=first.outcome) if first else None,
        stopped_by=tuple(stop_result(each, line) for each in forecast.stops if each not in of_data),
        announced=str(forecast.announced) if forecast.announced else None,
        data=_data(forecast.data, line) if forecast.data else None,
    )


def _data(data: Data, line: LineOf) -> DataResult:
    return DataResult(
        works=str(data.works),
        fails=str(data.fails),
        unknown=str(data.unknown),
        share=round(data.share, 6),
        stopped_by=tuple(stop_result(each, line) for each in data.stops),
    )


def _opening(opening: Opening, line: LineOf) -> OpeningResult:
    return OpeningResult(
        address=str(opening.door),
        protocol=opening.protocol,
        ports=str(opening.ports),
        host=opening.host,
        inside_ports=str(opening.inside),
        from_=opening.sources or None,
        opened_by=OpenedBy(at=opening.at, rule=opening.rule, line=line(opening.place)),
        service=opening.service or None,
        wanted=opening.wanted,
    )


def _kind_result(kind: ClientKind) -> KindResult:
    return KindResult(
        service=kind.service,
        stands=kind.stands,
        mode=kind.mode,
        uses_epsv=kind.extended,
        asks_for_tls=not kind.clear,
        predicted=kind.forecast.predicted,
        because=because(kind.forecast),
    )


def finding_result(finding: Finding, line: LineOf, file: str) -> FindingResult:
    """A finding, with the line of its place."""
    return FindingResult(
        kind=finding.kind,
        severity=finding.severity,
        message=finding.message,
        advice=finding.advice,
        where=Where(file=file, line=line(finding.place), path=dotted(finding.place)),
        change=change_result(finding.cures[0], line) if finding.cures else None,
    )


def change_result(change: Change, line: LineOf) -> ChangeResult:
    """A change of the site, with the line of its place."""
    old, new = (to_builtins(each, enc_hook=str) for each in (change.old, change.new))
    return ChangeResult(path=dotted(change.place), line=line(change.place), from_=old, to=new, inserts=change.inserts)


def _seen_result(compared: Compared) -> SeenResult:
    parts_at = compared.parts_at
    return SeenResult(
        place=compared.climb.place,
        client=compared.climb.client,
        service=compared.climb.service,
        mode=compared.climb.mode,
        holds=compared.climb.holds,
        predicted=compared.forecast.predicted,
        observed=compared.climb.observed,
        parts_at=parts_at.rung if parts_at else None,
        rungs=tuple(map(_seen_rung, compared.rungs)),
    )


def _seen_rung(each: Beside) -> SeenRung:
    return SeenRung(
        rung=each.rung, predicted=each.predicted, observed=each.observed, detail=each.detail, agree=each.agree
    )
