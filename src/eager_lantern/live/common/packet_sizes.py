"""How large packets may be on a way, as far as a socket tells."""

import contextlib
import socket
import sys

from ...core.model.site import ETHERNET_BYTES
from ...core.network.packet_size import HEADERS_BYTES

_LINUX_IP_MTU, _LINUX_IPV6_MTU = 14, 24
USUAL_OPTIONS_BYTES = 12
"""What time stamps take of each segment (RFC 7323, section 3.2), where both ends have them."""


def packets_note(sock: socket.socket) -> str:
    """What is unusual about the packets of a TCP connection that stands, in a clause for after its first word: the
    path MTU that the system knows (RFC 1191), else what the negotiated segment size comes to. Empty where they are
    as large as on any Ethernet, and where the socket does not tell."""
    six = sock.family == socket.AF_INET6
    told = (
        _option(sock, socket.IPPROTO_IPV6, _LINUX_IPV6_MTU) if six else _option(sock, socket.IPPROTO_IP, _LINUX_IP_MTU)
    )
    segment = _option(sock, socket.IPPROTO_TCP, socket.TCP_MAXSEG) if hasattr(socket, "TCP_MAXSEG") else None
    if sys.platform == "linux" and told is not None and told < ETHERNET_BYTES:
        return f"; packets of {told} bytes at most on this way (path MTU)"
    fits = ETHERNET_BYTES - HEADERS_BYTES[6 if six else 4] - USUAL_OPTIONS_BYTES
    if segment is not None and 0 < segment < fits:
        return f"; segments of {segment} bytes at most (MSS), {fits} are usual"
    return ""


def _option(sock: socket.socket, level: int, name: int) -> int | None:
    with contextlib.suppress(OSError):
        return sock.getsockopt(level, name)
    return None
