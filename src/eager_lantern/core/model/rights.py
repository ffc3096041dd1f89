"""What an account may do, as the site says, and which folders it sees."""

from collections.abc import Iterable
from typing import get_args

from .site import Account, Folder, Right, Site


def effective_rights(site: Site, account: Account) -> frozenset[Right] | None:
    """What its groups give and none of them denies, with what it is given itself, without what it is denied itself;
    None where the site tells of no right."""
    groups = [each for each in site.groups if each.name in account.groups]
    if not account.rights and not any(each.rights for each in groups):
        return None
    by_groups = _all(each.rights for each in groups) - _all(each.denies for each in groups)
    return (by_groups | frozenset(account.rights)) - frozenset(account.denies)


def rights_in(site: Site, account: Account, folder: Folder) -> frozenset[Right] | None:
    """What an account may do in one of its folders: what is said of that folder, else what it may everywhere."""
    return effective_rights(site, account) if folder.rights is None else frozenset(folder.rights)


def account_of(site: Site, client: str, service: str) -> Account | None:
    """The first account that the site gives a client on a service."""
    return next((each for each in site.accounts if each.service == service and client in each.clients), None)


def rights_in_order(rights: frozenset[Right]) -> str:
    """Rights as a list, in the order in which the site format has them."""
    return ", ".join(each for each in get_args(Right) if each in rights)


def parts_of(path: str) -> tuple[str, ...]:
    """The parts of a folder, without drive letter, in lower case, whichever slash divides them."""
    text = path.replace("\\", "/").lower()
    text = text[2:] if text[1:2] == ":" else text
    return tuple(part for part in text.split("/") if part)


def _all(several: Iterable[tuple[Right, ...]]) -> frozenset[Right]:
    return frozenset(right for each in several for right in each)
