"""A self-signed certificate for a lab server, of the kind accepted today, and short-lived."""

from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

VALID = timedelta(days=1)


def write_self_signed(folder: Path, *names: str) -> tuple[Path, Path]:
    """Write a certificate for these names and addresses, and the same with its key before it.

    Returns the path of the certificate alone (to trust) and of both (to serve, mode 0600).
    """
    key = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, names[0][:64])])
    now = datetime.now(UTC)
    certificate = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(minutes=5))
        .not_valid_after(now + VALID)
        .add_extension(x509.SubjectAlternativeName([_subject(each) for each in names]), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .sign(key, hashes.SHA256())
    )
    public = certificate.public_bytes(serialization.Encoding.PEM)
    private = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    trusted, served = folder / "certificate.pem", folder / "certificate-and-key.pem"
    trusted.write_bytes(public)
    served.touch(mode=0o600)
    served.write_bytes(private + public)
    return trusted, served


def _subject(name: str) -> x509.GeneralName:
    try:
        return x509.IPAddress(ip_address(name))
    except ValueError:
        return x509.DNSName(name)
