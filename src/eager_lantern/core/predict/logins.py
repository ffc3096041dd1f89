"""Who is let in at the login, as far as a site states how its accounts are set up.

Theory: a login is refused before any transfer
==============================================
Of the reasons why a server turns a right password away the site can state three, and each stops the session at its
login, whatever the network lets pass: a list of who may log in leaves the account out or bars it; the account has a key
and no password, and FTP knows no keys (RFC 959, section 4.1.1); or it is confined to a folder that is not root's or
that others than root may write, which SSH servers refuse (OpenSSH, sshd_config(5), ChrootDirectory: all
components must be root-owned and not writable by any other user; public interface).
"""

from ..model.site import Account, Service, Site
from ..network.flow import Reason
from ..values.text_value import SitePath

AT_LOGIN: tuple[Reason, ...] = ("account barred", "login by key alone", "root writable")
"""The reasons by which a session is stopped there."""


def refused_at_login(site: Site, client: str, service: Service) -> tuple[Reason, SitePath] | None:
    """Why none of a client's accounts gets in, and the place that states it; None where one does, or none is known."""
    found = [
        login_trouble(site, service, i, each)
        for i, each in enumerate(site.accounts)
        if each.service == service.name and client in each.clients
    ]
    return found[0] if found and all(found) else None


def login_trouble(site: Site, service: Service, index: int, account: Account) -> tuple[Reason, SitePath] | None:
    """Why an account, by its place in the file, does not get in."""
    at: SitePath = ("services", site.services.index(service))
    if account.name in service.bars:
        return "account barred", (*at, "bars")
    if service.allows and account.name not in service.allows:
        return "account barred", (*at, "allows")
    if service.protocol == "ftp" and account.login == "key":
        return "login by key alone", ("accounts", index, "login")
    key = _shared_top(account)
    if service.protocol == "sftp" and account.confined and key is not None:
        return "root writable", ("accounts", index, key)
    return None


def _shared_top(account: Account) -> str | None:
    """The key by which the top of its folder is another's than root's, or for others to write."""
    if account.home_owner not in (None, "root"):
        return "home_owner"
    if account.home_mode is not None and account.home_mode.lets_others_write:
        return "home_mode"
    return "home_writable" if account.home_writable else None
