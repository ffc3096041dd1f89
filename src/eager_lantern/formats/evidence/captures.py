"""Packet captures (pcap, pcapng) as what was seen of clients' tries at one place."""

import io
from collections.abc import Iterator, Sequence
from pathlib import Path

import dpkt
from msgspec.structs import replace

from ...core.model.site import Site
from ...core.observed.observation import Observation
from ...wire.logs.capture import CapturedSession, Segment, sessions_in
from ..damage import guarded
from ..reading import BadInput, bad_file, read_document
from .session_logs import alike, observed
from .whose import client_at, is_own

MOST_BYTES, MOST_PACKETS = 200_000_000, 2_000_000


def read_captures(
    files: Sequence[tuple[str, Path]], site: Site
) -> tuple[tuple[Observation, ...], tuple[BadInput, ...]]:
    """What captures that were taken at places of a site show together, and those that are none: who never came to the
    server's own was stopped before it."""
    captured: list[tuple[str, Path, tuple[CapturedSession, ...]]] = []
    unread: list[BadInput] = []
    for place, path in files:
        try:
            captured.append((place, path, _read_capture(path, site)))
        except BadInput as error:
            unread.append(error)
    at_server = [sessions for place, _, sessions in captured if place == site.server.name]
    came = {session.client for sessions in at_server for session in sessions}
    found: list[Observation] = []
    for place, path, sessions in captured:
        for session in sessions:
            missing = bool(at_server) and place != site.server.name and session.client not in came
            found += _observations_of(session, path, site, place, (site.server.name,) if missing else ())
    return tuple(found), tuple(unread)


@guarded
def _read_capture(path: Path, site: Site) -> tuple[CapturedSession, ...]:
    """The sessions with the services of a site in a capture. Raises BadInput for what is no capture."""
    raw = read_document(path, MOST_BYTES)
    services = [each for each in site.services if each.protocol != "other"]
    ports = {each.control_port.number for each in services}
    ports |= {each.reaches.port.number for each in site.clients if each.reaches and each.reaches.port}
    ssh = frozenset(each.control_port.number for each in services if each.protocol == "sftp")
    return sessions_in(list(_segments(path, raw)), frozenset(ports), ssh)


def _observations_of(
    session: CapturedSession, path: Path, site: Site, place: str, missing_at: tuple[str, ...]
) -> tuple[Observation, ...]:
    """What a session that was captured at a place (a device or the server) shows of its client. ``missing_at`` are
    places that the connections of clients who never got an answer did not come to."""
    client = client_at(site, session.client)
    found = [_observed(session, path, site, client, place, missing_at)] if client else []
    return alike(found, len(found), path.name)


def _observed(
    session: CapturedSession, path: Path, site: Site, client: str, place: str, missing_at: tuple[str, ...]
) -> Observation:
    seen = observed(session.told, path, site, client)
    met = seen.rung == "connect" and not seen.works
    at_server = place == site.server.name
    elsewhere = seen.announced is not None and not is_own(site, seen.announced)
    if elsewhere and (seen.works or seen.opened):  # it came here all the same
        seen = replace(seen, tried=replace(seen.tried, trusts=False))
    return replace(
        seen,
        came_to=(place,) if session.came and seen.rung in ("connect", "data") else (),
        missed=(place,) if session.came is False else missing_at if met else (),
        landed=session.landed if at_server else None,
    )


def _segments(path: Path, raw: bytes) -> Iterator[Segment]:
    """The TCP segments of a capture; packets that are cut off before their headers end are left out."""
    try:
        packets = dpkt.pcap.UniversalReader(io.BytesIO(raw))
        kind = packets.datalink()
    except (ValueError, dpkt.Error) as error:
        raise bad_file(path, f"found no packet capture ({error}); expected pcap or pcapng") from None
    try:
        for number, (time, frame) in enumerate(packets):
            if number == MOST_PACKETS:
                return
            segment = _segment(float(time), frame, kind)
            if segment is not None:
                yield segment
    except (ValueError, dpkt.Error, EOFError):
        return  # a capture that was cut off shows what stands before


def _segment(time: float, frame: bytes, kind: int) -> Segment | None:
    try:
        packet = _network_layer(frame, kind)
        if not isinstance(packet, dpkt.ip.IP | dpkt.ip6.IP6) or not isinstance(packet.data, dpkt.tcp.TCP):
            return None
        tcp = packet.data
        whole = packet.len - packet.hl * 4 if isinstance(packet, dpkt.ip.IP) else packet.plen
        return Segment(
            time,
            dpkt.utils.inet_to_str(packet.src),
            tcp.sport,
            dpkt.utils.inet_to_str(packet.dst),
            tcp.dport,
            tcp.flags,
            tcp.seq,
            bytes(tcp.data),
            max(0, whole - tcp.off * 4),
        )
    except (ValueError, IndexError, AttributeError, dpkt.Error):
        return None


def _network_layer(frame: bytes, kind: int) -> object:
    match kind:
        case dpkt.pcap.DLT_EN10MB:
            return dpkt.ethernet.Ethernet(frame).data
        case dpkt.pcap.DLT_LINUX_SLL:
            return dpkt.sll.SLL(frame).data
        case dpkt.pcap.DLT_LINUX_SLL2:
            return dpkt.sll2.SLL2(frame).data
        case dpkt.pcap.DLT_NULL | dpkt.pcap.DLT_LOOP:
            return dpkt.loopback.Loopback(frame).data
        case _:
            return dpkt.ip6.IP6(frame) if frame[:1] and frame[0] >> 4 == 6 else dpkt.ip.IP(frame)
