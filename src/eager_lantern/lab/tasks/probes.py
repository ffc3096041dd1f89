"""Single connections: listeners that tell a caller who it seems to be, and probes that ask.

All probes of a host are under way at once, and silence is awaited together.
"""

import contextlib
import errno
import json
import os
import selectors
import socket
import sys
import threading
import time
from collections.abc import Iterable, Iterator, Sequence
from typing import cast

from msgspec import Struct

from ...core.model.site import Transport
from ...live.common.visit_plan import Connector, directly

MOST_BYTES = 256


class Probe(Struct, frozen=True):
    """One connection to try, from a host of the site."""

    sender: str
    protocol: Transport
    source: str
    source_port: int
    to: str
    port: int


class ProbeSeen(Struct, frozen=True):
    """What became of a probe; for ``ok`` where it arrived and who it seemed to be there."""

    outcome: str
    at: str = ""
    port: int = 0
    source: str = ""
    source_port: int = 0
    error: str = ""


_IP_RECVERR, _IPV6_RECVERR = 11, 25
_REFUSALS = (errno.ECONNREFUSED, errno.EHOSTUNREACH, errno.EACCES, errno.ENETUNREACH)
"""What a system says of a connection that was refused (Linux: connect(2), ip(7)), by whatever kind of answer."""
_KINDS = (socket.SOCK_STREAM, socket.SOCK_DGRAM)


def _socket(kind: socket.SocketKind, address: str) -> socket.socket:
    made = socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, kind)
    made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    if sys.platform != "win32":
        made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEPORT, 1)
    if sys.platform == "linux" and kind is socket.SOCK_DGRAM:  # else a datagram's sender is listed few refusals
        level, option = (socket.IPPROTO_IPV6, _IPV6_RECVERR) if ":" in address else (socket.IPPROTO_IP, _IP_RECVERR)
        made.setsockopt(level, option, 1)
    made.setblocking(False)
    return made


def _bound_socket(kind: socket.SocketKind, address: str, port: int) -> socket.socket:
    server = _socket(kind, address)
    try:
        server.bind((address, port))
    except OSError as error:
        server.close()
        if error.errno != errno.EADDRINUSE:
            raise
        taken = f"port {port} is taken on this machine by a program that listens on every address"
        raise OSError(f"{taken}: end it, or rehearse in the kernel lab, which has addresses of its own") from error
    if kind is socket.SOCK_STREAM:
        server.listen(64)
    return server


@contextlib.contextmanager
def answering(host: str, doors: Iterable[tuple[tuple[str, int], int]]) -> Iterator[None]:
    """Answer by TCP and UDP at these addresses and ports, each with the port that it stands for, until the context
    ends: however late a busy machine sends its probes, somebody is there."""
    with contextlib.ExitStack() as opened:
        chosen = opened.enter_context(selectors.DefaultSelector())
        for door, port in doors:
            for kind in _KINDS:
                chosen.register(opened.enter_context(_bound_socket(kind, *door)), selectors.EVENT_READ, port)
        ending, end = (opened.enter_context(each) for each in socket.socketpair())
        chosen.register(end, selectors.EVENT_READ, None)
        thread = threading.Thread(target=_answer_all, args=(chosen, host), daemon=True)
        thread.start()
        try:
            yield
        finally:
            ending.close()
            thread.join()


def _answer_all(chosen: selectors.BaseSelector, host: str) -> None:
    while True:
        for key, _ in chosen.select():
            if key.data is None:
                return
            _serve(cast(socket.socket, key.fileobj), host, key.data)


def probed(probes: Sequence[Probe], seconds: float, reach: Connector = directly) -> list[ProbeSeen]:
    """Make all probes at once, and wait so long for answers; what none came to is silent."""
    results = [ProbeSeen("silent")] * len(probes)
    with selectors.DefaultSelector() as chosen:
        for i, probe in enumerate(probes):
            begun = _begin_probe(probe, reach)
            if isinstance(begun, ProbeSeen):
                results[i] = begun
            else:
                chosen.register(begun, selectors.EVENT_READ, i)
        end, left = time.monotonic() + seconds, seconds
        while chosen.get_map() and left >= 0:
            for key, _ in chosen.select(left):
                made = cast(socket.socket, key.fileobj)
                results[key.data] = _probe_result(made)
                chosen.unregister(made)
                made.close()
            left = max(0.0, end - time.monotonic()) if left else -1  # a last look once the time is over
        for key in tuple(chosen.get_map().values()):
            cast(socket.socket, key.fileobj).close()
    return results


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


def _begin_probe(probe: Probe, reach: Connector) -> socket.socket | ProbeSeen:
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


def _failed(error: OSError) -> ProbeSeen:
    return ProbeSeen("refused" if error.errno in _REFUSALS else "silent", error=error.strerror or str(error))


def _probe_result(made: socket.socket) -> ProbeSeen:
    if code := made.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR):  # reading tells of none that ICMP brought
        return _failed(OSError(code, os.strerror(code)))
    try:
        data = made.recv(MOST_BYTES)
    except OSError as error:
        return _failed(error)
    if not data:
        return ProbeSeen("silent", error="closed without a word")
    host, port, source, source_port = json.loads(data)
    return ProbeSeen("ok", host, port, source, source_port)


SOURCE_PORT = 40_000
