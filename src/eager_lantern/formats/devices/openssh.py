"""OpenSSH (public interface): read from what ``sshd -T`` prints or its own file, written as a fragment for
``sshd_config``, which ``sshd -t`` accepts."""

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from fnmatch import fnmatchcase
from typing import NamedTuple

from msgspec.structs import replace

from ...core.changes.adopted import DeviceConfig, ParsedValue, Skipped
from ...core.model.entries import Port
from ...core.model.site import Account, Right, Service, Site, effective_rights
from ..damage import guarded
from .format import DeviceFormat, DeviceTarget, for_each_service
from .settings import (
    ACCOUNTS_DECIDE,
    BEGINS,
    ENDS,
    Found,
    Line,
    fragment,
    is_path,
    is_word,
    not_included,
    not_read,
    read_lines,
    spliced,
    words_of,
)

ENDING = "sshd.conf"
_PRINTED = {"permitrootlogin", "hostkey"}
_OFTEN = {"usepam", "maxsessions", "maxauthtries", "maxstartups", "passwordauthentication", "pubkeyauthentication"}
"""Words of a fragment that no other format has, beside a port."""
_WHO = ("chrootdirectory", "allowusers", "denyusers", "allowgroups", "forcecommand")
_WRITES: frozenset[Right] = frozenset(("write", "append", "rename", "remove", "make-folders"))
_USUAL_PORT = 22


@guarded
def read_sshd(
    file: str,
    text: str,
    texts: Mapping[str, str] | None = None,
    site: Site | None = None,
    service: Service | None = None,
) -> DeviceConfig:
    """The settings; of several ports that of the ``service``, else the first. Of a configuration file, which states
    what ``sshd -T`` does not print, also how the service's accounts of the ``site`` are confined. ``texts`` are files
    that it may include. Raises BadInput with every value that cannot be read."""
    others = {name: each for name, each in (texts or {}).items() if name != file}
    general, blocks = _blocks(spliced(text, others))
    found = read_lines(file, "sftp", [*general, *(each for block in blocks for each in block.lines)], _values)
    ports, chosen = _ports(found.values), None
    if ports:
        chosen = next((each for each in ports if service and each.value == service.control_port), ports[0])
    left = tuple(
        Skipped(each.line, f"port {each.value}", "it listens there too: a service has one port, so make another of it")
        for each in ports
        if each is not chosen
    )
    is_printed = words_of(text) >= _PRINTED
    confined = () if is_printed or not site or not service else tuple(_confinement(site, service, general, blocks))
    values = (*((chosen,) if chosen else ()), *(each for each in confined if isinstance(each, ParsedValue)))
    more = tuple(each for each in confined if isinstance(each, Skipped))
    return replace(found, values=values, skipped=(*found.skipped, *left, *more))


def _read(texts: Mapping[str, str], target: DeviceTarget) -> list[DeviceConfig]:
    services = [each for each in target.services if each.protocol == "sftp"]
    service = services[0] if len(services) == 1 else None
    return [read_sshd(file, texts[file], texts, target.site, service) for file in not_included(texts)]


_LISTEN = re.compile(r"(?:\[(?P<six>[^\]]*)\]|(?P<four>[^:]*))(?::(?P<port>[0-9]{1,5}))?")


def _values(number: int, word: str, rest: list[str]) -> Found:
    if word == "port":
        yield ParsedValue(("port", rest[0]), Port.parse(rest[0]), number)
    elif word == "listenaddress":
        port = at["port"] if (at := _LISTEN.fullmatch(rest[0])) else None
        yield ParsedValue(("listen", rest[0]), Port.parse(port) if port else None, number)
        if rest[0].startswith(("127.", "localhost", "[::1]", "::1")):
            yield Skipped(number, f"ListenAddress {rest[0]}", "nobody but the host itself reaches it there")
    elif word == "include":
        yield not_read(number, rest)
    elif word in _WHO and rest != ["none"]:
        yield Skipped(number, f"{word} {' '.join(rest)}", ACCOUNTS_DECIDE)


def _ports(values: Iterable[ParsedValue]) -> list[ParsedValue]:
    """Where it listens: at the ports of its addresses, and at those of Port where an address has none or where there
    are no addresses; in the order of the ports."""
    known = list(values)
    addresses = [each for each in known if each.key[0] == "listen"]
    bare = [each for each in addresses if each.value is None]
    ports = [each for each in known if each.key[0] == "port"]
    if bare and not ports:
        ports = [replace(bare[0], value=Port(_USUAL_PORT))]
    own = [each for each in addresses if each.value is not None]
    heard = {each.value for each in (*own, *(ports if bare or not addresses else ()))}
    found = {each.value: each for each in (*own, *ports) if each.value in heard}
    ordered = dict.fromkeys(each.value for each in (*ports, *own) if each.value in heard)
    return [replace(found[each], key=("control_port",)) for each in ordered]


class _Block(NamedTuple):
    """What counts for those who satisfy a Match: its line, its criteria, and its lines."""

    line: int
    criteria: list[str]
    lines: list[Line]


def _blocks(lines: Iterator[Line]) -> tuple[list[Line], list[_Block]]:
    """The lines for everybody, and those for some; a Match of an included file ends with it."""
    general, blocks = list[Line](), list[_Block]()
    here, outer = general, list[list[Line]]()
    for number, word, rest in lines:
        if word == "match":
            blocks.append(_Block(number, rest, []))
            here = blocks[-1].lines
        elif word == BEGINS:
            outer.append(here)
        elif word == ENDS:
            here = outer.pop()
        else:
            here.append((number, word, rest))
    return general, blocks


def _confinement(site: Site, service: Service, general: Sequence[Line], blocks: Sequence[_Block]) -> Found:
    """How each account of the service is confined, where the file states it: by the first Match that it satisfies, else
    by the lines for everybody (sshd_config(5))."""
    for account in site.accounts:
        if account.service != service.name:
            continue
        stated = _first(account, "chrootdirectory", general, blocks)
        if isinstance(stated, _Block):
            why = f"whether account {account.name} is confined depends on what a site file does not know"
            yield Skipped(stated.line, f"Match {' '.join(stated.criteria)}", why)
        elif stated is not None and stated[2]:
            number, _, (folder, *_) = stated
            yield ParsedValue(("accounts", account.name, "confined"), folder.lower() != "none", number)
            if folder.lower() != "none" and not set("%") & set(folder.replace("%u", "").replace("%%", "")):
                home = folder.replace("%u", account.name).replace("%%", "%")
                yield ParsedValue(("accounts", account.name, "home"), home, number)


def _first(account: Account, wanted: str, general: Sequence[Line], blocks: Sequence[_Block]) -> Line | _Block | None:
    """The line of a keyword that counts for an account; the block of which nobody can tell whether it does."""
    for block in blocks:
        line = next((each for each in block.lines if each[1] == wanted), None)
        satisfied = _satisfies(account, block.criteria) if line else False
        if line is not None and satisfied is not False:
            return line if satisfied else block
    return next((each for each in general if each[1] == wanted), None)


def _satisfies(account: Account, criteria: Sequence[str]) -> bool | None:
    """Whether an account satisfies all criteria; None where only the session could tell."""
    if [each.lower() for each in criteria] == ["all"]:
        return True
    known: list[bool | None] = []
    for keyword, patterns in zip(criteria[::2], criteria[1::2], strict=False):
        if keyword.lower() == "user":
            known.append(_is_of(account.name, patterns))
        elif keyword.lower() == "group":  # its groups in the file need not be all that it has on the system
            known.append(True if any(_is_of(each, patterns) for each in account.groups) else None)
        else:
            known.append(None)
    return False if False in known else None if None in known or not known else True


def _is_of(name: str, patterns: str) -> bool:
    """Whether a name is in a list of patterns, of which a negated one that it fits takes it out (ssh_config(5))."""
    each = patterns.split(",")
    out = any(fnmatchcase(name, one[1:]) for one in each if one.startswith("!"))
    return not out and any(fnmatchcase(name, one) for one in each if not one.startswith("!"))


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
    yield from _login_lines(service)
    for each in site.accounts:
        if each.service == service.name and each.confined:
            yield from _confined(site, each)


def _login_lines(service: Service) -> Iterator[str]:
    """Who may log in, to be switched on by hand: whoever administers the host comes in by the same server."""
    for word, names in (("AllowUsers", service.allows), ("DenyUsers", service.bars)):
        if names and all(map(is_word, names)):
            yield "# Switch this on only when your own account is among those that get in; try it in a second session:"
            yield f"# {word} {' '.join(names)}"
        elif names:
            yield f"# {word}: a name of the list cannot be written here"


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
    omits="keys, who may log in, what Match states but for how accounts are confined",
)  # fmt: skip
