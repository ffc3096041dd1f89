"""What a stand-in serves: accounts, addresses, and how it behaves."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from ...core.model.site import Right, TlsMode
from ...core.values.addresses import AddressSet
from ...core.values.ports import PortSet
from ...live.common.visit_plan import Connector, directly

LOOPBACK = "127.0.0.1"
EVERY_RIGHT = "elradfmwMT"
_LETTERS: dict[Right, str] = {
    "list": "el", "read": "r", "write": "w", "append": "a", "rename": "f", "remove": "d", "make-folders": "m",
}  # fmt: skip
NOBODY = AddressSet()


def letters(rights: frozenset[Right]) -> str:
    """Rights of an account in the letters of the library; entering a folder is always allowed."""
    return "e" + "".join(_LETTERS[each] for each in sorted(rights))


@dataclass(frozen=True, slots=True)
class Guest:
    """An account of the stand-in; ``ports`` are handed out in this order, over and over."""

    user: str
    password: str
    folder: Path
    rights: str = EVERY_RIGHT
    ports: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True)
class StandInSetup:
    """How one service of the stand-in is to behave; port 0 is any free one, no certificate
    means no TLS, and ``inside`` are the peers that are told ``announce_inside``. ``known`` states
    who stands behind an address of this machine."""

    guests: tuple[Guest, ...]
    addresses: tuple[str, ...] = (LOOPBACK,)
    control_port: int = 0
    passive_ports: PortSet | None = None
    announce: str | None = None
    announce_inside: str | None = None
    inside: AddressSet = NOBODY
    certificate: Path | None = None
    tls: TlsMode = "explicit"
    tls_required: bool = True
    protects_data: bool = True
    reuse_required: bool = False
    from_port: int = 0
    accepts_other_address: bool = False
    repairs_private: bool = False
    peer_must_match: bool = True
    speaks_epsv: bool = True
    patience_seconds: float = 30
    reach: Connector = directly
    known: Callable[[str], str] = str


@dataclass(frozen=True)
class SshSetup:
    """How one service of SSH file transfer is to behave; ``doors`` are where it listens."""

    guests: tuple[Guest, ...]
    doors: tuple[tuple[str, int], ...]
    host_key: Path
