"""The site as its file describes it, as value types and nothing else.

Each class is one mapping of the file and each field one key, so this module is also the
reference of the format. What the keys mean together is computed elsewhere; whether names
refer to something is checked by :mod:`.consistency`.
"""

from collections.abc import Iterable
from typing import Annotated, Literal, assert_never, get_args

from msgspec import Meta, Struct, field

from ..values.addresses import Address, Addresses, AddressSet, Family, Prefix96
from ..values.ports import EVERY_PORT, UNPRIVILEGED, PortSet
from ..values.quantities import Duration, Rate, Size
from .entries import OWN, BlockedPorts, Destination, FolderMode, Port, Typed

_PLAIN = r"[^\x00-\x1f\x7f-\x9f]"
_INK = r"[^\s\x00-\x1f\x7f-\x9f]"
Name = Annotated[str, Meta(min_length=1, max_length=80, pattern=rf"^{_INK}({_PLAIN}*{_INK})?\Z")]
Label = Annotated[str, Meta(max_length=200, pattern=rf"^{_PLAIN}*\Z")]
LEAST_MTU = 576
"""What every line of IPv4 takes whole (RFC 791, section 3.1)."""
Mtu = Annotated[int, Meta(ge=LEAST_MTU, le=65535)]
Count = Annotated[int, Meta(ge=0, le=1_000_000_000)]
Transport = Literal["tcp", "udp"]
Lease = Literal["static", "reserved", "dynamic"]
Mode = Literal["passive", "active"]
SpeaksTls = Literal["where-offered", "where-demanded", "never"]
TlsMode = Literal["none", "explicit", "implicit"]
System = Literal["linux", "windows", "cloud", "other"]
Right = Literal["list", "read", "write", "append", "rename", "remove", "make-folders"]
Translation = Literal["none", "outward", "one-to-one"]
Refusal = Literal["reset", "port-unreachable", "host-unreachable", "prohibited"]
INTERNET = "internet"
ETHERNET_BYTES = 1500
"""The largest packet of a network, unless the site states otherwise (RFC 894)."""
FTP_PORT = PortSet.single(21)
"""The control port of FTP (RFC 959), on which helpers read unless they are set otherwise."""


class Part(Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """A mapping of the site file; unknown keys are errors."""


class Network(Part, frozen=True):
    """A network whose hosts reach each other without a gateway."""

    name: Name
    subnet: AddressSet = AddressSet()


class Attachment(Part, frozen=True):
    """One side of a gateway."""

    network: Name
    address: Addresses = Addresses()
    ports: PortSet | None = None
    lease: Lease = "static"
    mtu: Mtu = ETHERNET_BYTES


class Rule(Part, frozen=True):
    """One line of a filter. A key that is left out matches everything."""

    action: Literal["allow", "deny", "refuse", "unknown"]
    name: Label = ""
    protocol: Literal["tcp", "udp", "any"] = "any"
    ports: PortSet = EVERY_PORT
    from_: AddressSet | None = field(default=None, name="from")
    to: AddressSet | None = None
    from_ports: PortSet | None = None
    program: Name | None = None
    categories: tuple[Name, ...] | None = None
    refuses_with: Refusal | None = None
    enabled: bool = True


class Filter(Part, frozen=True):
    """Rules in order, the first that matches decides, then the default."""

    default: Literal["allow", "deny", "refuse"]
    refuses_with: Refusal | None = None
    rules: tuple[Rule, ...] = ()


OPEN = Filter(default="allow")


class GatewayFilter(Part, frozen=True):
    """What a gateway allows in from outside and out from inside."""

    inward: Filter = OPEN
    outward: Filter = OPEN


class HostFilter(Part, frozen=True):
    """What a host allows in and out."""

    incoming: Filter = OPEN
    outgoing: Filter = OPEN


class Forward(Part, frozen=True):
    """An outside port handed on to an inside host; ``to_port`` is the first inside port."""

    ports: PortSet
    to: Address
    name: Label = ""
    protocol: Transport = "tcp"
    to_port: Port | None = None
    from_: AddressSet | None = field(default=None, name="from")
    outside: Address | None = None
    enabled: bool = True
    lifetime: Duration | None = None

    @property
    def offset(self) -> int:
        """Inside port minus outside port."""
        return self.to_port.number - self.ports.lowest if self.to_port and self.ports else 0


class Pair(Part, frozen=True):
    """An outside and an inside address that one-to-one translation joins."""

    outside: Address
    inside: Address


class StaticRoute(Part, frozen=True):
    """Addresses that are reached through a gateway of the site, other than a host or device would know itself."""

    to: AddressSet
    via: Name


class Gateway(Part, frozen=True):
    """A device that joins an outside and an inside network."""

    name: Name
    outside: Attachment
    inside: Attachment
    system: System = "other"
    provider_blocks: BlockedPorts = BlockedPorts()
    unknown_ports: BlockedPorts = BlockedPorts()
    translate: Translation = "none"
    translate_ipv6: Translation | None = None
    nat64: Prefix96 | None = None
    pairs: tuple[Pair, ...] = ()
    pooling: Literal["paired", "arbitrary"] = "paired"
    forwarding: bool = True
    forwards_pass_filter: bool = True
    forwards_hide_source: bool = False
    forward_order: Literal["first", "last", "narrowest"] = "first"
    forward_limit: Count | None = None
    forward_ranges: bool = True
    exposed_host: Addresses | None = None
    hairpin: bool = False
    hairpin_source: Literal["inside", "outside", "kept", "unknown"] = "inside"
    ftp_helper: bool = False
    helper_ports: PortSet = FTP_PORT
    helper_sees: Literal["outside", "inside"] = "outside"
    idle_timeout: Duration | None = None
    too_big: Literal["told", "dropped"] = "told"
    clamps_mss: bool = False
    unmatched: Literal["silent", "refused"] = "silent"
    forwards: tuple[Forward, ...] = ()
    filter: GatewayFilter = GatewayFilter()
    filter_sees: Literal["inside", "outside"] = "inside"
    routes: tuple[StaticRoute, ...] = ()

    @property
    def outside_addresses(self) -> Addresses:
        """Every address that the device answers to on its outside: its own, and those of its pairs."""
        if not self.pairs:
            return self.outside.address
        return Addresses(tuple(dict.fromkeys((*self.outside.address.each, *(pair.outside for pair in self.pairs)))))

    @property
    def tells_of_nobody(self) -> bool:
        """Whether it reports that nobody has an address to which it hands something on; a cloud does not."""
        return self.system != "cloud"

    @property
    def mtu(self) -> int:
        """The largest packet that passes it, in bytes: that of the smaller of its two lines."""
        return min(self.outside.mtu, self.inside.mtu)

    def translates(self, family: Family) -> Translation:
        """How it changes addresses of a family; IPv6 as IPv4 unless the site states otherwise."""
        return self.translate if family == 4 or self.translate_ipv6 is None else self.translate_ipv6

    def entered_forwards(self) -> list[tuple[int, Forward]]:
        """The forwards that are switched on and that the device can hold, with their indexes, as they are written."""
        wanted = [(i, each) for i, each in enumerate(self.forwards) if each.enabled]
        if not self.forward_ranges:
            wanted = [(i, each) for i, each in wanted if len(each.ports) == 1]
        return wanted[: self.forward_limit] if self.forward_limit is not None else wanted


def default_own_ports(system: str) -> PortSet:
    """The ports that a system uses for its own outgoing connections unless set otherwise: of Windows the dynamic
    ones (RFC 6335, section 6), of Linux those of ``ip_local_port_range``."""
    return PortSet.of((49152, 65535)) if system == "windows" else PortSet.of((32768, 60999))


class Server(Part, frozen=True):
    """The host that the services run on."""

    name: Name
    network: Name
    address: Addresses
    system: System = "other"
    lease: Lease = "static"
    category: Name | None = None
    local_ports: PortSet | None = None
    gateway: Name | None = None
    routes: tuple[StaticRoute, ...] = ()
    ftp_helper: bool = False
    helper_ports: PortSet = FTP_PORT
    filter: HostFilter = HostFilter()

    @property
    def own_ports(self) -> PortSet:
        """The ports that the system uses for its own outgoing connections: what the site states, else its default."""
        return self.local_ports if self.local_ports is not None else default_own_ports(self.system)


class Tls(Part, frozen=True):
    """How a service protects its connections (RFC 4217)."""

    mode: TlsMode = "none"
    required: bool = False
    protects_data: bool = True
    reuse_required: bool = False
    names: tuple[Name, ...] = ()
    certificate: Label | None = None
    key: Label | None = None

    @property
    def demanded(self) -> bool:
        """Whether nobody is let in without."""
        return self.mode == "implicit" or (self.mode == "explicit" and self.required)


class Passive(Part, frozen=True):
    """The service's side of passive mode; without ``ports`` the system picks any."""

    ports: PortSet = UNPRIVILEGED
    protocols: tuple[Transport, ...] = ("tcp",)
    announce: Destination = OWN
    announce_inside: Destination | None = None


class Active(Part, frozen=True):
    """The service's side of active mode; without ``from_port`` the system picks any."""

    from_port: Port | None = None
    accepts_other_address: bool = False
    repairs_private: bool = False


class Load(Part, frozen=True):
    """What the service has to carry. Counts of an hour are over all clients; ``rests`` is how long a
    data port is unusable after the server has closed first, which it does after what it sends."""

    client_count: Count | None = None
    files_per_hour: Count | None = None
    fetched_per_hour: Count | None = None
    listings_per_hour: Count | None = None
    rests: Duration | None = None
    typical_size: Size | None = None
    rate: Rate | None = None
    burst: Count | None = None

    @property
    def transfer_seconds(self) -> float | None:
        """How long a transfer of typical size takes; None where size or rate is not known."""
        if self.typical_size is None or self.rate is None or not self.rate.amount:
            return None
        return self.typical_size.amount * 8 / self.rate.amount


class Service(Part, frozen=True):
    """One listening endpoint on the server."""

    name: Name
    protocol: Literal["ftp", "sftp", "other"]
    control_port: Port
    tls: Tls = Tls()
    host_key: Label | None = None
    passive: Passive | None = None
    active: Active | None = None
    speaks_epsv: bool = True
    peer_must_match: bool = True
    load: Load | None = None
    joins_folders: bool = True
    allows: tuple[Name, ...] = ()
    bars: tuple[Name, ...] = ()
    keep_open_for: tuple[Name, ...] = ()

    @property
    def transfer_seconds(self) -> float | None:
        """How long a typical transfer takes; None where that is not known."""
        return self.load.transfer_seconds if self.load else None


class Group(Part, frozen=True):
    """What all accounts of a group may do, and what they may not."""

    name: Name
    rights: tuple[Right, ...] = ()
    denies: tuple[Right, ...] = ()


class Folder(Part, frozen=True):
    """A folder that an account sees beside its home: the name by which clients see it, where it lies on the server
    (left out, below the home by that name), and what may be done there, where that is another than elsewhere."""

    shown_as: Label
    at: Label | None = None
    rights: tuple[Right, ...] | None = None


class Account(Part, frozen=True):
    """A login of a service and what it may do. A group gives or denies, and the account overrides it."""

    name: Name
    service: Name
    kept_by: Literal["service", "system", "directory"] = "service"
    login: Literal["password", "key", "both"] = "password"
    shell: bool | None = None
    home: Label | None = None
    home_writable: bool | None = None
    home_owner: Label | None = None
    home_mode: FolderMode | None = None
    folders: tuple[Folder, ...] = ()
    rights: tuple[Right, ...] = ()
    denies: tuple[Right, ...] = ()
    groups: tuple[Name, ...] = ()
    confined: bool = True
    clients: tuple[Name, ...] = ()


class Client(Part, frozen=True):
    """A place where users stand, as the file has it: what is None here is as its habits have it, else by default."""

    name: Name
    network: Name
    address: Addresses = Addresses()
    reaches: Typed | None = None
    modes: tuple[Mode, ...] | None = None
    gateway: Name | None = None
    routes: tuple[StaticRoute, ...] = ()
    on_server: bool = False
    habits: Name | None = None
    uses_epsv: bool | Literal["first"] | None = None
    trusts_announced: bool | Literal["unless-private"] | None = None
    maps_ipv4: bool | None = None
    speaks_tls: SpeaksTls | None = None
    resumes_tls: bool | None = None
    keeps_alive: Duration | None = None
    active_address: Address | None = None
    active_ports: PortSet | None = None
    category: Name | None = None
    filter: HostFilter = HostFilter()


class CompleteClient(Client, frozen=True):
    """A client with its habits filled in (:func:`complete`)."""

    modes: tuple[Mode, ...] = ("passive",)
    uses_epsv: bool | Literal["first"] = False
    trusts_announced: bool | Literal["unless-private"] = True
    maps_ipv4: bool = False
    speaks_tls: SpeaksTls = "where-offered"
    resumes_tls: bool = True
    active_ports: PortSet = UNPRIVILEGED

    def extends(self, service: "Service", family: Family) -> bool | None:
        """Whether its data is asked for by EPSV or EPRT (RFC 2428); None where it would have to be, and the server
        knows neither. They alone have room for IPv6."""
        if service.speaks_epsv:
            return family == 6 or bool(self.uses_epsv)
        return None if family == 6 or self.uses_epsv is True else False

    def secures(self, tls: Tls) -> bool:
        """Whether its sessions with a service are under TLS."""
        match self.speaks_tls:
            case "where-offered":
                return tls.mode != "none"
            case "where-demanded":
                return tls.demanded
            case "never":
                return False
            case _ as never:
                assert_never(never)


class Habits(Part, frozen=True):
    """How a program for file transfer behaves, for the clients that use it; what they say themselves counts more."""

    name: Name
    modes: tuple[Mode, ...] = ("passive",)
    uses_epsv: bool | Literal["first"] = False
    trusts_announced: bool | Literal["unless-private"] = True
    maps_ipv4: bool = False
    speaks_tls: SpeaksTls = "where-offered"
    resumes_tls: bool = True
    keeps_alive: Duration | None = None
    active_ports: PortSet = UNPRIVILEGED


class PublishedName(Part, frozen=True):
    """A name that clients type and the addresses that it leads to."""

    name: Name
    addresses: Addresses
    ttl: Duration | None = None


class Promise(Part, frozen=True):
    """One thing that must work, or must stay shut, and for whom of many it need not."""

    client: Name
    service: Name
    mode: Mode | None = None
    holds: Literal["works", "shut"] = "works"
    except_for: AddressSet = AddressSet()


class Site(Part, frozen=True):
    """Everything in one site file."""

    lantern: Literal[1]
    site: Name
    server: Server
    networks: tuple[Network, ...] = ()
    gateways: tuple[Gateway, ...] = ()
    services: tuple[Service, ...] = ()
    groups: tuple[Group, ...] = ()
    accounts: tuple[Account, ...] = ()
    habits: tuple[Habits, ...] = ()
    clients: tuple[Client, ...] = ()
    names: tuple[PublishedName, ...] = ()
    promises: tuple[Promise, ...] = ()


def system_accounts(site: Site) -> tuple[Account, ...]:
    """The accounts that the server's system knows: its own, those of a directory, and all of SSH."""
    ssh = {each.name for each in site.services if each.protocol == "sftp"}
    return tuple(each for each in site.accounts if each.kept_by != "service" or each.service in ssh)


def effective_rights(site: Site, account: Account) -> frozenset[Right] | None:
    """What its groups give and none of them denies, with what it is given itself, without what it is denied itself;
    None where the site states no right."""
    groups = [each for each in site.groups if each.name in account.groups]
    if not account.rights and not any(each.rights for each in groups):
        return None
    by_groups = _all_rights(each.rights for each in groups) - _all_rights(each.denies for each in groups)
    return (by_groups | frozenset(account.rights)) - frozenset(account.denies)


def writes_home(account: Account) -> bool | None:
    """Whether it may write into the top of its folder, as stated or by owner and mode; None where neither is known."""
    if account.home_mode is None:
        return account.home_writable
    if account.home_owner is None and not account.home_mode.lets_write(is_owner=False):
        return None
    return account.home_mode.lets_write(account.home_owner == account.name)


def rights_in(site: Site, account: Account, folder: Folder) -> frozenset[Right] | None:
    """What an account may do in one of its folders: what is stated for that folder, else what it may everywhere."""
    return effective_rights(site, account) if folder.rights is None else frozenset(folder.rights)


def account_of(site: Site, client: str, service: str) -> Account | None:
    """The first account that the site gives a client on a service."""
    return next((each for each in site.accounts if each.service == service and client in each.clients), None)


def rights_in_order(rights: frozenset[Right]) -> str:
    """Rights as a list, in the order in which the site format has them."""
    return ", ".join(each for each in get_args(Right) if each in rights)


def parts_of(path: str) -> tuple[str, ...]:
    """The parts of a folder, without drive letter, in lower case, whichever slash divides them."""
    text = path.replace("\\", "/").lower()
    text = text[2:] if text[1:2] == ":" else text
    return tuple(part for part in text.split("/") if part)


def _all_rights(several: Iterable[tuple[Right, ...]]) -> frozenset[Right]:
    return frozenset(right for each in several for right in each)


_HABITS = tuple(name for name in Habits.__struct_fields__ if name != "name")


def complete(site: Site, client: Client) -> CompleteClient:
    """The client with its own words first, then those of the habits that it names, then the defaults."""
    shared = next((each for each in site.habits if each.name == client.habits), Habits(name="default"))
    values = {name: getattr(client, name) for name in Client.__struct_fields__}
    return CompleteClient(
        **values | {name: getattr(shared, name) for name in _HABITS if values[name] is None},
    )
