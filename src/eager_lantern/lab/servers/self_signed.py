"""A self-signed certificate for a lab server, short-lived."""

from datetime import UTC, datetime, timedelta
from pathlib import Path

from ...export.keys import key_pem, new_key, self_signed

VALID = timedelta(days=1)


def write_self_signed(folder: Path, *names: str) -> tuple[Path, Path]:
    """Write a certificate for these names and addresses, and the same with its key before it.

    Returns the path of the certificate alone (to trust) and of both (to serve, mode 0600).
    """
    key = new_key("ec")
    public = self_signed(key, names, datetime.now(UTC), VALID)
    trusted, served = folder / "certificate.pem", folder / "certificate-and-key.pem"
    trusted.write_bytes(public)
    served.touch(mode=0o600)
    served.write_bytes(key_pem(key) + public)
    return trusted, served
