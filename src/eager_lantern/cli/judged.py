"""The verdict of a site file, with what its certificates say."""

import time
from pathlib import Path

from msgspec.structs import replace

from ..core.verdict import Verdict, judge
from ..files.site_file import SiteFile


def judged(source: SiteFile, certificate: Path | None) -> Verdict:
    """The verdict, and what is wrong with certificates, where any is named."""
    verdict = judge(source.site)
    if certificate is None and not any(each.tls.certificate for each in source.site.services):
        return verdict
    from ..files.certificate_file import given_certificate, named_certificates  # cryptography loads slowly

    now = time.time()
    found = named_certificates(source, now) if certificate is None else given_certificate(source, certificate, now)
    return replace(verdict, findings=(*verdict.findings, *found))
