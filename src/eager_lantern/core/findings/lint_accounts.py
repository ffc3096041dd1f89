"""Accounts that may more than they need, or that cannot be used."""

from collections.abc import Iterator

from ..model.site import Account, Right, Site
from ..network.topology import Topology
from ..predict.endpoints import service_of, stand_of
from ..predict.session import reach_control
from ..values.site_path import SitePath
from .finding import Finding, setting

PRIVILEGED = {"root", "admin", "administrator", "system", "sa", "toor"}
ANONYMOUS = {"anonymous", "ftp", "guest"}
CHANGES: set[Right] = {"write", "append", "rename", "remove", "make-folders"}
PROFILES = {("home",), ("users",), ("root",)}
WHOLE_SYSTEMS = {(), ("etc",), ("var",), ("usr",), ("srv",), *PROFILES}


def account_findings(topology: Topology) -> Iterator[Finding]:
    """Findings about every account."""
    for i, account in enumerate(topology.site.accounts):
        place: SitePath = ("accounts", i)
        yield from _broad(topology.site, account, place)
        yield from _rights(topology.site, account, place)
        yield from _without_path(topology, account, place)


def _broad(site: Site, account: Account, place: SitePath) -> Iterator[Finding]:
    if not account.confined:
        message = f"account {account.name} can leave its folder and see the rest of the server"
        where = (*place, "confined")
        yield Finding("account-not-confined", "risks", message, "set confined: true", where, setting(site, where, True))
    if account.name.lower() in PRIVILEGED:
        message = f"account {account.name} is one that rules the whole system"
        cure = "use an account of its own for transfers, without any other right"
        yield Finding("account-privileged", "risks", message, cure, (*place, "name"))
    reason = _too_broad(site, account)
    if reason:
        message = f"the folder of account {account.name}, {account.home}, {reason}"
        yield Finding(
            "account-broad", "risks", message, "give it a folder of its own, such as /srv/tides/in", (*place, "home")
        )


def _folder(home: str) -> tuple[str, ...]:
    """The parts of a home, without drive letter, in lower case, whichever slash divides them."""
    text = home.replace("\\", "/").lower()
    text = text[2:] if text[1:2] == ":" else text
    return tuple(part for part in text.split("/") if part)


def _too_broad(site: Site, account: Account) -> str:
    if account.home is None:
        return ""
    home = _folder(account.home)
    if home in WHOLE_SYSTEMS:
        return "is a whole system"
    if home[:-1] in PROFILES:
        return "is a person's own profile"
    for other in site.accounts:
        theirs = _folder(other.home) if other.home is not None else ()
        if other is not account and len(theirs) > len(home) and theirs[: len(home)] == home:
            return f"holds the folder of account {other.name}"
    return ""


def _rights(site: Site, account: Account, place: SitePath) -> Iterator[Finding]:
    groups = [each for each in site.groups if each.name in account.groups]
    given = set(account.rights).union(*(each.rights for each in groups))
    if account.name.lower() in ANONYMOUS and given & CHANGES:
        message = f"anybody may change files as {account.name} ({', '.join(sorted(given & CHANGES))})"
        cure = "leave list and read only, or give writers an account of their own"
        where = (*place, "rights")
        left = tuple(each for each in account.rights if each not in CHANGES)
        yield Finding("anonymous-writes", "risks", message, cure, where, setting(site, where, left))
    denied = set(account.denies).union(*(each.denies for each in groups))
    if both := sorted(given & denied):
        message = f"account {account.name} is given and denied {', '.join(both)}, by itself or its groups"
        cure = "say it in one place: servers differ in which of the two wins"
        yield Finding(
            "account-rights-conflict", "risks", message, cure, (*place, "rights" if account.rights else "groups")
        )


def _without_path(topology: Topology, account: Account, place: SitePath) -> Iterator[Finding]:
    """A client of the account that cannot reach the service; promised ones are told of already."""
    service = service_of(topology, account.service)
    promised = {
        each.client for each in topology.site.promises if each.service == service.name and each.holds == "works"
    }
    for j, name in enumerate(account.clients):
        if name in promised:
            continue
        _, control = reach_control(topology, stand_of(topology, name), service)
        if not any(each.outcome == "ok" for each in control):
            message = f"account {account.name} is for {name}, which cannot reach {service.name}"
            cure = f"promise it ({{client: {name}, service: {service.name}}}) and follow what check then says"
            yield Finding("account-without-path", "risks", message, cure, (*place, "clients", j))
