"""STUN Binding (RFC 8489): asks a server which address and port it sees. Bytes in, values out.

>>> request = binding_request(bytes(12))
>>> answer = bytes.fromhex("0101000c2112a442") + bytes(12) + bytes.fromhex("002000080001a147e112a643")
>>> mapped_address(answer, bytes(12))
MappedAddress(address=Address('192.0.2.1'), port=32853)
"""

import struct

from msgspec import Struct

from ..core.values.addresses import Address
from .pcp import of_bytes

COOKIE = 0x2112A442
TRANSACTION_BYTES = 12
_HEAD = struct.Struct("!HHI12s")
_BINDING, _SUCCESS, _ERROR = 0x0001, 0x0101, 0x0111
_MAPPED, _ERROR_CODE, _XOR_MAPPED = 0x0001, 0x0009, 0x0020
_FAMILY_BYTES = {1: 4, 2: 16}


class MappedAddress(Struct, frozen=True):
    """Where a request came from, as the server saw it."""

    address: Address
    port: int


def binding_request(transaction: bytes) -> bytes:
    """A request without attributes (section 5). Raises ValueError where the transaction has not 12 bytes."""
    if len(transaction) != TRANSACTION_BYTES:
        raise ValueError("a transaction has 12 bytes")
    return _HEAD.pack(_BINDING, 0, COOKIE, transaction)


def mapped_address(answer: bytes, transaction: bytes) -> MappedAddress:
    """What the server saw, from XOR-MAPPED-ADDRESS or, of an old server, MAPPED-ADDRESS (sections 14.1 and 14.2).
    Raises ValueError for anything but an answer to this request."""
    if len(answer) < _HEAD.size:
        raise ValueError("an answer that is no STUN message")
    kind, length, cookie, echoed = _HEAD.unpack_from(answer)
    if cookie != COOKIE or length % 4 or _HEAD.size + length != len(answer):
        raise ValueError("an answer that is no STUN message")
    if echoed != transaction:
        raise ValueError("an answer to another request")
    found = _attributes(answer[_HEAD.size :])
    if kind == _ERROR and len(found.get(_ERROR_CODE, b"")) >= 4:
        code = found[_ERROR_CODE]
        raise ValueError(f"the server answers error {(code[2] & 7) * 100 + code[3]}")
    if kind != _SUCCESS:
        raise ValueError("an answer of another kind")
    if _XOR_MAPPED in found:
        seen = _xored(found[_XOR_MAPPED], transaction)
    elif _MAPPED in found:
        seen = _mapped_address(found[_MAPPED])
    else:
        raise ValueError("an answer without an address")
    if seen.address.kind != "public":
        raise ValueError(f"the answer names {seen.address} ({seen.address.kind}), which no host on the internet has")
    return seen


def _attributes(body: bytes) -> dict[int, bytes]:
    """The first of each kind; each is padded to a multiple of four bytes (section 14)."""
    found: dict[int, bytes] = {}
    at = 0
    while at + 4 <= len(body):
        kind, length = struct.unpack_from("!HH", body, at)
        value = body[at + 4 : at + 4 + length]
        if len(value) < length:
            raise ValueError("an attribute that is cut off")
        found.setdefault(kind, value)
        at += 4 + (length + 3) // 4 * 4
    return found


def _mapped_address(value: bytes) -> MappedAddress:
    if len(value) < 4 or _FAMILY_BYTES.get(value[1]) != len(value) - 4:
        raise ValueError("an address of no known family")
    return MappedAddress(of_bytes(value[4:]), int.from_bytes(value[2:4]))


def _xored(value: bytes, transaction: bytes) -> MappedAddress:
    mask = COOKIE.to_bytes(4) + transaction
    port = bytes(a ^ b for a, b in zip(value[2:4], mask, strict=False))
    return _mapped_address(value[:2] + port + bytes(a ^ b for a, b in zip(value[4:], mask, strict=False)))
