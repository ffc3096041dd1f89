"""A certificate, as far as clients and administrators care."""

from typing import Literal

from msgspec import Struct

from ..values.quantities import Duration

DAY_SECONDS = 86400
NEAR_END = Duration(30 * DAY_SECONDS)
LEAST_BITS = {"RSA": 2048, "EC": 256}
"""What is accepted today (NIST SP 800-57 part 1, table 2: 112 bits of security or more)."""


class Certificate(Struct, frozen=True):
    """What there is to know of a certificate: names and addresses as in its subject alternative
    names (RFC 5280, section 4.2.1.6), times in seconds since 1970, and the digests of its public
    key and of the whole (SHA-256, hexadecimal)."""

    names: tuple[str, ...]
    addresses: tuple[str, ...]
    kind: Literal["RSA", "EC", "other"]
    bits: int
    starts: float
    ends: float
    key_digest: str
    digest: str

    def covers(self, typed: str) -> bool:
        """Whether it is made for a name or address that somebody types (RFC 9525, section 6.3)."""
        wanted = typed.lower().rstrip(".")
        _, dot, parent = wanted.partition(".")
        names = {each.lower().rstrip(".") for each in self.names}
        return typed in self.addresses or wanted in names or bool(dot and f"*.{parent}" in names)

    @property
    def near_end_seconds(self) -> float:
        """How long before its end it ought to be renewed: 30 days, or a third of its time."""
        return min(NEAR_END.amount, (self.ends - self.starts) / 3)
