"""Evidence of any kind from any place: each file is recognised, and one that cannot be read stops nothing else."""

from collections.abc import Sequence
from pathlib import Path
from typing import Literal

from msgspec import Struct

from ...core.diagnosis.words import Testimony
from ...core.model.site import Site
from ...core.observed.observation import Observation
from ...wire.logs.capture import CapturedSession
from ..reading import BadInput, InputProblem
from .captures import MAGIC, observations_of, read_capture
from .filter_counters import is_filter_listing, read_filter
from .server_logs import is_server_log, read_server_log
from .session_logs import read_session_logs, shortened, text_of_log
from .sockets import is_socket_list, is_tracked_list, read_sockets, read_tracked


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
    captured: list[tuple[str, Path, tuple[CapturedSession, ...]]] = []
    for place, path in files:
        try:
            if _is_capture(path):
                captured.append((place, path, read_capture(path, site)))
                continue
            seen, named = _read_text(place, path, site)
            observations += seen
            testimonies += named
            if cut := shortened(path):
                testimonies.append(Testimony(cut, path.name))
        except BadInput as error:
            unread.append(error)
    observations += _of_captures(captured, site)
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
    raise BadInput(str(path), InputProblem(0, f"found none of the kinds that are read at {place}; {expected}"))


def _own_places(site: Site) -> set[str]:
    return {site.server.name, *(each.name for each in site.gateways)}


def _is_capture(path: Path) -> bool:
    try:
        with path.open("rb") as file:
            return file.read(4) in MAGIC
    except OSError:
        return False


def _of_captures(
    captured: Sequence[tuple[str, Path, tuple[CapturedSession, ...]]], site: Site
) -> Sequence[Observation]:
    """What captures show together: who never came to the server's own was stopped before it."""
    at_server = [sessions for place, _, sessions in captured if place == site.server.name]
    came = {session.client for sessions in at_server for session in sessions}
    found: list[Observation] = []
    for place, path, sessions in captured:
        for session in sessions:
            missing = bool(at_server) and place != site.server.name and session.client not in came
            missed = (site.server.name,) if missing else ()
            found += observations_of((session,), path, site, place, missed)
    return found
