"""Builds a lab in private namespaces, sends probes through it, and tells what became of each.

Run inside ``unshare -Urnm --pid --fork --kill-child``: everything is gone with the process.
Reads a JSON job on stdin, writes a JSON result on stdout. Every node is a process in its own
network namespace; all probes are under way at once and silence is awaited together.
"""

import contextlib
import ctypes
import json
import os
import selectors
import socket
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

RUN = Path("/run/netns")
SWITCH = "switch"
SETTINGS = {
    "net/ipv4/ip_forward": "1",
    "net/ipv4/conf/all/arp_ignore": "1",
    "net/ipv4/conf/default/arp_ignore": "1",
    "net/ipv4/conf/all/arp_announce": "2",
    "net/ipv4/conf/default/arp_announce": "2",
    "net/ipv4/conf/all/rp_filter": "0",
    "net/ipv4/conf/default/rp_filter": "0",
    "net/ipv4/conf/all/send_redirects": "0",
    "net/ipv4/conf/default/send_redirects": "0",
    "net/ipv4/ip_unprivileged_port_start": "0",
    # else the kernel spares answers when many probes are refused at once
    "net/ipv4/icmp_ratelimit": "0",
    "net/ipv4/icmp_ratemask": "0",
}
_CLONE_NEWNET = 0x40000000
Probe = dict[str, Any]


def main() -> None:
    """Build, probe, report."""
    job = json.load(sys.stdin)
    build(job["nodes"])
    workers = [_worker(node, job) for node in job["nodes"]]
    for _, ready, _ in workers:
        os.read(ready, 1)
    for go, _, _ in workers:
        os.write(go, b"!")
    results: dict[str, Any] = {}
    for _, _, output in workers:
        with os.fdopen(output) as stream:
            results |= json.load(stream)
    json.dump(results, sys.stdout)


def build(nodes: list[Any]) -> None:
    """Namespaces, one bridge a network, wires, addresses and routes."""
    subprocess.run(["mount", "-t", "tmpfs", "none", "/run"], check=True)
    RUN.mkdir()
    namespaces = {node["name"]: f"n{i}" for i, node in enumerate(nodes)}
    networks = sorted({wire["network"] for node in nodes for wire in node["wires"]})
    for each in (*namespaces.values(), SWITCH):
        subprocess.run(["ip", "netns", "add", each], check=True)
    wiring = [f"link add br{i} type bridge" for i in range(len(networks))]
    wiring += [f"link set br{i} up" for i in range(len(networks))]
    _batch(SWITCH, wiring)
    joined: list[str] = []
    for i, node in enumerate(nodes):
        lines = ["link set lo up"]
        for j, wire in enumerate(node["wires"]):
            end, name = f"w{i}x{j}", wire["name"]
            lines.append(f"link add {name} type veth peer name {end} netns {SWITCH}")
            lines += [f"addr add {address} dev {name}" for address in wire["addresses"]]
            lines.append(f"link set {name} up")
            joined += [f"link set {end} master br{networks.index(wire['network'])}", f"link set {end} up"]
        for route in node["routes"]:
            via = f"via {route['via']} onlink" if route["via"] else ""
            lines.append(f"route add {route['to']} {via} dev {route['wire']}")
        _batch(namespaces[node["name"]], lines)
    _batch(SWITCH, joined)


def _batch(namespace: str, lines: list[str]) -> None:
    text = "\n".join(lines) + "\n"
    subprocess.run(["ip", "-n", namespace, "-batch", "-"], input=text, text=True, check=True)


def _worker(node: Any, job: Any) -> tuple[int, int, int]:
    """Start the process of a node; the ends to tell it to go, to hear that it is ready, and to
    read its results. A node that fails closes them, which the reader sees as an end."""
    go, ready, output = os.pipe(), os.pipe(), os.pipe()
    if os.fork():
        for mine in (go[0], ready[1], output[1]):
            os.close(mine)
        return go[1], ready[0], output[0]
    try:
        results = _live(node, job, go[0], ready[1])
        os.write(output[1], json.dumps(results).encode())
    except Exception as error:
        print(f"{node['name']}: {error!r}", file=sys.stderr)
    finally:
        os._exit(0)


def _live(node: Any, job: Any, go: int, ready: int) -> dict[str, Any]:
    """The life of a node: its rules, its listeners, and its probes once all nodes are ready."""
    index = next(i for i, each in enumerate(job["nodes"]) if each["name"] == node["name"])
    _enter(RUN / f"n{index}")
    for name, value in SETTINGS.items():
        (Path("/proc/sys") / name).write_text(value)
    subprocess.run(["nft", "-f", "-"], input=node["rules"], text=True, check=True)
    probes = [each for each in job["probes"] if each["from"] == node["name"]]
    servers = _listeners(node["name"], job["ports"]) if node["is_host"] else []
    os.write(ready, b"!")
    os.read(go, 1)
    return _exchange(servers, probes, job["seconds"])


def _enter(namespace: Path) -> None:
    handle = os.open(namespace, os.O_RDONLY)
    if ctypes.CDLL(None, use_errno=True).setns(handle, _CLONE_NEWNET):
        raise OSError(ctypes.get_errno(), "setns")


def _socket(kind: socket.SocketKind) -> socket.socket:
    made = socket.socket(socket.AF_INET, kind)
    made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEPORT, 1)
    made.setblocking(False)
    return made


def _listeners(host: str, ports: list[int]) -> list[tuple[socket.socket, str, int]]:
    found = []
    for port in ports:
        for kind in (socket.SOCK_STREAM, socket.SOCK_DGRAM):
            server = _socket(kind)
            server.bind(("0.0.0.0", port))
            if kind is socket.SOCK_STREAM:
                server.listen(64)
            found.append((server, host, port))
    return found


def _exchange(servers: list[tuple[socket.socket, str, int]], probes: list[Probe], seconds: float) -> dict[str, Any]:
    """Serve and probe at once until the time is over; what no answer came to is silent."""
    chosen = selectors.DefaultSelector()
    for server, host, port in servers:
        chosen.register(server, selectors.EVENT_READ, ("serve", host, port))
    results: dict[str, Any] = {}
    for probe in probes:
        results[probe["id"]] = {"outcome": "silent"}
        _begin(chosen, probe, results)
    end = time.monotonic() + seconds
    while (left := end - time.monotonic()) > 0:
        for key, _ in chosen.select(left):
            if key.data[0] == "serve":
                _serve(key.fileobj, key.data[1], key.data[2])  # type: ignore[arg-type]
            else:
                _answered(chosen, key.fileobj, key.data[1], results)  # type: ignore[arg-type]
    return results


def _serve(server: socket.socket, host: str, port: int) -> None:
    """Tell a caller who it seems to be and where it arrived."""
    with contextlib.suppress(OSError):  # a caller that is gone again
        if server.type is socket.SOCK_STREAM:
            caller, peer = server.accept()
            caller.sendall(json.dumps([host, port, *peer]).encode())
            caller.close()
        else:
            _, peer = server.recvfrom(64)
            server.sendto(json.dumps([host, port, *peer]).encode(), peer)


def _begin(chosen: selectors.BaseSelector, probe: Probe, results: dict[str, Any]) -> None:
    kind = socket.SOCK_STREAM if probe["protocol"] == "tcp" else socket.SOCK_DGRAM
    made = _socket(kind)
    try:
        made.bind((probe["source"], probe["source_port"]))
        made.connect((probe["to"], probe["port"]))
        if kind is socket.SOCK_DGRAM:
            made.send(b"?")
    except (BlockingIOError, PermissionError):
        pass  # under way; or dropped by the host's own filter, whose answer, if any, is still to come
    except OSError as error:
        _failed(error, probe, results)
        return
    chosen.register(made, selectors.EVENT_READ, ("probe", probe))


def _failed(error: OSError, probe: Probe, results: dict[str, Any]) -> None:
    refused = isinstance(error, ConnectionRefusedError)
    results[probe["id"]] = {"outcome": "refused" if refused else "silent", "error": str(error)}


def _answered(chosen: selectors.BaseSelector, made: socket.socket, probe: Probe, results: dict[str, Any]) -> None:
    try:
        data = made.recv(256)
    except OSError as error:
        _failed(error, probe, results)
    else:
        if data:
            host, port, source, source_port = json.loads(data)
            results[probe["id"]] = {
                "outcome": "ok", "at": host, "port": port, "source": source, "source_port": source_port,
            }  # fmt: skip
    chosen.unregister(made)
    made.close()


if __name__ == "__main__":
    main()
