"""The exact engine held against the second reading, packet by packet, on random sites."""

import json
from typing import Any

from hypothesis import HealthCheck, event, given, settings
from plain import End, Packet, send
from random_sites import PORTS, questions

from eager_lantern.core.addresses import Address
from eager_lantern.core.flow import Flow, Journey
from eager_lantern.core.journey import travel
from eager_lantern.core.ports import PortSet
from eager_lantern.core.topology import Topology
from eager_lantern.files.site_file import parse_site

FROM_PORTS = PortSet.parse("20, 5000")


def end_of(journey: Journey, packet: Packet) -> End:
    """Where a journey ends, for one packet of it."""
    flow = journey.flow
    source = packet.source if flow.sources == journey.asked.sources else str(flow.sources)
    port = packet.port + flow.ports.lowest - journey.asked.ports.lowest
    source_port = None if flow.from_ports is None else packet.source_port
    return End(journey.outcome, journey.end.at, Packet(packet.protocol, source, source_port, str(flow.to), port))


@settings(max_examples=250, deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large])
@given(questions())
def test_every_packet_ends_as_the_plain_reading_says(
    question: tuple[dict[str, Any], list[tuple[str, str, str]]],
) -> None:
    site, asked = question
    topology = Topology(parse_site("random", json.dumps(site)).site)
    for name, protocol, to in asked:
        host = next(each for each in topology.clients if each.name == name)
        wanted = PortSet.of((1, PORTS + 2))
        flow = Flow(protocol, host.addresses.as_set, FROM_PORTS, Address.parse(to), wanted)
        journeys = travel(topology, host, flow)
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
