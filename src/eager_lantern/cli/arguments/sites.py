"""A site and parts of it, as the command line names them."""

import time
from collections.abc import Sequence
from pathlib import Path

import typer
from msgspec.structs import replace

from ...core.model.problem import did_you_mean
from ...core.model.site import Service, Site
from ...core.verdict import Verdict, judge
from ...formats.site.site_file import SiteFile
from ...live.vantage.base import OWN_PLACE, checked_place


def the_place(option: str, text: str) -> str:
    """A place to stand: ``here``, or a host that is reached over SSH. Raises BadParameter."""
    try:
        return text if text == OWN_PLACE else checked_place(text)
    except ValueError as error:
        raise typer.BadParameter(f"{option}: {error}") from None


def client_and_file(text: str) -> tuple[str, Path]:
    """``CLIENT=FILE``, or a file alone. A file whose name has an equals sign in it is one that is there."""
    client, equals, name = text.partition("=")
    if not equals or Path(text).exists():
        return "", Path(text)
    return client, Path(name)


def known(option: str, name: str, names: Sequence[str]) -> None:
    """Raises BadParameter for a name that is missing or that the site does not have."""
    if not name:
        raise typer.BadParameter(f"{option} is needed; this site has {', '.join(names) or 'none'}")
    if name not in names:
        raise typer.BadParameter(f"{option}: there is no “{name}”; {did_you_mean(name, names)}")


def the_transfer(site: Site, name: str, *protocols: str) -> Service:
    """The service of this name; without a name, the only one of these protocols. Raises BadParameter."""
    transfers = [each for each in site.services if each.protocol in protocols]
    if not name and len(transfers) == 1:
        return transfers[0]
    known("--service", name, [each.name for each in (site.services if name else transfers)])
    return next(each for each in site.services if each.name == name)


def judged(source: SiteFile, certificate: Path | None) -> Verdict:
    """The verdict, and what is wrong with certificates, where any is named."""
    verdict = judge(source.site)
    if certificate is None and not any(each.tls.certificate for each in source.site.services):
        return verdict
    from ...formats.certificates import given_certificate, named_certificates

    now = time.time()
    found = named_certificates(source, now) if certificate is None else given_certificate(source, certificate, now)
    return replace(verdict, findings=(*verdict.findings, *found))
