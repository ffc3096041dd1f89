"""What SSH really does on a server, and what of it is good enough today."""

from collections.abc import Iterator
from fnmatch import fnmatchcase

from msgspec import Struct

from .certificate import LEAST_BITS
from .tls_facts import Remark

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
    """What was seen. ``expected`` is the fingerprint of the site, empty where it tells none; ``bits`` is 0
    where the kind of key has no size to speak of."""

    offer: SshOffer
    kind: str
    bits: int
    fingerprint: str
    expected: str


def ssh_remarks(facts: SshFacts) -> Iterator[Remark]:
    """The facts in words."""
    old_protocol = facts.offer.version.startswith("SSH-1")
    said = f"{facts.offer.version}, which takes the broken protocol 1 as well" if old_protocol else facts.offer.version
    yield Remark("version", not old_protocol, said)
    least = next((bits for name, bits in LEAST_BITS.items() if name.lower() in facts.kind), None)
    size = f", {facts.bits} bits" if facts.bits else ""
    yield Remark("host key", "dss" not in facts.kind and facts.bits >= (least or 0), f"{facts.kind}{size}")
    yield _fingerprint(facts)
    offered = (facts.offer.key_exchanges, facts.offer.host_keys, facts.offer.ciphers, facts.offer.checksums)
    for (topic, patterns), names in zip(_OLD.items(), offered, strict=True):
        old = [name for name in names if any(fnmatchcase(name, pattern) for pattern in patterns)]
        told = f"old ones are offered: {', '.join(old)}; take them out" if old else f"{len(names)} offered, none is old"
        yield Remark(topic, not old, told)


def _fingerprint(facts: SshFacts) -> Remark:
    if not facts.expected:
        return Remark(
            "fingerprint", None, f"{facts.fingerprint}; once compared, write it into the site file (host_key)"
        )
    if facts.expected == facts.fingerprint:
        return Remark("fingerprint", True, f"{facts.fingerprint}, as expected")
    return Remark("fingerprint", False, f"{facts.fingerprint}, where {facts.expected} is expected")
