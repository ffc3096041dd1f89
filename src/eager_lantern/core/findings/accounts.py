"""Accounts that may more than they need, or that cannot be used."""

from collections.abc import Iterator

from ..model.site import Account, Right, Site, effective_rights, parts_of
from ..network.topology import Topology
from ..predict.endpoints import position_of, service_of
from ..predict.session import reach_control
from ..values.text_value import SitePath
from .finding import Finding, set_to

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
        yield from _of_system(topology.site, account, place)
        yield from _not_shown(topology, account, place)
        yield from _without_path(topology, account, place)


def _broad(site: Site, account: Account, place: SitePath) -> Iterator[Finding]:
    if not account.confined:
        message = f"account {account.name} can leave its folder and see the rest of the server"
        where = (*place, "confined")
        yield Finding("account-not-confined", "risks", message, "set confined: true", where, set_to(site, where, True))
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


def _of_system(site: Site, account: Account, place: SitePath) -> Iterator[Finding]:
    if account.kept_by == "system":
        message = (
            f"{account.name} is a system account: whoever knows its password can log in to other services of the host"
        )
        cure = "keep an account of the service's own for file transfer, or give this one no shell"
        where = (*place, "kept_by")
        yield Finding("account-of-system", "note", message, cure, where, set_to(site, where, "service"))


def _not_shown(topology: Topology, account: Account, place: SitePath) -> Iterator[Finding]:
    """Folders outside of the home of an account that is kept in it, where the server cannot join them to it."""
    if service_of(topology, account.service).joins_folders or not account.confined:
        return
    for j, folder in enumerate(account.folders):
        below = parts_of(f"{account.home or ''}/{folder.shown_as}")
        if folder.at is not None and (account.home is None or parts_of(folder.at) != below):
            message = f"{account.name} never sees {folder.at}: it is kept in {account.home or 'its folder'}, and "
            message += f"{account.service} joins no folder from elsewhere"
            cure = f"move it below the home, as {folder.shown_as}, or let the system mount it there; then take at out"
            where = (*place, "folders", j, "at")
            yield Finding("folder-not-shown", "risks", message, cure, where, set_to(topology.site, where, None))


def _too_broad(site: Site, account: Account) -> str:
    if account.home is None:
        return ""
    home = parts_of(account.home)
    if home in WHOLE_SYSTEMS:
        return "is a whole system"
    if home[:-1] in PROFILES:
        return "is a person's own profile"
    for other in site.accounts:
        theirs = parts_of(other.home) if other.home is not None else ()
        if other is not account and len(theirs) > len(home) and theirs[: len(home)] == home:
            return f"holds the folder of account {other.name}"
    return ""


def _rights(site: Site, account: Account, place: SitePath) -> Iterator[Finding]:
    given = set(effective_rights(site, account) or ()).union(*(each.rights or () for each in account.folders))
    if account.name.lower() in ANONYMOUS and given & CHANGES:
        message = f"anybody may change files as {account.name} ({', '.join(sorted(given & CHANGES))})"
        cure = "leave list and read only, or give writers an account of their own"
        where = (*place, "rights")
        left = tuple(each for each in account.rights if each not in CHANGES)
        yield Finding("anonymous-writes", "risks", message, cure, where, set_to(site, where, left))
    cure = "say it in one place: servers differ in which of the two wins"
    if both := sorted(set(account.rights) & set(account.denies)):
        message = f"account {account.name} is given and denied {', '.join(both)} by itself"
        yield Finding("account-rights-conflict", "risks", message, cure, (*place, "rights"))
    groups = [each for each in site.groups if each.name in account.groups]
    stated = {*account.rights, *account.denies}
    given_by = {right for each in groups for right in each.rights}
    denied_by = {right for each in groups for right in each.denies}
    if both := sorted((given_by & denied_by) - stated):
        message = f"the groups of account {account.name} both give and deny {', '.join(both)}, and it states neither"
        yield Finding("account-rights-conflict", "risks", message, cure, (*place, "groups"))


def _without_path(topology: Topology, account: Account, place: SitePath) -> Iterator[Finding]:
    """A client of the account that cannot reach the service; promised ones are listed already."""
    service = service_of(topology, account.service)
    promised = {
        each.client for each in topology.site.promises if each.service == service.name and each.holds == "works"
    }
    for j, name in enumerate(account.clients):
        if name in promised:
            continue
        _, control = reach_control(topology, position_of(topology, name), service)
        if not any(each.outcome == "ok" for each in control):
            message = f"account {account.name} is for {name}, which cannot reach {service.name}"
            cure = f"promise it ({{client: {name}, service: {service.name}}}) and follow what check then reports"
            yield Finding("account-without-path", "risks", message, cure, (*place, "clients", j))
