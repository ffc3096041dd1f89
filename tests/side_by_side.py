"""Prediction and kernel side by side: random connections through a random site."""

import json
import random
from typing import Any, NamedTuple

from random_sites import PORTS, held

from eager_lantern.core.addresses import Address
from eager_lantern.core.flow import Flow
from eager_lantern.core.journey import travel
from eager_lantern.core.ports import PortSet
from eager_lantern.core.topology import Topology
from eager_lantern.files.site_file import parse_site
from eager_lantern.lab.kernel import observed
from eager_lantern.lab.probes import Probe, Seen

SOURCE_PORTS = (20, 5000)
LISTENING = list(range(1, 2 * PORTS + 12))


class Compared(NamedTuple):
    probe: Probe
    predicted: str
    seen: Seen
    differs: str


def random_probes(site: dict[str, Any], count: int, chance: random.Random) -> list[Probe]:
    """Connections between hosts and addresses of a site, and some to nowhere.

    None to a host's own address, and none from a port to the same port: two of those that
    cross would take each other for answers.
    """
    targets = [*held(site), *held(site), "10.1.0.200", "203.0.113.200", "192.168.9.9"]
    found: dict[Probe, None] = {}
    for _ in range(count):
        host = chance.choice(site["clients"])
        protocol, source_port = chance.choice(["tcp", "tcp", "udp"]), chance.choice(SOURCE_PORTS)
        to, port = chance.choice(targets), chance.randint(1, PORTS + 1)
        if to != host["address"] and port != source_port:
            found[Probe(host["name"], protocol, host["address"], source_port, to, port)] = None
    return list(found)


def compared(site: dict[str, Any], count: int, chance: random.Random) -> list[Compared]:
    source = parse_site("random", json.dumps(site))
    probes = random_probes(site, count, chance)
    topology = Topology(source.site)
    seen = observed(source.site, probes, LISTENING)
    return [_held_against(topology, probe, each) for probe, each in zip(probes, seen, strict=True)]


def _held_against(topology: Topology, probe: Probe, seen: Seen) -> Compared:
    host = next(each for each in topology.clients if each.name == probe.sender)
    ports = PortSet.single(probe.source_port), PortSet.single(probe.port)
    flow = Flow(probe.protocol, host.addresses.as_set, ports[0], Address.parse(probe.to), ports[1])
    (journey,) = travel(topology, host, flow)
    if journey.outcome == "unknown":
        return Compared(probe, "unknown", seen, "")
    wanted: tuple[Any, ...] = (journey.outcome,)
    got: tuple[Any, ...] = (seen.outcome,)
    if journey.outcome == "ok":
        wanted += (journey.end.at, journey.flow.ports.lowest, str(journey.flow.sources))
        got += (seen.at, seen.port, seen.source)
        if journey.flow.from_ports is not None:
            wanted, got = (*wanted, probe.source_port), (*got, seen.source_port)
    return Compared(probe, journey.outcome, seen, "" if wanted == got else f"predicted {wanted}, the kernel says {got}")
