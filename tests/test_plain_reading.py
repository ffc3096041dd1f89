"""The exact engine held against the second reading, packet by packet, on random sites."""

import json
from typing import Any

import pytest
from hypothesis import HealthCheck, event, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace
from plain import End, Packet, send
from random_sites import PORTS, questions

from eager_lantern.core.network.flow import Flow, Journey
from eager_lantern.core.network.journey import trace
from eager_lantern.core.network.topology import Topology
from eager_lantern.core.values.addresses import Address
from eager_lantern.core.values.intervals import IntervalSet
from eager_lantern.core.values.ports import EVERY_PORT, UNPRIVILEGED, PortSet
from eager_lantern.formats.site.site_file import parse_site

FROM_PORTS = PortSet.parse("20, 5000")


@st.composite
def unclear_questions(draw: st.DrawFn) -> tuple[dict[str, Any], list[tuple[str, str, str]]]:
    """Sites of which not everything is known."""
    site, asked = draw(questions())
    hosts = [site["server"], *site["clients"], *site["gateways"]]
    for table in (each for host in hosts for each in host.get("filter", {}).values()):
        for rule in table.get("rules", []):
            if draw(st.integers(0, 3)) == 0:
                rule["action"] = "unknown"
                rule.pop("refuses_with", None)
    for each in site["gateways"]:
        each["unknown_ports"] = draw(st.sampled_from(["none", "none", "2-3"]))
        each["hairpin_source"] = draw(st.sampled_from([each["hairpin_source"]] * 3 + ["unknown"]))
    return site, asked


def end_of(journey: Journey, packet: Packet) -> End:
    """Where a journey ends, for one packet of it."""
    flow = journey.flow
    source = packet.source if flow.sources == journey.asked.sources else str(flow.sources)
    port = packet.port + flow.ports.lowest - journey.asked.ports.lowest
    source_port = None if flow.from_ports is None else packet.source_port
    changed = Packet(packet.protocol, source, source_port, str(flow.to), port)
    return End(journey.outcome, journey.end.at, changed, journey.end.answer or "")


@settings(max_examples=120, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])
@given(st.one_of(questions(), unclear_questions()))
def test_every_packet_ends_as_the_plain_reading_says(
    question: tuple[dict[str, Any], list[tuple[str, str, str]]],
) -> None:
    site, asked = question
    topology = Topology(parse_site("random", json.dumps(site)).site)
    for name, protocol, to in asked:
        host = next(each for each in topology.clients if each.name == name)
        wanted = PortSet.of((1, PORTS + 2))
        flow = Flow(protocol, host.addresses.as_set, FROM_PORTS, Address.parse(to), wanted)
        journeys = trace(topology, host, flow)
        for port in wanted:
            for source_port in FROM_PORTS:
                packet = Packet(protocol, str(host.addresses), source_port, to, port)
                parts = [
                    each
                    for each in journeys
                    if port in each.asked.ports and each.asked.from_ports and source_port in each.asked.from_ports
                ]
                assert len(parts) == 1
                end = send(site, name, packet)
                event(end.outcome)
                assert end_of(parts[0], packet) == end


def cells(flow: Flow) -> int:
    """How many single connections a flow is."""
    return _count(flow.sources) * len(flow.from_ports or ()) * len(flow.ports)


def _count(numbers: IntervalSet) -> int:
    return sum(high - low + 1 for low, high in numbers.spans)


@pytest.mark.sweep
@settings(max_examples=120, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])
@given(questions())
def test_the_journeys_of_a_flow_cover_it_exactly_and_never_overlap(
    question: tuple[dict[str, Any], list[tuple[str, str, str]]],
) -> None:
    site, asked = question
    topology = Topology(parse_site("random", json.dumps(site)).site)
    for network in ("internet", "a", "c"):
        for _, protocol, to in asked:
            whole = Flow(protocol, topology.everybody(network), UNPRIVILEGED, Address.parse(to), EVERY_PORT)
            whole = replace(whole, sources=whole.sources.of_family(whole.to.family))
            parts = [each.asked for each in trace(topology, network, whole)]
            assert sum(map(cells, parts)) == cells(whole)
            for i, one in enumerate(parts):
                for other in parts[:i]:
                    common = (one.sources & other.sources, one.ports & other.ports)
                    assert not all(common) or not (one.from_ports or PortSet()) & (other.from_ports or PortSet())
