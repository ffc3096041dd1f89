"""What a survey saw of a host, its network and its outside; each fact with how it was learnt."""

from typing import Annotated, Literal

from msgspec import Meta, Struct

from ..model.entries import FolderMode
from ..model.site import Transport
from ..values.addresses import Address, AddressSet, Family
from ..values.ports import PortSet

Means = Literal["pcp", "nat-pmp", "upnp", "ssh", "stun", "seen"]
PortNumber = Annotated[int, Meta(ge=0, le=65_535)]
SystemKind = Literal["linux", "windows", "macos", "other"]
Topic = Literal[
    "addresses",
    "way-out",
    "listeners",
    "programs",
    "local-ports",
    "starts",
    "filter",
    "helper",
    "clock",
    "rest",
    "accounts",
    "outside-address",
    "mappings",
    "names",
]


class OwnAddress(Struct, frozen=True):
    """An address of the host. ``lease`` is whether it ends unless it is renewed, ``temporary`` whether it is one of
    IPv6 that changes by itself (RFC 8981)."""

    address: Address
    interface: str
    by: str
    network: AddressSet | None = None
    lease: bool | None = None
    temporary: bool | None = None


class WayOut(Struct, frozen=True):
    """How packets to the internet leave the host; ``tunnel`` is whether through one, as a VPN has."""

    family: Family
    interface: str
    by: str
    gateway: Address | None = None
    source: Address | None = None
    tunnel: bool | None = None


class ListeningSocket(Struct, frozen=True):
    """A port that a program waits on, at one address or, without one, at all. ``starts`` is whether what runs it starts
    with the system."""

    protocol: Transport
    port: PortNumber
    by: str
    address: Address | None = None
    program: str = ""
    unit: str = ""
    starts: bool | None = None


class FilterState(Struct, frozen=True):
    """Whether the host's own packet filter keeps anything out, and its rules as the system lists them; empty where not
    all of them could be read. ``routing`` are the rules by which packets that these mark choose their way."""

    active: bool
    detail: str
    by: str
    listing: str = ""
    routing: str = ""


class HelperState(Struct, frozen=True):
    """FTP helpers of the host: modules that are loaded, and whether connections are given to them."""

    modules: tuple[str, ...]
    by: str
    in_use: bool | None = None


class ClockState(Struct, frozen=True):
    """How far the host's clock is from that of who surveys it, in seconds, and whether it is kept by a time server."""

    by: str
    offset_seconds: float | None = None
    kept: bool | None = None


class SurveyedAccount(Struct, frozen=True):
    """An account by its name: whether the system knows it, its shell, its home, and whose that is, with its mode in the
    digits of chmod; each is empty where it could not be looked at, or the system has no such thing."""

    name: str
    by: str
    known: bool = True
    shell: str = ""
    home: str = ""
    owner: str = ""
    mode: str = ""

    @property
    def has_shell(self) -> bool | None:
        """Whether its user may log in to the system itself; None where its shell is unknown."""
        if self.known and not self.shell:
            return None
        return self.known and self.shell.rpartition("/")[2] not in ("nologin", "false")

    @property
    def writes_top(self) -> bool | None:
        """Whether it may write into the top of its home, by owner and mode alone; None where these are unknown."""
        if not self.mode:
            return None
        return FolderMode.parse(self.mode).lets_write(self.owner == self.name)


class LocalPorts(Struct, frozen=True):
    """The ports that the system takes for its own connections, and how long one rests after use, in seconds."""

    ports: PortSet
    by: str
    reserved: PortSet | None = None
    rests_seconds: float | None = None

    @property
    def free(self) -> PortSet:
        """Those that the system takes, without the reserved ones."""
        return self.ports - (self.reserved or PortSet())


class SurveyedHost(Struct, frozen=True):
    """A host as it was found; what is None or empty is listed under ``unknown`` of the survey."""

    name: str
    system: str
    kind: SystemKind
    addresses: tuple[OwnAddress, ...] = ()
    ways_out: tuple[WayOut, ...] = ()
    listeners: tuple[ListeningSocket, ...] = ()
    local_ports: LocalPorts | None = None
    filter: FilterState | None = None
    helper: HelperState | None = None
    clock: ClockState | None = None
    accounts: tuple[SurveyedAccount, ...] = ()


class OutsideSeen(Struct, frozen=True):
    """The address under which the host is seen from outside, by one of the means; ``by`` is who reported it."""

    address: Address
    means: Means
    by: str


class NameSeen(Struct, frozen=True):
    """What a name leads to, asked of one server; ``own`` is whether that is one of the name's own, which answers with
    what stands there now. ``seconds`` is how long the answer may be kept (its least TTL)."""

    name: str
    by: str
    own: bool
    addresses: tuple[Address, ...]
    seconds: int | None = None


class MappingSeen(Struct, frozen=True):
    """A port that the router hands on, by its own word. ``lease_seconds`` is how long still; 0 has no end."""

    protocol: Transport
    port: PortNumber
    to: Address
    to_port: PortNumber
    by: str
    name: str = ""
    enabled: bool = True
    lease_seconds: int = 0


class Unlearnt(Struct, frozen=True):
    """Something that could not be learnt: why, and what would tell it."""

    topic: Topic
    why: str
    ask: str


class Survey(Struct, frozen=True):
    """What is there. ``router`` is the default gateway, or the one that was named."""

    host: SurveyedHost
    router: Address | None = None
    outside: tuple[OutsideSeen, ...] = ()
    names: tuple[NameSeen, ...] = ()
    mappings: tuple[MappingSeen, ...] = ()
    unknown: tuple[Unlearnt, ...] = ()

    def way_out(self, family: Family) -> WayOut | None:
        """How packets of a family leave the host; None where none do, or nothing is known of it."""
        return next((each for each in self.host.ways_out if each.family == family), None)

    def learnt(self, topic: Topic) -> bool:
        """Whether something is known of a topic, so that what is not there is not there."""
        return all(each.topic != topic for each in self.unknown)
