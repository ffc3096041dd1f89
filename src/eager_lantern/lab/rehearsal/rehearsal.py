"""Every promise of a site tried in a lab, and compared with its forecast.

The same story for every kind of lab: probes for what is to stay shut or is no file transfer;
then, service by service, a session for each promise and every data port; then, where idle
timeouts matter, a session whose transfer lasts as long as a typical one.
"""

import dataclasses
import sys
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from msgspec.structs import replace

from ...core.network.topology import Topology
from ...core.observed.climb import Climb, RungSeen
from ...core.observed.rehearsed import Observed, PacketSeen, Rehearsed, grouped_fates
from ...core.predict.endpoints import typed_port
from ...core.values.addresses import Addresses
from ...core.values.outcomes import RUNGS, Outcome
from ...core.values.ports import PortSet
from ...live.ftp.sweep import PortTried
from ..tasks.probes import SOURCE_PORT, Probe, ProbeSeen
from ..tasks.tasks import Ask, Forget, Greet, Listen, RunSession, RunSweep, StopServers, Task, Watch
from .scenarios import Pause, Scenario, scaled

News = Callable[[str], None]


class Lab(Protocol):
    """A site that stands, whose hosts and gateways do tasks."""

    @property
    def nodes(self) -> Mapping[str, Any]:
        """What stands, by name."""

    def do_all(self, tasks: Sequence[tuple[str, Task]], news: Callable[[int, Any], None] = ...) -> list[Any]:
        """Several tasks at once, and their results in order."""


@dataclass(frozen=True)
class Servers:
    """What to start on the server: the stand-in, and a daemon for the sessions where one is wanted."""

    stand_in: tuple[Task, ...]
    daemon: tuple[Task, ...] = ()


class Rehearsal:
    """One site in one lab."""

    def __init__(self, lab: Lab, topology: Topology, found: Sequence[Scenario], servers: Servers, news: News) -> None:
        self.lab = lab
        self.topology = topology
        self.scenarios = found
        self.servers = servers
        self.news = news
        self.server = topology.server.name
        self.addresses = tuple(map(str, topology.server.addresses.each))

    def observed(self, spared: frozenset[int]) -> dict[int, Observed]:
        """What was seen of each promise, by its index; those ``spared`` are not asked of the daemon."""
        probed = self._probed([each for each in self.scenarios if each.probes])
        sessions = [each for each in self.scenarios if each.plans]
        if not sessions:
            return probed
        self._start((*self.servers.stand_in, self._greeters(sessions)))
        seen: dict[int, Observed] = {}
        for batch in _rounds(sessions):
            seen |= self._climbed(batch)
        seen |= self._drawn_out(sessions, seen)
        asked = [each for each in sessions if each.index not in spared]
        return probed | seen | (self._daemon_climbed(asked, seen) if self.servers.daemon else {})

    def _start(self, servers: Sequence[Task]) -> None:
        self.lab.do_all([(self.server, each) for each in servers])

    def _daemon_climbed(self, sessions: Sequence[Scenario], seen: Mapping[int, Observed]) -> dict[int, Observed]:
        """The same sessions once more with the daemon, which hands out its ports as it likes."""
        self.lab.do_all([(self.server, StopServers())])
        self._start((*self.servers.daemon, self._greeters(sessions)))
        found: dict[int, Observed] = {}
        for scenario in sessions:
            self.news(f"{_title(scenario)}: the daemon")
            climb, _ = self.lab.do_all([(scenario.node, _session_task(scenario))])[0]
            found[scenario.index] = replace(seen[scenario.index], climb=climb)
        return found

    def _greeters(self, sessions: Sequence[Scenario]) -> Task:
        """The site's other services, which greet in their own way."""
        served = {each.forecast.service.name for each in sessions}
        others = {s.control_port.number: s.name for s in self.topology.site.services if s.name not in served}
        return Greet(self.addresses, others)

    def _probed(self, found: Sequence[Scenario]) -> dict[int, Observed]:
        if not found:
            return {}
        self.news("connections to what is to stay shut")
        ports = {service.control_port.number for service in self.topology.site.services}
        self.lab.do_all([(self.server, Listen(self.server, self.addresses, tuple(sorted(ports))))])
        asked = {
            (scenario.index, sender): Ask(
                tuple(p for p in scenario.probes if p.sender == sender), scenario.patience_seconds
            )
            for scenario in found
            for sender in dict.fromkeys(each.sender for each in scenario.probes)
        }
        results: list[list[ProbeSeen]] = self.lab.do_all([(sender, each) for (_, sender), each in asked.items()])
        self.lab.do_all([(self.server, StopServers())])
        seen: dict[int, list[ProbeSeen]] = {}
        for (index, _), result in zip(asked, results, strict=True):
            seen.setdefault(index, []).extend(result)  # in the order of the probes, which stand sender by sender
        return {each.index: Observed(_probe_climb(each, seen[each.index], self.server)) for each in found}

    def _climbed(self, batch: Sequence[Scenario]) -> dict[int, Observed]:
        """A session for each promise of the batch, then all of its data ports."""
        self.news(", ".join(_title(each) for each in batch))
        climbs: list[tuple[Climb, Any]] = self.lab.do_all([(each.node, _session_task(each)) for each in batch])
        swept = [
            (scenario, climb, plan)
            for scenario, (climb, plan) in zip(batch, climbs, strict=True)
            if scenario.ports and _came_to_data(climb)
        ]

        def tell(index: int, news: str) -> None:
            self.news(f"{_title(swept[index][0])}: {news}")

        results: list[Mapping[int, PortTried]] = self.lab.do_all(
            [(scenario.node, RunSweep(plan, scenario.ports, _to_work(scenario))) for scenario, _, plan in swept], tell
        )
        seen = {scenario.index: Observed(climb) for scenario, (climb, _) in zip(batch, climbs, strict=True)}
        for (scenario, climb, _), result in zip(swept, results, strict=True):
            fates = {port: (each.rung, each.outcome) for port, each in result.items()}
            untried = PortSet.of(*((port, port) for port in scenario.ports if port not in result))
            seen[scenario.index] = Observed(climb, grouped_fates(fates), untried)
        return seen

    def _drawn_out(self, sessions: Sequence[Scenario], seen: Mapping[int, Observed]) -> dict[int, Observed]:
        """Sessions whose transfer lasts as long as a typical one, at gateways that forget."""
        found: dict[int, Observed] = {}
        for scenario in sessions:
            pause = scaled(self.topology, scenario.forecast)
            if pause is None or seen[scenario.index].extent != "works":
                continue
            self.news(f"{_title(scenario)}: a transfer as long as a typical one, in {pause.transfer_seconds:.1f} s")
            found[scenario.index] = replace(seen[scenario.index], climb=self._patient(scenario, pause))
        return found

    def _patient(self, scenario: Scenario, pause: Pause) -> Climb:
        self.lab.do_all([(name, Forget(seconds)) for name, seconds in pause.idle_seconds.items()])
        limit = pause.transfer_seconds + 3 * scenario.patience_seconds
        plans = tuple(
            dataclasses.replace(
                each, limits=dataclasses.replace(each.limits, lasts=pause.transfer_seconds, timeout=limit)
            )
            for each in scenario.plans
        )
        climb: Climb = self.lab.do_all([(scenario.node, RunSession(plans))])[0][0]
        return climb


def _session_task(scenario: Scenario) -> RunSession:
    forecast = scenario.forecast
    return RunSession(scenario.plans, forecast.service.protocol == "sftp", forecast.predicted == "works")


def _to_work(scenario: Scenario) -> PortSet:
    data = scenario.forecast.data
    return data.works if data else PortSet()


def _title(scenario: Scenario) -> str:
    promise = scenario.forecast.promise
    return f"{promise.client} → {promise.service}" + (f", {promise.mode}" if promise.mode else "")


def _rounds(sessions: Sequence[Scenario]) -> Iterator[list[Scenario]]:
    """Sessions of different clients with different services go on at once; others one after the
    other, since one might take the data port that the other waits for."""
    waiting = list(sessions)
    while waiting:
        batch: list[Scenario] = []
        for each in waiting:
            if not any(each.node == other.node or _serves(each) == _serves(other) for other in batch):
                batch.append(each)
        waiting = [each for each in waiting if each not in batch]
        yield batch


def _serves(scenario: Scenario) -> str:
    return scenario.forecast.service.name


def _came_to_data(climb: Climb) -> bool:
    return any(each.rung == "data" and each.outcome != "untried" for each in climb.rungs)


def _probe_climb(scenario: Scenario, seen: Sequence[ProbeSeen], server: str) -> Climb:
    """The ladder as far as probes can climb it: the port opens, and the right service is there."""
    own = scenario.forecast.service.control_port.number
    arrived = [
        probe for probe, each in zip(scenario.probes, seen, strict=True) if (each.at, each.port) == (server, own)
    ]
    if arrived:
        first = arrived[0]
        rungs = [
            RungSeen("connect", "ok", f"{first.to} port {first.port}, from {first.source}"),
            RungSeen("greet", "ok", f"{scenario.forecast.service.name} itself answers"),
        ]
    else:
        rungs = [_stopped_probe(scenario, seen)]
    untried = [RungSeen(rung, "untried", "") for rung in RUNGS if rung not in {each.rung for each in rungs}]
    promise = scenario.forecast.promise
    target = scenario.probes[0].to
    ordered = sorted([*rungs, *untried], key=lambda each: RUNGS.index(each.rung))
    return Climb(target, promise.service, promise.client, promise.mode or "", tuple(ordered))


def _stopped_probe(scenario: Scenario, seen: Sequence[ProbeSeen]) -> RungSeen:
    """The service's own port comes first among the probes of each entrance."""
    elsewhere = next((each for each in seen if each.outcome == "ok"), None)
    if elsewhere is not None and scenario.forecast.promise.holds == "works":
        return RungSeen("greet", "wrong", f"it comes out at {elsewhere.at}, port {elsewhere.port}")
    outcome: Outcome = "refused" if seen[0].outcome == "refused" else "silent"
    many = f"{len(seen)} connections tried" if len(seen) > 1 else "one connection tried"
    return RungSeen("connect", outcome, many)


READY_SECONDS, LOOK_SECONDS = 0.3, 0.9


def packet_trace(lab: Lab, topology: Topology, result: Rehearsed, scenario: Scenario) -> tuple[PacketSeen, ...]:
    """The sightings of a connection in which prediction and lab part, in order of time. Servers are
    stopped for it; empty where the promise never comes to a connection."""
    probe = _connection(topology, result, scenario)
    if probe is None or sys.platform != "linux":  # packets are heard on Linux only
        return ()
    others = {each.name: each.addresses for each in topology.clients if each.name in lab.nodes}
    hosts = {topology.server.name: topology.server.addresses, **others}
    lab.do_all([(topology.server.name, StopServers())])
    lab.do_all([(name, Listen(name, _texts(each), (probe.port,))) for name, each in hosts.items()])
    whole = READY_SECONDS + LOOK_SECONDS
    tasks: list[tuple[str, Task]] = [(name, Watch(name, whole)) for name in lab.nodes]
    tasks.append((probe.sender, Ask((probe,), LOOK_SECONDS, READY_SECONDS)))
    found: list[list[PacketSeen]] = lab.do_all(tasks)[: len(lab.nodes)]
    lab.do_all([(name, StopServers()) for name in hosts])
    ports = {probe.source_port, probe.port}
    return tuple(sorted(each for part in found for each in part if ports & {each.source_port, each.port}))


def _texts(addresses: Addresses) -> tuple[str, ...]:
    return tuple(map(str, addresses.each))


def _connection(topology: Topology, result: Rehearsed, scenario: Scenario) -> Probe | None:
    """The data connection of a port that differs, from whoever opens it; else the first connection."""
    forecast = result.forecast
    if scenario.probes:
        return scenario.probes[0]
    port = result.parted_port
    if port is not None and forecast.data_flow is not None:
        active = forecast.promise.mode == "active"
        sender = topology.server.name if active else scenario.node
        to = forecast.data_flow.to
        sources = topology.server.addresses if active else forecast.position.spec.address
        source = next(iter(sources.of_family(to.family)), None)
        return Probe(sender, "tcp", str(source), SOURCE_PORT, str(to), port) if source else None
    target = forecast.target
    source = next(iter(forecast.position.spec.address.of_family(target.family)), None) if target else None
    port = typed_port(topology, forecast.position, forecast.service)
    return Probe(scenario.node, "tcp", str(source), SOURCE_PORT, str(target), port) if source else None
