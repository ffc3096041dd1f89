"""Connection cards: what the users of a client enter, on one small page, without the password."""

from collections.abc import Iterator, Mapping

from ..model.rights import effective_rights, rights_in, rights_in_order
from ..model.site import Account, Service, Site
from ..predict.forecast import Forecast
from .sheet import Grid, Sheet, SheetPart

_SECURITY = {
    "none": "none: passwords and files can be read on the way",
    "explicit": "explicit TLS (FTP over TLS, on request), also for data",
    "implicit": "implicit TLS, also for data",
}


def card(site: Site, forecast: Forecast, port: int, digests: Mapping[str, str]) -> Sheet:
    """The card of one promise; ``port`` is the one that the client types, ``digests`` are those of certificates
    that could be read, by service."""
    service, client = forecast.service, forecast.stand
    parts = [SheetPart("Enter", grid=Grid(("setting", "value"), tuple(_entries(site, forecast, port, digests))))]
    if wants := tuple(_wants(forecast, port)):
        parts.append(SheetPart("Your own firewall", grid=Grid(("must let", "protocol", "to", "ports"), wants)))
    steps = [_trial(site, _accounts(site, forecast))]
    if service.protocol == "ftp" and forecast.promise.mode == "passive":
        steps.append(
            "If login works and the listing hangs, your firewall or ours lacks the data ports: tell us which port."
        )
    parts.append(SheetPart("Try it", steps=tuple(steps)))
    where = f"{_host(forecast)}, port {port}"
    several = sum(each.protocol != "other" for each in site.services) > 1
    name = f"Card of {client.name}{', ' + service.name if several else ''}, {forecast.promise.mode or 'SFTP'}"
    about = f"Host {where}. The password comes by another way."
    return Sheet(name, "connection card", about, tuple(parts))


def _host(forecast: Forecast) -> str:
    reaches = forecast.stand.spec.reaches
    return str(reaches.host) if reaches is not None else str(forecast.target or "unknown")


def _entries(site: Site, forecast: Forecast, port: int, digests: Mapping[str, str]) -> Iterator[tuple[str, str]]:
    service, spec = forecast.service, forecast.stand.spec
    yield "host", _host(forecast)
    yield "port", str(port)
    if spec.gateway:
        yield "default gateway of its host", spec.gateway
    for route in spec.routes:
        yield f"route of its host to {route.to}", f"through {route.via}"
    if service.protocol == "ftp":
        by_epsv = forecast.target is not None and spec.extends(service, forecast.target.family)
        yield "protocol", "FTP"
        yield "security", _SECURITY[service.tls.mode if spec.secures(service.tls) else "none"]
        yield (
            "mode",
            f"{forecast.promise.mode}{', with EPSV' if forecast.promise.mode == 'passive' and by_epsv else ''}",
        )
        if spec.secures(service.tls):
            yield "certificate", _certificate(service, digests)
    else:
        yield "protocol", "SFTP (over SSH)"
        yield "host key", service.host_key or "ask for its fingerprint by another way before you trust it"
    mine = _accounts(site, forecast)
    for each in mine:
        yield "account", each.name
        yield "folder", "/ (only its own folder is seen)" if each.confined else each.home or "/"
        yield "you may", rights_in_order(effective_rights(site, each) or frozenset()) or "ask"
        for folder in each.folders:
            yield f"folder {folder.shown_as}", rights_in_order(rights_in(site, each, folder) or frozenset()) or "ask"
    if not mine:
        yield "account", "ask"


def _accounts(site: Site, forecast: Forecast) -> list[Account]:
    """The accounts of the service that are this client's, or anybody's."""
    return [
        each
        for each in site.accounts
        if each.service == forecast.service.name and (not each.clients or forecast.promise.client in each.clients)
    ]


def _trial(site: Site, accounts: list[Account]) -> str:
    """What to try, as far as the accounts may."""
    may = {right for each in accounts for right in effective_rights(site, each) or ()}
    may = may or {"list", "write", "read", "remove"}
    acts = {"list": "look at the listing", "write": "send a small file", "read": "fetch a file", "remove": "remove it"}
    chosen = [words for right, words in acts.items() if right in may]
    return f"{', '.join(chosen) or 'log in'}.".capitalize()


def _certificate(service: Service, digests: Mapping[str, str]) -> str:
    made_for = f"made for {', '.join(service.tls.names)}" if service.tls.names else "made for this host"
    if digest := digests.get(service.name):
        upper = digest.upper()
        return f"{made_for}; SHA-256 fingerprint {':'.join(upper[i : i + 2] for i in range(0, len(upper), 2))}"
    return f"{made_for}; ask for its fingerprint if your program does not trust it by itself"


def _wants(forecast: Forecast, typed: int) -> Iterator[tuple[str, str, str, str]]:
    """What the client's own side has to let through."""
    service, spec = forecast.service, forecast.stand.spec
    host = str(forecast.target or "the host")
    yield "out", "TCP", host, str(typed)
    if service.protocol != "ftp":
        return
    if forecast.promise.mode == "active":
        port = f" from port {service.active.from_port}" if service.active and service.active.from_port else ""
        yield "in", "TCP", f"you, from {host}{port}", str(spec.active_ports)
    elif service.passive:
        yield "out", "TCP", str(forecast.announced or host), str(service.passive.ports)
