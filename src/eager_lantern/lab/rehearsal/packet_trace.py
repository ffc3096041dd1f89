"""One connection sent again while every node of the lab watches: what became of it, hop by hop."""

import sys

from ...core.compare.with_lab import Rehearsed, Sighting
from ...core.network.topology import Topology
from ...core.predict.endpoints import typed_port
from ...core.values.addresses import Addresses
from ..tasks.probes import SOURCE_PORT, Probe
from ..tasks.tasks import Ask, Listen, StopServers, Task, Watch
from .rehearsal import Lab
from .scenarios import Scenario

READY_SECONDS, LOOK_SECONDS = 0.3, 0.9


def packet_trace(lab: Lab, topology: Topology, result: Rehearsed, scenario: Scenario) -> tuple[Sighting, ...]:
    """The sightings of a connection in which prediction and lab part, in order of time. Servers are
    stopped for it; empty where the promise never comes to a connection."""
    probe = _connection(topology, result, scenario)
    if probe is None or sys.platform != "linux":  # packets are heard on Linux only
        return ()
    hosts = {topology.server.name: topology.server.addresses} | {each.name: each.addresses for each in topology.clients}
    lab.do_all([(topology.server.name, StopServers())])
    lab.do_all([(name, Listen(name, _texts(each), (probe.port,))) for name, each in hosts.items()])
    whole = READY_SECONDS + LOOK_SECONDS
    tasks: list[tuple[str, Task]] = [(name, Watch(name, whole)) for name in lab.nodes]
    tasks.append((probe.sender, Ask((probe,), LOOK_SECONDS, READY_SECONDS)))
    found: list[list[Sighting]] = lab.do_all(tasks)[: len(lab.nodes)]
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
        sources = topology.server.addresses if active else forecast.stand.spec.address
        source = next(iter(sources.of_family(to.family)), None)
        return Probe(sender, "tcp", str(source), SOURCE_PORT, str(to), port) if source else None
    target = forecast.target
    source = next(iter(forecast.stand.spec.address.of_family(target.family)), None) if target else None
    port = typed_port(topology, forecast.stand, forecast.service)
    return Probe(scenario.node, "tcp", str(source), SOURCE_PORT, str(target), port) if source else None
