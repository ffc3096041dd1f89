"""Addresses and ports inside FTP commands and replies (RFC 959, RFC 2428)."""

import re
from dataclasses import dataclass
from ipaddress import IPv4Address, ip_address

from .reply import ProtocolFault, Reply


@dataclass(frozen=True, slots=True)
class Endpoint:
    """An address and a port."""

    address: str
    port: int

    def __str__(self) -> str:
        return f"[{self.address}]:{self.port}" if ":" in self.address else f"{self.address}:{self.port}"


_SIX = re.compile(r"(?<![0-9])" + ",".join([r"\s*([0-9]{1,3})\s*"] * 6) + r"(?![0-9])")
_EXTENDED = re.compile(r"\((.)\1\1([0-9]{1,5})\1\)")


def passive_endpoint(reply: Reply) -> Endpoint:
    """Where a 227 reply sends the client; the numbers are searched for (RFC 1123, 4.1.2.6).

    Raises ProtocolFault when there are none, or they are none of an address and a port.
    """
    match = _SIX.search(reply.text)
    numbers = [int(each) for each in match.groups()] if match else []
    if not numbers or any(each > 255 for each in numbers):
        raise ProtocolFault(f"no address and port in the passive reply “{reply}”")
    port = numbers[4] * 256 + numbers[5]
    if port == 0:
        raise ProtocolFault(f"port 0 in the passive reply “{reply}”")
    return Endpoint(str(IPv4Address(bytes(numbers[:4]))), port)


def extended_port(reply: Reply) -> int:
    """The port of a 229 reply, ``(|||6446|)`` (RFC 2428, section 3).

    Raises ProtocolFault when there is none.
    """
    match = _EXTENDED.search(reply.text)
    if not match or not 1 <= int(match[2]) <= 65535:
        raise ProtocolFault(f"no port in the extended passive reply “{reply}”")
    return int(match[2])


def port_argument(endpoint: Endpoint) -> str:
    """The argument of PORT (RFC 959, 4.1.2), IPv4 only. Raises ValueError for another family."""
    address = IPv4Address(endpoint.address)
    return ",".join(map(str, [*address.packed, endpoint.port // 256, endpoint.port % 256]))


def eprt_argument(endpoint: Endpoint) -> str:
    """The argument of EPRT (RFC 2428, section 2), either family."""
    family = 1 if ip_address(endpoint.address).version == 4 else 2
    return f"|{family}|{endpoint.address}|{endpoint.port}|"
