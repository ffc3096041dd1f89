"""What a visit is to do, in parts, and what it must not do: lock accounts out, follow addresses that a stranger names.

Whoever follows them can be led to what only this machine reaches: a host of its own network, itself, or the service
from which hosts of a cloud get their credentials. So such an address is shown before anything is sent to it, and one
that is not everybody's needs a word of its own (``--even-private``).
"""

import asyncio
import secrets
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Literal, Protocol

from ...core.model.site import CompleteClient, Mode, Right, Service, TlsMode
from ...core.network.topology import Topology
from ...core.predict.endpoints import typed_port
from ...core.predict.forecast import ClientPosition
from ...core.values.addresses import Address
from ...core.values.outcomes import Advice
from ...core.values.phrases import article
from ...core.values.ports import NO_PORTS, UNPRIVILEGED, PortSet
from ..vantage.base import Failed, Vantage
from ..vantage.local import HERE
from .secret import Secret


class LockoutGuard:
    """Lets one visit try an account first. Once that is let in, so are all others; once it is refused, no
    other tries."""

    def __init__(self) -> None:
        self._first = asyncio.Lock()
        self._good = False
        self._refused = ""

    @asynccontextmanager
    async def turn(self) -> AsyncIterator[None]:
        """Wait until it is known what becomes of the first try."""
        if self._good:
            yield
            return
        async with self._first:
            yield

    @property
    def shut(self) -> str:
        """Why the account is not tried; empty where it may be."""
        return (
            f"not tried, so that nobody is locked out: it was refused before ({self._refused})" if self._refused else ""
        )

    def pass_or_fail(self) -> None:
        """Raises Failed where the account was refused before."""
        if self.shut:
            raise Failed("unknown", self.shut)

    def let_in(self) -> None:
        """The account is good."""
        self._good = True

    def rejected(self, why: str) -> None:
        """The account was refused."""
        self._refused = why


Announced = Literal["report", "follow", "follow-public", "ignore"]
"""What to do with a passive reply that names another host: report it and use the server's own address, go to the
address that it names, the same unless it names a private one and the server's is public, or use the server's own
without a word."""


@dataclass(frozen=True, slots=True)
class DialRoute:
    """Where to connect to in order to get somewhere, and from which address of this machine."""

    address: str
    port: int
    source: str = ""


class Connector(Protocol):
    """How to get to an address and port, ``source`` and ``source_port`` being what to come from."""

    def __call__(self, address: str, port: int, source: str = "", source_port: int = 0) -> DialRoute:
        """The way. Raises OSError where there is none."""


Notice = Callable[[str], None]


def unnoticed(text: str) -> None:
    """Nobody has to know."""


def directly(address: str, port: int, source: str = "", source_port: int = 0) -> DialRoute:
    """By the network that this machine is on."""
    return DialRoute(address, port, source)


@dataclass(frozen=True, slots=True)
class Target:
    """Where a visit goes: ``name`` is what users type and certificates are made for, ``address`` is where to
    connect when the name is not to be looked up, ``found`` how that was found where it was looked up before. Whose
    visit it is, to which service, as the site names them."""

    name: str
    port: int
    address: str | None = None
    client: str = "here"
    service: str = ""
    found: str = ""


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
    """A folder that the account is to see under this name, with its rights there; None where the site states none. The
    empty name is where the session begins."""

    name: str = ""
    rights: frozenset[Right] | None = None


@dataclass(frozen=True, slots=True)
class Looks:
    """What to look at beyond the ladder, and the rights that the site gives the account; None where it has none."""

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


NO_ADVICE = Advice()


@dataclass(frozen=True, slots=True)
class VisitPlan:
    """One session with one server; ``vantage`` is the place that it is made from, ``notice`` is called before anything
    is sent to an address that only the server has named, ``advice`` stands beside what fails."""

    target: Target
    credentials: Credentials
    security: Security = Security()
    data: DataHabits = DataHabits()
    looks: Looks = Looks()
    limits: Limits = Limits()
    reach: Connector = directly
    vantage: Vantage = HERE
    notice: Notice = unnoticed
    advice: Advice = NO_ADVICE


def stranger(plan: VisitPlan) -> VisitPlan:
    """The same visit as somebody who has no account."""
    return replace(plan, credentials=Credentials(f"nobody-{secrets.token_hex(6)}", Secret(secrets.token_hex(8))))


def plan_of(
    topology: Topology,
    position: ClientPosition,
    player: CompleteClient,
    service: Service,
    mode: Mode,
    user: str,
    password: Secret,
) -> VisitPlan:
    """What the site states a session of who stands somewhere, with the habits of the client that plays it.
    Where to connect, by which name, is for whoever makes it to add."""
    tls = service.tls
    mode_of_tls: TlsMode = tls.mode if player.secures(tls) else "none"
    return VisitPlan(
        Target("", typed_port(topology, position, service), client=position.name, service=service.name),
        Credentials(user, password),
        Security(mode_of_tls, protects_data=tls.protects_data, resumes=player.resumes_tls),
        DataHabits(mode, extended=player.uses_epsv, active_ports=player.active_ports),
    )


WORD = "--even-private"
METADATA = frozenset(map(Address.parse, ("169.254.169.254", "fd00:ec2::254", "100.100.100.200", "168.63.129.16")))
"""Where providers answer their own hosts (public interface: each provider's documentation names its own)."""


def not_everybodys(address: str) -> str:
    """What an address is, in words, where it is not a host's on the internet; empty where it is. Raises ValueError for
    what is no address."""
    found = Address.parse(address)
    if found in METADATA:
        return "the address of a cloud's metadata service"
    return "" if found.kind == "public" else f"{article(found.kind)} address"


NO_FILE = "there was no file to try it on"


OUTSIDE = ("/etc", "/Windows", "/root", "/home")
