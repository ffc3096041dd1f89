"""What a visit is to do."""

import secrets
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Literal, Protocol

from ...core.model.site import Right, TlsMode
from ...core.values.ports import NO_PORTS, UNPRIVILEGED, PortSet
from ..vantage.base import Vantage
from ..vantage.local import HERE
from .lockout_guard import LockoutGuard
from .secret import Secret

Announced = Literal["report", "follow", "ignore"]
"""What to do with a passive reply that names another host: report it and use the server's own
address, go to the address that it names, or use the server's own without a word."""


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


def directly(address: str, port: int, source: str = "", source_port: int = 0) -> Way:
    """By the network that this machine is on."""
    return Way(address, port, source)


@dataclass(frozen=True, slots=True)
class VisitPlan:
    """One session with one server; times in seconds.

    ``name`` is what users type and certificates are made for; ``address`` is where to
    connect when the name is not to be looked up; ``host_key`` is the fingerprint
    that SSH is to show; ``lasts`` is how long sending is drawn out;
    ``vantage`` is the place that it is made from, and ``gate`` is shared by the visits that log in to
    one account.
    """

    name: str
    port: int
    user: str
    password: Secret
    address: str | None = None
    security: TlsMode = "explicit"
    protects_data: bool = True
    mode: Literal["passive", "active"] = "passive"
    extended: bool = False
    announced: Announced = "report"
    resumes: bool = True
    checks_peer: bool = True
    active_address: str | None = None
    active_ports: PortSet = UNPRIVILEGED
    trusts: Path | None = None
    any_certificate: bool = False
    host_key: str = ""
    looks_closer: bool = False
    range_connections: int = 0
    tries_rights: bool = False
    tries_caution: bool = False
    login_tries: int = 0
    rights: frozenset[Right] | None = None
    confined: bool | None = None
    planned: PortSet = NO_PORTS
    timeout: float = 10
    limit: float = 120
    writes: bool = True
    reads: bool = True
    removes: bool = True
    lasts: float = 0
    reach: Connector = directly
    vantage: Vantage = HERE
    gate: LockoutGuard = field(default_factory=LockoutGuard)
    client: str = "here"
    service: str = ""


def stranger(plan: VisitPlan) -> VisitPlan:
    """The same visit as somebody who has no account."""
    return replace(
        plan, user=f"nobody-{secrets.token_hex(6)}", password=Secret(secrets.token_hex(8)), gate=LockoutGuard()
    )
