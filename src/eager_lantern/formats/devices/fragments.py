"""A service's settings as ready fragments of servers' own files: ProFTPD, Pure-FTPd, OpenSSH.

The words are those of the three servers (public interface), whose own checks accept them (``proftpd -t``, ``sshd -t``).
What a server cannot be told in its file stands in it as a remark.
"""

from collections.abc import Iterator, Sequence

from ...core.model.entries import OWN
from ...core.model.site import Account, Right, Service, Site, effective_rights
from ...core.values.ports import UNPRIVILEGED
from ...wire.terminal_safe import printable

_WRITES: frozenset[Right] = frozenset(("write", "append", "rename", "remove", "make-folders"))
FRAGMENTS = ("proftpd.conf", "pure-ftpd.conf", "sshd.conf")
"""The ends of their files' names."""


def fragments(site: Site, service: Service) -> dict[str, str]:
    """The texts by the end of their file's name (:data:`FRAGMENTS`); none of a service that speaks neither."""
    if service.protocol == "sftp":
        return {"sshd.conf": _fragment_text(site, service, _sshd(site, service))}
    if service.protocol != "ftp":
        return {}
    found = {"proftpd.conf": _fragment_text(site, service, _proftpd(site, service))}
    if service.tls.mode != "implicit" and service.speaks_epsv:  # the other one has neither
        found["pure-ftpd.conf"] = _fragment_text(site, service, _pure_ftpd(site, service))
    return found


def _fragment_text(site: Site, service: Service, lines: Iterator[str]) -> str:
    head = f"# {service.name} of {site.site}: for the server's own file; let it check that before it starts anew."
    return "\n".join((head, *lines, ""))


def _range_ends(service: Service) -> tuple[int, int] | None:
    """The ends of the passive range, where one is set."""
    passive = service.passive
    if passive is None or passive.ports == UNPRIVILEGED or not passive.ports:
        return None
    return passive.ports.lowest, passive.ports.highest


def _announce_text(service: Service) -> str:
    """The address or name that is announced, where that is not the server's own."""
    passive = service.passive
    return "" if passive is None or passive.announce == OWN else str(passive.announce)


def _inside_remark(service: Service) -> Iterator[str]:
    """What neither of the two can be told: another word to clients inside."""
    passive = service.passive
    if _announce_text(service) and passive is not None and passive.announce_inside is not None:
        yield "# Clients inside are told this address too: let them use EPSV, or the router turn them back (hairpin)."


def _accounts_of(site: Site, service: Service) -> list[Account]:
    return [each for each in site.accounts if each.service == service.name]


def _freed(accounts: Sequence[Account]) -> Iterator[str]:
    """Who is not confined where the others are, which one line for all cannot say."""
    freed = [printable(each.name, 80) for each in accounts if not each.confined]
    if freed:
        yield f"# Not confined to the own folder: {', '.join(freed)}. Put them into a group that is let out by name."


def _login_lines(accounts: Sequence[Account]) -> Iterator[str]:
    """Who gets in, and nobody else."""
    if names := [each.name for each in accounts if _is_word(each.name)]:
        yield "# Nobody but the accounts of the site file gets in:"
        yield from ("<Limit LOGIN>", f"  AllowUser OR {','.join(names)}", "  DenyAll", "</Limit>")
    yield from (
        f"# {printable(each.name, 80)}: its name cannot stand here" for each in accounts if not _is_word(each.name)
    )


def _proftpd(site: Site, service: Service) -> Iterator[str]:
    tls = service.tls
    yield f"Port {service.control_port}"
    if ports := _range_ends(service):
        yield f"PassivePorts {ports[0]} {ports[1]}"
    if address := _announce_text(service):
        yield f"MasqueradeAddress {address}"
        yield from _inside_remark(service)
    foreign = bool(service.active and service.active.accepts_other_address)
    if foreign == (not service.peer_must_match):
        yield f"AllowForeignAddress {'on' if foreign else 'off'}"
    if not service.speaks_epsv:
        yield from ("<Limit EPSV EPRT>", "  DenyAll", "</Limit>")
    accounts = _accounts_of(site, service)
    if any(each.confined for each in accounts):
        yield "DefaultRoot ~"
        yield from _freed(accounts)
    yield from _login_lines(accounts)
    yield "<IfModule mod_tls.c>"
    yield f"  TLSEngine {'off' if tls.mode == 'none' else 'on'}"
    if tls.mode != "none":
        required = ("on" if tls.protects_data else "ctrl") if tls.required or tls.mode == "implicit" else "off"
        yield f"  TLSRequired {required}"
        options = ["UseImplicitSSL"] * (tls.mode == "implicit") + ["NoSessionReuseRequired"] * (not tls.reuse_required)
        yield from ([f"  TLSOptions {' '.join(options)}"] if options else [])
        for word, path in (("TLSRSACertificateFile", tls.certificate), ("TLSRSACertificateKeyFile", tls.key)):
            yield from ([f"  {word} {path}"] if path and _is_path(path) else [])
    yield "</IfModule>"


def _pure_ftpd(site: Site, service: Service) -> Iterator[str]:
    tls = service.tls
    level = 0 if tls.mode == "none" else 1 if not tls.required else 3 if tls.protects_data else 2
    yield f"Bind ,{service.control_port}"
    if ports := _range_ends(service):
        yield f"PassivePortRange {ports[0]} {ports[1]}"
    if address := _announce_text(service):
        yield f"ForcePassiveIP {address}"
        yield from _inside_remark(service)
    yield f"TLS {level}"
    accounts = _accounts_of(site, service)
    if accounts:
        yield f"ChrootEveryone {'yes' if any(each.confined for each in accounts) else 'no'}"
        yield from _freed(accounts) if any(each.confined for each in accounts) else ()
        names = ", ".join(printable(each.name, 80) for each in accounts)
        yield f"# Who gets in stands elsewhere (pure-pw, or the system's users): {names}."
        yield "NoAnonymous yes"
    yield f"AllowUserFXP {'yes' if service.active and service.active.accepts_other_address else 'no'}"


def _sshd(site: Site, service: Service) -> Iterator[str]:
    yield f"Port {service.control_port}"
    yield "Subsystem sftp internal-sftp"
    for each in site.accounts:
        if each.service == service.name and each.confined:
            yield from _confined(site, each)


def _confined(site: Site, account: Account) -> Iterator[str]:
    """An account that sees its folder alone; one that only reads is kept to it."""
    if not _is_word(account.name) or (account.home is not None and not _is_path(account.home)):
        yield f"# {account.name}: its name or folder cannot stand here as it is"
        return
    rights = effective_rights(site, account)
    reads_alone = rights is not None and not _WRITES & rights
    yield f"Match User {account.name}"
    if account.home:
        yield "  # the folder, and all above it, belong to root and nobody else writes there; its own lies within"
        yield f"  ChrootDirectory {account.home}"
    yield f"  ForceCommand internal-sftp{' -R' if reads_alone else ''}"
    yield "  AllowTcpForwarding no"
    yield "  X11Forwarding no"


def _is_word(text: str) -> bool:
    return all(each.isalnum() or each in "._-" for each in text)


def _is_path(text: str) -> bool:
    return text.startswith("/") and all(each.isalnum() or each in "/._-" for each in text)
