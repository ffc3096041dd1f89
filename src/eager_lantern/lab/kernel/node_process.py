"""Builds a lab in private namespaces, and lets each of its nodes do what it is asked.

Run inside ``unshare -Urnm --pid --fork --kill-child`` as the first process there, so that
everything ends with it. It ends itself when the connection to the tool does, however the
tool ended. Every node is a process in a network namespace of its own.
"""

import contextlib
import ctypes
import os
import shutil
import subprocess
import sys
import threading
from multiprocessing import Pipe
from multiprocessing.connection import Connection, wait
from pathlib import Path
from typing import Any

from ..packets.nat64 import translating
from ..tasks.tasks import HostAccess, Task
from .layout import Node, Wire

if sys.platform != "linux":
    raise ImportError("a lab of namespaces is of the Linux kernel alone")
RUN = Path("/run/netns")
SWITCH = "switch"
SETTINGS = {
    "net/ipv4/ip_forward": "1",
    "net/ipv4/conf/*/arp_ignore": "1",
    "net/ipv4/conf/*/arp_announce": "2",
    "net/ipv4/conf/*/rp_filter": "0",
    "net/ipv4/conf/*/send_redirects": "0",
    "net/ipv4/ip_unprivileged_port_start": "0",
    # else the kernel spares answers when many probes are refused at once
    "net/ipv4/icmp_ratelimit": "0",
    "net/ipv6/icmp/ratelimit": "0",
    "net/ipv4/icmp_msgs_per_sec": "1000000",
    "net/ipv4/icmp_msgs_burst": "1000000",
    "net/ipv6/conf/*/forwarding": "1",
    "net/ipv6/conf/*/accept_ra": "0",
    "net/ipv6/conf/*/accept_redirects": "0",
    # that nobody has an address is found out by three questions, a second apart unless set otherwise
    "net/ipv4/neigh/*/retrans_time_ms": "100",
    "net/ipv6/neigh/*/retrans_time_ms": "100",
    # what a gateway has forgotten it does not take up again in the middle
    "net/netfilter/nf_conntrack_tcp_loose": "0",
}
QUIET = {
    # asked for longer than any probe waits: what is out on the internet is not reported
    "net/ipv4/neigh/{wire}/mcast_solicit": "1000",
    "net/ipv6/neigh/{wire}/mcast_solicit": "1000",
}
LAST = "metric 9999"
NOWHERE = {"": "169.254.255.254", "-6 ": "fe80::ffff"}
"""What is sent to where no way leads goes to a neighbour of this address, which is not there."""
_CLONE_NEWNET = 0x40000000


def main() -> None:
    """Build what the tool asks for, then carry tasks and results until it is gone."""
    tool, folder = Connection(int(sys.argv[1])), sys.argv[2]
    try:
        nodes: tuple[Node, ...] = tool.recv()
        workers = _built(nodes)
        tool.send("")
        _carry(tool, workers)
    except RuntimeError as error:
        with contextlib.suppress(OSError):
            tool.send(str(error))
    except (EOFError, OSError):
        pass  # the tool is gone, which is how a lab ends
    if folder:
        shutil.rmtree(folder, ignore_errors=True)  # the tool does so itself, unless it was killed
    os._exit(0)


def _carry(tool: Connection, workers: dict[str, Connection]) -> None:
    while True:
        ready = wait([tool, *workers.values()])
        if tool in ready:
            number, node, task = tool.recv()
            workers[node].send((number, task))
        for each in workers.values():
            if each in ready:
                tool.send(each.recv())


def _built(nodes: tuple[Node, ...]) -> dict[str, Connection]:
    """Namespaces, one bridge a network, wires, addresses and routes; then a process a node."""
    _run("mount", "-t", "tmpfs", "none", "/run")
    RUN.mkdir()
    networks = sorted({wire.network for node in nodes for wire in node.wires})
    for each in (SWITCH, *(_namespace(i) for i in range(len(nodes)))):
        _run("ip", "netns", "add", each)
    _batch(SWITCH, [line for i in range(len(networks)) for line in _bridge(i)])
    for i, node in enumerate(nodes):
        _batch(_namespace(i), list(_wiring(i, node)))
    _batch(SWITCH, [line for i, node in enumerate(nodes) for line in _plugged(i, node, networks)])
    workers = {node.name: _worker(i, node) for i, node in enumerate(nodes)}
    for name, connection in workers.items():
        if trouble := connection.recv():
            raise RuntimeError(f"{name}: {trouble}")
    return workers


def _namespace(number: int) -> str:
    return f"n{number}"


def _bridge(number: int) -> tuple[str, ...]:
    return (f"link add br{number} type bridge mcast_snooping 0", f"link set br{number} up")


def _plugged(number: int, node: Node, networks: list[str]) -> list[str]:
    lines = []
    for j, wire in enumerate(node.wires):
        end = f"w{number}x{j}"
        lines += [f"link set {end} master br{networks.index(wire.network)}", *_mtu_command(end, wire)]
        lines.append(f"link set {end} up")
    return lines


def _wiring(number: int, node: Node) -> list[str]:
    lines = ["link set lo up"]
    for j, wire in enumerate(node.wires):
        lines.append(f"link add {wire.name} type veth peer name w{number}x{j} netns {SWITCH}")
        lines += [f"addr add {each} dev {wire.name}{_usable_ipv6(each)}" for each in wire.addresses]
        # packets as long as on a real wire, not what a network card would cut up
        lines += [f"link set {wire.name} gso_max_segs 1", *_mtu_command(wire.name, wire), f"link set {wire.name} up"]
    for route in node.routes:
        via = f"via {route.via} onlink " if route.via else ""
        lines.append(f"{_layer(route.to)}route add {route.to} {via}dev {route.wire}")
    first = node.wires[0].name
    for layer, nowhere in NOWHERE.items():
        if not node.is_host:
            lines.append(f"{layer}route add blackhole default {LAST}")
        elif first in node.quiet:
            lines.append(f"{layer}route add default dev {first} {LAST}")
        else:
            lines.append(f"{layer}neigh add {nowhere} lladdr 02:00:00:00:00:01 dev {first} nud permanent")
            lines.append(f"{layer}route add default via {nowhere} dev {first} onlink {LAST}")
    return lines


def _mtu_command(end: str, wire: Wire) -> tuple[str, ...]:
    return () if wire.narrow is None else (f"link set {end} mtu {wire.narrow}",)


def _layer(prefix: str) -> str:
    return "-6 " if ":" in prefix else ""


def _usable_ipv6(prefix: str) -> str:
    """IPv6 addresses are usable without first asking whether another host has them."""
    return " nodad" if ":" in prefix else ""


def _batch(namespace: str, lines: list[str]) -> None:
    """Each family has commands of its own; the order within a family is kept."""
    for family in ("", "-6"):
        chosen = [line.removeprefix("-6 ") for line in lines if line.startswith("-6 ") == bool(family)]
        if chosen:
            _run("ip", *([family] if family else []), "-n", namespace, "-batch", "-", text="\n".join(chosen) + "\n")


def _run(*command: str, text: str = "") -> None:
    done = subprocess.run(command, input=text, text=True, check=False, capture_output=True)
    if done.returncode:
        raise RuntimeError(f"{command[0]}: {(done.stderr.strip().splitlines() or ['failed'])[0]}")


def _worker(number: int, node: Node) -> Connection:
    """Start the process of a node; its first word is empty, or says why it cannot be."""
    ours, theirs = Pipe()
    if os.fork():
        theirs.close()
        return ours
    try:
        _enter(RUN / _namespace(number))
        _settle(SETTINGS)
        for wire in node.quiet:
            _settle({path.format(wire=wire): value for path, value in QUIET.items()})
        _run("nft", "-f", "-", text=node.rules)
        if node.nat64 is not None:
            translating(node.nat64, _run)
        theirs.send("")
        _serve(theirs, tuple(each.name for each in node.wires))
    except (RuntimeError, OSError) as error:
        theirs.send(str(error))
    except EOFError:
        pass
    finally:
        os._exit(0)


def _enter(namespace: Path) -> None:
    handle = os.open(namespace, os.O_RDONLY)
    if ctypes.CDLL(None, use_errno=True).setns(handle, _CLONE_NEWNET):
        raise OSError(ctypes.get_errno(), "setns")


def _settle(settings: dict[str, str]) -> None:
    for name, value in settings.items():
        for path in Path("/proc/sys").glob(name):
            if os.access(path, os.W_OK):  # what older kernels have for all namespaces at once is not a lab's to set
                path.write_text(value)


def _serve(tool: Connection, wires: tuple[str, ...]) -> None:
    """Do each task in a thread of its own, since some take long and others must not wait."""
    place = HostAccess(wires)
    lock = threading.Lock()

    def send(number: int, kind: str, payload: Any) -> None:
        with lock:
            tool.send((number, kind, payload))

    def do(number: int, task: Task) -> None:
        try:
            send(number, "done", task.run(place, lambda news: send(number, "news", news)))
        except Exception as error:
            send(number, "failed", f"{type(error).__name__}: {error}")

    while True:
        number, task = tool.recv()
        threading.Thread(target=do, args=(number, task), daemon=True).start()


if __name__ == "__main__":
    main()
