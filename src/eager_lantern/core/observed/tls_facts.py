"""What TLS really does on a server, and what of it is good enough today."""

from collections.abc import Iterator
from itertools import pairwise

from msgspec import Struct

from .certificate import DAY_SECONDS, LEAST_BITS, Certificate

GOOD_VERSIONS = ("TLSv1.2", "TLSv1.3")
"""Older ones are not to be used (RFC 8996)."""


class Sent(Struct, frozen=True):
    """A certificate as one of a chain: whom it names, and who has signed it."""

    subject: str
    issuer: str


class TlsFacts(Struct, frozen=True):
    """What was seen ``at`` a time, in seconds since 1970. ``typed`` is the name or address that users
    type, ``distrust`` why this machine does not trust the certificate, or nothing; what was not
    tried is None."""

    at: float
    typed: str
    version: str
    cipher: str
    certificate: Certificate | None
    distrust: str
    login_in_clear: bool | None
    data_protected: bool | None
    resumes: bool | None
    demands_resuming: bool | None
    chain: tuple[Sent, ...] = ()
    takes_old: bool | None = None


class Remark(Struct, frozen=True):
    """One fact in words; ``good`` is None where it is neither good nor bad, or not known."""

    topic: str
    good: bool | None
    text: str


def remarks(facts: TlsFacts) -> Iterator[Remark]:
    """The facts in words."""
    yield Remark("version", facts.version in GOOD_VERSIONS, f"{facts.version}, {facts.cipher}")
    if facts.takes_old is not None:
        said = "TLS 1.0 or 1.1 is still taken: switch it off" if facts.takes_old else "TLS 1.0 and 1.1 are turned away"
        yield Remark("old ones", not facts.takes_old, said)
    yield Remark("trust", not facts.distrust, facts.distrust or "this machine trusts the certificate")
    yield from _chain(facts)
    if facts.certificate is not None:
        yield from _certificate(facts.certificate, facts.typed, facts.at)
    if facts.data_protected is not None:
        said = "data travels under TLS" if facts.data_protected else "data travels in clear"
        yield Remark("data", facts.data_protected, said)
    yield from _resuming(facts)
    if facts.login_in_clear is not None:
        said = "a login in clear is asked for its password: require TLS on the server"
        refused = "a login in clear is refused before the password"
        yield Remark("clear login", not facts.login_in_clear, said if facts.login_in_clear else refused)


def _chain(facts: TlsFacts) -> Iterator[Remark]:
    """What the server sends with its own certificate (RFC 8446, section 4.4.2)."""
    if not facts.chain:
        return
    told = ", signed by ".join(each.subject for each in facts.chain)
    last = facts.chain[-1]
    if any(lower.issuer != upper.subject for lower, upper in pairwise(facts.chain)):
        yield Remark("chain", False, f"what is sent does not follow one another: {told}")
    elif len(facts.chain) == 1 and last.issuer != last.subject:
        said = f"only its own is sent; clients that do not have that of {last.issuer} will not trust it"
        yield Remark("chain", False if facts.distrust else None, said)
    elif len(facts.chain) == 1:
        yield Remark("chain", None, f"{told} has signed itself")
    else:
        yield Remark("chain", True, told if last.issuer == last.subject else f"{told}, signed by {last.issuer}")


def _certificate(certificate: Certificate, typed: str, now: float) -> Iterator[Remark]:
    made_for = ", ".join((*certificate.names, *certificate.addresses)) or "no name at all"
    yield Remark("name", certificate.covers(typed), f"{typed} is typed, the certificate is made for {made_for}")
    days = (certificate.ends - now) / DAY_SECONDS
    lasts = certificate.ends - now >= certificate.near_end_seconds
    begun = certificate.starts <= now
    when = (
        f"ends in {days:.0f} day{'' if round(days) == 1 else 's'}" if days >= 0 else f"has ended {-days:.0f} days ago"
    )
    yield Remark("time", lasts and begun, when if begun else "is not valid yet")
    least = LEAST_BITS.get(certificate.kind)
    enough = None if least is None else certificate.bits >= least
    yield Remark("key", enough, f"{certificate.kind}{f', {certificate.bits} bits' if certificate.bits else ''}")


def _resuming(facts: TlsFacts) -> Iterator[Remark]:
    if facts.resumes is not None:
        said = "data connections resume the session" if facts.resumes else "data connections do not resume the session"
        yield Remark("reuse", None, said)
    if facts.demands_resuming is not None:
        demanded = "the server turns data away that does not resume it; clients that cannot will fail"
        said = demanded if facts.demands_resuming else "the server takes data that does not resume it"
        yield Remark("reuse", None, said)
