"""The certificates that a site names, read and held against what its clients type."""

from collections.abc import Iterator
from pathlib import Path

from ..core.findings.finding import Finding
from ..core.findings.server import certificate_findings
from ..core.model.site import Service
from ..core.observed.looks import Certificate
from ..core.values.text_value import SitePath
from ..wire.x509 import NotReadable, key_digest, read_certificate
from .reading import bad_file, not_readable, read_regular
from .site.site_file import SiteFile

MOST_BYTES = 1_000_000


def named_certificates(source: SiteFile, now: float) -> Iterator[Finding]:
    """What is wrong with the certificates and keys that the site names; paths are read from the
    folder of the site file. One that cannot be read here is a note: it may stand on the server."""
    folder = Path(source.file).parent
    for i, service in enumerate(source.site.services):
        if service.tls.certificate is None:
            continue
        place: SitePath = ("services", i, "tls", "certificate")
        try:
            certificate = read_certificate(_content(folder / service.tls.certificate))
        except (OSError, NotReadable) as error:
            yield _unread(service.tls.certificate, error, place)
            continue
        digest = None
        if service.tls.key is not None:
            try:
                digest = key_digest(_content(folder / service.tls.key))
            except (OSError, NotReadable) as error:
                yield _unread(service.tls.key, error, (*place[:-1], "key"))
        yield from certificate_findings(source.site, i, certificate, digest, now)


def given_certificate(source: SiteFile, path: Path, now: float) -> Iterator[Finding]:
    """The same for one certificate that every service with TLS is meant to use. Raises BadInput."""
    certificate = certificate_at(path)
    for i, service in enumerate(source.site.services):
        if service.tls.mode != "none":
            yield from certificate_findings(source.site, i, certificate, None, now)


def certificate_at(path: Path) -> Certificate:
    """The certificate in a file. Raises BadInput."""
    try:
        return read_certificate(_content(path))
    except (OSError, NotReadable) as error:
        raise bad_file(path, _read_error(error)) from None


def digest_of(source: SiteFile, service: Service) -> str | None:
    """The digest of the certificate that a service names, where it can be read here."""
    if service.tls.certificate is None:
        return None
    try:
        return read_certificate(_content(Path(source.file).parent / service.tls.certificate)).digest
    except (OSError, NotReadable):
        return None


def _content(path: Path) -> bytes:
    return read_regular(path, MOST_BYTES)


def _unread(name: str, error: OSError | NotReadable, place: SitePath) -> Finding:
    advice = "check where the file is, or give the certificate with --certificate"
    return Finding("certificate-unread", "note", f"{name} was not checked: {_read_error(error)}", advice, place)


def _read_error(error: OSError | NotReadable) -> str:
    return not_readable(error) if isinstance(error, OSError) else str(error)
