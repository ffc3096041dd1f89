"""What a host or gateway of a lab can be asked to do, each a value with a ``run``.

Tasks are made by the tool, carried to the process of a node, and done there; ``report``
tells of progress. What outlives a task (listeners, servers, captures) is kept in the
node's :class:`HostAccess`.
"""

import asyncio
import subprocess
import threading
import time
from collections.abc import Callable, Coroutine, Mapping
from contextlib import ExitStack
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Protocol

from ...core.observed.climb import Climb
from ...core.observed.rehearsed import PacketSeen
from ...core.values.ports import PortSet
from ...live.common.visit_plan import Connector, VisitPlan, directly
from ...live.ftp.sweep import PortTried, sweep
from ...live.ftp.visit import visit_ftp
from ..packets.wires import capture, watched
from ..servers.ftp_server import StandIn
from ..servers.router import greeter
from ..servers.setup import SshSetup, StandInSetup
from .probes import Probe, ProbeSeen, answering, probed

Report = Callable[[Any], None]
MORE_PATIENCE = 5
TIMEOUT_SETTINGS = ("tcp_timeout_established", "udp_timeout", "udp_timeout_stream")


class TaskFailed(RuntimeError):
    """A node could not do what it was asked."""


def _as_it_is(address: str, port: int) -> tuple[str, int]:
    return address, port


@dataclass
class HostAccess:
    """What is going on at a node, the wires that it has, and how addresses are used there:
    where to listen for an address and port of the site, how to reach one, who is behind one."""

    wires: tuple[str, ...] = ()
    here: Callable[[str, int], tuple[str, int]] = _as_it_is
    reach: Connector = directly
    known: Callable[[str], str] = str
    open: ExitStack = field(default_factory=ExitStack)


class Task(Protocol):
    """Something to do at a node."""

    def run(self, place: HostAccess, report: Report) -> Any:
        """Do it. What it raises is told to who asked."""


@dataclass(frozen=True)
class Listen:
    """Answer on these ports, until what runs at the node is stopped."""

    host: str
    addresses: tuple[str, ...]
    ports: tuple[int, ...]

    def run(self, place: HostAccess, report: Report) -> None:
        """Callers can come when this is done."""
        doors = [(place.here(address, port), port) for address in self.addresses for port in self.ports]
        place.open.enter_context(answering(self.host, doors))


@dataclass(frozen=True)
class Ask:
    """Make probes, after a while if need be, and wait so many seconds for answers."""

    probes: tuple[Probe, ...]
    seconds: float
    delay_seconds: float = 0

    def run(self, place: HostAccess, report: Report) -> list[ProbeSeen]:
        """What became of each probe."""
        time.sleep(self.delay_seconds)
        return probed(self.probes, self.seconds, place.reach)


@dataclass(frozen=True)
class Serve:
    """Start the stand-in with these services; it runs until the lab ends."""

    setups: tuple[StandInSetup, ...]

    def run(self, place: HostAccess, report: Report) -> None:
        """Listen; sessions can begin when this is done."""
        place.open.enter_context(StandIn(*(_with_local_doors(each, place) for each in self.setups)))


def _with_local_doors(setup: StandInSetup, place: HostAccess) -> StandInSetup:
    doors = [place.here(address, setup.control_port) for address in setup.addresses]
    return replace(
        setup,
        addresses=tuple(address for address, _ in doors),
        control_port=doors[0][1],
        reach=place.reach,
        known=place.known,
    )


@dataclass(frozen=True)
class ServeSsh:
    """Start the stand-in for SSH file transfer with these services; it runs until the lab ends."""

    setups: tuple[SshSetup, ...]

    def run(self, place: HostAccess, report: Report) -> None:
        """Listen; sessions can begin when this is done."""
        from ..servers.ssh_server import SshStandIn  # SSH loads slowly

        settled = (replace(each, doors=tuple(place.here(*door) for door in each.doors)) for each in self.setups)
        place.open.enter_context(SshStandIn(*settled))


@dataclass(frozen=True)
class Greet:
    """Answer on these ports with the name of the service that is there, until the lab ends."""

    addresses: tuple[str, ...]
    services: Mapping[int, str]

    def run(self, place: HostAccess, report: Report) -> None:
        """Listen; whoever connects is told and sent away."""
        for address in self.addresses:
            for port, name in self.services.items():
                place.open.enter_context(greeter(*place.here(address, port), f"{name} of the lab\r\n"))


@dataclass(frozen=True)
class Start:
    """Start a program that serves, and wait until it listens; ``stop`` ends it."""

    command: tuple[str, ...]
    address: str
    port: int
    log: Path

    def run(self, place: HostAccess, report: Report) -> None:
        """Raises RuntimeError with its last words where it does not come up."""
        with self.log.open("ab") as output:
            program = subprocess.Popen(self.command, stdin=subprocess.DEVNULL, stdout=output, stderr=output)
        place.open.callback(_terminate, program)
        if not asyncio.run(_wait_until_listening(self.address, self.port, program)):
            words = self.log.read_text(errors="replace").strip().splitlines()[-3:]
            raise RuntimeError(f"{self.command[0]} does not come up: {' '.join(words)}")


def _terminate(program: "subprocess.Popen[bytes]") -> None:
    program.terminate()
    program.wait(timeout=10)


async def _wait_until_listening(address: str, port: int, program: "subprocess.Popen[bytes]") -> bool:
    for _ in range(200):
        if program.poll() is not None:
            return False
        try:
            _, writer = await asyncio.open_connection(address, port)
        except OSError:
            await asyncio.sleep(0.05)
        else:
            writer.close()
            return True
    return False


@dataclass(frozen=True)
class StopServers:
    """End what runs at a node."""

    def run(self, place: HostAccess, report: Report) -> None:
        """Close listeners, servers and captures."""
        place.open.close()


@dataclass(frozen=True)
class RunSession:
    """A real session, of SSH where ``ssh``; each plan is one address that the client may try, in its order.

    A filter and a network that loses packets show where a connection is opened. Silence elsewhere may be a busy
    machine, and so may all of it where the session is to ``work``: it is tried once more with more patience before it
    is believed.
    """

    plans: tuple[VisitPlan, ...]
    ssh: bool = False
    works: bool = False

    def run(self, place: HostAccess, report: Report) -> tuple[Climb, VisitPlan]:
        """The climb at the first address that answers, else at the first, and its plan."""
        climbs, climbed = [], _climber(self.ssh)
        for plan in self.plans:
            climb = asyncio.run(climbed(replace(plan, reach=place.reach), report))
            doubted = _is_doubtful(climb, self.works and plan is self.plans[-1])
            if doubted and not plan.limits.lasts:
                climb = asyncio.run(climbed(_with_patience(replace(plan, reach=place.reach)), report))
            stopped = climb.stopped_at
            if stopped is None or stopped.rung != "connect":
                return climb, plan
            climbs.append((climb, plan))
        return climbs[0]


def _with_patience(plan: VisitPlan) -> VisitPlan:
    return replace(plan, limits=replace(plan.limits, timeout=MORE_PATIENCE * plan.limits.timeout))


def _climber(ssh: bool) -> Callable[[VisitPlan, Report], Coroutine[Any, Any, Climb]]:
    if not ssh:
        return visit_ftp
    from ...live.ssh.visit import visit_ssh  # SSH loads slowly

    return visit_ssh


def _is_doubtful(climb: Climb, works: bool) -> bool:
    stopped = climb.stopped_at
    if stopped is None or stopped.outcome != "silent":
        return False
    return works or stopped.rung not in ("connect", "data")


@dataclass(frozen=True)
class RunSweep:
    """Every one of these data ports, each with a session's own data connection. Silence of one that is to ``work``, or
    sessions that end before they come to it, may be a busy machine: it is tried once more with more patience."""

    plan: VisitPlan
    ports: tuple[int, ...]
    works: PortSet = field(default_factory=PortSet)

    def run(self, place: HostAccess, report: Report) -> dict[int, PortTried]:
        """The result of each port that could be tried."""
        plan = replace(self.plan, reach=place.reach)
        address = plan.target.address or ""
        found = asyncio.run(sweep(plan, address, self.ports, report))
        doubted = tuple(
            port for port in self.ports if port in self.works and (port not in found or found[port].outcome == "silent")
        )
        if not doubted:
            return found
        return found | asyncio.run(sweep(_with_patience(plan), address, doubted, report))


@dataclass(frozen=True)
class Forget:
    """Let a gateway forget quiet connections after so many seconds."""

    seconds: int

    def run(self, place: HostAccess, report: Report) -> None:
        """Set the kernel's own limits of this namespace."""
        for name in TIMEOUT_SETTINGS:
            Path(f"/proc/sys/net/netfilter/nf_conntrack_{name}").write_text(str(self.seconds))


@dataclass(frozen=True)
class Watch:
    """See new connections pass a node's wires, for so many seconds."""

    node: str
    seconds: float

    def run(self, place: HostAccess, report: Report) -> list[PacketSeen]:
        """What passed."""
        return watched(self.node, place.wires, self.seconds)


@dataclass(frozen=True)
class Capture:
    """Write all packets of a node's wires to a file, until the lab ends."""

    path: Path

    def run(self, place: HostAccess, report: Report) -> None:
        """Begin; packets are written as they come."""
        begun = threading.Event()
        thread = threading.Thread(target=capture, args=(place.wires, self.path, begun), daemon=True)
        thread.start()
        if not begun.wait(timeout=5):
            raise RuntimeError(f"no packets can be captured into {self.path}")


@dataclass(frozen=True)
class Look:
    """A shell on the user's terminal, as this node."""

    command: tuple[str, ...]

    def run(self, place: HostAccess, report: Report) -> int:
        """The shell's exit code, once the user leaves it."""
        with open("/dev/tty", "r+b", buffering=0) as tty:  # noqa: PTH123
            return subprocess.run(self.command, stdin=tty, stdout=tty, stderr=tty, check=False).returncode
