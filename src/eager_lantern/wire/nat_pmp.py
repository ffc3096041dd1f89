"""NAT-PMP (RFC 6886): asks a router for its outside address. Nothing is mapped by it. Bytes in, values out."""

import struct

from ..core.values.addresses import Address
from .pcp import of_bytes

PORT = 5351
ADDRESS_REQUEST = bytes((0, 0))
_ANSWER = struct.Struct("!BBHI4s")
_RESULTS = {
    1: "it does not speak this version",
    2: "it is switched off",
    3: "it has no outside address",
    4: "it has no room",
}


def outside_address(answer: bytes) -> Address:
    """The router's outside address (section 3.2). Raises ValueError with what it states instead."""
    if len(answer) >= 4 and answer[0] == 0 and answer[1] == 128 and (result := int.from_bytes(answer[2:4])):
        raise ValueError(_RESULTS.get(result, f"it answers result {result}"))
    if len(answer) != _ANSWER.size or answer[:2] != bytes((0, 128)):
        raise ValueError("an answer that is none to this question")
    found = of_bytes(_ANSWER.unpack(answer)[4])
    if found.kind == "unspecified":
        raise ValueError("it has no outside address")
    return found
