"""PCP (RFC 6887): asks a router whether it speaks it (ANNOUNCE), and for a mapping, whose answer states its outside
address. Bytes in, values out."""

import struct
from ipaddress import IPv6Address, ip_address
from typing import Literal

from msgspec import Struct

from ..core.values.addresses import Address


def of_bytes(packed: bytes) -> Address:
    """The address of 4 or 16 bytes. Raises ValueError for another length."""
    found = ip_address(packed)
    mapped = found.ipv4_mapped if isinstance(found, IPv6Address) else None
    return Address.parse(str(mapped or found))


def as_16_bytes(address: Address) -> bytes:
    """The address in 16 bytes."""
    packed = ip_address(str(address)).packed
    return packed if len(packed) == 16 else b"\0" * 10 + b"\xff\xff" + packed


PORT = 5351
NONCE_BYTES = 12
_VERSION, _ANNOUNCE, _MAP, _ANSWER = 2, 0, 1, 0x80
_HEAD = struct.Struct("!BBHI16s")
_ANSWER_HEAD = struct.Struct("!BBBBII12x")
_MAPPING = struct.Struct("!12sB3xHH16s")
_PROTOCOLS = {"tcp": 6, "udp": 17}
_RESULTS = {
    1: "it does not speak this version",
    2: "it does not allow it",
    3: "it finds the request malformed",
    4: "it does not know the request",
    5: "it does not know the option",
    7: "its network fails",
    8: "it has no room",
    9: "it does not map this protocol",
    10: "this host has as many mappings as it may",
    11: "it cannot give the port that was asked for",
    12: "it sees another address of this host than the host itself: something translates between them",
    13: "it knows too many peers",
}
ADDRESS_MISMATCH = 12


class Refused(ValueError):
    """The router answers, and not with what was asked for; ``result`` is its code (section 7.4)."""

    def __init__(self, result: int) -> None:
        super().__init__(_RESULTS.get(result, f"it answers result {result}"))
        self.result = result


class Mapped(Struct, frozen=True):
    """A mapping that the router has made: from an outside address and port to ``inside_port`` of who asked, for
    ``seconds``."""

    outside: Address
    outside_port: int
    inside_port: int
    seconds: int


def announce_request(own: Address) -> bytes:
    """Whether anybody speaks PCP there (section 14.1); ``own`` is the address that the request leaves from."""
    return _HEAD.pack(_VERSION, _ANNOUNCE, 0, 0, as_16_bytes(own))


def map_request(own: Address, nonce: bytes, protocol: Literal["tcp", "udp"], port: int, seconds: int) -> bytes:
    """A mapping of an inside port, wherever outside (section 11.1); 0 seconds remove it again (section 15)."""
    anywhere = as_16_bytes(own) if own.family == 6 else bytes(10) + b"\xff\xff" + bytes(4)
    outside = bytes(16) if own.family == 6 else anywhere
    return _HEAD.pack(_VERSION, _MAP, 0, seconds, as_16_bytes(own)) + _MAPPING.pack(
        nonce, _PROTOCOLS[protocol], port, 0, outside
    )


def announced(answer: bytes) -> int:
    """Seconds since the router lost its state (its epoch). Raises Refused, and ValueError for what is no answer."""
    return _head_of(answer, _ANNOUNCE)[1]


def mapped(answer: bytes, nonce: bytes) -> Mapped:
    """The mapping that was made. Raises Refused, and ValueError for anything that answers another request."""
    seconds, _ = _head_of(answer, _MAP)
    if len(answer) < _ANSWER_HEAD.size + _MAPPING.size:
        raise ValueError("an answer that is cut off")
    echoed, _, inside, outside, address = _MAPPING.unpack_from(answer, _ANSWER_HEAD.size)
    if echoed != nonce:
        raise ValueError("an answer to another request: its nonce is not the one that was sent")
    return Mapped(of_bytes(address), outside, inside, seconds)


def _head_of(answer: bytes, opcode: int) -> tuple[int, int]:
    """Lifetime and epoch of an answer (section 7.2)."""
    if len(answer) >= 4 and answer[0] == 0 and answer[1] & _ANSWER:
        raise Refused(1)  # one that knows NAT-PMP alone answers in its own version (RFC 6887, appendix A)
    if len(answer) < _ANSWER_HEAD.size or answer[0] != _VERSION or answer[1] != _ANSWER | opcode:
        raise ValueError("an answer that is none to this question")
    _, _, _, result, seconds, epoch = _ANSWER_HEAD.unpack_from(answer)
    if result:
        raise Refused(result)
    return seconds, epoch
