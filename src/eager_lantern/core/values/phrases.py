"""Phrases that messages are made of."""

import re
from collections.abc import Iterable
from shlex import quote
from typing import Any

from .addresses import AddressSet
from .ports import PortSet


def ports_phrase(ports: PortSet) -> str:
    """``port 21``, ``ports 61200-61455``."""
    return f"port {ports}" if len(ports) == 1 else f"ports {ports}"


def only_from(whom: AddressSet | None) -> str:
    """``, from: 192.0.2.40``, or nothing for anybody."""
    return "" if whom is None else f", from: {whom}" if len(whom.spans) == 1 else f', from: "{whom}"'


_PLAIN = re.compile(r"[A-Za-z0-9/][A-Za-z0-9 ./_-]*")


def flow_text(value: Any) -> str:
    """A value as the site file has it on one line."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, dict):
        return "{" + ", ".join(f"{key}: {flow_text(each)}" for key, each in value.items()) + "}"
    if isinstance(value, (list, tuple)):
        return "[" + ", ".join(map(flow_text, value)) + "]"
    text = str(value)
    if not isinstance(value, str) or _PLAIN.fullmatch(text):
        return text
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'


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
