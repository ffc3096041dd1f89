"""X.509 certificates, keys and signing requests (RFC 5280, RFC 2986), read from bytes."""

from hashlib import sha256

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

from ..core.observed.looks import Certificate, Sent


class NotReadable(ValueError):
    """Bytes that are not what they ought to be, with what they are not."""


_REFUSED = (
    ValueError,
    TypeError,
    UnsupportedAlgorithm,
    x509.DuplicateExtension,
    x509.InvalidVersion,
    x509.UnsupportedGeneralNameType,
)
"""What the library raises for certificates that it rejects; foreign ones may have anything in them."""


def read_certificate(content: bytes) -> Certificate:
    """The first certificate of a PEM text, or one in DER. Raises NotReadable."""
    try:
        pem = b"-----BEGIN" in content
        found = x509.load_pem_x509_certificates(content)[0] if pem else x509.load_der_x509_certificate(content)
        key = found.public_key()
        digest = _digest(key.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo))
        names = _alternative_names(found)
        return _certificate_of(found, key, names, digest)
    except _REFUSED as error:
        raise NotReadable(f"found no certificate ({error}); expected one in PEM or DER") from None


def _certificate_of(
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
        raise NotReadable(f"found no certificate ({error}); expected one in DER") from None


def _alternative_names(certificate: x509.Certificate) -> x509.SubjectAlternativeName | None:
    try:
        return certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except x509.ExtensionNotFound:
        return None


def key_digest(content: bytes) -> str:
    """The digest of the public half of a private key in PEM without a password. Raises NotReadable."""
    try:
        key = serialization.load_pem_private_key(content, None)
    except TypeError:
        raise NotReadable("found a key under a password; expected one without, since none is asked for here") from None
    except (ValueError, UnsupportedAlgorithm):
        raise NotReadable("found no private key; expected one in PEM") from None
    return _digest(key.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo))


def _digest(public: bytes) -> str:
    return sha256(public).hexdigest()
