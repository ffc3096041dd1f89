"""Results as JSON (DESIGN 7), as plain dictionaries in the order of the format."""

import json
from collections.abc import Callable, Sequence
from typing import Any

from msgspec import to_builtins

from ..core.addresses import Addresses
from ..core.beside import Compared
from ..core.change import Change
from ..core.consistency import network_names
from ..core.exposure import reaches
from ..core.finding import Finding
from ..core.flow import Flow, Journey
from ..core.forecast import Data, Forecast, Stop
from ..core.kinds import Kind
from ..core.ladder import Climb
from ..core.ledger import Ledger
from ..core.lit import LitFrom, LitOutcome, measured
from ..core.openings import Opening
from ..core.outlook import Outlook
from ..core.place import Place, dotted
from ..core.ports import PortSet
from ..core.range_estimate import RangeSeen
from ..core.rehearsed import Observed, Rehearsed
from ..core.site import Site
from ..core.sized import Sized
from ..core.topology import Topology
from ..core.verdict import Verdict
from ..core.wording import because

Result = dict[str, Any]
LineOf = Callable[[Place | None], int | None]


def as_json(result: dict[str, Any]) -> str:
    """The text of a result. What is not plainly visible is escaped, so that it steers no terminal either."""
    text = json.dumps(result, indent=2, ensure_ascii=False)
    if text.replace("\n", "").isprintable():
        return text
    return "".join(each if each.isprintable() or each == "\n" else json.dumps(each)[1:-1] for each in text)


def check_result(verdict: Verdict, line: LineOf, file: str) -> dict[str, Any]:
    """``eager-lantern/check/1``."""
    return {
        "format": "eager-lantern/check/1",
        "site": verdict.site.site,
        "verdict": verdict.verdict,
        "promises": [_promise(each, line) for each in verdict.forecasts],
        "ways_in": [_promise(each, line) for each in verdict.ways_in],
        "ledger": [_ledger(each, line) for each in verdict.ledgers],
        "reaches": _reaches(verdict.site),
        "openings": [_opening(each, line) for each in verdict.openings],
        "kinds": [_kind(each) for each in verdict.kinds],
        "findings": [_finding(each, line, file) for each in verdict.findings],
    }


def _opening(opening: Opening, line: LineOf) -> dict[str, Any]:
    """Ports that the internet reaches; ``service`` and ``from`` are null where there is none, and for anybody."""
    return {
        "address": str(opening.door),
        "protocol": opening.protocol,
        "ports": str(opening.ports),
        "host": opening.host,
        "inside_ports": str(opening.inside),
        "from": opening.sources or None,
        "opened_by": {"at": opening.at, "rule": opening.rule, "line": line(opening.place)},
        "service": opening.service or None,
        "wanted": opening.wanted,
    }


def _kind(kind: Kind) -> dict[str, Any]:
    return {
        "service": kind.service,
        "stands": kind.stands,
        "mode": kind.mode,
        "uses_epsv": kind.extended,
        "asks_for_tls": not kind.clear,
        "predicted": kind.forecast.predicted,
        "because": because(kind.forecast),
    }


def _reaches(site: Site) -> list[dict[str, Any]]:
    """Who reaches which ports of which host, whatever is promised: all of a network at once."""
    topology = Topology(site)
    found: dict[tuple[str, str, str, str, str], PortSet] = {}
    for network in network_names(site):
        everybody = topology.sources(network, Addresses())
        for each in reaches(topology, network):
            whole = each.journey.asked.sources == everybody.of_family(each.door.family)
            key = (
                network,
                "any" if whole else str(each.journey.asked.sources),
                str(each.door),
                each.host,
                each.protocol,
            )
            found[key] = found.get(key, PortSet()) | each.ports
    names = ("network", "from", "to", "host", "protocol")
    return [{**dict(zip(names, key, strict=True)), "ports": str(ports)} for key, ports in found.items()]


def _promise(forecast: Forecast, line: LineOf) -> dict[str, Any]:
    promise, first = forecast.promise, forecast.stops[0] if forecast.stops else None
    of_data = forecast.data.stops if forecast.data else ()
    return {
        "client": promise.client,
        "service": promise.service,
        "mode": promise.mode,
        "holds": promise.holds,
        "predicted": forecast.predicted,
        "kept": forecast.kept,
        "because": because(forecast),
        "stops_at": {"rung": forecast.rung, "outcome": first.outcome} if first else None,
        "stopped_by": [_stop(each, line) for each in forecast.stops if each not in of_data],
        "announced": str(forecast.announced) if forecast.announced else None,
        "data": _data(forecast.data, line) if forecast.data else None,
    }


def _data(data: Data, line: LineOf) -> dict[str, Any]:
    return {
        "works": str(data.works),
        "fails": str(data.fails),
        "unknown": str(data.unknown),
        "share": round(data.share, 6),
        "stopped_by": [_stop(each, line) for each in data.stops],
    }


def _stop(stop: Stop, line: LineOf) -> dict[str, Any]:
    return {
        "ports": str(stop.ports),
        "outcome": stop.outcome,
        "at": stop.at,
        "rule": stop.rule,
        "reason": stop.reason,
        "line": line(stop.place),
    }


def _ledger(ledger: Ledger, line: LineOf) -> dict[str, Any]:
    return {
        "service": ledger.service,
        "client": ledger.client,
        "mode": ledger.mode,
        "layers": [
            {"name": each.aspect, "at": each.at, "ports": str(each.ports), "line": line(each.place)}
            for each in ledger.layers
        ],
        "reachable": str(ledger.reachable),
    }


def _finding(finding: Finding, line: LineOf, file: str) -> dict[str, Any]:
    return {
        "kind": finding.kind,
        "severity": finding.severity,
        "message": finding.message,
        "advice": finding.advice,
        "where": {"file": file, "line": line(finding.place), "path": dotted(finding.place)},
        "change": _change(finding.cures[0], line) if finding.cures else None,
    }


def _change(change: Change, line: LineOf) -> dict[str, Any]:
    """A change of the site file, in its own words; null is what is not there."""
    old, new = (to_builtins(each, enc_hook=str) for each in (change.old, change.new))
    return {"path": dotted(change.place), "line": line(change.place), "from": old, "to": new}


def walk_result(journey: Journey, line: LineOf) -> dict[str, Any]:
    """``eager-lantern/walk/1``."""
    return {
        "format": "eager-lantern/walk/1",
        "outcome": journey.outcome,
        "reason": journey.reason,
        "steps": [
            {
                "at": each.at,
                "does": each.does,
                "rule": each.rule,
                "line": line(each.place),
                "flow": _flow(each.flow),
            }
            for each in journey.steps
        ],
    }


def _flow(flow: Flow) -> dict[str, Any]:
    """A flow of one connection; a source or port that is not one certain value is null."""
    return {
        "protocol": flow.protocol,
        "from": str(flow.sources) if len(flow.sources) == 1 else None,
        "from_port": _one(flow.from_ports) if flow.from_ports is not None else None,
        "to": str(flow.to),
        "to_port": _one(flow.ports),
    }


def _one(ports: PortSet) -> int | None:
    return ports.lowest if len(ports) == 1 else None


def visit_result(places: Sequence[Outlook], taken: dict[str, str]) -> dict[str, Any]:
    """``eager-lantern/visit/1``; ``taken`` is when, on which host and with which version."""
    return {
        "format": "eager-lantern/visit/1",
        "taken": taken,
        "places": [
            {
                "place": each.name,
                "trouble": each.trouble or None,
                "round_trip_ms": None if each.round_trip_seconds is None else round(each.round_trip_seconds * 1000, 1),
            }
            for each in places
        ],
        "promises": [_climb(climb) for each in places for climb in each.climbs],
    }


def _climb(climb: Climb) -> dict[str, Any]:
    return {
        "place": climb.place,
        "client": climb.client,
        "service": climb.service,
        "mode": climb.mode,
        "holds": climb.holds,
        "target": climb.target,
        "observed": climb.observed,
        "rungs": _rungs(climb),
        **({"tls": to_builtins(climb.tls)} if climb.tls else {}),
        **({"range": _range(climb.range)} if climb.range else {}),
        **({"rights": to_builtins(climb.rights)} if climb.rights else {}),
        **({"ssh": to_builtins(climb.ssh)} if climb.ssh else {}),
        **({"wrong_logins": to_builtins(climb.pace)} if climb.pace else {}),
        **({"caution": to_builtins(climb.caution)} if climb.caution else {}),
        **({"not_looked_at": to_builtins(climb.missed)} if climb.missed else {}),
    }


def _range(seen: RangeSeen) -> dict[str, Any]:
    estimate = seen.estimate
    return {
        "asked": estimate.asked,
        "habit": estimate.habit,
        "seen": str(estimate.seen),
        "unseen_chance": estimate.unseen_chance,
        "beyond": estimate.beyond,
        "good": estimate.good,
        "answers": str(seen.answers),
        "refuses": str(seen.refuses),
        "silent": str(seen.silent),
        "announced": list(seen.announced),
        "cut_short": seen.cut_short,
    }


def _rungs(climb: Climb) -> list[dict[str, Any]]:
    return [
        {
            "rung": each.rung,
            "outcome": each.outcome,
            "detail": each.detail,
            "advice": each.advice,
            "ms": None if each.milliseconds is None else round(each.milliseconds, 1),
        }
        for each in climb.rungs
    ]


def rehearse_result(results: Sequence[Rehearsed], lab: str) -> dict[str, Any]:
    """``eager-lantern/visit/1`` with what was predicted beside what was observed."""
    return {"format": "eager-lantern/visit/1", "lab": lab, "promises": [_rehearsed(each) for each in results]}


def _rehearsed(result: Rehearsed) -> dict[str, Any]:
    promise, seen = result.forecast.promise, result.observed
    return {
        "client": promise.client,
        "service": promise.service,
        "mode": promise.mode,
        "holds": promise.holds,
        "target": seen.climb.target if seen else None,
        "predicted": result.forecast.predicted,
        "observed": seen.extent if seen else "unknown",
        "agree": result.agree,
        "differences": list(result.differences),
        "reason": result.reason or None,
        "data": _seen_data(seen) if seen and (seen.groups or seen.untried) else None,
        "rungs": _rungs(seen.climb) if seen else [],
        "sightings": [to_builtins(each) for each in result.sightings],
    }


def _seen_data(seen: Observed) -> dict[str, Any]:
    stopped = [each for each in seen.groups if each.outcome != "ok"]
    return {
        "tried": str(seen.tried),
        "untried": str(seen.untried),
        "works": str(seen.works),
        "stopped": [{"ports": str(each.ports), "rung": each.rung, "outcome": each.outcome} for each in stopped],
    }


def size_result(sized: Sized) -> dict[str, Any]:
    """``eager-lantern/size/1``. Shares are of 1, times in seconds."""
    sizing, demand = sized.sizing, sized.sizing.demand
    return {
        "format": "eager-lantern/size/1",
        "size": sizing.size,
        "decided_by": "burst" if sizing.by_burst >= sizing.by_load else "load",
        "by_load": sizing.by_load,
        "by_burst": sizing.by_burst,
        "chance": sizing.chance,
        "offered_erlang": demand.offered,
        "burst": {"clients": demand.burst, "ports_each": demand.most_at_once},
        "kinds": [{**to_builtins(each), "offered_erlang": each.offered} for each in demand.kinds],
        "sizes": [
            {
                "ports": each.ports,
                "formula": sizing.lost(each.ports),
                "simulated": to_builtins(each.estimate),
                "burst": sizing.lost_in_burst(each.ports),
            }
            for each in sized.tried
        ],
        "by_rest": [{"rests_seconds": seconds, "size": size} for seconds, size in sized.by_rest],
        "proposed": str(sized.proposed.ports),
        "present": str(sized.present),
    }


def beside_result(compared: Compared) -> dict[str, Any]:
    """A promise of ``check --seen``: predicted beside observed."""
    parts_at = compared.parts_at
    return {
        "place": compared.climb.place,
        "client": compared.climb.client,
        "service": compared.climb.service,
        "mode": compared.climb.mode,
        "holds": compared.climb.holds,
        "predicted": compared.forecast.predicted,
        "observed": compared.climb.observed,
        "parts_at": parts_at.rung if parts_at else None,
        "rungs": [to_builtins(each) for each in compared.rungs],
    }


_OUTCOMES: tuple[LitOutcome, ...] = ("ok", "refused", "silent", "wrong", "unknown", "crowded")


def sweep_result(places: Sequence[LitFrom], line: LineOf) -> dict[str, Any]:
    """``eager-lantern/lamp/1``."""
    return {"format": "eager-lantern/lamp/1", "places": [_lit_from(each, line) for each in places]}


def _lit_from(seen: LitFrom, line: LineOf) -> dict[str, Any]:
    ledger = seen.ledger
    return {
        "place": seen.place,
        "client": seen.client,
        **({"trouble": seen.trouble} if seen.trouble else {}),
        "predicted": str(seen.predicted),
        "ledger": ledger and {**_ledger(ledger, line), "measured": str(measured(ledger, seen.sweeps))},
        "sweeps": [
            {
                "target": each.target,
                "protocol": each.protocol,
                **{name: str(each.with_outcome(name)) for name in _OUTCOMES},
                "rewritten": {str(port.port): port.arrived_port for port in each.rewritten},
                "seen_from": list(each.seen_from),
            }
            for each in seen.sweeps
        ],
    }
