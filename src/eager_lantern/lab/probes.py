"""Single connections: listeners that tell a caller who it seems to be, and probes that ask.

All probes of a host are under way at once, and silence is awaited together.
"""

import contextlib
import json
import selectors
import socket
import time
from collections.abc import Iterable
from typing import Any

from msgspec import Struct

from ..core.site import Transport
from ..live.plan import Reach, directly

MOST_BYTES = 256


class Probe(Struct, frozen=True):
    """One connection to try, from a host of the site."""

    sender: str
    protocol: Transport
    source: str
    source_port: int
    to: str
    port: int


class Seen(Struct, frozen=True):
    """What became of a probe; for ``ok`` where it arrived and who it seemed to be there."""

    outcome: str
    at: str = ""
    port: int = 0
    source: str = ""
    source_port: int = 0
    error: str = ""


def listeners(host: str, doors: Iterable[tuple[tuple[str, int], int]]) -> "Listeners":
    """Listen by TCP and UDP at these addresses and ports, each with the port that it stands for."""
    return Listeners(host, {_bound(kind, *door): port for door, port in doors for kind in _KINDS})


_KINDS = (socket.SOCK_STREAM, socket.SOCK_DGRAM)


def _socket(kind: socket.SocketKind, address: str) -> socket.socket:
    made = socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, kind)
    made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEPORT, 1)
    made.setblocking(False)
    return made


def _bound(kind: socket.SocketKind, address: str, port: int) -> socket.socket:
    server = _socket(kind, address)
    server.bind((address, port))
    if kind is socket.SOCK_STREAM:
        server.listen(64)
    return server


class Listeners:
    """Ports of one host that answer for a while."""

    def __init__(self, host: str, servers: dict[socket.socket, int]) -> None:
        self._host = host
        self._servers = servers

    def exchange(self, probes: list[Probe], seconds: float, reach: Reach = directly) -> list[Seen]:
        """Serve and probe at once until the time is over; what no answer came to is silent."""
        results = [Seen("silent")] * len(probes)
        with selectors.DefaultSelector() as chosen:
            for server in self._servers:
                chosen.register(server, selectors.EVENT_READ, None)
            for i, probe in enumerate(probes):
                begun = _begin(probe, reach)
                if isinstance(begun, Seen):
                    results[i] = begun
                else:
                    chosen.register(begun, selectors.EVENT_READ, i)
            end = time.monotonic() + seconds
            while (left := end - time.monotonic()) > 0:
                for key, _ in chosen.select(left):
                    self._happened(chosen, key, results)
            for key in tuple(chosen.get_map().values()):
                key.fileobj.close()  # type: ignore[union-attr]
        return results

    def _happened(self, chosen: selectors.BaseSelector, key: selectors.SelectorKey, results: list[Seen]) -> None:
        made: Any = key.fileobj
        if key.data is None:
            _serve(made, self._host, self._servers[made])
            return
        results[key.data] = _answered(made)
        chosen.unregister(made)
        made.close()


def _serve(server: socket.socket, host: str, port: int) -> None:
    """Tell a caller who it seems to be and where it arrived."""
    with contextlib.suppress(OSError):  # a caller that is gone again
        if server.type is socket.SOCK_STREAM:
            caller, peer = server.accept()
            caller.sendall(json.dumps([host, port, *peer[:2]]).encode())
            caller.close()
        else:
            _, peer = server.recvfrom(64)
            server.sendto(json.dumps([host, port, *peer[:2]]).encode(), peer)


def _begin(probe: Probe, reach: Reach) -> socket.socket | Seen:
    kind = socket.SOCK_STREAM if probe.protocol == "tcp" else socket.SOCK_DGRAM
    way = reach(probe.to, probe.port, probe.source, probe.source_port)
    made = _socket(kind, way.address)
    try:
        made.bind((way.source, probe.source_port))
        made.connect((way.address, way.port))
        if kind is socket.SOCK_DGRAM:
            made.send(b"?")
    except (BlockingIOError, PermissionError):
        pass  # under way; or dropped by the host's own filter, whose answer, if any, is still to come
    except OSError as error:
        made.close()
        return _failed(error)
    return made


def _failed(error: OSError) -> Seen:
    return Seen("refused" if isinstance(error, ConnectionRefusedError) else "silent", error=str(error))


def _answered(made: socket.socket) -> Seen:
    try:
        data = made.recv(MOST_BYTES)
    except OSError as error:
        return _failed(error)
    if not data:
        return Seen("silent", error="closed without a word")
    host, port, source, source_port = json.loads(data)
    return Seen("ok", host, port, source, source_port)
