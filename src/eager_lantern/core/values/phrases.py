"""Phrases that messages are made of."""

from collections.abc import Iterable
from shlex import quote

from .addresses import AddressSet
from .ports import PortSet


def ports_phrase(ports: PortSet) -> str:
    """``port 21``, ``ports 61200-61455``."""
    return f"port {ports}" if len(ports) == 1 else f"ports {ports}"


def only_from(whom: AddressSet | None) -> str:
    """``, from: 192.0.2.40``, or nothing for anybody."""
    return "" if whom is None else f", from: {whom}" if len(whom.spans) == 1 else f', from: "{whom}"'


def quoted(name: str) -> str:
    """``“data” ``, or nothing for what has no name."""
    return f"“{name}” " if name else ""


def the(what: str, name: str) -> str:
    """``forward “data”``, or ``this forward``."""
    return f"{what} “{name}”" if name else f"this {what}"


def article(kind: str) -> str:
    """``a private``, ``an unspecified``."""
    if kind == "carrier":
        return "a carrier's shared (carrier-grade NAT)"
    return f"an {kind}" if kind[0] in "aeiou" else f"a {kind}"


def ports_named(ports: PortSet) -> str:
    """``port 21``, ``ports 61200-61455``; many of them are counted."""
    text = str(ports) if len(ports.spans) <= 3 else f"{ports.lowest} to {ports.highest} ({len(ports)} of them)"
    return f"port {text}" if len(ports) == 1 else f"ports {text}"


def operand(word: str) -> str:
    """A last word of a command for a shell, whatever it is: ``boat``, ``'two boats'``, ``-- -x``."""
    return f"-- {quote(word)}" if word.startswith("-") else quote(word)


def listed(words: Iterable[str]) -> str:
    """``a``, ``a and b``, ``a, b and c``; nothing of nothing."""
    *before, last = [*words] or [""]
    return f"{', '.join(before)} and {last}" if before else last
