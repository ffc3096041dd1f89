"""Options of ``visit``, in groups; a group knows which parts of a plan it changes."""

import re
import ssl
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path
from typing import Annotated, Any
from urllib.parse import SplitResult, urlsplit

import typer

from ...core.model.entries import Destination
from ...core.model.site import Mode
from ...core.values.addresses import Address
from ...core.values.ports import PortSet
from ...formats.reading import bad_file, read_regular
from ...live.vantage.local import HERE
from ...wire.terminal_safe import printable
from . import completion
from .options import Forced, Format, SessionMode, Written, parsed_or_none, set_only
from .sites import the_place

MOST_TRUSTED_BYTES = 10_000_000


class SecurityOptions(StrEnum):
    """How the session is protected."""

    none = "none"
    explicit = "explicit"
    implicit = "implicit"


@dataclass(frozen=True, slots=True)
class VisitDestination:
    """Whom to visit, as whom, and from where."""

    target: Annotated[str, typer.Argument(help="A host name or address, or a site file.")] = ""
    client: Annotated[
        str,
        typer.Option(
            help="With a site: the client whose place and habits to take.", autocompletion=completion.own_clients
        ),
    ] = ""
    service: Annotated[
        str, typer.Option(help="With a site: the service; default: the only one.", autocompletion=completion.services)
    ] = ""
    sftp: Annotated[bool, typer.Option("--sftp", help="With a host: file transfer over SSH instead of FTP.")] = False
    user: Annotated[str, typer.Option(help="The account; default: the client's in the site, else anonymous.")] = ""
    port: Annotated[int | None, typer.Option(min=1, max=65535, help="The control port.")] = None
    at: Annotated[str, typer.Option(help="Connect to this address instead of looking the name up.")] = ""
    from_: Annotated[
        list[str] | None,
        typer.Option(
            "--from",
            help="Visit from ssh://USER@HOST instead, which needs Python 3.9, or from namespace://NAME (Linux, root); "
            "may be repeated.",
        ),
    ] = None

    @property
    def places(self) -> list[str]:
        """Each place once. Raises BadParameter for what is none."""
        names = self.from_ or [HERE.name]
        return list(dict.fromkeys(the_place("--from", each) for each in names))

    def of_target(self) -> dict[str, Any]:
        """What it changes of a plan's target. Raises BadParameter."""
        address = parsed_or_none(Address, "--at", self.at or None)
        return set_only(port=self.port, address=str(address) if address else None)

    def of_credentials(self) -> dict[str, Any]:
        """What it changes of a plan's credentials."""
        return set_only(user=self.user or None)


@dataclass(frozen=True, slots=True)
class Protection:
    """How the session is protected, and what the server has to show."""

    security: Annotated[
        SecurityOptions | None,
        typer.Option(help="TLS of the control connection; default: the service's, else explicit."),
    ] = None
    trust: Annotated[Path | None, typer.Option(readable=False, help="A certificate file (PEM) to trust.")] = None
    any_certificate: Annotated[bool, typer.Option("--any-certificate", help="Accept any certificate or host key.")] = (
        False
    )
    host_key: Annotated[str, typer.Option(help="The expected SSH fingerprint, as SHA256:….")] = ""

    def of_security(self) -> dict[str, Any]:
        """What it changes of a plan's security. Raises BadInput when the file to trust holds no certificate."""
        return set_only(
            mode=self.security.value if self.security else None,
            trusts=_certificates(self.trust),
            any_certificate=self.any_certificate,
            host_key=self.host_key or None,
        )

    def of_ftp(self) -> dict[str, object]:
        """The options that SSH has not."""
        return {"--security": self.security, "--trust": self.trust}


@dataclass(frozen=True, slots=True)
class DataChoice:
    """How data connections are made."""

    mode: Annotated[SessionMode | None, typer.Option(help="Default: the client's first mode, else passive.")] = None
    extended: Annotated[bool | None, typer.Option(help="EPSV and EPRT instead of PASV and PORT.")] = None
    follow_announced: Annotated[
        bool, typer.Option("--follow-announced", help="Follow a passive reply to another host.")
    ] = False
    even_private: Annotated[
        bool, typer.Option("--even-private", help="Follow it to private, link-local and similar addresses too.")
    ] = False
    active_address: Annotated[str, typer.Option(help="The address to name in active mode.")] = ""
    active_ports: Annotated[str, typer.Option(help="The ports to listen on in active mode.")] = ""

    @property
    def wanted_mode(self) -> Mode | None:
        """The mode in the words of a site; None where none was given."""
        return None if self.mode is None else "active" if self.mode is SessionMode.active else "passive"

    def of_data(self) -> dict[str, Any]:
        """What it changes of a plan's data connections. Raises BadParameter."""
        if self.mode is SessionMode.passive and (self.active_address or self.active_ports):
            raise typer.BadParameter("--active-address and --active-ports are of active mode, and --mode is passive")
        if self.even_private and not self.follow_announced:
            raise typer.BadParameter("--even-private: it goes with --follow-announced, which is not given")
        address = parsed_or_none(Address, "--active-address", self.active_address or None)
        return set_only(
            mode=self.wanted_mode,
            extended=self.extended,
            announced="follow" if self.follow_announced else None,
            even_private=self.even_private or None,
            active_address=str(address) if address else None,
            active_ports=parsed_or_none(PortSet, "--active-ports", self.active_ports or None),
        )

    def of_ftp(self) -> dict[str, object]:
        """The options that SSH has not."""
        return {
            "--mode": self.mode,
            "--extended": self.extended,
            "--follow-announced": self.follow_announced,
            "--even-private": self.even_private,
            "--active-address": self.active_address,
            "--active-ports": self.active_ports,
        }


@dataclass(frozen=True, slots=True)
class LooksWanted:
    """What to look at beyond the ladder, or instead of it."""

    closely: Annotated[
        bool, typer.Option("--closely", help="Look closely at TLS or SSH: certificate, key, reuse, algorithms.")
    ] = False
    range_connections: Annotated[
        int,
        typer.Option("--find-range", min=0, max=16, help="Find the range of data ports over this many connections."),
    ] = 0
    rights: Annotated[bool, typer.Option("--rights", help="Try what the account may do, and where.")] = False
    caution: Annotated[
        bool,
        typer.Option("--bounce", help="Try FTP bounce: whether it connects to, or accepts data from, other addresses."),
    ] = False
    login_throttling: Annotated[
        int,
        typer.Option(
            min=0, max=20, help="Try N wrong logins of an unknown account: is it slowed? May ban this address."
        ),
    ] = 0
    lamp: Annotated[bool, typer.Option("--lamp", help="Sweep a lit lamp instead of a session.")] = False

    def of_looks(self) -> dict[str, Any]:
        """What it changes of a plan's looks."""
        return {
            "closely": self.closely,
            "tries_rights": self.rights,
            "tries_caution": self.caution,
            "login_tries": self.login_throttling,
            "range_connections": self.range_connections,
        }

    def of_ftp(self) -> dict[str, object]:
        """The options that SSH has not."""
        return {"--find-range": self.range_connections, "--bounce": self.caution}


@dataclass(frozen=True, slots=True)
class Bounds:
    """How far a visit goes, and how long."""

    list_only: Annotated[bool, typer.Option("--list-only", help="Send and fetch nothing.")] = False
    timeout: Annotated[float, typer.Option(min=0.1, max=600, help="Seconds for each rung.")] = 10

    def of_limits(self) -> dict[str, Any]:
        """What it changes of a plan's limits."""
        return {"timeout": self.timeout, "writes": not self.list_only}


@dataclass(frozen=True, slots=True)
class Keeping:
    """Where the result goes, and how it is written."""

    save: Annotated[Path | None, typer.Option(help="Save the result (JSON) in this file, for check --seen.")] = None
    force: Forced = False
    form: Written = Format.text
    carry: Annotated[
        Path | None,
        typer.Option(help="With a site: write a probe in this file instead, for a machine that has only Python."),
    ] = None
    survey: Annotated[
        Path | None, typer.Option(readable=False, help="With a site: a kept survey of the server, to say why it fails.")
    ] = None


def only_ssh(groups: Sequence[Protection | DataChoice | LooksWanted]) -> None:
    """Raises BadParameter where --sftp stands beside what only FTP has."""
    if names := [name for each in groups for name, value in each.of_ftp().items() if value]:
        raise typer.BadParameter(f"{' and '.join(names)}: of FTP, and this visit is SSH file transfer (--sftp)")


def _certificates(path: Path | None) -> Path | None:
    """The file to trust. Raises BadInput when it holds no certificate."""
    if path is None:
        return None
    try:
        read_regular(path, MOST_TRUSTED_BYTES)
        ssl.create_default_context(cafile=str(path))
    except OSError as error:
        raise bad_file(path, f"found no certificate in PEM form ({error.strerror}); expected one") from None
    return path


_NAME = re.compile(r"\w[\w.-]*")
_PORTED = re.compile(r"(?:\[[0-9a-fA-F:.]+\]|[^:/\s\[\]]+):[0-9]{1,5}")


def typed_host(text: str) -> str:
    """A host name or address. Raises BadParameter with what would be right, and never with what may be a password."""
    bare = text[1:-1] if text.startswith("[") and text.endswith("]") else text
    if "://" in text or "@" in text or _PORTED.fullmatch(text):
        raise typer.BadParameter(f"visit takes a host and no URL, account or port beside it{_as_options(text)}")
    with suppress(ValueError):
        return str(Address.parse(bare))
    try:
        name = Destination.parse(bare).name
    except ValueError as error:
        raise typer.BadParameter(str(error)) from None
    if not _NAME.fullmatch(name):
        raise typer.BadParameter(f"“{printable(text)}” is neither a host name or address nor a site file that is there")
    return name


def _as_options(text: str) -> str:
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
