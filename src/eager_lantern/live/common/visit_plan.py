"""What a visit is to do, in parts by what each is for."""

import secrets
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Literal, Protocol

from ...core.model.site import Mode, Right, TlsMode
from ...core.values.ports import NO_PORTS, UNPRIVILEGED, PortSet
from ..vantage.base import Vantage
from ..vantage.local import HERE
from .lockout_guard import LockoutGuard
from .secret import Secret

Announced = Literal["report", "follow", "follow-public", "ignore"]
"""What to do with a passive reply that names another host: report it and use the server's own address, go to the
address that it names, the same unless it names a private one and the server's is public, or use the server's own
without a word."""


@dataclass(frozen=True, slots=True)
class Way:
    """Where to connect to in order to get somewhere, and from which address of this machine."""

    address: str
    port: int
    source: str = ""


class Connector(Protocol):
    """How to get to an address and port, ``source`` and ``source_port`` being what to come from."""

    def __call__(self, address: str, port: int, source: str = "", source_port: int = 0) -> Way:
        """The way. Raises OSError where there is none."""


Notice = Callable[[str], None]


def unnoticed(text: str) -> None:
    """Nobody has to know."""


def directly(address: str, port: int, source: str = "", source_port: int = 0) -> Way:
    """By the network that this machine is on."""
    return Way(address, port, source)


@dataclass(frozen=True, slots=True)
class Target:
    """Where a visit goes: ``name`` is what users type and certificates are made for, ``address`` is where to
    connect when the name is not to be looked up. Whose visit it is, to which service, as the site names them."""

    name: str
    port: int
    address: str | None = None
    client: str = "here"
    service: str = ""


@dataclass(frozen=True, slots=True)
class Credentials:
    """Who logs in; ``gate`` is shared by the visits that log in to one account."""

    user: str
    password: Secret
    gate: LockoutGuard = field(default_factory=LockoutGuard)


@dataclass(frozen=True, slots=True)
class Security:
    """How the session is protected, and what the server has to show: ``host_key`` is the fingerprint of SSH."""

    mode: TlsMode = "explicit"
    protects_data: bool = True
    resumes: bool = True
    trusts: Path | None = None
    any_certificate: bool = False
    host_key: str = ""


@dataclass(frozen=True, slots=True)
class DataHabits:
    """How data connections are made; ``even_private`` is whether an announced address is followed that no host on the
    internet has, ``planned`` are the ports that the site gives them."""

    mode: Mode = "passive"
    extended: bool | Literal["first"] = False
    announced: Announced = "report"
    even_private: bool = False
    checks_peer: bool = True
    active_address: str | None = None
    active_ports: PortSet = UNPRIVILEGED
    planned: PortSet = NO_PORTS


@dataclass(frozen=True, slots=True)
class FolderLook:
    """A folder that the account is to see under this name, with its rights there; None where the site says none. The
    empty name is where the session begins."""

    name: str = ""
    rights: frozenset[Right] | None = None


@dataclass(frozen=True, slots=True)
class Looks:
    """What to look at beyond the ladder, and the rights that the site gives the account; None where it says none."""

    closely: bool = False
    range_connections: int = 0
    tries_rights: bool = False
    tries_caution: bool = False
    login_tries: int = 0
    rights: frozenset[Right] | None = None
    confined: bool | None = None
    folders: tuple[FolderLook, ...] = ()

    @property
    def every_folder(self) -> tuple[FolderLook, ...]:
        """Where the session begins, then the folders beside it."""
        return (FolderLook("", self.rights), *self.folders)


@dataclass(frozen=True, slots=True)
class Limits:
    """How far a visit goes and how long, in seconds: ``timeout`` for a rung, ``whole`` for all of them;
    ``lasts`` is how long sending is drawn out."""

    timeout: float = 10
    whole: float = 120
    writes: bool = True
    reads: bool = True
    removes: bool = True
    lasts: float = 0


@dataclass(frozen=True, slots=True)
class VisitPlan:
    """One session with one server; ``vantage`` is the place that it is made from, ``notice`` is called before anything
    is sent to an address that only the server has named."""

    target: Target
    credentials: Credentials
    security: Security = Security()
    data: DataHabits = DataHabits()
    looks: Looks = Looks()
    limits: Limits = Limits()
    reach: Connector = directly
    vantage: Vantage = HERE
    notice: Notice = unnoticed


def stranger(plan: VisitPlan) -> VisitPlan:
    """The same visit as somebody who has no account."""
    return replace(plan, credentials=Credentials(f"nobody-{secrets.token_hex(6)}", Secret(secrets.token_hex(8))))
