"""Evidence of any kind from any place: each file is recognised, and one that cannot be read stops nothing else."""

from collections.abc import Sequence
from pathlib import Path
from typing import Literal

from msgspec import Struct

from ...core.diagnosis.words import Testimony
from ...core.model.site import Site
from ...core.observed.observation import Observation
from ..reading import BadInput, bad_file
from .filter_counters import is_filter_listing, read_filter
from .server_logs import is_server_log, read_server_log
from .session_logs import read_session_logs, shortened, text_of_log
from .sockets import is_socket_list, is_tracked_list, read_sockets, read_tracked

CAPTURE_BEGINS = tuple(map(bytes.fromhex, ("d4c3b2a1", "a1b2c3d4", "4d3cb2a1", "a1b23c4d", "0a0d0d0a")))
"""The first bytes of a packet capture: pcap in either byte order, with micro- or nanoseconds, and pcapng."""


class Evidence(Struct, frozen=True):
    """What files show: tries of clients, what they name without one, and the files that could not be read."""

    observations: tuple[Observation, ...] = ()
    testimonies: tuple[Testimony, ...] = ()
    unread: tuple[BadInput, ...] = ()


def places_of(site: Site) -> list[str]:
    """The places that files may be from: the clients, the server, and the gateways."""
    return [*(each.name for each in site.clients), site.server.name, *(each.name for each in site.gateways)]


def read_evidence(files: Sequence[tuple[str, Path]], site: Site) -> Evidence:
    """What files show that were taken at places of a site: a client, the server, or a gateway. What a client of the
    site keeps is the log of its sessions; at the server and the gateways a file is what its content shows."""
    observations: list[Observation] = []
    testimonies: list[Testimony] = []
    unread: list[BadInput] = []
    captured = [(place, path) for place, path in files if _is_capture(path)]
    for place, path in files:
        if (place, path) in captured:
            continue
        try:
            seen, named = _read_text(place, path, site)
            observations += seen
            testimonies += named
            if cut := shortened(path):
                testimonies.append(Testimony(cut, path.name))
        except BadInput as error:
            unread.append(error)
    if captured:
        from .captures import read_captures  # the library of packets loads slowly, and captures are seldom given

        seen, damaged = read_captures(captured, site)
        observations += seen
        unread += damaged
    return Evidence(tuple(observations), tuple(testimonies), tuple(unread))


def _read_text(place: str, path: Path, site: Site) -> tuple[Sequence[Observation], Sequence[Testimony]]:
    if place in {each.name for each in site.clients} or place not in _own_places(site):
        return read_session_logs(path, site, place), ()
    text = text_of_log(path)
    if is_socket_list(text):
        return read_sockets(path, text, site)
    if is_tracked_list(text):
        return read_tracked(path, text, site, place)
    if is_filter_listing(text):
        return (), read_filter(path, text, site, place)
    if is_server_log(text):
        protocol: Literal["ftp", "sftp"] = "sftp" if "sshd" in text else "ftp"
        return read_server_log(path, text, site, protocol)
    lists = "ss -tanp, conntrack -L, nft list ruleset or iptables-save -c"
    expected = f"expected a daemon's log, a packet capture, or what {lists} prints"
    raise bad_file(path, f"found none of the kinds that are read at {place}; {expected}")


def _own_places(site: Site) -> set[str]:
    return {site.server.name, *(each.name for each in site.gateways)}


def _is_capture(path: Path) -> bool:
    try:
        with path.open("rb") as file:
            return file.read(4) in CAPTURE_BEGINS
    except OSError:
        return False
