"""Answers as people type them, in their usual form: each reader raises ValueError that states what would be right."""

import re
from collections.abc import Callable, Sequence

from ..model.entries import Destination, Port
from ..model.site import ETHERNET_BYTES, LEAST_MTU, Right
from ..values.addresses import UNKNOWN_TEXT, Address, AddressSet, address_or_none
from ..values.ports import HIGHEST_PORT, PortSet

RIGHTS: tuple[Right, ...] = ("list", "read", "write", "append", "rename", "remove", "make-folders")


def either_of(options: Sequence[str]) -> str:
    """Choices as a sentence has them."""
    *most, last = options
    return f"{', '.join(most)} or {last}" if most else last


_SYNONYMS = {
    "sftp": "ssh", "scp": "ssh", "ftps": "tls", "ftpes": "tls", "explicit": "tls", "ftp": "plain", "clear": "plain",
    "dhcp": "dynamic", "lease": "dynamic", "fixed": "static", "manual": "static", "reservation": "reserved",
    "debian": "linux", "ubuntu": "linux", "unix": "linux", "macos": "other", "mac": "other", "bsd": "other",
    "nat": "router", "modem": "router", "none": "nothing", "direct": "nothing", "server": "windows",
    "y": "yes", "true": "yes", "n": "no", "false": "no", "?": "unknown", "not known yet": "unknown",
}  # fmt: skip
"""Other words for an answer, read where that answer is one of the choices."""


def choice(options: Sequence[str]) -> Callable[[str], str]:
    """A reader of one word of these."""

    def read(text: str) -> str:
        word = text.strip().lower()
        word = word if word in options else _SYNONYMS.get(word, word)
        if word not in options:
            raise ValueError(f"found “{text[:40]}”; expected {either_of(options)}")
        return word

    return read


def _is_unknown(text: str) -> bool:
    return text.strip().lower() in ("unknown", "not known yet", "not known", UNKNOWN_TEXT)


def outside(text: str) -> str:
    """An address, or ``unknown``."""
    return "unknown" if _is_unknown(text) else address(text)


def address(text: str) -> str:
    """One address."""
    several = [each.strip() for each in text.split(",")]
    if len(several) > 1 and all(map(address_or_none, several)):
        raise ValueError(
            f"found {len(several)} addresses; expected the one that is used (others can be added to the file)"
        )
    return str(Address.parse(text))


def name(text: str) -> str:
    """A name for a file or device."""
    if not text.strip() or len(text) > 80 or not text.isprintable():
        raise ValueError("found no name; expected 1 to 80 characters, all of them printable")
    return text.strip()


def names(text: str) -> str:
    """One name, or several with commas between."""
    found = [name(each) for each in text.split(",")]
    return ", ".join(dict.fromkeys(found))


def port(text: str) -> str:
    """One port."""
    return str(Port.parse(text))


def port_or_none(text: str) -> str:
    """One port, or the word none."""
    return "none" if text.strip() == "none" else port(text)


def ports(text: str) -> str:
    """One range of unprivileged ports."""
    ports = PortSet.parse(text)
    if len(ports.spans) != 1 or ports.lowest < 1024:
        raise ValueError(f"found “{text[:40]}”; expected one range above 1023, as in 61200-61455")
    if len(ports) < 2:
        low = min(ports.lowest, HIGHEST_PORT - 19)
        raise ValueError(
            f"found {ports} alone; expected the first and the last port of a range, as in {low}-{low + 19}"
        )
    return str(ports)


def share(text: str) -> str:
    """Ports of a share, or all."""
    return "all" if text.strip() == "all" else str(PortSet.parse(text))


def packet_size(text: str) -> str:
    """The size of packets that a line takes, in bytes."""
    if not re.fullmatch(r"[0-9]{3,5}", text.strip()) or not LEAST_MTU <= int(text) <= ETHERNET_BYTES:
        raise ValueError(f"found “{text[:40]}”; expected a size of packets: 1500, or {LEAST_MTU} and more")
    return text.strip()


def count(text: str) -> str:
    """How many clients."""
    if not re.fullmatch(r"[1-9][0-9]{0,5}", text.strip()):
        raise ValueError(f"found “{text[:40]}”; expected a number of clients: 1 or more")
    return text.strip()


def ipv6_or_none(text: str) -> str:
    """One IPv6 address, or the word none."""
    if text.strip().lower() in ("none", "no"):
        return "none"
    found = Address.parse(text)
    if found.family != 6 or found.kind != "public":
        raise ValueError(f"found {found}; expected a public IPv6 address, as in 2001:db8:61::20, or none")
    return str(found)


def is_windows_path(text: str) -> bool:
    """Whether a whole path begins as on Windows: with a drive, or with two backslashes and a server."""
    return bool(re.match(r"[A-Za-z]:[\\/]|\\\\[^\\]", text))


def folders(text: str) -> str:
    """A whole path, or several with commas between."""
    return ", ".join(_folder(each.strip()) for each in text.split(","))


def _folder(text: str) -> str:
    whole = text.startswith("/") or is_windows_path(text)
    if not whole or not text.isprintable() or len(text) > 200:
        raise ValueError(f"found “{text[:40]}”; expected a whole path, as in /srv/tides/in or C:\\Transfers\\tides")
    return text


def rights_of_each(text: str) -> str:
    """Rights by their names, each once, for all accounts, or for each in turn with semicolons between."""
    return "; ".join(_rights(each) for each in text.split(";"))


def _rights(text: str) -> str:
    found = [each.strip() for each in text.split(",")]
    for each in found:
        if each not in RIGHTS:
            raise ValueError(f"found the right “{each[:40]}”; expected some of {', '.join(RIGHTS)}")
    return ", ".join(dict.fromkeys(found))


def dialled(text: str) -> str:
    """What clients type: a name or an address."""
    if text.strip() == UNKNOWN_TEXT:
        return UNKNOWN_TEXT
    if link := re.fullmatch(r"[A-Za-z][A-Za-z0-9+.-]*://(?:[^@/]*@)?([^/:]+)(?::[0-9]*)?/?.*", text.strip()):
        raise ValueError(f"found “{text[:40]}”, a link; expected the name or address alone: {link[1]}")
    if ported := re.fullmatch(r"([A-Za-z0-9._-]+):[0-9]+", text.strip()):
        raise ValueError(f"found “{text[:40]}” with a port, which is asked for itself; expected {ported[1]}")
    destination = Destination.parse(text)
    if destination.own or not re.fullmatch(r"[A-Za-z0-9.:_-]+", str(destination)):
        raise ValueError(
            f"found “{text[:40]}”; expected a name or an address, as in tides.saltmarsh.example or 198.51.100.61"
        )
    return str(destination)


def one_place(text: str) -> str:
    """One network or address, or ``unknown``."""
    if _is_unknown(text):
        return "unknown"
    if "," in text:
        raise ValueError("found several; expected one network or one address (more can be added to the file)")
    return str(AddressSet.parse(text))
