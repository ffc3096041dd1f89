"""What is unwise at a server: its passive range, its certificates, what it exposes to whom, and its accounts."""

import math
from collections.abc import Iterator

from ..model.entries import Destination, FolderMode
from ..model.site import INTERNET, Account, Right, Service, Site, Tls, effective_rights, parts_of, writes_home
from ..network.flow import Flow, Reason
from ..network.journey import trace
from ..network.reachability import Reach, closed, opener, reaches
from ..network.topology import Device, Topology, listens_on
from ..observed.looks import DAY_SECONDS, LEAST_BITS, Certificate
from ..predict.endpoints import entrances, position_of, resolved, service_of
from ..predict.forecast import Forecast
from ..predict.ledger import Study
from ..predict.session import reach_control
from ..values.addresses import Address, Addresses, AddressSet
from ..values.phrases import ports_named, ports_phrase
from ..values.ports import EVERY_PORT, UNPRIVILEGED, PortSet
from ..values.quantities import Chance, Duration
from ..values.text_value import SitePath
from .cause import Cause, sets
from .finding import Finding, set_to

WIDE = 4096
TIMES_THE_BURST = 32
PRIVILEGED = {"root", "admin", "administrator", "system", "sa", "toor"}
ANONYMOUS = {"anonymous", "ftp", "guest"}
CHANGES: set[Right] = {"write", "append", "rename", "remove", "make-folders"}
PROFILES = {("home",), ("users",), ("root",)}
WHOLE_SYSTEMS = {(), ("etc",), ("var",), ("usr",), ("srv",), *PROFILES}
HANDLING, CHANCE, REST = Duration(1), Chance(0.001), Duration(60)


def range_findings(topology: Topology) -> Iterator[Finding]:
    """Findings about the passive range and control port of each service, and the ports of active clients."""
    site = topology.site
    yield from _resting(topology)
    for i, service in enumerate(site.services):
        yield from _control_twice(site, i, service)
        yield from _names_not_listed(topology, i, service)
        if service.protocol == "ftp" and service.passive:
            yield from _other_family(topology, i, service)
            yield from _range_finding(site, service, service.passive.ports, ("services", i, "passive", "ports"))


def _names_not_listed(topology: Topology, index: int, service: Service) -> Iterator[Finding]:
    """Names that clients under TLS type and that the service's certificate is not to have."""
    site, listed = topology.site, service.tls.names
    promised = {each.client for each in site.promises if each.service == service.name and each.holds == "works"}
    typed: dict[str, None] = {}
    for each in site.clients if listed else ():
        client = topology.client(each.name)
        if client and each.name in promised and client.secures(service.tls) and each.reaches and each.reaches.name:
            typed[each.reaches.name] = None
    missing = [name for name in typed if not any(_covers(pattern, name) for pattern in listed)]
    if missing:
        message = (
            f"clients of {service.name} type {', '.join(missing)}, and its certificate is to have {', '.join(listed)}"
        )
        place: SitePath = ("services", index, "tls", "names")
        cures = set_to(site, place, (*listed, *missing))
        yield Finding("name-not-in-tls", "risks", message, f"add {', '.join(missing)} to tls.names", place, cures)


def _covers(pattern: str, name: str) -> bool:
    """Whether a name of a certificate stands for a name: itself, or by its first label alone (RFC 6125, section
    6.4.3)."""
    one, other = pattern.lower().rstrip("."), name.lower().rstrip(".")
    return one == other or (one.startswith("*.") and one[2:] == other.partition(".")[2])


def _other_family(topology: Topology, index: int, service: Service) -> Iterator[Finding]:
    """An announced address that the passive reply has no room for (RFC 959, section 4.1.2)."""
    announced = service.passive.announce.addresses if service.passive else None
    if not announced or announced.of_family(4) or not topology.server.addresses.of_family(4):
        return
    place: SitePath = ("services", index, "passive", "announce")
    four = [each for each in entrances(topology, INTERNET) if each.family == 4]
    cures = set_to(topology.site, place, Destination(addresses=Addresses((four[0],)))) if four else ()
    message = f"{service.name} announces {announced}, and the passive reply carries IPv4 addresses alone"
    advice = f"set announce: {four[0]}" if four else "announce the outside IPv4 address"
    yield Finding("announces-other-family", "risks", message, advice, place, cures)


def _resting(topology: Topology) -> Iterator[Finding]:
    """Active clients with fewer ports than they use up while a port rests. A data connection from a certain port of
    the server to the same port of the client is the same connection again, and one that was closed rests for twice
    the longest life of a segment (RFC 9293, section 3.6.1)."""
    site = topology.site
    reported: set[str] = set()
    for promise in site.promises:
        client, service = topology.client(promise.client), service_of(topology, promise.service)
        if promise.mode != "active" or client is None or service.active is None or client.name in reported:
            continue
        if service.transfer_seconds is None:  # without a load nobody knows how soon a port is wanted again
            continue
        rests = service.load.rests if service.load and service.load.rests else REST
        seconds = HANDLING.amount + service.transfer_seconds
        need = math.ceil(rests.amount / seconds)
        if service.active.from_port and len(client.active_ports) < need:
            reported.add(client.name)
            message = (
                f"{client.name} listens for data on {ports_phrase(client.active_ports)}; each rests for {rests} "
                f"after use: transfers of {seconds:.1f} s in a row need {need} of them"
            )
            cure = f"let it listen on at least {need} ports, and open them where the old ones are open"
            where: SitePath = ("clients", topology.client_index(client.name), "active_ports")
            yield Finding("active-ports-rest", "risks", message, cure, where)


def _control_twice(site: Site, i: int, service: Service) -> Iterator[Finding]:
    for other in site.services[:i]:
        if other.control_port == service.control_port:
            message = f"{other.name} and {service.name} both want port {service.control_port}: only one can listen"
            cure = "give one of them another control port"
            yield Finding("port-taken-twice", "risks", message, cure, ("services", i, "control_port"))


def _range_finding(site: Site, service: Service, ports: PortSet, place: SitePath) -> Iterator[Finding]:
    server = site.server
    if ports == UNPRIVILEGED:
        message = f"{service.name} leaves the choice of data ports to the system, so that no forward can fit"
        yield Finding("range-left-to-system", "risks", message, "fix a range, for example 61200-61455", place)
        return
    if local := ports & server.own_ports:
        message = f"the passive range of {service.name} includes {local}: local ports of {server.name} itself"
        cure = f"choose a range outside of {server.own_ports}"
        yield Finding("range-overlaps-local-ports", "risks", message, cure, place)
    for other in site.services:
        if other.control_port.number in ports and other is not service:
            message = f"port {other.control_port} of {other.name} lies in the data range of {service.name}"
            yield Finding("range-overlaps-service", "risks", message, "move the range or the service", place)
    yield from _size(service, ports, place)


def _size(service: Service, ports: PortSet, place: SitePath) -> Iterator[Finding]:
    need, reason = ports_needed(service)
    if need > len(ports):
        message = f"{service.name} has {len(ports)} data ports, and {reason}"
        yield Finding("range-too-small", "risks", message, f"make the range at least {need} ports wide", place)
    elif len(ports) > WIDE or (need and len(ports) > max(256, TIMES_THE_BURST * need)):
        most = f"up to {need} at once" if need else "most servers"
        message = f"{service.name} opens {len(ports)} data ports, far more than {most} can need"
        yield Finding("range-too-wide", "risks", message, "a few hundred do for most; every one is an open port", place)


def ports_needed(service: Service) -> tuple[int, str]:
    """How many data ports the load asks for, and what it is that asks; 0 where nothing is known."""
    if service.load is None:
        return 0, ""
    from ..sizing.demand import demand_of, ports_at_once, sized

    try:
        sizing = sized(demand_of(service.load, HANDLING), CHANCE.share)
    except ValueError:  # not enough is known of the load for more than this
        most = service.load.burst if service.load.burst is not None else service.load.client_count or 0
        need = ports_at_once(most)
        return need, f"{most} clients at once may hold {need}"
    demand = sizing.demand
    if sizing.by_burst >= sizing.by_load:
        return sizing.size, f"{demand.burst} clients at once take up to {sizing.size}, {demand.most_at_once} each"
    return sizing.size, f"its load needs {sizing.size}, so that one connection in {1 / CHANCE.share:.0f} finds none"


def typed_by_clients(site: Site, service: Service) -> tuple[str, ...]:
    """The names and addresses that clients of a service type: those of ``tls.names``, and what each
    client that is promised the service reaches; names first."""
    topology = Topology(site)
    clients = {each.client for each in site.promises if each.service == service.name and each.holds == "works"}
    typed = list(service.tls.names)
    for each in site.clients:
        if each.reaches is not None and each.name in clients:
            typed += [each.reaches.name] if each.reaches.name else map(str, resolved(topology, each.reaches).each)
    return tuple(sorted(dict.fromkeys(typed), key=lambda name: name not in {each.name for each in site.names}))


def certificate_findings(
    site: Site, index: int, certificate: Certificate, key_digest: str | None, now: float
) -> Iterator[Finding]:
    """How the certificate of a service falls short. ``key_digest`` is of the public half of the key that
    stands beside it, where one does; ``now`` is in seconds since 1970."""
    service = site.services[index]
    place: SitePath = ("services", index, "tls", "certificate")
    missing = [each for each in typed_by_clients(site, service) if not certificate.covers(each)]
    if missing:
        made_for = ", ".join((*certificate.names, *certificate.addresses)) or "no name at all"
        message = f"clients of {service.name} type {', '.join(missing)}, its certificate is made for {made_for}"
        yield Finding("certificate-name-differs", "risks", message, "make one: eager-lantern certificate", place)
    least = LEAST_BITS.get(certificate.kind, 0)
    if certificate.bits < least:
        message = (
            f"the certificate's {certificate.kind} key has {certificate.bits} bits, fewer than the {least} accepted"
        )
        yield Finding("certificate-key-short", "risks", message, "make a new key and certificate", place)
    yield from _expiry_findings(certificate, now, place)
    if key_digest is not None and key_digest != certificate.key_digest:
        message = f"the key of {service.name} does not belong to its certificate: the server cannot start TLS with them"
        cure = "name the key that the certificate was made with, or make both anew"
        yield Finding("certificate-other-key", "risks", message, cure, ("services", index, "tls", "key"))


def _expiry_findings(certificate: Certificate, now: float, place: SitePath) -> Iterator[Finding]:
    days = (certificate.ends - now) / DAY_SECONDS
    if now < certificate.starts:
        ahead = (certificate.starts - now) / DAY_SECONDS
        message = f"the certificate is not valid yet, for another {ahead:.0f} days: is this machine's clock right?"
    elif days < 0:
        message = f"the certificate has ended {-days:.0f} days ago"
    elif days * DAY_SECONDS < certificate.near_end_seconds:
        message = f"the certificate ends in {days:.0f} days"
    else:
        return
    yield Finding("certificate-near-end", "risks", message, "renew it, and enter the new one on the server", place)


UNFILTERED = 32_768


def exposure_findings(topology: Topology, studies: tuple[Study, ...]) -> Iterator[Finding]:
    """Findings about who reaches the server, and how well sessions are protected."""
    from_outside = [each for each in reaches(topology, INTERNET, ("tcp",)) if each.host == topology.server.name]
    yield from _unfiltered(topology, from_outside)
    for i, service in enumerate(topology.site.services):
        yield from _exposed_services(topology, studies, ("services", i), service, from_outside)
        yield from _in_clear(topology, studies, ("services", i), service)
    yield from _beyond_need(topology, from_outside)
    for device in topology.devices:
        yield from _exposed_host(topology, device)


def _unfiltered(topology: Topology, found: list[Reach]) -> Iterator[Finding]:
    for each in found:
        if len(each.ports) >= UNFILTERED and not topology.server.incoming.matches:
            message = f"{topology.server.name} filters nothing, and the internet reaches {len(each.ports)} of its ports"
            cure = "set server.filter.incoming to default: deny with a rule for each service"
            yield Finding("filter-off", "risks", message, cure, ("server", "filter"))
            return


def _exposed_services(
    topology: Topology, studies: tuple[Study, ...], place: SitePath, service: Service, found: list[Reach]
) -> Iterator[Finding]:
    """A service for the inside, or for administration, that anybody on the internet reaches."""
    inside_only = service.protocol == "other" or bool(service.keep_open_for)
    promised = any(_needs_internet(topology, each, service.name) for each in studies)
    port = service.control_port.number
    reported: set[SitePath] = set()
    for each in found:
        open_to_all = len(each.ports) < UNFILTERED and not _limited(topology, each)
        if inside_only and not promised and port in each.ports and open_to_all:
            message = f"anybody on the internet reaches {service.name} (port {port}) through {each.door}"
            cure = "limit it to the addresses that need it, or take it out"
            cures = closed(topology.site, each.journey, PortSet.single(port))
            place = opener(each.journey).place or ()
            if place not in reported:
                yield Finding("exposed-inside-service", "risks", message, cure, place, cures)
            reported.add(place)


def _limited(topology: Topology, reach: Reach) -> bool:
    """Whether it is open to less than half of the internet: somebody has thought about who needs it."""
    everybody = topology.everybody(INTERNET).of_family(reach.door.family)
    admitted = reach.journey.asked.sources
    return 2 * _count(admitted) < _count(everybody)


def _count(addresses: AddressSet) -> int:
    return sum(high - low + 1 for low, high in addresses.spans)


def _needs_internet(topology: Topology, study: Study, service: str) -> bool:
    promise, position = study.forecast.promise, study.forecast.position
    if promise.service != service:
        return False
    return promise.holds == "shut" or not topology.sees(position.network, topology.server.addresses.each[0])


def _beyond_need(topology: Topology, found: list[Reach]) -> Iterator[Finding]:
    """Ports of the server that the internet reaches and nothing of the site listens on."""
    needed = PortSet.single(20)
    for service in topology.site.services:
        needed = needed | listens_on(service)
    reported: set[SitePath] = set()
    for each in found:
        extra = each.ports - needed
        step = opener(each.journey)
        place = step.place or ()
        if extra and (len(each.ports) < UNFILTERED or step.does == "forward") and place not in reported:
            reported.add(place)
            if place[-1] == "exposed_host":
                continue  # has a finding of its own
            reached = f"{ports_named(extra)} of {topology.server.name}"
            message = f"the internet reaches {reached}, where no service of the site listens"
            cures = closed(topology.site, each.journey, extra)
            cure = "make the range just as wide as the service's"
            yield Finding("open-beyond-need", "risks", message, cure, place, cures)


def _exposed_host(topology: Topology, device: Device) -> Iterator[Finding]:
    """A host that gets everything for which a device has no forward, with how much of it that opens."""
    if device.spec.exposed_host is None:
        return
    place: SitePath = (*device.place, "exposed_host")
    everybody = topology.everybody(device.spec.outside.network)
    opened = PortSet()
    for address in device.spec.outside.address.each:
        flow = Flow("tcp", everybody, None, address, EVERY_PORT)
        for each in trace(topology, device.spec.outside.network, flow):
            stopped = each.outcome != "ok" and each.reason != "nobody there"
            if not stopped and any(step.place == place for step in each.steps):
                opened = opened | each.flow.ports
    if opened:
        hosts = ", ".join(_host_name(topology, each) for each in device.spec.exposed_host.each)
        message = f"{device.name} leads all that it has no forward for to {hosts}: {len(opened)} TCP ports are open"
        cure = "forward just the ports that are needed, and take exposed_host out"
        yield Finding("exposed-host", "risks", message, cure, place, set_to(topology.site, place, None))


def _host_name(topology: Topology, address: Address) -> str:
    hosts = (topology.server, *topology.clients)
    return next((each.name for each in hosts if address in each.addresses), str(address))


def _in_clear(topology: Topology, studies: tuple[Study, ...], place: SitePath, service: Service) -> Iterator[Finding]:
    """Passwords or files that cross other people's networks unprotected."""
    site = topology.site
    if service.protocol != "ftp" or not any(_crosses(topology, each, service.name) for each in studies):
        return
    if service.tls.mode == "none":
        message = f"{service.name} takes passwords and files in clear, and clients come across the internet"
        cures = set_to(site, (*place, "tls"), Tls(mode="explicit", required=True))
        cure = "set tls: {mode: explicit, required: true}"
        yield Finding("login-in-clear", "risks", message, cure, (*place, "tls"), cures)
    elif not service.tls.protects_data:
        message = f"{service.name} protects the login and sends files in clear"
        where = (*place, "tls", "protects_data")
        yield Finding("data-in-clear", "risks", message, "set protects_data: true", where, set_to(site, where, True))
    elif service.tls.mode == "explicit" and not service.tls.required:
        message = (
            f"{service.name} offers TLS without demanding it: a client that does not ask sends its password in clear"
        )
        where = (*place, "tls", "required")
        yield Finding("tls-not-required", "risks", message, "set required: true", where, set_to(site, where, True))


def _crosses(topology: Topology, study: Study, service: str) -> bool:
    promise = study.forecast.promise
    if promise.service != service or promise.holds == "shut":
        return False
    start, end = study.forecast.position.network, topology.server.network
    chain = topology.chain(start, end) or ()
    return INTERNET in {start, *(each.device.far(each.way) for each in chain)}


def account_findings(topology: Topology) -> Iterator[Finding]:
    """Findings about every account."""
    for i, account in enumerate(topology.site.accounts):
        place: SitePath = ("accounts", i)
        yield from _broad(topology.site, account, place)
        yield from _rights(topology.site, account, place)
        yield from _of_system(topology.site, account, place)
        yield from _not_shown(topology, account, place)
        yield from _without_path(topology, account, place)
        yield from _writable_top(topology, account, place)


def _broad(site: Site, account: Account, place: SitePath) -> Iterator[Finding]:
    if not account.confined:
        message = f"account {account.name} can leave its folder and see the rest of the server"
        where = (*place, "confined")
        yield Finding("account-not-confined", "risks", message, "set confined: true", where, set_to(site, where, True))
    if account.name.lower() in PRIVILEGED:
        message = f"account {account.name} is one that rules the whole system"
        cure = "use an account of its own for transfers, without any other right"
        yield Finding("account-privileged", "risks", message, cure, (*place, "name"))
    reason = _too_broad(site, account)
    if reason:
        message = f"the folder of account {account.name}, {account.home}, {reason}"
        yield Finding(
            "account-broad", "risks", message, "give it a folder of its own, such as /srv/tides/in", (*place, "home")
        )


def _writable_top(topology: Topology, account: Account, place: SitePath) -> Iterator[Finding]:
    """A confined account of FTP that may write into the top of its folder: some servers refuse it."""
    if account.confined and writes_home(account) and service_of(topology, account.service).protocol == "ftp":
        message = f"{account.name} may write into the top of the folder that it is confined to; some servers refuse it"
        mode = account.home_mode
        key = "home_writable" if mode is None else "home_mode" if mode.lets_write(is_owner=False) else "home_owner"
        cure, new = _roots_own(account, key)
        where = (*place, key)
        yield Finding("account-root-writable", "risks", message, cure, where, set_to(topology.site, where, new))


def _whose_top(account: Account) -> str:
    """Whose the top of its folder is, as far as the site states it."""
    owner = f"{account.home_owner}'s" if account.home_owner is not None else ""
    mode = f"of mode {account.home_mode}" if account.home_mode is not None else ""
    return " and ".join(filter(None, (owner, mode))) or "and may write into it"


def _roots_own(account: Account, key: str | int) -> tuple[str, object]:
    """What makes the top of its folder root's alone, and the value that the key has then."""
    if key == "home_owner":
        new: object = "root"
    elif account.home_mode is not None:
        new = FolderMode(account.home_mode.bits & ~0o022)
    else:
        new = False
    shown = "false" if new is False else new
    enters = ", and let the account's group enter it" if key == "home_owner" else ""
    return f"make the top folder root's{enters}, and give it a folder below to write in; {key}: {shown}", new


def login_cause(site: Site, forecast: Forecast, reason: Reason, place: SitePath) -> Cause:
    """Why the server turns the account of a client away (:mod:`..predict.logins`), and what lets it in."""
    service, client = forecast.service, forecast.promise.client
    account = next(each for each in site.accounts if each.service == service.name and client in each.clients)
    name = account.name
    if reason == "root writable":
        text = (
            f"{name} is confined to {account.home or 'its folder'}, {_whose_top(account)}: {service.name} refuses that"
        )
        cure, new = _roots_own(account, place[-1])
        return Cause("account-root-writable", place, PortSet(), text, cure, mends=sets(site, place, new))
    if reason == "login by key alone":
        text = f"{name} logs in with a key alone, and {service.name} is FTP, which knows no keys"
        cure = "give it a password (login: both), or let its clients use SSH"
        return Cause("account-login-differs", place, PortSet(), text, cure, mends=sets(site, place, "both"))
    if place[-1] == "bars":
        text, cure = f"{service.name} bars {name}", f"take {name} out of bars"
        listed = tuple(each for each in service.bars if each != name)
    else:
        text, cure = f"{name} is not on the list of who may log in to {service.name}", f"add {name} to allows"
        listed = (*service.allows, name)
    return Cause("account-barred", place, PortSet(), text, cure, mends=sets(site, place, listed))


def _of_system(site: Site, account: Account, place: SitePath) -> Iterator[Finding]:
    if account.kept_by == "system":
        message = (
            f"{account.name} is a system account: whoever knows its password can log in to other services of the host"
        )
        cure = "keep an account of the service's own for file transfer, or give this one no shell"
        where = (*place, "kept_by")
        yield Finding("account-of-system", "note", message, cure, where, set_to(site, where, "service"))


def _not_shown(topology: Topology, account: Account, place: SitePath) -> Iterator[Finding]:
    """Folders outside of the home of an account that is kept in it, where the server cannot join them to it."""
    if service_of(topology, account.service).joins_folders or not account.confined:
        return
    for j, folder in enumerate(account.folders):
        below = parts_of(f"{account.home or ''}/{folder.shown_as}")
        if folder.at is not None and (account.home is None or parts_of(folder.at) != below):
            message = f"{account.name} never sees {folder.at}: it is kept in {account.home or 'its folder'}, and "
            message += f"{account.service} joins no folder from elsewhere"
            cure = f"move it below the home, as {folder.shown_as}, or let the system mount it there; then take at out"
            where = (*place, "folders", j, "at")
            yield Finding("folder-not-shown", "risks", message, cure, where, set_to(topology.site, where, None))


def _too_broad(site: Site, account: Account) -> str:
    if account.home is None:
        return ""
    home = parts_of(account.home)
    if home in WHOLE_SYSTEMS:
        return "is a whole system"
    if home[:-1] in PROFILES:
        return "is a person's own profile"
    for other in site.accounts:
        theirs = parts_of(other.home) if other.home is not None else ()
        if other is not account and len(theirs) > len(home) and theirs[: len(home)] == home:
            return f"holds the folder of account {other.name}"
    return ""


def _rights(site: Site, account: Account, place: SitePath) -> Iterator[Finding]:
    given = set(effective_rights(site, account) or ()).union(*(each.rights or () for each in account.folders))
    if account.name.lower() in ANONYMOUS and given & CHANGES:
        message = f"anybody may change files as {account.name} ({', '.join(sorted(given & CHANGES))})"
        cure = "leave list and read only, or give writers an account of their own"
        where = (*place, "rights")
        left = tuple(each for each in account.rights if each not in CHANGES)
        yield Finding("anonymous-writes", "risks", message, cure, where, set_to(site, where, left))
    cure = "say it in one place: servers differ in which of the two wins"
    if both := sorted(set(account.rights) & set(account.denies)):
        message = f"account {account.name} is given and denied {', '.join(both)} by itself"
        yield Finding("account-rights-conflict", "risks", message, cure, (*place, "rights"))
    groups = [each for each in site.groups if each.name in account.groups]
    stated = {*account.rights, *account.denies}
    given_by = {right for each in groups for right in each.rights}
    denied_by = {right for each in groups for right in each.denies}
    if both := sorted((given_by & denied_by) - stated):
        message = f"the groups of account {account.name} both give and deny {', '.join(both)}, and it states neither"
        yield Finding("account-rights-conflict", "risks", message, cure, (*place, "groups"))


def _without_path(topology: Topology, account: Account, place: SitePath) -> Iterator[Finding]:
    """A client of the account that cannot reach the service; promised ones are listed already."""
    service = service_of(topology, account.service)
    promised = {
        each.client for each in topology.site.promises if each.service == service.name and each.holds == "works"
    }
    for j, name in enumerate(account.clients):
        if name in promised:
            continue
        _, control = reach_control(topology, position_of(topology, name), service)
        if not any(each.outcome == "ok" for each in control):
            message = f"account {account.name} is for {name}, which cannot reach {service.name}"
            cure = f"promise it ({{client: {name}, service: {service.name}}}) and follow what check then reports"
            yield Finding("account-without-path", "risks", message, cure, (*place, "clients", j))
