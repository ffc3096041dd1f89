"""Private keys, certificates and requests that are made, for the names that clients use (RFC 5280, RFC 2986).

Whoever calls tells the time; nothing is written here.
"""

import re
from collections.abc import Sequence
from datetime import datetime, timedelta
from ipaddress import ip_address
from typing import Literal

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from ..core.values.addresses import address_or_none

PrivateKey = ec.EllipticCurvePrivateKey | rsa.RSAPrivateKey
KeyKind = Literal["ec", "rsa"]
RSA_BITS = 3072
_HOST_NAME = re.compile(r"(?:\*\.)?(?!-)[A-Za-z0-9_-]{1,63}(?<!-)(?:\.(?!-)[A-Za-z0-9_-]{1,63}(?<!-))*+\.?")
"""RFC 1123, section 2.1, with what certificates of servers have besides: a star in front (RFC 6125, section 6.4.3)."""
STARTS_BEFORE = timedelta(minutes=5)
"""Clocks of clients may be a little behind."""


def new_key(kind: KeyKind) -> PrivateKey:
    """A private key: P-256, or RSA with 3,072 bits (128 bits of security, NIST SP 800-57)."""
    if kind == "rsa":
        return rsa.generate_private_key(65537, RSA_BITS)
    return ec.generate_private_key(ec.SECP256R1())


def key_pem(key: PrivateKey) -> bytes:
    """A private key as PEM (PKCS #8), without a password."""
    return key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())


def signing_request(key: PrivateKey, names: Sequence[str]) -> bytes:
    """A request, as PEM, for a certificate for these names and addresses."""
    builder = x509.CertificateSigningRequestBuilder().subject_name(_subject(names))
    return (
        builder.add_extension(_alternatives(names), critical=False)
        .sign(key, hashes.SHA256())
        .public_bytes(Encoding.PEM)
    )


def self_signed(key: PrivateKey, names: Sequence[str], now: datetime, valid: timedelta) -> bytes:
    """A certificate, as PEM, for these names and addresses, that vouches for itself.

    It may be trusted by itself: clients take it as the authority that signed it.
    """
    usage = x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH])
    certificate = (
        x509.CertificateBuilder()
        .subject_name(_subject(names))
        .issuer_name(_subject(names))
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - STARTS_BEFORE)
        .not_valid_after(now + valid)
        .add_extension(_alternatives(names), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .add_extension(usage, critical=False)
        .sign(key, hashes.SHA256())
    )
    return certificate.public_bytes(Encoding.PEM)


def _subject(names: Sequence[str]) -> x509.Name:
    """The first name, as far as it fits (RFC 5280, appendix A.1: ub-common-name)."""
    return x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, names[0][:64])])


def _alternatives(names: Sequence[str]) -> x509.SubjectAlternativeName:
    """Raises ValueError for a name that no certificate can hold."""
    return x509.SubjectAlternativeName([_general(each) for each in names])


def _general(name: str) -> x509.GeneralName:
    try:
        return x509.IPAddress(ip_address(name))
    except ValueError:
        return x509.DNSName(name)


def refuse_no_host(names: Sequence[str]) -> None:
    """Raises ValueError for what no client could type and no authority would sign."""
    for name in names:
        if address_or_none(name) is None and (not _HOST_NAME.fullmatch(name) or len(name) > 253):
            raise ValueError(f"found “{name[:60]}”; expected a host name: letters, digits, dots, and hyphens inside")
