"""A small stand-in for a NAT64 device (RFC 6146, RFC 7915), since the kernel has none.

Packets to the prefix come to it through a tun device, get an IPv4 header and go back to the kernel, whose own
source translation makes them the device's; answers come the same way back. Each inside host is known on the IPv4
side by an address of :data:`POOL`, which nobody sees behind the device. TCP and UDP pass, and the ICMP errors that tell
of refusals.

>>> made = Nat64(Prefix96.parse("64:ff9b::/96"))
>>> six = packet_of_six("fd00::10", "64:ff9b::c633:643d", 17, b"\\x13\\x88\\x00\\x15\\x00\\x08\\x00\\x00")
>>> four = made.to_four(six)
>>> print(IPv4Address(four[12:16]), IPv4Address(four[16:20]), four[20:24] == six[40:44])
198.18.64.1 198.51.100.61 True
"""

import fcntl
import os
import struct
import sys
import threading
from collections.abc import Callable
from ipaddress import IPv4Address, IPv6Address

from ...core.values.addresses import Prefix96
from ...formats.devices.packet_filter.nftables import MAPPED

POOL = MAPPED
WIRE = "nat64"
_TUNSETIFF, _IFF_TUN_NO_PI = 0x400454CA, 0x1001
_MOST_BYTES = 65_535
_TCP, _UDP, _ICMP, _ICMP_SIX = 6, 17, 1, 58
_CHECKSUM_AT = {_TCP: 16, _UDP: 6}
_UNREACHABLE = {0: 0, 1: 0, 3: 4, 5: 0, 6: 0, 7: 0, 8: 0, 9: 1, 10: 1, 11: 0, 12: 0, 13: 1, 15: 1}
"""Codes of ICMP destination unreachable in ICMPv6 (RFC 7915, section 4.2)."""


def _sum(data: bytes) -> int:
    data += b"\0" * (len(data) % 2)
    total: int = sum(struct.unpack(f"!{len(data) // 2}H", data))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


def _summed(protocol: int, source: bytes, to: bytes, payload: bytes) -> bytes:
    """The payload of TCP, UDP or ICMPv6 with the checksum for these addresses."""
    at = _CHECKSUM_AT.get(protocol, 2)
    bare = payload[:at] + b"\0\0" + payload[at + 2 :]
    head = source + to + struct.pack("!IHH", len(bare), 0, protocol)
    return bare[:at] + struct.pack("!H", _sum(head + bare)) + bare[at + 2 :]


def packet_of_six(source: str, to: str, protocol: int, payload: bytes) -> bytes:
    """An IPv6 packet (RFC 8200, section 3)."""
    return _six(IPv6Address(source).packed, IPv6Address(to).packed, protocol, payload, 64)


def _six(source: bytes, to: bytes, protocol: int, payload: bytes, hops: int) -> bytes:
    return struct.pack("!IHBB", 6 << 28, len(payload), protocol, hops) + source + to + payload


def _four(source: bytes, to: bytes, protocol: int, payload: bytes, hops: int) -> bytes:
    head = struct.pack("!BBHHHBBH4s4s", 0x45, 0, 20 + len(payload), 0, 0x4000, hops, protocol, 0, source, to)
    return head[:10] + struct.pack("!H", _sum(head)) + head[12:] + payload


class Nat64:
    """The translation of headers, and which inside host is known by which address."""

    def __init__(self, prefix: Prefix96) -> None:
        self.prefix = IPv6Address(str(prefix.first)).packed[:12]
        self._known: dict[bytes, bytes] = {}
        self._hosts: dict[bytes, bytes] = {}

    def _known_by(self, host: bytes) -> bytes:
        if host not in self._known:
            known = (IPv4Address(POOL.partition("/")[0]) + 1 + len(self._known) % 253).packed
            self._known[host], self._hosts[known] = known, host
        return self._known[host]

    def to_four(self, packet: bytes) -> bytes | None:
        """The IPv4 packet for an IPv6 one; None where none goes on."""
        protocol, hops, payload = packet[6], packet[7], packet[40:]
        if protocol not in _CHECKSUM_AT or hops <= 1:
            return None
        source, to = self._known_by(packet[8:24]), packet[36:40]
        return _four(source, to, protocol, _summed(protocol, source, to, payload), hops - 1)

    def to_six(self, packet: bytes) -> bytes | None:
        """The IPv6 packet for an IPv4 one; None where none goes on."""
        head = 4 * (packet[0] & 15)
        protocol, hops, payload = packet[9], packet[8], packet[head:]
        source, host = self.prefix + packet[12:16], self._hosts.get(packet[16:20])
        if host is None or hops <= 1:
            return None
        if protocol == _ICMP:
            payload = self._error(payload)
            return (
                _six(source, host, _ICMP_SIX, _summed(_ICMP_SIX, source, host, payload), hops - 1) if payload else None
            )
        if protocol not in _CHECKSUM_AT:
            return None
        return _six(source, host, protocol, _summed(protocol, source, host, payload), hops - 1)

    def _error(self, payload: bytes) -> bytes:
        """ICMPv6 destination unreachable for the same of ICMP, about what the host has sent; else nothing."""
        kind, code, about = payload[0], payload[1], payload[8:]
        host = self._hosts.get(about[12:16])
        if kind != 3 or code not in _UNREACHABLE or host is None:
            return b""
        inner = _six(host, self.prefix + about[16:20], about[9], about[4 * (about[0] & 15) :], about[8])
        return struct.pack("!BBHI", 1, _UNREACHABLE[code], 0, 0) + inner


def translating(prefix: Prefix96, run: Callable[..., None]) -> None:
    """Translate in a thread of its own from now on, in the namespace of this process; ``run`` runs a command.
    Raises OSError where this system gives no tun device."""
    if sys.platform != "linux":
        raise OSError("a tun device is the Linux kernel's")
    tun = os.open("/dev/net/tun", os.O_RDWR)
    fcntl.ioctl(tun, _TUNSETIFF, struct.pack("16sH", WIRE.encode(), _IFF_TUN_NO_PI))
    run("ip", "link", "set", WIRE, "up")
    run("ip", "route", "add", POOL, "dev", WIRE)
    run("ip", "-6", "route", "add", str(prefix), "dev", WIRE)
    made = Nat64(prefix)

    def carry() -> None:
        while packet := os.read(tun, _MOST_BYTES):
            turned = made.to_four(packet) if packet[0] >> 4 == 6 else made.to_six(packet)
            if turned is not None:
                os.write(tun, turned)

    threading.Thread(target=carry, daemon=True).start()
