"""The host of a visit as it was typed; an address of another form is answered by how to type it."""

import re
from contextlib import suppress
from urllib.parse import SplitResult, urlsplit

import typer

from ...core.model.entries import Destination
from ...core.values.addresses import Address
from ...wire.terminal_safe import printable

_NAME = re.compile(r"\w[\w.-]*")
_PORTED = re.compile(r"(?:\[[0-9a-fA-F:.]+\]|[^:/\s\[\]]+):[0-9]{1,5}")


def typed_host(text: str) -> str:
    """A host name or address. Raises BadParameter with what would be right, and never with what may be a password."""
    bare = text[1:-1] if text.startswith("[") and text.endswith("]") else text
    if "://" in text or "@" in text or _PORTED.fullmatch(text):
        raise typer.BadParameter(f"visit takes a host and no URL, account or port beside it{_rather(text)}")
    with suppress(ValueError):
        return str(Address.parse(bare))
    try:
        name = Destination.parse(bare).name
    except ValueError as error:
        raise typer.BadParameter(str(error)) from None
    if not _NAME.fullmatch(name):
        raise typer.BadParameter(f"“{printable(text)}” is neither a host name or address nor a site file that is there")
    return name


def _rather(text: str) -> str:
    """The same as words of the command line, as far as it can be read."""
    try:
        parts = urlsplit(text if "://" in text else f"//{text}")
        host, words = parts.hostname or "", _words(parts)
    except ValueError:
        return ""
    return f": eager-lantern visit {printable(host)}{printable(words)}" if host else ""


def _words(parts: SplitResult) -> str:
    """Options for what a URL holds (RFC 3986, section 3), but for its password. Raises ValueError for a wrong port."""
    found = {"sftp": " --sftp", "ftps": " --security implicit"}.get(parts.scheme, "")
    return (
        found
        + (f" --port {parts.port}" if parts.port else "")
        + (f" --user {parts.username}" if parts.username else "")
    )
