"""A Linux host, here or at a far end: asked by the commands and files in which it tells of itself."""

import time
from collections.abc import AsyncIterator
from functools import partial

from msgspec.structs import replace

from ...core.observed.survey import (
    ClockState,
    FilterState,
    HelperState,
    Host,
    Listener,
    LocalPorts,
    WayOut,
)
from ...core.values.addresses import FAMILIES, Family
from ...wire import linux_host as linux
from ...wire.terminal_safe import printable
from ..vantage.base import Vantage
from ..worker import understood
from .learnt import Learning

STAND_FOR_INTERNET: dict[Family, tuple[str, ...]] = {
    4: ("192.0.2.1", "198.51.100.1", "203.0.113.1"),
    6: ("2001:db8::1", "3fff::1"),
}
"""Addresses that nobody has (RFC 5737, RFC 3849, RFC 9637): a route to them is asked for, and nothing is sent."""
MOST_PROGRAMS = 40
SUPERUSER = "run it as the superuser there (sudo)"


async def is_linux(vantage: Vantage) -> bool:
    """Whether the place tells of itself as Linux does."""
    try:
        return bool(await vantage.read("/proc/sys/kernel/osrelease"))
    except OSError:
        return False


async def linux_host(vantage: Vantage, far: bool, learning: Learning) -> Host:
    """Everything that the host tells; ``far`` is one whose clock is held against this machine's."""
    found = await learning.of("addresses", "ip address", _interfaces(vantage))
    links = found or linux.Interfaces((), frozenset())
    waiting = await learning.of("listeners", "ss -ltunp", _waiting(vantage)) or ()
    ruleset = await learning.of("filter", SUPERUSER, _ruleset(vantage))
    return Host(
        name=(await _line(vantage, "/proc/sys/kernel/hostname")) or vantage.name,
        system=await _system(vantage),
        kind="linux",
        addresses=links.addresses,
        ways_out=tuple([each for family in FAMILIES if (each := await _way_out(vantage, family, links, learning))]),
        listeners=tuple([each async for each in _named(vantage, waiting, learning)]),
        local_ports=await learning.of("local-ports", "sysctl net.ipv4.ip_local_port_range", _local_ports(vantage)),
        filter=await learning.of("filter", SUPERUSER, _filter(vantage, ruleset)) if ruleset is not None else None,
        helper=await _helper(vantage, ruleset, learning),
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


async def _line(vantage: Vantage, path: str) -> str:
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
    return printable(f"{named}, kernel {await _line(vantage, '/proc/sys/kernel/osrelease')}", 200)


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


async def _waiting(vantage: Vantage) -> tuple[linux.Waiting, ...]:
    written = await _output(vantage, "ss", "-Hltunp")
    return await understood(lambda: linux.listeners(written))


async def _named(vantage: Vantage, waiting: tuple[linux.Waiting, ...], learning: Learning) -> AsyncIterator[Listener]:
    """The listeners, with the unit of systemd that starts each."""
    processes = list(dict.fromkeys(each.process for each in waiting if each.process))[:MOST_PROGRAMS]
    manages = await _there(vantage, "/run/systemd/system")
    units = {each: await _unit(vantage, each) for each in processes} if manages else {}
    begins = {each: await _starts(vantage, each) for each in set(units.values()) if each}
    if not manages:
        learning.untold("starts", "systemd does not run here", "look where this system says what starts with it")
    if any(not each.process for each in waiting):
        learning.untold("programs", "that is told to the superuser alone, and not of containers", SUPERUSER)
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


async def _ruleset(vantage: Vantage) -> bytes:
    """The rules of the kernel; where they are too many to be read, its chains alone."""
    code, written = await vantage.run(("nft", "-j", "list", "ruleset"))
    return written if code == 0 else await _output(vantage, "nft", "-j", "list", "chains")


async def _filter(vantage: Vantage, ruleset: bytes) -> FilterState:
    found = await understood(lambda: linux.filter_state(ruleset))
    older = await _line(vantage, "/proc/net/ip_tables_names")
    if found.active or not older:
        return found
    raise ValueError("the kernel has rules of the older kind (iptables-legacy), which are not read")


async def _helper(vantage: Vantage, ruleset: bytes | None, learning: Learning) -> HelperState:
    modules = [each for each in ("nf_conntrack_ftp", "nf_nat_ftp") if await _there(vantage, f"/sys/module/{each}")]
    by_itself = await _line(vantage, "/proc/sys/net/netfilter/nf_conntrack_helper") == "1"
    in_use: bool | None = bool(modules) and (by_itself or (ruleset is not None and linux.gives_helper(ruleset)))
    if modules and not in_use and ruleset is None:
        learning.untold("helper", "whether a rule gives connections to it is told to the superuser alone", SUPERUSER)
        in_use = None
    return HelperState(tuple(modules), "/sys/module", in_use)


async def _clock(vantage: Vantage, far: bool) -> ClockState:
    kept = {b"yes": True, b"no": False}.get(await _time_server(vantage))
    if not far:
        if kept is None:
            raise ValueError("timedatectl does not say whether a time server keeps it")
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
        raise ValueError("its date tells no seconds")
    return int(whole) + (float(f"0.{part}") if part.isascii() and part.isdecimal() else 0.5) - between


async def _time_server(vantage: Vantage) -> bytes:
    try:
        _, written = await vantage.run(("timedatectl", "show", "--property=NTPSynchronized", "--value"))
    except OSError:
        return b""
    return written.strip()
