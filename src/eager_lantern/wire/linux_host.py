"""The state of a Linux system (public interface of iproute2, ss, systemd, nft and /proc): text in, values out.

Each reader raises ValueError for what it does not understand, so that nothing is taken for known that is not.
"""

import re
from collections.abc import Iterator, Sequence
from typing import Literal, TypeVar

import msgspec
from msgspec import Struct, field
from msgspec.structs import replace

from ..core.observed.survey import (
    FilterState,
    ListeningSocket,
    LocalPorts,
    OwnAddress,
    SurveyedAccount,
    WayOut,
)
from ..core.values.addresses import Address, Family, network_around
from ..core.values.ports import PortSet
from .terminal_safe import printable

TUNNELS = frozenset({
    "tun", "ppp", "wireguard", "ipip", "ip6tnl", "gre", "gretap", "ip6gre", "sit", "vti", "vti6", "xfrm", "ipip6",
    "l2tp", "amt", "vxlan", "geneve", "fou",
})  # fmt: skip
"""Kinds of interfaces that carry packets within others."""
_ACCOUNT = re.compile(r"(?P<name>[^:\n]+):[^:]*:\d*:\d*:[^:]*:(?P<home>[^:\n]*):(?P<shell>[^:\n]*)\n?")
_FOLDER = re.compile(r"directory\|(?P<owner>[^|\n]{1,80})\|(?P<mode>[0-7]{1,5})\n?")
REST_SECONDS = 60.0
"""For how long Linux keeps a port in TIME-WAIT, which no setting changes (TCP_TIMEWAIT_LEN)."""
MOST_LISTENERS = 2000
_PROGRAM = re.compile(r'users:\(\("((?:[^"\\]|\\.){1,80})",pid=([0-9]{1,10}),')


class _Own(Struct, frozen=True):
    local: str = ""
    prefixlen: int = 0
    dynamic: bool = False
    temporary: bool = False


class _LinkInfo(Struct, frozen=True):
    info_kind: str = ""


class _Interface(Struct, frozen=True):
    ifname: str = ""
    link_type: str = ""
    linkinfo: _LinkInfo = _LinkInfo()
    addr_info: tuple[_Own, ...] = ()


class _Route(Struct, frozen=True):
    dev: str = ""
    gateway: str = ""
    prefsrc: str = ""
    type: str = "unicast"


class Interfaces(Struct, frozen=True):
    """The interfaces of a host: their addresses, and which of them are tunnels."""

    addresses: tuple[OwnAddress, ...]
    tunnels: frozenset[str]


def interfaces(text: bytes) -> Interfaces:
    """``ip -j -d address``; loopback and link-local addresses are left out."""
    found = _json_of(text, list[_Interface])
    kept = [(each, own) for each in found for own in each.addr_info if own.local]
    addresses = tuple(_own_address(each.ifname, own) for each, own in kept)
    tunnels = frozenset(each.ifname for each in found if each.linkinfo.info_kind in TUNNELS or _bare(each))
    usable = tuple(each for each in addresses if each.address.kind not in ("loopback", "link-local"))
    return Interfaces(usable, tunnels)


def _bare(each: _Interface) -> bool:
    """An interface without addresses of a link carries packets in something else, as a VPN's does."""
    return each.link_type in ("none", "ppp", "tunnel", "tunnel6", "ipgre", "sit")


def _own_address(interface: str, own: _Own) -> OwnAddress:
    address = Address.parse(own.local)
    network = network_around(address, own.prefixlen) if own.prefixlen else None
    return OwnAddress(address, interface, "ip address", network, own.dynamic, own.temporary)


def way_out(text: bytes, family: Family, tunnels: frozenset[str]) -> WayOut | None:
    """``ip -j route get`` of an address of the internet; None where no packet would leave."""
    found = next((each for each in _json_of(text, list[_Route]) if each.dev), None)
    if found is None or found.type != "unicast":
        return None
    return WayOut(
        family, found.dev, "ip route get", _or_none(found.gateway), _or_none(found.prefsrc), found.dev in tunnels
    )


def _or_none(text: str) -> Address | None:
    return Address.parse(text) if text else None


class Waiting(Struct, frozen=True):
    """A listener, and the number of the process that has it, where that is known."""

    listener: ListeningSocket
    process: str


def listeners(text: bytes) -> tuple[Waiting, ...]:
    """``ss -Hltunp``; programs of other users need root."""
    found = [_socket_of(line.split(None, 6)) for line in text.decode(errors="replace").splitlines() if line.strip()]
    if len(found) > MOST_LISTENERS:
        raise ValueError(f"more than {MOST_LISTENERS} listeners")
    return tuple(found)


def _socket_of(words: Sequence[str]) -> Waiting:
    if len(words) < 6 or words[0] not in ("tcp", "udp"):
        raise ValueError("a line that is no listener's")
    host, _, port = words[4].rpartition(":")
    if not (port.isascii() and port.isdecimal()):
        raise ValueError("a listener without a port")
    address = host.partition("%")[0].strip("[]")
    program = _PROGRAM.search(words[6]) if len(words) > 6 else None
    protocol: Literal["tcp", "udp"] = "tcp" if words[0] == "tcp" else "udp"
    anywhere = address in ("*", "0.0.0.0", "::")
    bound = None if anywhere else Address.parse(address)
    return Waiting(
        ListeningSocket(protocol, int(port), "ss", bound, program[1] if program else ""), program[2] if program else ""
    )


def unit_of(cgroup: bytes) -> str:
    """The unit of systemd that a process belongs to (``/proc/N/cgroup``); empty where it is none of the system's."""
    for line in cgroup.decode(errors="replace").splitlines():
        last = line.rpartition("/")[2]
        if line.startswith(("0::", "1:name=systemd:")) and re.fullmatch(r"[\w@.:\\-]{1,120}\.service", last):
            return last
    return ""


def starts(text: bytes) -> bool | None:
    """``systemctl is-enabled`` of a unit, and of the socket that starts it; None where it states neither, as of a unit
    that others start."""
    words = text.decode(errors="replace").split()
    if any(each in ("enabled", "alias") for each in words):
        return True
    return False if any(each in ("disabled", "masked", "enabled-runtime") for each in words) else None


def local_ports(span: bytes, reserved: bytes) -> LocalPorts:
    """``ip_local_port_range`` and ``ip_local_reserved_ports`` of ``/proc/sys/net/ipv4``."""
    first, last = span.decode("ascii", "replace").split()
    kept = reserved.decode("ascii", "replace").strip()
    ports = PortSet.parse(f"{first}-{last}")
    return LocalPorts(ports, "/proc/sys/net/ipv4", PortSet.parse(kept) if kept else None, REST_SECONDS)


class _Chain(Struct, frozen=True):
    family: str = ""
    table: str = ""
    name: str = ""
    hook: str = ""
    policy: str = "accept"


class _Rule(Struct, frozen=True):
    family: str = ""
    table: str = ""
    chain: str = ""
    expr: tuple[dict[str, msgspec.Raw], ...] = ()


class _Object(Struct, frozen=True):
    chain: _Chain | None = None
    rule: _Rule | None = None


class _Ruleset(Struct, frozen=True):
    objects: tuple[_Object, ...] = field(name="nftables")


_ACTS = {"drop", "reject", "jump", "goto", "vmap", "queue"}


def filter_state(text: bytes) -> FilterState:
    """``nft -j list ruleset``: whether a chain for what arrives turns anything away, by its policy or a rule."""
    objects = _json_of(text, _Ruleset).objects
    arriving = [each.chain for each in objects if each.chain and each.chain.hook == "input"]
    places = {(each.family, each.table, each.name) for each in arriving}
    rules = [
        each.rule for each in objects if each.rule and (each.rule.family, each.rule.table, each.rule.chain) in places
    ]
    acting = [each for each in rules if any(_ACTS & set(part) for part in each.expr)]
    shut = [each for each in arriving if each.policy == "drop"]
    if not arriving:
        return FilterState(False, "the kernel has no rules for what arrives", "nft list ruleset")
    if shut or acting:
        many = f"{len(rules)} rule{'s' * (len(rules) != 1)} for what arrives"
        return FilterState(True, f"{many}, default {'deny' if shut else 'allow'}", "nft list ruleset")
    return FilterState(False, "its chains for what arrives turn nothing away", "nft list ruleset")


def gives_helper(ruleset: bytes) -> bool:
    """Whether a rule gives connections to the FTP helper (``ct helper``)."""
    return b'"ct helper"' in ruleset and b'"ftp"' in ruleset


def name_servers(text: bytes) -> tuple[Address, ...]:
    """``/etc/resolv.conf``: the resolvers, in order."""
    return tuple(_resolvers(text.decode(errors="replace")))[:3]


def _resolvers(text: str) -> Iterator[Address]:
    for line in text.splitlines():
        words = line.split()
        if len(words) > 1 and words[0] == "nameserver":
            try:
                yield Address.parse(words[1].partition("%")[0])
            except ValueError:
                continue


_Kind = TypeVar("_Kind")


def _json_of(text: bytes, kind: type[_Kind]) -> _Kind:
    try:
        return msgspec.json.decode(text, type=kind)
    except (msgspec.DecodeError, RecursionError) as error:
        raise ValueError(f"output that is not understood: {error}") from None


def account(name: str, text: bytes) -> SurveyedAccount:
    """``getent passwd NAME``. Raises ValueError."""
    found = _ACCOUNT.fullmatch(text.decode("utf-8", "replace"))
    if found is None or found["name"] != name:
        raise ValueError("getent prints another line than that of the account")
    return SurveyedAccount(name, "getent passwd", True, shell_of(found["shell"]), printable(found["home"], 400))


def shell_of(field: str) -> str:
    """The shell of an account that its entry names, or that which an empty entry means (passwd(5))."""
    return printable(field, 200) or "/bin/sh"


def top_of(found: SurveyedAccount, text: bytes) -> SurveyedAccount:
    """``stat -L -c '%F|%U|%a' HOME``: the account with whose its home is. Raises ValueError."""
    seen = _FOLDER.fullmatch(text.decode("utf-8", "replace"))
    if seen is None:
        raise ValueError(f"the home of {found.name} is no folder")
    return replace(found, by="getent passwd, stat", owner=printable(seen["owner"], 80), mode=seen["mode"])
