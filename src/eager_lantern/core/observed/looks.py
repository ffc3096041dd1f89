"""A closer look at a server: certificates, TLS, SSH, bounce attacks and password guessing."""

import re
from collections.abc import Iterator
from fnmatch import fnmatchcase
from itertools import pairwise
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
        remark = (
            "TLS 1.0 or 1.1 is still taken: switch it off" if facts.takes_old else "TLS 1.0 and 1.1 are turned away"
        )
        yield Remark("old ones", not facts.takes_old, remark)
    yield Remark("trust", not facts.distrust, facts.distrust or "this machine trusts the certificate")
    yield from _chain(facts)
    if facts.certificate is not None:
        yield from _certificate_remarks(facts.certificate, facts.typed, facts.at)
    if facts.data_protected is not None:
        remark = "data travels under TLS" if facts.data_protected else "data travels in clear"
        yield Remark("data", facts.data_protected, remark)
    yield from _resuming(facts)
    if facts.login_in_clear is not None:
        remark = "a login in clear is asked for its password: require TLS on the server"
        refused = "a login in clear is refused before the password"
        yield Remark("clear login", not facts.login_in_clear, remark if facts.login_in_clear else refused)


def _chain(facts: TlsFacts) -> Iterator[Remark]:
    """What the server sends with its own certificate (RFC 8446, section 4.4.2)."""
    if not facts.chain:
        return
    wording = ", signed by ".join(each.subject for each in facts.chain)
    last = facts.chain[-1]
    if any(lower.issuer != upper.subject for lower, upper in pairwise(facts.chain)):
        yield Remark("chain", False, f"the certificates sent are no chain: {wording}")
    elif len(facts.chain) == 1 and last.issuer != last.subject:
        remark = f"only its own is sent; clients that do not have that of {last.issuer} will not trust it"
        yield Remark("chain", False if facts.distrust else None, remark)
    elif len(facts.chain) == 1:
        yield Remark("chain", None, f"{wording} is self-signed")
    else:
        yield Remark("chain", True, wording if last.issuer == last.subject else f"{wording}, signed by {last.issuer}")


def _certificate_remarks(certificate: Certificate, typed: str, now: float) -> Iterator[Remark]:
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
        remark = (
            "data connections resume the session" if facts.resumes else "data connections do not resume the session"
        )
        yield Remark("reuse", None, remark)
    if facts.demands_resuming is not None:
        demanded = "the server turns data away that does not resume it; clients that cannot will fail"
        remark = demanded if facts.demands_resuming else "the server takes data that does not resume it"
        yield Remark("reuse", None, remark)


_OLD: dict[str, tuple[str, ...]] = {
    # RFC 9142, table 12: MUST NOT or SHOULD NOT
    "key exchange": (
        "diffie-hellman-group1-sha1", "diffie-hellman-group-exchange-sha1", "rsa1024-sha1", "gss-gex-sha1-*",
        "gss-group1-sha1-*",
    ),
    # signatures over SHA-1 (RFC 8332, section 1)
    "host keys": ("ssh-dss*", "ssh-rsa", "ssh-rsa-cert-*"),
    # RFC 8758 for arcfour; CBC lets plaintext be recovered (Albrecht, Paterson, Watson 2009)
    "ciphers": ("arcfour*", "*-cbc", "rijndael-cbc@*", "des*", "none"),
    # MD5 (RFC 6151), and tags cut to 96 bits
    "checksums": ("hmac-md5*", "*-96", "*-96-etm@*", "none"),
}  # fmt: skip


class SshOffer(Struct, frozen=True):
    """What a server offers in clear before keys are exchanged (RFC 4253, sections 4.2 and 7.1)."""

    version: str
    key_exchanges: tuple[str, ...]
    host_keys: tuple[str, ...]
    ciphers: tuple[str, ...]
    checksums: tuple[str, ...]


class SshFacts(Struct, frozen=True):
    """What was seen. ``expected`` is the fingerprint of the site, empty where it states none; ``bits`` is 0
    where the kind of key has no size to speak of."""

    offer: SshOffer
    kind: str
    bits: int
    fingerprint: str
    expected: str


def ssh_remarks(facts: SshFacts) -> Iterator[Remark]:
    """The facts in words."""
    old_protocol = facts.offer.version.startswith("SSH-1")
    remark = (
        f"{facts.offer.version}, which takes the broken protocol 1 as well" if old_protocol else facts.offer.version
    )
    yield Remark("version", not old_protocol, remark)
    least = next((bits for name, bits in LEAST_BITS.items() if name.lower() in facts.kind), None)
    size = f", {facts.bits} bits" if facts.bits else ""
    yield Remark("host key", "dss" not in facts.kind and facts.bits >= (least or 0), f"{facts.kind}{size}")
    yield _fingerprint(facts)
    offered = (facts.offer.key_exchanges, facts.offer.host_keys, facts.offer.ciphers, facts.offer.checksums)
    for (topic, patterns), names in zip(_OLD.items(), offered, strict=True):
        old = [name for name in names if any(fnmatchcase(name, pattern) for pattern in patterns)]
        wording = (
            f"old ones are offered: {', '.join(old)}; take them out" if old else f"{len(names)} offered, none is old"
        )
        yield Remark(topic, not old, wording)


def _fingerprint(facts: SshFacts) -> Remark:
    if not facts.expected:
        return Remark(
            "fingerprint", None, f"{facts.fingerprint}; once compared, write it into the site file (host_key)"
        )
    if facts.expected == facts.fingerprint:
        return Remark("fingerprint", True, f"{facts.fingerprint}, as expected")
    return Remark("fingerprint", False, f"{facts.fingerprint}, where {facts.expected} is expected")


_VERSION = re.compile(r"[0-9]++\.[0-9]++(\.[0-9]++)*[a-z0-9]*")


class BounceCheck(Struct, frozen=True):
    """What was seen. ``bounces`` is whether it connects to another address than the client's own on PORT
    (RFC 2577, section 3), ``takes_strangers`` whether data may come from another peer (section 5); None
    where it could not be tried, with the reason."""

    greeting: str
    bounces: bool | None
    bounce_detail: str
    takes_strangers: bool | None
    stranger_detail: str


def bounce_checks(seen: BounceCheck) -> Iterator[Remark]:
    """The facts in words."""
    version = _VERSION.search(seen.greeting)
    wording = (
        f"the greeting states a version ({version[0]}): switch that off"
        if version
        else "the greeting states no version"
    )
    yield Remark("greeting", not version, wording)
    yield Remark("PORT", None if seen.bounces is None else not seen.bounces, seen.bounce_detail)
    yield Remark("data from", None if seen.takes_strangers is None else not seen.takes_strangers, seen.stranger_detail)


LEAST_DELAY_SECONDS = 0.5
SLOW_SECONDS = 1.0
"""An answer that takes so long is held back, also where it is the first one."""


class LoginTry(Struct, frozen=True):
    """One login of an account that does not exist: how long the answer took, whether it was let in, and
    whether the server then ended the connection."""

    seconds: float
    let_in: bool = False
    ended: bool = False


class LoginThrottling(Struct, frozen=True):
    """Wrong logins in a row; ``stopped`` is why there were no more of them, empty where all were made."""

    tries: tuple[LoginTry, ...]
    stopped: str = ""

    @property
    def slower_from(self) -> int | None:
        """The first try, counted from 1, that was answered slowly, or clearly later than the first one."""
        if not self.tries:
            return None
        first = self.tries[0].seconds
        limit = min(SLOW_SECONDS, max(2 * first, first + LEAST_DELAY_SECONDS))
        return next((i for i, each in enumerate(self.tries, 1) if each.seconds >= limit), None)

    @property
    def ended_after(self) -> int | None:
        """After how many tries the server first ended a connection."""
        return next((i for i, each in enumerate(self.tries, 1) if each.ended), None)


def throttling_remarks(pace: LoginThrottling) -> Iterator[Remark]:
    """The facts in words."""
    count = len(pace.tries)
    if any(each.let_in for each in pace.tries):
        yield Remark("strangers", False, "an account that does not exist could log in with any password")
        return
    slower, ended = pace.slower_from, pace.ended_after
    yield Remark("delay", bool(slower), _delay(pace, slower))
    if ended:
        yield Remark("ending", True, f"it ends a connection after {ended} wrong login{'s' * (ended > 1)}")
    if pace.stopped:
        yield Remark("barring", True, f"after {count} wrong logins it takes no more: {pace.stopped}")
    if not (slower or ended or pace.stopped):
        yield Remark("guessing", False, "nothing slows down who guesses passwords: set a limit and a delay")


def _delay(pace: LoginThrottling, slower: int | None) -> str:
    if slower is None:
        return f"{len(pace.tries)} wrong logins were all answered as fast as the first"
    seconds = f"{pace.tries[slower - 1].seconds:.1f} s"
    return f"a wrong login is answered after {seconds}" + (f", from number {slower} on" if slower > 1 else "")
