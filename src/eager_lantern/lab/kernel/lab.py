"""The kernel lab: a described site built on this machine, and real traffic sent through it.

The whole lab lives in private user, mount, network and process namespaces of one child
process: it needs no privileges where the system allows that, cannot touch the host's rules,
and is gone when this process is gone, however that ends.
"""

import contextlib
import itertools
import subprocess
import sys
from collections.abc import Callable, Sequence
from functools import cache
from multiprocessing import Pipe
from pathlib import Path
from typing import Any, Self

from ...core.model.site import Site
from ...live.own_process import environment_of_system, program, python_of_ours
from ..tasks.probes import Probe, ProbeSeen
from ..tasks.tasks import Ask, Listen, StopServers, Task, TaskFailed
from .layout import Node, TooLarge, lab_nodes

UNSHARE = ("unshare", "-Urnm", "--pid", "--fork", "--kill-child")
MEANS = {"unshare": "util-linux", "ip": "iproute2", "nft": "nftables"}
PATIENCE_SECONDS = 1.4
"""A SYN is sent once more after a second, and only then is what came to the first one at once heard of (a refusal by
ICMPv6 that arrives while connect(2) is still in the kernel)."""
WAIT_SECONDS = 30
NODE_BYTES = 12_000_000
"""What a node takes of the machine: its process, sockets and namespace (measured: 9 MB)."""
_HELPER = 'table inet t { ct helper h { type "ftp" protocol tcp; l3proto ip; }; }'


class LabMissing(RuntimeError):
    """A means that the lab needs is not there, with how to get it."""


def missing_means() -> str:
    """Why there can be no kernel lab here, in a sentence; empty where there can."""
    if sys.platform != "linux":
        return "this system is not Linux"
    for command, package in MEANS.items():
        if program(command) is None:
            return f"{command} is missing: install the package {package}"
    tried = subprocess.run(
        [*UNSHARE, "true"],
        capture_output=True,
        text=True,
        check=False,
        env=environment_of_system(),
        timeout=WAIT_SECONDS,
    )
    return "" if tried.returncode == 0 else f"this system allows no private namespaces: {tried.stderr.strip()}"


@cache
def has_helper() -> bool:
    """Whether this kernel can read FTP control connections itself."""
    tried = [*UNSHARE, "nft", "-f", "-"]
    done = subprocess.run(
        tried,
        input=_HELPER,
        text=True,
        capture_output=True,
        check=False,
        env=environment_of_system(),
        timeout=WAIT_SECONDS,
    )
    return done.returncode == 0


def room_for(nodes: Sequence[Node]) -> None:
    """Raises TooLarge where this machine cannot hold so many nodes, before anything is built."""
    free = _free_bytes()
    if free < len(nodes) * NODE_BYTES:
        raise TooLarge(
            f"{len(nodes)} hosts and gateways need about {len(nodes) * NODE_BYTES // 1_000_000} MB, "
            f"{free // 1_000_000} MB are free"
        )
    spaces = _limit("/proc/sys/user/max_net_namespaces")
    if spaces < len(nodes) + 2:
        raise TooLarge(f"{len(nodes)} hosts and gateways, where this system allows {spaces} network namespaces")
    if sys.platform != "linux":
        raise LabMissing("this system is not Linux")
    import resource  # which not every system has

    processes = resource.getrlimit(resource.RLIMIT_NPROC)[0]
    if processes != resource.RLIM_INFINITY and processes < 2 * len(nodes):
        raise TooLarge(f"{len(nodes)} hosts and gateways, where this system allows {processes} processes")


def _free_bytes() -> int:
    for line in Path("/proc/meminfo").read_text().splitlines():
        if line.startswith("MemAvailable:"):
            return int(line.split()[1]) * 1024
    return 0


def _limit(path: str) -> int:
    return int(Path(path).read_text())


class KernelLab:
    """A site that stands, as a context manager; ``folder`` goes with it, however this process ends.
    Raises LabMissing, TooLarge."""

    def __init__(self, nodes: Sequence[Node], folder: Path | None = None) -> None:
        room_for(nodes)
        self.nodes = {each.name: each for each in nodes}
        self._numbers = itertools.count()
        self._tool, theirs = Pipe()
        run = python_of_ours("eager_lantern.lab.kernel.node_process", str(theirs.fileno()), str(folder or ""))
        command = [*UNSHARE, *run]
        self._process = subprocess.Popen(
            command,
            stdin=subprocess.DEVNULL,
            pass_fds=[theirs.fileno()],
            env=environment_of_system(),
            stderr=subprocess.PIPE,
        )
        theirs.close()

    def __enter__(self) -> Self:
        try:
            self._tool.send(tuple(self.nodes.values()))
            trouble = self._tool.recv()
        except (EOFError, OSError):
            self.__exit__()
            assert self._process.stderr is not None
            trouble = self._process.stderr.read().decode(errors="replace").strip() or "its process ended"
        if trouble:
            self.__exit__()
            raise LabMissing(f"the lab could not be built: {trouble.splitlines()[-1]}")
        return self

    def __exit__(self, *_: object) -> None:
        self._tool.close()
        with contextlib.suppress(subprocess.TimeoutExpired):
            self._process.wait(timeout=3)
        self._process.kill()
        self._process.wait()

    def do(self, node: str, task: Task) -> Any:
        """One task. Raises TaskFailed."""
        return self.do_all([(node, task)])[0]

    def do_all(
        self, tasks: Sequence[tuple[str, Task]], news: Callable[[int, Any], None] = lambda index, payload: None
    ) -> list[Any]:
        """Several tasks at once, and their results in order. Raises TaskFailed for the first
        that fails, once all have ended, and LabMissing when the lab is gone."""
        numbers = {}
        for i, (node, task) in enumerate(tasks):
            numbers[number := next(self._numbers)] = i
            self._tool.send((number, node, task))
        results: list[Any] = [None] * len(tasks)
        failures: list[str] = []
        while numbers:
            number, kind, payload = _received(self._tool)
            if kind == "news":
                news(numbers[number], payload)
                continue
            index = numbers.pop(number)
            if kind == "failed":
                failures.append(f"{tasks[index][0]}: {payload}")
            results[index] = payload
        if failures:
            raise TaskFailed(failures[0])
        return results


def _received(tool: Any) -> tuple[int, str, Any]:
    try:
        message: tuple[int, str, Any] = tool.recv()
    except (EOFError, OSError):
        raise LabMissing("the lab has ended before its work was done") from None
    return message


def observed(site: Site, probes: list[Probe], ports: list[int]) -> list[ProbeSeen]:
    """Build the site, listen on these ports of every host, and send all probes at once.

    Raises LabMissing when the lab cannot run, and TooLarge.
    """
    nodes = lab_nodes(site)
    with KernelLab(nodes) as lab:
        return exchanged(lab, probes, ports)


def exchanged(lab: KernelLab, probes: list[Probe], ports: list[int]) -> list[ProbeSeen]:
    """Listen on these ports of every host, and send all probes at once."""
    hosts = [each for each in lab.nodes.values() if each.is_host]
    lab.do_all([(each.name, Listen(each.name, _node_addresses(each), tuple(ports))) for each in hosts])
    shares = {host.name: tuple(each for each in probes if each.sender == host.name) for host in hosts}
    found = lab.do_all([(name, Ask(share, PATIENCE_SECONDS)) for name, share in shares.items()])
    lab.do_all([(each.name, StopServers()) for each in hosts])
    seen: dict[Probe, ProbeSeen] = {}
    for share, part in zip(shares.values(), found, strict=True):
        seen |= dict(zip(share, part, strict=True))
    return [seen[each] for each in probes]


def _node_addresses(node: Node) -> tuple[str, ...]:
    return tuple(each.partition("/")[0] for wire in node.wires for each in wire.addresses)
