"""The host that a survey is about: Linux by its commands and files, here or far away; any other system by psutil."""

import contextlib
import platform
import socket
import sys
import time
from collections.abc import AsyncIterator, Awaitable, Iterator
from functools import partial
from typing import TypeVar

import psutil
from msgspec.structs import replace

from ...core.model.site import default_own_ports
from ...core.observed.survey import (
    ClockState,
    FilterState,
    HelperState,
    ListeningSocket,
    LocalPorts,
    OwnAddress,
    SurveyedHost,
    SystemKind,
    Topic,
    Unlearnt,
    WayOut,
)
from ...core.values.addresses import FAMILIES, Address, AddressSet, Family, network_around
from ...wire import linux_host as linux
from ...wire.terminal_safe import printable
from ..own_process import understood
from ..vantage.base import Failed, Vantage

Fact = TypeVar("Fact")


class Learning:
    """Collects what could not be learnt."""

    def __init__(self) -> None:
        self.unknown: list[Unlearnt] = []

    def note_unknown(self, topic: Topic, why: str, ask: str) -> None:
        """Keep that something is not known."""
        self.unknown.append(Unlearnt(topic, printable(why, 200), ask))

    async def of(self, topic: Topic, ask: str, work: Awaitable[Fact]) -> Fact | None:
        """What some work comes to; None where it comes to nothing."""
        try:
            return await work
        except FileNotFoundError as error:
            missing = f"{error.filename} is not there" if error.filename else "the system has no such thing"
            self.note_unknown(topic, missing, ask)
        except PermissionError:
            self.note_unknown(topic, "needs root", ask)
        except OSError as error:
            self.note_unknown(topic, (error.strerror or "it failed").lower(), ask)
        except (ValueError, Failed) as error:
            self.note_unknown(topic, str(error), ask)
        return None


STAND_FOR_INTERNET: dict[Family, tuple[str, ...]] = {
    4: ("192.0.2.1", "198.51.100.1", "203.0.113.1"),
    6: ("2001:db8::1", "3fff::1"),
}
"""Addresses that nobody has (RFC 5737, RFC 3849, RFC 9637): a route to them is asked for, and nothing is sent."""
MOST_PROGRAMS = 40
SUPERUSER = "run it as root there (sudo)"


async def is_linux(vantage: Vantage) -> bool:
    """Whether the place is a Linux system."""
    try:
        return bool(await vantage.read("/proc/sys/kernel/osrelease"))
    except OSError:
        return False


async def linux_host(vantage: Vantage, far: bool, learning: Learning) -> SurveyedHost:
    """Everything that the host reports but its accounts; ``far`` is one whose clock is held against this machine's."""
    found = await learning.of("addresses", "ip address", _interfaces(vantage))
    links = found or linux.Interfaces((), frozenset())
    waiting = await learning.of("listeners", "ss -ltunp", _sockets(vantage)) or ()
    ruleset, is_whole = await learning.of("filter", SUPERUSER, _ruleset(vantage)) or (None, False)
    return SurveyedHost(
        name=(await _first_line(vantage, "/proc/sys/kernel/hostname")) or vantage.name,
        system=await _system(vantage),
        kind="linux",
        addresses=links.addresses,
        ways_out=tuple([each for family in FAMILIES if (each := await _way_out(vantage, family, links, learning))]),
        listeners=tuple([each async for each in _with_units(vantage, waiting, learning)]),
        local_ports=await learning.of("local-ports", "sysctl net.ipv4.ip_local_port_range", _local_ports(vantage)),
        filter=await learning.of("filter", SUPERUSER, _filter_state(vantage, ruleset, is_whole)) if ruleset else None,
        helper=await _helper_state(vantage, ruleset, learning),
        clock=await learning.of("clock", "timedatectl", _clock(vantage, far)),
    )


async def _output(vantage: Vantage, *words: str) -> bytes:
    """What a command writes. Raises OSError, PermissionError where it does not work for this user, and ValueError."""
    code, written = await vantage.run(words)
    if code > 0:
        raise PermissionError
    if code < 0:
        raise ValueError(f"{words[0]} does not end, or writes more than is read")
    return written


async def _first_line(vantage: Vantage, path: str) -> str:
    try:
        return printable((await vantage.read(path)).decode(errors="replace").strip().partition("\n")[0], 100)
    except OSError:
        return ""


async def _system(vantage: Vantage) -> str:
    try:
        lines = (await vantage.read("/etc/os-release")).decode(errors="replace").splitlines()
    except OSError:
        lines = []
    named = next((each.partition("=")[2].strip("\"'") for each in lines if each.startswith("PRETTY_NAME=")), "Linux")
    return printable(f"{named}, kernel {await _first_line(vantage, '/proc/sys/kernel/osrelease')}", 200)


async def _interfaces(vantage: Vantage) -> linux.Interfaces:
    written = await _output(vantage, "ip", "-j", "-d", "address")
    return await understood(lambda: linux.interfaces(written))


async def _way_out(vantage: Vantage, family: Family, links: linux.Interfaces, learning: Learning) -> WayOut | None:
    ask = f"ip -{family} route get {STAND_FOR_INTERNET[family][0]}"
    return await learning.of("way-out", ask, _route(vantage, family, links))


async def _route(vantage: Vantage, family: Family, links: linux.Interfaces) -> WayOut | None:
    """The way to an address that stands for the internet; one that leads through a gateway counts more, since a made-up
    network may well have such addresses itself."""
    ways = []
    for address in STAND_FOR_INTERNET[family]:
        code, written = await vantage.run(("ip", "-j", "route", "get", address))
        read = partial(linux.way_out, written, family, links.tunnels)
        if code == 0 and (way := await understood(read)) is not None:
            ways.append(way)
    return next((each for each in ways if each.gateway is not None or each.tunnel), ways[0] if ways else None)


async def _sockets(vantage: Vantage) -> tuple[linux.Waiting, ...]:
    written = await _output(vantage, "ss", "-Hltunp")
    return await understood(lambda: linux.listeners(written))


async def _with_units(
    vantage: Vantage, waiting: tuple[linux.Waiting, ...], learning: Learning
) -> AsyncIterator[ListeningSocket]:
    """The listeners, with the unit of systemd that starts each."""
    processes = list(dict.fromkeys(each.process for each in waiting if each.process))[:MOST_PROGRAMS]
    manages = await _there(vantage, "/run/systemd/system")
    units = {each: await _unit(vantage, each) for each in processes} if manages else {}
    begins = {each: await _starts(vantage, each) for each in set(units.values()) if each}
    if not manages:
        learning.note_unknown("starts", "systemd does not run here", "look where this system lists what starts with it")
    if any(not each.process for each in waiting):
        learning.note_unknown("programs", "needs root, and is unknown for containers", SUPERUSER)
    for each in waiting:
        unit = units.get(each.process, "")
        yield replace(each.listener, unit=unit, starts=begins.get(unit))


async def _there(vantage: Vantage, path: str) -> bool:
    """Whether a file or folder is there."""
    try:
        await vantage.read(path)
    except IsADirectoryError:
        return True
    except OSError:
        return False
    return True


async def _unit(vantage: Vantage, process: str) -> str:
    try:
        return linux.unit_of(await vantage.read(f"/proc/{process}/cgroup"))
    except OSError:
        return ""


async def _starts(vantage: Vantage, unit: str) -> bool | None:
    """Whether the unit, or a socket that starts it, is switched on."""
    try:
        _, written = await vantage.run(
            ("systemctl", "is-enabled", "--", unit, f"{unit.removesuffix('.service')}.socket")
        )
    except OSError:
        return None
    return linux.starts(written)


async def _local_ports(vantage: Vantage) -> LocalPorts:
    folder = "/proc/sys/net/ipv4"
    span, reserved = [await vantage.read(f"{folder}/ip_local_{each}") for each in ("port_range", "reserved_ports")]
    return linux.local_ports(span, reserved)


async def _ruleset(vantage: Vantage) -> tuple[bytes, bool]:
    """The rules of the kernel, and that these are all; where they are too many to be read, its chains alone."""
    code, written = await vantage.run(("nft", "-j", "list", "ruleset"))
    return (written, True) if code == 0 else (await _output(vantage, "nft", "-j", "list", "chains"), False)


async def _routing(vantage: Vantage) -> str:
    """The routing rules of both families; empty where either cannot be had."""
    try:
        written = [await _output(vantage, *each) for each in (("ip", "rule"), ("ip", "-6", "rule"))]
    except (OSError, ValueError):
        return ""
    return b"".join(written).decode("utf-8", "replace")


async def _filter_state(vantage: Vantage, ruleset: bytes, is_whole: bool) -> FilterState:
    found = await understood(lambda: linux.filter_state(ruleset))
    if is_whole:
        listing = ruleset.decode("utf-8", "replace")
        found = replace(found, listing=listing, routing=await _routing(vantage) if "mark" in listing.lower() else "")
    older = await _first_line(vantage, "/proc/net/ip_tables_names")
    if found.active or not older:
        return found
    raise ValueError("the kernel has rules of the older kind (iptables-legacy), which are not read")


async def _helper_state(vantage: Vantage, ruleset: bytes | None, learning: Learning) -> HelperState:
    modules = [each for each in ("nf_conntrack_ftp", "nf_nat_ftp") if await _there(vantage, f"/sys/module/{each}")]
    by_itself = await _first_line(vantage, "/proc/sys/net/netfilter/nf_conntrack_helper") == "1"
    in_use: bool | None = bool(modules) and (by_itself or (ruleset is not None and linux.gives_helper(ruleset)))
    if modules and not in_use and ruleset is None:
        learning.note_unknown("helper", "whether a rule gives connections to needs root", SUPERUSER)
        in_use = None
    return HelperState(tuple(modules), "/sys/module", in_use)


async def _clock(vantage: Vantage, far: bool) -> ClockState:
    kept = {b"yes": True, b"no": False}.get(await _time_server(vantage))
    if not far:
        if kept is None:
            raise ValueError("timedatectl does not report whether a time server keeps it")
        return ClockState("timedatectl", None, kept)
    return ClockState("date there, beside the clock here", round(await clock_offset(vantage), 1), kept)


async def clock_offset(vantage: Vantage) -> float:
    """How many seconds the clock there is before the one here, to half of what the question takes; a system that does
    not count below the second is taken at the middle of one. Raises OSError, PermissionError and ValueError."""
    before = time.time()
    written = (await _output(vantage, "date", "+%s.%N")).decode("ascii", errors="replace").strip()
    between = (before + time.time()) / 2
    whole, _, part = written.partition(".")
    if not (whole.isdecimal() and whole.isascii() and len(whole) < 12):
        raise ValueError("its date has no seconds")
    return int(whole) + (float(f"0.{part}") if part.isascii() and part.isdecimal() else 0.5) - between


async def _time_server(vantage: Vantage) -> bytes:
    try:
        _, written = await vantage.run(("timedatectl", "show", "--property=NTPSynchronized", "--value"))
    except OSError:
        return b""
    return written.strip()


_FAMILIES: dict[int, Family] = {socket.AF_INET: 4, socket.AF_INET6: 6}
_KINDS: dict[str, SystemKind] = {"win32": "windows", "darwin": "macos"}


def this_machine(learning: Learning) -> SurveyedHost:
    """What this machine reports without a shell."""
    kind = _KINDS.get(sys.platform, "other")
    addresses = tuple(_own_addresses())
    learning.note_unknown(
        "filter", "it is not read on this system", "open the firewall's page in the system's settings"
    )
    learning.note_unknown("helper", "it is not read on this system", "look for an FTP helper on the router alone")
    learning.note_unknown("starts", "it is not read on this system", "look which services start with the system")
    learning.note_unknown("clock", "it is not read on this system", "hold it against a clock that you trust")
    return SurveyedHost(
        name=printable(platform.node(), 100),
        system=printable(platform.platform(), 200),
        kind=kind,
        addresses=addresses,
        ways_out=tuple(way for family in FAMILIES if (way := _way_out_by_psutil(family, addresses)) is not None),
        listeners=tuple(_listeners(learning)),
        local_ports=_local_ports_by_psutil(kind, learning),
    )


def _own_addresses() -> Iterator[OwnAddress]:
    for interface, each in psutil.net_if_addrs().items():
        for own in each:
            if own.family in _FAMILIES and "%" not in own.address:
                address = Address.parse(own.address)
                if address.kind not in ("loopback", "link-local"):
                    yield OwnAddress(address, interface, "psutil", _network(address, own.netmask))


def _network(address: Address, mask: str | None) -> AddressSet | None:
    """The network around an address, by its mask where that is known."""
    with contextlib.suppress(ValueError, OSError):
        return network_around(address, _length(mask)) if mask else None
    return None


def _length(mask: str) -> int:
    number = int.from_bytes(socket.inet_pton(socket.AF_INET6 if ":" in mask else socket.AF_INET, mask))
    return number.bit_count()


def _way_out_by_psutil(family: Family, addresses: tuple[OwnAddress, ...]) -> WayOut | None:
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
    """Whether an interface leads to one other end alone, as tunnels do; None where the system does not report it."""
    flags = getattr(psutil.net_if_stats().get(interface), "flags", "")
    return "pointopoint" in flags.split(",") if flags else None


def _listeners(learning: Learning) -> Iterator[ListeningSocket]:
    try:
        found = psutil.net_connections("inet")
    except psutil.AccessDenied:
        learning.note_unknown("listeners", "needs root", "run it as root")
        return
    for each in found:
        bound = each.type == socket.SOCK_DGRAM and not each.raddr
        if each.laddr and (each.status == psutil.CONN_LISTEN or bound):
            anywhere = each.laddr.ip in ("0.0.0.0", "::")
            address = None if anywhere else Address.parse(each.laddr.ip.partition("%")[0])
            tcp = each.type == socket.SOCK_STREAM
            yield ListeningSocket("tcp" if tcp else "udp", each.laddr.port, "psutil", address, _program(each.pid))


def _program(process: int | None) -> str:
    if process is None:
        return ""
    try:
        return printable(psutil.Process(process).name(), 80)
    except psutil.Error:
        return ""


def _local_ports_by_psutil(kind: SystemKind, learning: Learning) -> LocalPorts | None:
    learning.note_unknown(
        "rest", "how long a port rests is not read on this system", "look for TIME-WAIT in its manual"
    )
    if kind == "windows":
        return LocalPorts(default_own_ports("windows"), "the default of this system, where nobody changed it")
    learning.note_unknown("local-ports", "it is not read on this system", "sysctl net.inet.ip.portrange")
    return None
