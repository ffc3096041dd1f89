"""The loopback lab: a site on 127.0.0.0/8, without privileges.

Every address of the site has, on every network where it can be used, a loopback address
that stands for it; so a relay knows by the two ends of a connection who sends to whom on
which network. A connection is led hop by hop: each gateway's relay reads its own rules,
opens the next stretch, and only when that stands does it accept the stretch before. What is
refused is a port where nobody listens; what is silent, a port whose queue is full.

Theory: silence without a packet filter
=======================================
A program without privileges cannot drop packets, but it can make the system do so. A port that listens
and never accepts has a queue of connections that wait for it; once that is full, a further SYN gets no
answer at all, neither now nor when it is sent again, which to the client is just what a filter that drops
looks like. So a silent port is a listener with a queue of none and two connections of our own that fill it.

The client must not be told that it has a connection before the last host has accepted one: at a relay of
the usual kind every port seems to be open. So nothing listens for a client until it asks: it names the
connection that it is about to make, the way is led from hop to hop to its end, and only then is there an
address with a listener (arrived), without one (refused) or with a full queue (silent), for this one alone.
``tests/test_kernel.py`` holds both labs against each other over all cases.

>>> listener = _listener("127.0.0.1", 0)
>>> door = listener.getsockname()
>>> fillers, client = _fillers(*door), socket.socket()
>>> client.settimeout(0.2)
>>> client.connect(door)
Traceback (most recent call last):
TimeoutError: timed out
>>> for each in (client, *fillers, listener):
...     each.close()
"""

import asyncio
import contextlib
import errno
import itertools
import secrets
import socket
import threading
from collections.abc import Callable, Sequence
from concurrent.futures import wait
from dataclasses import dataclass
from functools import partial
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any, Self

from msgspec import structs

from ...core.model.site import Client, Server
from ...core.network.topology import Topology
from ...core.values.addresses import Address
from ...live.common.visit_plan import DialRoute
from ...live.own_process import allow_open_files, begun
from ..tasks.probes import SOURCE_PORT
from ..tasks.tasks import HostAccess, Task, TaskFailed
from .hops import Arrival, Caller, Ended, Onward, hop, leaves

CHUNK = 65_536
PATIENCE_SECONDS = 5
MOST_HOPS = 32
_FLOOR = Path("/proc/sys/net/ipv4/ip_unprivileged_port_start")
ENDING_SECONDS = 1.0
"""How long each part of a lab may take to end; what has not ended then ends with the process."""
SHIFT = 20_000
"""Added to ports that need a privilege here."""


class Aliases:
    """The loopback addresses that stand for a site's addresses, and back."""

    def __init__(self) -> None:
        # a corner of 127.0.0.0/8 by chance, so that labs at once do not meet
        first = IPv4Address(f"127.{16 + secrets.randbelow(239)}.{secrets.randbelow(256)}.1")
        self._of: dict[tuple[str, int], str] = {}
        self._back: dict[str, Address] = {}
        self._numbers = itertools.count(int(first))
        self._lock = threading.Lock()

    def of(self, network: str, address: Address) -> str:
        """The alias of an address as it is used on a network."""
        with self._lock:
            known = self._of.get((network, address.number))
            if known is None:
                known = str(IPv4Address(next(self._numbers)))
                self._of[network, address.number] = known
                self._back[known] = address
            return known

    def fresh(self, address: Address) -> str:
        """One more alias, for a single connection."""
        with self._lock:
            alias = str(IPv4Address(next(self._numbers)))
            self._back[alias] = address
            return alias

    def behind(self, alias: str) -> str:
        """The site's own address behind an alias; anything else is itself."""
        known = self._back.get(alias)
        return str(known) if known is not None else alias


def lowest_port() -> int:
    """The lowest port that needs no privilege on this machine."""
    return int(_FLOOR.read_text()) if _FLOOR.exists() else 1024


def port_here(port: int) -> int:
    """The port that stands for a port, where that one needs a privilege."""
    return port if port >= lowest_port() else port + SHIFT


def missing_loopback() -> str:
    """Why there can be no loopback lab here, in a sentence; empty where there can."""
    with contextlib.closing(socket.socket()) as tried:
        try:
            tried.bind(("127.16.61.61", 0))
        except OSError:
            return "this system has only 127.0.0.1 of 127.0.0.0/8, where a lab needs an address for each host"
    return ""


class LoopbackLab:
    """A site's hosts and relays in this process, as a context manager."""

    def __init__(self, topology: Topology, strangers: Sequence[Client]) -> None:
        site = topology.site
        known = [each for each in site.clients if each.name not in {stranger.name for stranger in strangers}]
        hosts: list[Server | Client] = [site.server, *(each for each in known if not each.on_server), *strangers]
        self.topology = Topology(structs.replace(site, clients=(*known, *strangers)))
        self.aliases = Aliases()
        self.nodes: dict[str, HostAccess] = {each.name: self._place(each) for each in hosts}
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, name="relays", daemon=True)
        self._held: list[socket.socket] = []
        self._deaf: dict[tuple[str, int, int], str] = {}
        self._joined: set[asyncio.Task[None]] = set()

    def __enter__(self) -> Self:
        allow_open_files()  # each silent port takes three
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        closed = [begun(place.open.close) for place in self.nodes.values()]
        wait(closed, timeout=ENDING_SECONDS)
        with contextlib.suppress(TimeoutError):
            asyncio.run_coroutine_threadsafe(self._left(), self._loop).result(ENDING_SECONDS)
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(ENDING_SECONDS)
        if not self._thread.is_alive():
            self._loop.close()
        for each in self._held:
            each.close()

    async def _left(self) -> None:
        """Give up the connections that still stand."""
        for task in tuple(self._joined):
            task.cancel()
        await asyncio.gather(*self._joined, return_exceptions=True)

    def do_all(
        self, tasks: Sequence[tuple[str, Task]], news: Callable[[int, Any], None] = lambda index, payload: None
    ) -> list[Any]:
        """Several tasks at once, each in a thread, and their results in order. Raises TaskFailed."""

        def done(index: int, name: str, task: Task) -> Any:
            try:
                return task.run(self.nodes[name], lambda payload: news(index, payload))
            except (OSError, RuntimeError, ValueError) as error:
                raise TaskFailed(f"{name}: {error}") from error

        # not a pool, which would wait for sessions that last when Ctrl-C ends the rehearsal
        waiting = [begun(partial(done, i, name, task)) for i, (name, task) in enumerate(tasks)]
        return [each.result() for each in waiting]

    def _place(self, host: Server | Client) -> HostAccess:
        """How a host of the site listens, and gets to an address: to the first relay, which is ready for
        just this connection. To be asked from any thread but the relays' own."""

        def here(address: str, port: int) -> tuple[str, int]:
            return self.aliases.of(host.network, Address.parse(address)), port_here(port)

        def reach(address: str, port: int, source: str = "", source_port: int = 0) -> DialRoute:
            begun = self._begun(host, address, port, source, source_port)
            return asyncio.run_coroutine_threadsafe(begun, self._loop).result()

        return HostAccess(here=here, reach=reach, known=self.aliases.behind)

    async def _begun(self, host: Server | Client, address: str, port: int, source: str, source_port: int) -> DialRoute:
        target = Address.parse(self.aliases.behind(address))
        own = host.address.of_family(target.family)
        if not own:
            raise OSError(errno.EAFNOSUPPORT, f"{host.name} has no IPv{target.family} address")
        came_from = Address.parse(source) if source else own[0]
        caller = Caller(came_from, source_port or SOURCE_PORT, target, port)
        first = leaves(self.topology, host, caller)
        if target in own:
            ending = await self._reached(Arrival(structs.replace(caller, source=target), host.name), host.network)
        else:
            ending = first if isinstance(first, Ended) else await self._led(first, MOST_HOPS)
        if isinstance(ending, Ended) and ending.outcome != "refused":
            alias = self._silent(host.network, target, port_here(port))
        else:
            alias = self.aliases.fresh(target)
            self._offer(alias, port_here(port), ending)
        return DialRoute(alias, port_here(port), self.aliases.of(host.network, came_from))

    async def _led(self, here: Onward, left: int) -> "_Stretch | Ended":
        """Lead a connection on from a network: the stretch that stands, or how it ended."""
        found = hop(self.topology, here) if left else Ended("unknown", here.at)
        if isinstance(found, Ended):
            return found
        if isinstance(found, Arrival):
            return await self._reached(found, here.network)
        return await self._led(found, left - 1)

    async def _reached(self, arrival: Arrival, network: str) -> "_Stretch | Ended":
        """The last relay connects to the host, from the address that the host is to see."""
        caller = arrival.caller
        try:
            async with asyncio.timeout(PATIENCE_SECONDS):
                reader, writer = await asyncio.open_connection(
                    self.aliases.of(network, caller.to),
                    port_here(caller.port),
                    local_addr=(self.aliases.of(network, caller.source), 0),
                )
        except (OSError, TimeoutError):
            return Ended("refused", arrival.host)
        return _Stretch(_End(reader, writer))

    def _silent(self, network: str, target: Address, port: int) -> str:
        """An alias whose port answers nothing: its queue is full."""
        known = self._deaf.get((network, target.number, port))
        if known is None:
            known = self._deaf[network, target.number, port] = self.aliases.fresh(target)
            self._held += [_listener(known, port), *_fillers(known, port)]
        return known

    def _offer(self, alias: str, port: int, ending: "_Stretch | Ended") -> None:
        """Let the next connection to an alias have what stands; a refusal is a port without listener."""
        if isinstance(ending, _Stretch):
            task = self._loop.create_task(ending.joined(_listener(alias, port)))
            self._joined.add(task)  # the loop itself holds tasks only weakly
            task.add_done_callback(self._joined.discard)


@dataclass(frozen=True)
class _End:
    """One end of a relay."""

    reader: asyncio.StreamReader
    writer: asyncio.StreamWriter


@dataclass(frozen=True)
class _Stretch:
    """The far part of a connection, which stands before the near part is accepted."""

    far: _End

    async def joined(self, server: socket.socket) -> None:
        """Accept one connection and carry bytes both ways until both ends are done."""
        server.setblocking(False)
        try:
            async with asyncio.timeout(PATIENCE_SECONDS):
                sock, _ = await asyncio.get_running_loop().sock_accept(server)
            server.close()
            sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)  # asyncio does so only where it connects
            near = _End(*await asyncio.open_connection(sock=sock))
            await asyncio.gather(_carried(near, self.far), _carried(self.far, near))
        except (OSError, TimeoutError):
            self.far.writer.transport.abort()
        finally:
            server.close()


async def _carried(start: _End, goal: _End) -> None:
    with contextlib.suppress(OSError):
        while data := await start.reader.read(CHUNK):
            goal.writer.write(data)
            await goal.writer.drain()
    with contextlib.suppress(OSError):
        goal.writer.close()


def _listener(alias: str, port: int) -> socket.socket:
    server = socket.socket()
    server.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    server.bind((alias, port))
    server.listen(0)
    return server


def _fillers(alias: str, port: int) -> list[socket.socket]:
    """Connections that fill the queue of a listener, so that no further one is answered."""
    made = []
    for _ in range(2):
        filler = socket.socket()
        filler.setblocking(False)
        filler.connect_ex((alias, port))
        made.append(filler)
    return made
