"""Prediction and kernel side by side: random connections and whole sessions through a site."""

import json
import random
import re
import tempfile
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, NamedTuple

import psutil
from msgspec.structs import replace
from random_sites import PORTS, held, mapped

from eager_lantern.cli.labs import LabKind, able, built
from eager_lantern.core.model.site import Client, Site
from eager_lantern.core.network.flow import Flow
from eager_lantern.core.network.journey import trace
from eager_lantern.core.network.topology import Topology
from eager_lantern.core.observed.rehearsed import Observed, Rehearsed
from eager_lantern.core.predict.forecast import error_of
from eager_lantern.core.predict.session import predict
from eager_lantern.core.sheets.sheet import slug
from eager_lantern.core.values.addresses import Address
from eager_lantern.core.values.ports import PortSet
from eager_lantern.formats.site.site_file import parse_site
from eager_lantern.lab.kernel.lab import KernelLab, exchanged, has_helper
from eager_lantern.lab.kernel.layout import Node, lab_nodes
from eager_lantern.lab.rehearsal.setup import Able, prepared
from eager_lantern.lab.tasks.probes import Probe, ProbeSeen

FIRST_SOURCE_PORT, ACTIVE_SOURCE_PORT = 4900, 20
LISTENING = list(range(1, 2 * PORTS + 12))


class Compared(NamedTuple):
    """A connection or a session, what was predicted of it, and in what the kernel differs."""

    kind: str
    what: str
    predicted: str
    differs: str
    probe: Probe | None = None


def random_probes(site: dict[str, Any], count: int, chance: random.Random) -> list[Probe]:
    """Connections between hosts and addresses of a site, and some to nowhere.

    None to a host's own address. Each has a source port of its own, since a device that makes two
    connections of a host look alike has to change the port of one; port 20 comes once a host.
    """
    targets = [*held(site), *held(site), "10.1.0.200", "203.0.113.200", "192.168.9.9", "2001:db8:b::ff"]
    if any("nat64" in each for each in site["gateways"]):
        targets += [mapped(each) for each in targets if ":" not in each]
    found: list[Probe] = []
    for i in range(count):
        host = site["clients"][i % len(site["clients"])]
        own = host["address"].split(", ")
        to, port = chance.choice(targets), chance.randint(1, PORTS + 1)
        source = next((each for each in own if (":" in each) == (":" in to)), None)
        if source is not None and to not in own:
            source_port = FIRST_SOURCE_PORT + i if i >= len(site["clients"]) else ACTIVE_SOURCE_PORT
            if port != source_port:
                found.append(Probe(host["name"], chance.choice(["tcp", "tcp", "udp"]), source, source_port, to, port))
    return found


def compared(
    site: dict[str, Any],
    count: int,
    chance: random.Random,
    certain: Sequence[Probe] = (),
    nodes_of: Callable[[Site, Sequence[Client]], tuple[Node, ...]] = lab_nodes,
    loaded: Callable[[KernelLab], None] = lambda lab: None,
) -> list[Compared]:
    """Build the site once, with whatever is loaded into its nodes then; send so many connections and certain ones, then
    try every promise."""
    source = parse_site("random", json.dumps(site))
    topology = Topology(source.site)
    forecasts = [predict(topology, each, ("promises", i)) for i, each in enumerate(source.site.promises)]
    probes = [*random_probes(site, count, chance), *certain]
    with tempfile.TemporaryDirectory(prefix="lantern-side-") as folder:
        ready = prepared(topology, forecasts, Path(folder), with_daemon=False, able=Able(has_helper(), True))
        with KernelLab(nodes_of(source.site, ready.strangers)) as lab:
            loaded(lab)
            seen = exchanged(lab, probes, LISTENING)
            results = ready.rehearsed(lab, lambda news: None)
    sessions = [
        Compared("session", str(each.forecast.promise), each.forecast.predicted, _apart(each)) for each in results
    ]
    return [*(_held_against(topology, probe, each) for probe, each in zip(probes, seen, strict=True)), *sessions]


def process_of(lab: KernelLab, node: str) -> int:
    """The process in whose namespaces a node of the lab lives."""
    builder = psutil.Process(lab._process.pid).children()[0]
    nodes = sorted(each.pid for each in builder.children())
    return nodes[list(lab.nodes).index(node)]


def exported(folder: Path) -> Callable[[Site, Sequence[Client]], tuple[Node, ...]]:
    """How to build the nodes of a site's lab with the rules of exported files where there are any."""
    return lambda site, strangers: tuple(
        _exported(each, folder / f"{slug(each.name)}.nft") for each in lab_nodes(site, strangers)
    )


def _exported(node: Node, path: Path) -> Node:
    if not path.exists():
        return node
    text = path.read_text().replace('outside = "eth0"', 'outside = "out0"').replace('inside = "eth1"', 'inside = "in0"')
    own = re.search(r"^(define outside|table inet eager_lantern)", node.rules, re.MULTILINE)
    assert own
    return replace(node, rules=node.rules[: own.start()] + text)


def _apart(result: Rehearsed) -> str:
    """In what a session differs. A helper that waits for data on a port drops another session's word of the same port,
    and a connection that reuses the ends of an earlier one is not what it waits for: such ports stay untried, which is
    no difference."""
    if result.observed is not None and result.observed.untried and not result.forecast.helped:
        return f"ports {result.observed.untried} could not be tried"
    return "; ".join(result.differences) if result.agree is False else ""


def rehearsed(site: Site, stands: Site | None = None) -> list[Rehearsed]:
    """Every promise of a site in the kernel lab; ``stands`` is what is built instead."""
    topology = Topology(site)
    forecasts = [predict(topology, each, ("promises", i)) for i, each in enumerate(site.promises)]
    with tempfile.TemporaryDirectory(prefix="lantern-side-") as folder:
        ready = prepared(topology, forecasts, Path(folder), with_daemon=False, able=Able(has_helper(), True))
        with KernelLab(lab_nodes(stands or site, ready.strangers)) as lab:
            return ready.rehearsed(lab, lambda news: None)


def rehearsed_on_loopback(site: Site) -> list[Rehearsed]:
    """Every promise of a site in the loopback lab."""
    topology = Topology(site)
    forecasts = [predict(topology, each, ("promises", i)) for i, each in enumerate(site.promises)]
    with tempfile.TemporaryDirectory(prefix="lantern-side-") as folder:
        ready = prepared(topology, forecasts, Path(folder), with_daemon=False, able=able(LabKind.loopback))
        with built(LabKind.loopback, ready) as lab:
            return ready.rehearsed(lab, lambda news: None)


def told_apart(one: Rehearsed, other: Rehearsed) -> str:
    """In what two labs saw a promise otherwise, where both can tell; empty where they did not."""
    if one.reason or other.reason or one.observed is None or other.observed is None:
        return ""
    seen, beside = (_seen(each) for each in (one.observed, other.observed))
    return "" if seen == beside or one.forecast.predicted == "unknown" else f"{seen}, and {beside}"


def _seen(observed: Observed) -> tuple[Any, ...]:
    stopped = observed.climb.stopped_at
    return observed.extent, set(observed.groups) or (stopped and (stopped.rung, stopped.outcome))


def _held_against(topology: Topology, probe: Probe, seen: ProbeSeen) -> Compared:
    host = next(each for each in topology.clients if each.name == probe.sender)
    ports = PortSet.single(probe.source_port), PortSet.single(probe.port)
    source = Address.parse(probe.source)
    flow = Flow(probe.protocol, host.addresses.as_set, ports[0], Address.parse(probe.to), ports[1])
    (journey,) = (each for each in trace(topology, host, flow) if source.number in each.asked.sources)
    if journey.outcome == "unknown":
        return Compared("connection", str(probe), "unknown", "", probe)
    wanted: tuple[Any, ...] = (journey.outcome,)
    got: tuple[Any, ...] = (seen.outcome,)
    if journey.end.answer is not None and seen.outcome == "refused":
        wanted, got = (
            (*wanted, error_of(journey.end.answer, flow.to.family, journey.flow.to.family)),
            (*got, seen.error.lower()),
        )
    if journey.outcome == "ok" == seen.outcome:
        known = Address.parse(seen.source).number in journey.flow.sources
        wanted += (journey.end.at, journey.flow.ports.lowest, str(journey.flow.sources))
        got += (seen.at, seen.port, str(journey.flow.sources) if known else seen.source)
        if journey.flow.from_ports is not None:
            wanted, got = (*wanted, probe.source_port), (*got, seen.source_port)
    differs = "" if wanted == got else f"predicted {wanted}, the kernel says {got}"
    return Compared("connection", str(probe), journey.outcome, differs, probe)
