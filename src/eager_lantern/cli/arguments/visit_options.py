"""What ``visit`` can be told."""

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from . import completion
from .options import SessionMode

FTP_PORT, SSH_PORT = 21, 22


class Security(StrEnum):
    """How the session is protected."""

    none = "none"
    explicit = "explicit"
    implicit = "implicit"


Target = Annotated[str, typer.Argument(help="A host name or address, or a site file.")]
ClientName = Annotated[
    str,
    typer.Option(help="With a site: the client whose place and habits to take.", autocompletion=completion.own_clients),
]
SiteService = Annotated[
    str, typer.Option(help="With a site: the service; default: the only one.", autocompletion=completion.services)
]
OverSsh = Annotated[bool, typer.Option("--sftp", help="With a host: file transfer over SSH instead of FTP.")]
User = Annotated[str, typer.Option(help="The account; default: the client's in the site, else anonymous.")]
WithMode = Annotated[SessionMode | None, typer.Option(help="Default: the client's first mode, else passive.")]
WithSecurity = Annotated[Security | None, typer.Option(help="Default: the service's, else explicit TLS.")]
ControlPort = Annotated[int | None, typer.Option(min=1, max=65535, help="The control port.")]
ConnectAt = Annotated[str, typer.Option(help="Connect to this address instead of looking the name up.")]
Extended = Annotated[bool | None, typer.Option(help="EPSV and EPRT instead of PASV and PORT.")]
FollowAnnounced = Annotated[bool, typer.Option("--follow-announced", help="Follow a passive reply to another host.")]
ActiveAddress = Annotated[str, typer.Option(help="The address to name in active mode.")]
ActivePorts = Annotated[str, typer.Option(help="The ports to wait on in active mode.")]
Trusted = Annotated[Path | None, typer.Option(readable=False, help="A certificate file (PEM) to trust.")]
AnyCertificate = Annotated[bool, typer.Option("--any-certificate", help="Do not examine certificate or host key.")]
HostKey = Annotated[str, typer.Option(help="The fingerprint that SSH is to show, as SHA256:….")]
Closely = Annotated[
    bool, typer.Option("--closely", help="Look closely at TLS or SSH: certificate, key, reuse, algorithms.")
]
RangeConnections = Annotated[
    int, typer.Option("--find-range", min=0, max=16, help="Find the range of data ports on so many connections.")
]
Rights = Annotated[bool, typer.Option("--rights", help="Try what the account may do, and where.")]
TriesCaution = Annotated[bool, typer.Option("--caution", help="Try whom it connects to and takes data from.")]
From = Annotated[
    list[str] | None,
    typer.Option("--from", help="Visit from ssh://USER@HOST instead, which needs Python 3.9; may be repeated."),
]
WrongLogins = Annotated[
    int,
    typer.Option(min=0, max=20, help="So many wrong logins as nobody: does it slow? May bar this address."),
]
SweepsLamp = Annotated[bool, typer.Option("--lamp", help="Sweep a lit lamp instead of a session.")]
ListOnly = Annotated[bool, typer.Option("--list-only", help="Send and fetch nothing.")]
Timeout = Annotated[float, typer.Option(min=0.1, max=600, help="Seconds for each rung.")]
Saved = Annotated[Path | None, typer.Option(help="Keep the result (JSON) in this file, for check --seen.")]
