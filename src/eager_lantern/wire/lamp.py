"""The lamp's own small protocol: a challenge that only who knows the secret can make, and an answer
with what was seen. Bytes in, values out; it never touches a socket.

    question  LANTERN1 ask NONCE MAC <padding>\\n
    answer    LANTERN1 saw NONCE FROM-ADDRESS FROM-PORT AT-ADDRESS AT-PORT CROWDED MAC\\n

NONCE is 32 hexadecimal digits chosen by who asks; CROWDED is how many connections the lamp has had no place
for; MAC is HMAC-SHA-256 (RFC 2104) under the shared secret over all words before it, in hexadecimal. The
question is padded to the length of the longest answer, so that over UDP nobody can make a lamp send more than
was sent to it. To anything else the
lamp states nothing at all.

Who sweeps a lamp for somebody else seals the result with the same secret. A seal is over the bytes of a JSON object as
they stand, and is its last field, so that not one of them can be another.

This module is a part of the carried probe, which knows the standard library of Python 3.9 alone.
"""

from __future__ import annotations

import hmac
import re
from hashlib import sha256
from ipaddress import ip_address
from typing import NamedTuple

LINE_BYTES = 256
GREETING = b"LANTERN1"
"""How every line begins."""
_ASK = re.compile(rb"(LANTERN1 ask ([0-9a-f]{32})) ([0-9a-f]{64}) *\n")
_PLACE = rb"([0-9A-Fa-f:.]{2,45}) ([0-9]{1,5})"
_SAW = re.compile(rb"(LANTERN1 saw ([0-9a-f]{32}) " + _PLACE + b" " + _PLACE + rb" ([0-9]{1,12})) ([0-9a-f]{64})\n")


class Sight(NamedTuple):
    """Where a connection came from and where it arrived, as the lamp saw it."""

    from_address: str
    from_port: int
    at_address: str
    at_port: int
    crowded: int = 0


def question(secret: bytes, nonce: bytes) -> bytes:
    """The challenge, with a nonce of 16 bytes. Raises ValueError for another length."""
    if len(nonce) != 16:
        raise ValueError("a nonce has 16 bytes")
    words = b"LANTERN1 ask " + nonce.hex().encode()
    return (words + b" " + _mac(secret, words)).ljust(LINE_BYTES - 1) + b"\n"


def nonce_of(secret: bytes, line: bytes) -> bytes | None:
    """The nonce of a challenge that was made with the secret; None for anything else."""
    match = _ASK.fullmatch(line) if len(line) == LINE_BYTES else None
    if match is None or not hmac.compare_digest(_mac(secret, match[1]), match[3]):
        return None
    return bytes.fromhex(match[2].decode())


def answer(secret: bytes, nonce: bytes, sight: Sight) -> bytes:
    """The lamp's answer to a challenge; never longer than it."""
    words = f"LANTERN1 saw {nonce.hex()} {sight.from_address} {sight.from_port} {sight.at_address} {sight.at_port}"
    words += f" {sight.crowded}"
    return words.encode() + b" " + _mac(secret, words.encode()) + b"\n"


def seen(secret: bytes, nonce: bytes, line: bytes) -> Sight | None:
    """What an answer to this nonce means; None where it is none, or not by who knows the secret."""
    match = _SAW.fullmatch(line) if len(line) <= LINE_BYTES else None
    if match is None or match[2] != nonce.hex().encode() or not hmac.compare_digest(_mac(secret, match[1]), match[8]):
        return None
    try:
        addresses = str(ip_address(match[3].decode())), str(ip_address(match[5].decode()))
    except ValueError:
        return None
    return Sight(addresses[0], int(match[4]), addresses[1], int(match[6]), int(match[7]))


_SEAL = re.compile(rb'(\{.*), "seal": "([0-9a-f]{64})"\}', re.DOTALL)


def sealed(secret: bytes, result: bytes) -> bytes:
    """A JSON object with the seal as its last field."""
    return result[:-1] + b', "seal": "' + _mac(_of_seals(secret), result[:-1]) + b'"}'


def is_sealed(secret: bytes, result: bytes) -> bool:
    """Whether these bytes are what was sealed with the secret, every one of them."""
    match = _SEAL.fullmatch(result)
    return match is not None and hmac.compare_digest(_mac(_of_seals(secret), match[1]), match[2])


def _of_seals(secret: bytes) -> bytes:
    """A key of its own: no answer of a lamp is ever a seal."""
    return hmac.new(secret, b"LANTERN1 seal", sha256).digest()


def _mac(secret: bytes, words: bytes) -> bytes:
    return hmac.new(secret, words, sha256).hexdigest().encode()
