"""X.509 certificates, keys and signing requests (RFC 5280, RFC 2986) as bytes, in and out."""

from collections.abc import Sequence
from datetime import datetime, timedelta
from hashlib import sha256
from ipaddress import ip_address
from typing import Literal

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, PublicFormat
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from ..core.certificate import Certificate
from ..core.tls_facts import Sent

PrivateKey = ec.EllipticCurvePrivateKey | rsa.RSAPrivateKey
KeyKind = Literal["ec", "rsa"]
RSA_BITS = 3072
STARTS_BEFORE = timedelta(minutes=5)
"""Clocks of clients may be a little behind."""


class NotReadable(ValueError):
    """Bytes that are not what they ought to be, with what they are not."""


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


_REFUSED = (
    ValueError,
    TypeError,
    UnsupportedAlgorithm,
    x509.DuplicateExtension,
    x509.InvalidVersion,
    x509.UnsupportedGeneralNameType,
)
"""What the library says of certificates that it does not like; foreign ones may have anything in them."""


def read_certificate(content: bytes) -> Certificate:
    """The first certificate of a PEM text, or one in DER. Raises NotReadable."""
    try:
        pem = b"-----BEGIN" in content
        found = x509.load_pem_x509_certificates(content)[0] if pem else x509.load_der_x509_certificate(content)
        key = found.public_key()
        digest = _digest(key.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo))
        names = _names(found)
        return _certificate(found, key, names, digest)
    except _REFUSED as error:
        raise NotReadable(f"is no certificate in PEM or DER: {error}") from None


def _certificate(
    found: x509.Certificate, key: object, names: x509.SubjectAlternativeName | None, digest: str
) -> Certificate:
    return Certificate(
        names=tuple(names.get_values_for_type(x509.DNSName)) if names else (),
        addresses=tuple(map(str, names.get_values_for_type(x509.IPAddress))) if names else (),
        kind="RSA"
        if isinstance(key, rsa.RSAPublicKey)
        else "EC"
        if isinstance(key, ec.EllipticCurvePublicKey)
        else "other",
        bits=key.key_size if isinstance(key, rsa.RSAPublicKey | ec.EllipticCurvePublicKey) else 0,
        starts=found.not_valid_before_utc.timestamp(),
        ends=found.not_valid_after_utc.timestamp(),
        key_digest=digest,
        digest=sha256(found.public_bytes(Encoding.DER)).hexdigest(),
    )


def read_sent(content: bytes) -> Sent:
    """A certificate in DER as one of a chain. Raises NotReadable."""
    try:
        found = x509.load_der_x509_certificate(content)
        return Sent(found.subject.rfc4514_string(), found.issuer.rfc4514_string())
    except _REFUSED as error:
        raise NotReadable(f"is no certificate in DER: {error}") from None


def _names(certificate: x509.Certificate) -> x509.SubjectAlternativeName | None:
    try:
        return certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except x509.ExtensionNotFound:
        return None


def key_digest(content: bytes) -> str:
    """The digest of the public half of a private key in PEM without a password. Raises NotReadable."""
    try:
        key = serialization.load_pem_private_key(content, None)
    except TypeError:
        raise NotReadable("is a key under a password, which is not asked for here") from None
    except (ValueError, UnsupportedAlgorithm):
        raise NotReadable("is no private key in PEM") from None
    return _digest(key.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo))


def _digest(public: bytes) -> str:
    return sha256(public).hexdigest()
