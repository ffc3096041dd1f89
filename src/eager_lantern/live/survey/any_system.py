"""This machine, whatever its system, by what psutil tells of it: Windows, macOS and others."""

import contextlib
import platform
import socket
import sys
from collections.abc import Iterator

import psutil

from ...core.model.site import default_own_ports
from ...core.observed.survey import Host, Listener, LocalPorts, OwnAddress, SystemKind, WayOut
from ...core.values.addresses import FAMILIES, Address, AddressSet, Family, network_around
from ...wire.terminal_safe import printable
from .learnt import Learning
from .linux import STAND_FOR_INTERNET

_FAMILIES: dict[int, Family] = {socket.AF_INET: 4, socket.AF_INET6: 6}
_KINDS: dict[str, SystemKind] = {"win32": "windows", "darwin": "macos"}


def this_machine(learning: Learning) -> Host:
    """What this machine tells without a word of a shell."""
    kind = _KINDS.get(sys.platform, "other")
    addresses = tuple(_addresses())
    learning.untold("filter", "it is not read on this system", "open the firewall's page in the system's settings")
    learning.untold("helper", "it is not read on this system", "look for an FTP helper on the router alone")
    learning.untold("starts", "it is not read on this system", "look which services start with the system")
    learning.untold("clock", "it is not read on this system", "hold it against a clock that you trust")
    return Host(
        name=printable(platform.node(), 100),
        system=printable(platform.platform(), 200),
        kind=kind,
        addresses=addresses,
        ways_out=tuple(way for family in FAMILIES if (way := _way_out(family, addresses)) is not None),
        listeners=tuple(_listeners(learning)),
        local_ports=_local_ports(kind, learning),
    )


def _addresses() -> Iterator[OwnAddress]:
    for interface, each in psutil.net_if_addrs().items():
        for own in each:
            if own.family in _FAMILIES and "%" not in own.address:
                address = Address.parse(own.address)
                if address.kind not in ("loopback", "link-local"):
                    yield OwnAddress(address, interface, "psutil", _network(address, own.netmask))


def _network(address: Address, mask: str | None) -> AddressSet | None:
    """The network around an address, by its mask where that is told."""
    with contextlib.suppress(ValueError, OSError):
        return network_around(address, _length(mask)) if mask else None
    return None


def _length(mask: str) -> int:
    number = int.from_bytes(socket.inet_pton(socket.AF_INET6 if ":" in mask else socket.AF_INET, mask))
    return number.bit_count()


def _way_out(family: Family, addresses: tuple[OwnAddress, ...]) -> WayOut | None:
    """From the address that the system would take for a datagram to the internet; none is sent."""
    source = source_towards(Address.parse(STAND_FOR_INTERNET[family][0]))
    if source is None:
        return None
    interface = next((each.interface for each in addresses if each.address == source), "")
    return WayOut(family, interface, "the system's choice of an address", None, source, _tunnel(interface))


def source_towards(address: Address) -> Address | None:
    """The address of its own that this machine would ask another from; nothing is sent."""
    family = socket.AF_INET if address.family == 4 else socket.AF_INET6
    try:
        with socket.socket(family, socket.SOCK_DGRAM) as asked:
            asked.connect((str(address), 9))
            return Address.parse(str(asked.getsockname()[0]).partition("%")[0])
    except OSError:
        return None


def _tunnel(interface: str) -> bool | None:
    """Whether an interface leads to one other end alone, as tunnels do; None where the system tells no such thing."""
    flags = getattr(psutil.net_if_stats().get(interface), "flags", "")
    return "pointopoint" in flags.split(",") if flags else None


def _listeners(learning: Learning) -> Iterator[Listener]:
    try:
        found = psutil.net_connections("inet")
    except psutil.AccessDenied:
        learning.untold("listeners", "it is told to the superuser alone", "run it as the superuser")
        return
    for each in found:
        bound = each.type == socket.SOCK_DGRAM and not each.raddr
        if each.laddr and (each.status == psutil.CONN_LISTEN or bound):
            anywhere = each.laddr.ip in ("0.0.0.0", "::")
            address = None if anywhere else Address.parse(each.laddr.ip.partition("%")[0])
            tcp = each.type == socket.SOCK_STREAM
            yield Listener("tcp" if tcp else "udp", each.laddr.port, "psutil", address, _program(each.pid))


def _program(process: int | None) -> str:
    if process is None:
        return ""
    try:
        return printable(psutil.Process(process).name(), 80)
    except psutil.Error:
        return ""


def _local_ports(kind: SystemKind, learning: Learning) -> LocalPorts | None:
    learning.untold("rest", "how long a port rests is not read on this system", "look for TIME-WAIT in its manual")
    if kind == "windows":
        return LocalPorts(default_own_ports("windows"), "the default of this system, where nobody changed it")
    learning.untold("local-ports", "it is not read on this system", "sysctl net.inet.ip.portrange")
    return None
