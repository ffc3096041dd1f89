"""OpenSSH (public interface): read from what ``sshd -T`` prints or its own file, written as a fragment for
``sshd_config``, which ``sshd -t`` accepts."""

from collections.abc import Iterator, Mapping

from msgspec.structs import replace

from ...core.changes.adopted import DeviceConfig, ParsedValue, Skipped
from ...core.model.entries import Port
from ...core.model.site import Account, Right, Service, Site, effective_rights
from ..damage import guarded
from .format import DeviceFormat, DeviceTarget, for_each_service
from .settings import ACCOUNTS_DECIDE, Found, fragment, is_path, is_word, lines_of, read_lines, words_of

ENDING = "sshd.conf"
_PRINTED = {"permitrootlogin", "hostkey"}
_OFTEN = {"usepam", "maxsessions", "maxauthtries", "maxstartups", "passwordauthentication", "pubkeyauthentication"}
"""Words of a fragment that no other format has, beside a port."""
_WHO = ("chrootdirectory", "allowusers", "denyusers", "allowgroups", "forcecommand")
_WRITES: frozenset[Right] = frozenset(("write", "append", "rename", "remove", "make-folders"))


@guarded
def read_sshd(file: str, text: str, wanted: frozenset[int] = frozenset()) -> DeviceConfig:
    """The settings; of several ports that which is ``wanted``, else the first. Raises BadInput with every value that
    cannot be read."""
    found = read_lines(file, "sftp", lines_of(text), _values)
    ports = [each for each in found.values if each.key[0] == "port"]
    chosen = next((each for each in ports if each.value.number in wanted), ports[0] if ports else None)
    others = tuple(
        Skipped(each.line, f"port {each.value}", "it listens there too: a service has one port, so make another of it")
        for each in ports
        if each is not chosen
    )
    rest = tuple(each for each in found.values if each.key[0] != "port")
    control = (replace(chosen, key=("control_port",)),) if chosen else ()
    return replace(found, values=(*control, *rest), skipped=(*found.skipped, *others))


def _read(texts: Mapping[str, str], target: DeviceTarget) -> list[DeviceConfig]:
    wanted = frozenset(each.control_port.number for each in target.site.services if each.protocol == "sftp")
    return [read_sshd(file, text, wanted) for file, text in texts.items()]


def _values(number: int, word: str, rest: list[str]) -> Found:
    if word == "port":
        yield ParsedValue(("port", rest[0]), Port.parse(rest[0]), number)
    elif word in _WHO and rest != ["none"]:
        yield Skipped(number, f"{word} {' '.join(rest)}", ACCOUNTS_DECIDE)


def _is_sshd(file: str, text: str) -> bool:
    """What it prints of itself, or a file of its own, which states what differs from the defaults."""
    words = words_of(text)
    return words >= _PRINTED or "subsystem" in words or ("port" in words and bool(words & _OFTEN))


def service_lines(service: Service) -> Iterator[str]:
    """The lines that every file transfer needs."""
    yield f"Port {service.control_port}"
    yield "Subsystem sftp internal-sftp"


def sshd_fragment(site: Site, service: Service) -> str:
    """The service as a fragment; empty for FTP."""
    return fragment(site, service, _lines(site, service)) if service.protocol == "sftp" else ""


def _lines(site: Site, service: Service) -> Iterator[str]:
    yield from service_lines(service)
    for each in site.accounts:
        if each.service == service.name and each.confined:
            yield from _confined(site, each)


def _confined(site: Site, account: Account) -> Iterator[str]:
    """An account that sees its folder alone; one that only reads is kept to it."""
    if not is_word(account.name) or (account.home is not None and not is_path(account.home)):
        yield f"# {account.name}: this name or folder cannot be written here"
        return
    rights = effective_rights(site, account)
    reads_only = rights is not None and not _WRITES & rights
    yield f"Match User {account.name}"
    if account.home:
        yield "  # root must own this folder and every folder above it, and nobody else may write there"
        yield f"  ChrootDirectory {account.home}"
    yield f"  ForceCommand internal-sftp{' -R' if reads_only else ''}"
    yield "  AllowTcpForwarding no"
    yield "  X11Forwarding no"


FORMAT = DeviceFormat(
    "openssh", "what sshd -T prints, or sshd_config", "sshd -T, as root",
    recognises=_is_sshd, reads=_read, writes=for_each_service(ENDING, sshd_fragment), endings=(ENDING,),
    omits="accounts, keys, what Match states for some users",
)  # fmt: skip
