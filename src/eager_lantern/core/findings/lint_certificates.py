"""What a certificate has to be for the clients of a service, and how one falls short."""

from collections.abc import Iterator

from ..model.site import Service, Site
from ..network.topology import Topology
from ..observed.certificate import DAY_SECONDS, LEAST_BITS, Certificate
from ..predict.endpoints import resolved
from ..values.site_path import SitePath
from .finding import Finding


def typed_by_clients(site: Site, service: Service) -> tuple[str, ...]:
    """The names and addresses that clients of a service type: those of ``tls.names``, and what each
    client that is promised the service reaches; names first."""
    topology = Topology(site)
    clients = {each.client for each in site.promises if each.service == service.name and each.holds == "works"}
    typed = list(service.tls.names)
    for each in site.clients:
        if each.reaches is not None and each.name in clients:
            typed += [each.reaches.name] if each.reaches.name else map(str, resolved(topology, each.reaches).each)
    return tuple(sorted(dict.fromkeys(typed), key=lambda name: name not in {each.name for each in site.names}))


def certificate_findings(
    site: Site, index: int, certificate: Certificate, key_digest: str | None, now: float
) -> Iterator[Finding]:
    """How the certificate of a service falls short. ``key_digest`` is of the public half of the key that
    stands beside it, where one does; ``now`` is in seconds since 1970."""
    service = site.services[index]
    place: SitePath = ("services", index, "tls", "certificate")
    missing = [each for each in typed_by_clients(site, service) if not certificate.covers(each)]
    if missing:
        made_for = ", ".join((*certificate.names, *certificate.addresses)) or "no name at all"
        message = f"clients of {service.name} type {', '.join(missing)}, its certificate is made for {made_for}"
        yield Finding("certificate-name-differs", "risks", message, "make one: eager-lantern certificate", place)
    least = LEAST_BITS.get(certificate.kind, 0)
    if certificate.bits < least:
        message = (
            f"the certificate's {certificate.kind} key has {certificate.bits} bits, fewer than the {least} accepted"
        )
        yield Finding("certificate-key-short", "risks", message, "make a new key and certificate", place)
    yield from _end(certificate, now, place)
    if key_digest is not None and key_digest != certificate.key_digest:
        message = f"the key of {service.name} does not belong to its certificate: the server cannot start TLS with them"
        cure = "name the key that the certificate was made with, or make both anew"
        yield Finding("certificate-other-key", "risks", message, cure, ("services", index, "tls", "key"))


def _end(certificate: Certificate, now: float, place: SitePath) -> Iterator[Finding]:
    days = (certificate.ends - now) / DAY_SECONDS
    if now < certificate.starts:
        ahead = (certificate.starts - now) / DAY_SECONDS
        message = f"the certificate is not valid yet, for another {ahead:.0f} days: is this machine's clock right?"
    elif days < 0:
        message = f"the certificate has ended {-days:.0f} days ago"
    elif days * DAY_SECONDS < certificate.near_end_seconds:
        message = f"the certificate ends in {days:.0f} days"
    else:
        return
    yield Finding("certificate-near-end", "risks", message, "renew it, and enter the new one on the server", place)
