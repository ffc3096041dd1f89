"""What an account may do, as the site says."""

from .site import Account, Right, Site


def effective_rights(site: Site, account: Account) -> frozenset[Right] | None:
    """Its own rights and those of its groups, less what either denies; None where the site tells of none."""
    groups = [each for each in site.groups if each.name in account.groups]
    given = frozenset(account.rights).union(*(each.rights for each in groups))
    return None if not given else given - frozenset(account.denies).union(*(each.denies for each in groups))


def account_of(site: Site, client: str, service: str) -> Account | None:
    """The first account that the site gives a client on a service."""
    return next((each for each in site.accounts if each.service == service and client in each.clients), None)
