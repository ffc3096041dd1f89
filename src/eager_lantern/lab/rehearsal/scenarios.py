"""What to try in a lab for each promise: the servers to start, the sessions, the probes.

Pure values made from a site and its forecasts; any kind of lab can carry them out.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from secrets import token_hex

from msgspec import structs

from ...core.model.site import Client, CompleteClient, Passive, Right, Service, account_of, effective_rights
from ...core.network.topology import LOCALHOST, Host, Topology
from ...core.observed.rehearsed import to_try
from ...core.predict.endpoints import inside_peers, position_of, resolved, targets, typed_port, unpromised, ways_in
from ...core.predict.forecast import ClientPosition, Forecast
from ...core.values.addresses import FAMILIES, Address, Addresses, AddressSet
from ...formats.shipped import shipped_advice
from ...live.common.secret import Secret
from ...live.common.visit_plan import Announced, Limits, VisitPlan, plan_of
from ..servers.setup import EVERY_RIGHT, Guest, SshSetup, StandInSetup, letters
from ..tasks.probes import SOURCE_PORT, Probe

LEAST_PATIENCE_SECONDS, MOST_PATIENCE_SECONDS = 1.4, 6.0
TRANSFERS = 3
"""Of a session: a listing, a file sent, a file fetched."""
LIKELY_STRANGERS = AddressSet.parse("203.0.113.64/26, 198.51.100.128/25, 192.0.2.128/25, 2001:db8:ffff::/48")
_WHOLE: frozenset[Right] = frozenset(("list", "read", "write", "remove"))


@dataclass(frozen=True)
class Trust:
    """What servers of a lab show and clients believe: a certificate, served from a file that has its key
    as well, and a host key with its fingerprint; None and empty where no service needs them."""

    trusted: Path | None = None
    served: Path | None = None
    host_key: Path | None = None
    fingerprint: str = ""


@dataclass(frozen=True)
class Scenario:
    """One promise with what is to be tried for it, and how long nothing has to come before it is silence."""

    index: int
    forecast: Forecast
    node: str
    patience_seconds: float
    plans: tuple[VisitPlan, ...] = ()
    ports: tuple[int, ...] = ()
    guest: Guest | None = None
    probes: tuple[Probe, ...] = ()


def typed_names(topology: Topology) -> tuple[str, ...]:
    """Every name and address that a certificate of the site's server has to be good for."""
    site = topology.site
    found = [name for service in site.services for name in service.tls.names]
    for client in site.clients:
        if client.reaches is not None:
            found += [client.reaches.name] if client.reaches.name and not client.reaches.own else []
            found += [str(each) for each in targets(topology, position_of(topology, client.name))]
    found += [str(each) for each in topology.server.addresses.each]
    return tuple(dict.fromkeys(found))


def player_of(topology: Topology, forecasts: Sequence[Forecast], position: ClientPosition) -> CompleteClient:
    """The host that plays a client in a lab: its own, or for a network, or a client whose address the
    site does not tell, one with an address for each part of the network that is treated otherwise."""
    if position.spec.address:
        return position.spec
    own = isinstance(position.origin, Host)
    parts = [each.asked.sources for one in forecasts if one.position.name == position.name for each in one.control]
    whole = topology.strangers(position.network)
    for each in forecasts:
        whole = whole - (each.promise.except_for if each.position.name == position.name else AddressSet())
    chosen: dict[int, Address] = {}
    for part in (*parts, whole):
        for family in FAMILIES:
            free = part.of_family(family) - AddressSet.single(*topology.held_on(position.network))
            if free and not any(number in free for number in chosen):
                number = _likely(free)
                chosen[number] = Address(number)
    name = position.name if own else f"somebody on {position.network}"
    return structs.replace(position.spec, name=name, address=Addresses(tuple(chosen.values())))


def _likely(free: AddressSet) -> int:
    """An address that looks like a host's."""
    low, high = ((free & LIKELY_STRANGERS) or free).spans[0]
    return min(low + 13, high)


def patience_for(busy: float) -> float:
    """How long a lab waits, in seconds: longer on a machine that has more to do than it can, where answers come
    late; ``busy`` is its load for each processor."""
    return min(MOST_PATIENCE_SECONDS, max(LEAST_PATIENCE_SECONDS, busy))


def scenarios(
    topology: Topology, forecasts: Sequence[Forecast], folder: Path, trust: Trust, patience_seconds: float
) -> Iterator[Scenario]:
    """What to try for each promise."""
    for i, forecast in enumerate(forecasts):
        host = player_of(topology, forecasts, forecast.position)
        scenario = Scenario(i, forecast, _node_of(topology, host), patience_seconds)
        if forecast.promise.holds == "shut" or forecast.service.protocol == "other":
            others = (
                unpromised(topology, forecast.position, forecast.service) if forecast.promise.holds == "shut" else ()
            )
            yield replace(
                scenario, probes=tuple(p for each in (host, *others) for p in _probes(topology, forecast, each))
            )
        else:
            yield _session_scenario(topology, scenario, host, folder, trust)


def _node_of(topology: Topology, host: Client) -> str:
    """The host of a lab on which a client's programs run."""
    return topology.server.name if host.on_server else host.name


def _probes(topology: Topology, forecast: Forecast, host: Client) -> Iterator[Probe]:
    """The service's own port at every entrance; to see it shut, also each end of every set of
    ports that a device might lead there."""
    shut = forecast.promise.holds == "shut"
    own = forecast.service.control_port.number
    asked = own if shut else typed_port(topology, forecast.position, forecast.service)
    for target in ways_in(topology, forecast.position) if shut else targets(topology, forecast.position):
        ports = {asked}
        if shut:
            ends = (each.asked.ports for each in forecast.control if each.asked.to == target)
            ports |= {port for span in ends for port in (span.lowest, span.highest)}
        for source in host.address.of_family(target.family):
            for port in sorted(ports):
                yield Probe(_node_of(topology, host), "tcp", str(source), SOURCE_PORT, str(target), port)


def _session_scenario(
    topology: Topology, scenario: Scenario, host: CompleteClient, folder: Path, trust: Trust
) -> Scenario:
    forecast, service = scenario.forecast, scenario.forecast.service
    account, rights = _account_for(topology, forecast)
    ports = to_try(forecast)
    store = folder / f"account-{scenario.index}"
    guest = Guest(f"{account}-{scenario.index}", token_hex(12), store, _letters(rights))
    passive = forecast.promise.mode == "passive"
    mode = forecast.promise.mode or "passive"
    plan = plan_of(topology, forecast.position, host, service, mode, guest.user, Secret(guest.password))
    plan = replace(plan, advice=shipped_advice())
    base = replace(
        plan,
        security=replace(plan.security, trusts=trust.trusted, host_key=trust.fingerprint),
        data=replace(plan.data, announced=_follows(host), even_private=True, checks_peer=False),
        limits=Limits(
            timeout=scenario.patience_seconds,
            writes="write" in rights,
            reads="read" in rights,
            removes="remove" in rights,
        ),
    )
    typed = host.reaches.name if host.reaches and not host.reaches.own else ""
    plans = tuple(_plan_towards(base, host, typed, each) for each in targets(topology, forecast.position))
    handed = _port_order(ports, len(forecast.data.works) if forecast.data else 0)
    return replace(scenario, plans=plans, ports=ports, guest=replace(guest, ports=handed if passive else ()))


def _follows(client: CompleteClient) -> Announced:
    """What a client does with a passive reply that names another host."""
    if client.trusts_announced == "unless-private":
        return "follow-public"
    return "follow" if client.trusts_announced else "ignore"


def _port_order(ports: tuple[int, ...], working: int) -> tuple[int, ...]:
    """The order of data ports: all transfers of a session meet such as should work, as far as there are any,
    and the others are left to the sweep. A gateway's helper may give a port that failed another number next time."""
    again = -(-TRANSFERS // working) if working else 1
    return ports[:working] * again + ports[working:]


def _plan_towards(base: VisitPlan, host: CompleteClient, typed: str, target: Address) -> VisitPlan:
    """The plan for one of the addresses that a client may try."""
    own = host.active_address or (target if host.on_server and target in host.address.each else None)
    own = own or next(iter(host.address.of_family(target.family)), None)
    return replace(
        base,
        target=replace(base.target, name=typed or str(target), address=str(target)),
        data=replace(
            base.data,
            extended=base.data.extended or target.family == 6,
            active_address=str(own) if own else None,
        ),
    )


def _account_for(topology: Topology, forecast: Forecast) -> tuple[str, frozenset[Right]]:
    """The account that the site gives this client, and what it may do."""
    account = account_of(topology.site, forecast.promise.client, forecast.service.name)
    if account is None:
        return "visitor", _WHOLE
    rights = effective_rights(topology.site, account)
    return account.name, _WHOLE if rights is None else rights


def _letters(rights: frozenset[Right]) -> str:
    return EVERY_RIGHT if rights == _WHOLE else letters(rights)


def served_services(found: Sequence[Scenario], protocol: str) -> Iterator[tuple[Service, tuple[Guest, ...]]]:
    """Each service of a protocol that sessions are to be run with, and its accounts."""
    mine = [each for each in found if each.guest is not None and each.forecast.service.protocol == protocol]
    services = {each.forecast.service.name: each.forecast.service for each in mine}
    for name, service in services.items():
        yield service, tuple(each.guest for each in mine if each.guest and each.forecast.service.name == name)


def setups(topology: Topology, found: Sequence[Scenario], served: Path | None) -> tuple[StandInSetup, ...]:
    """The stand-in for each service of FTP."""
    patience = max((each.patience_seconds for each in found), default=LEAST_PATIENCE_SECONDS)
    return tuple(_setup(topology, *each, served, 3 * patience) for each in served_services(found, "ftp"))


def listened_on(topology: Topology) -> tuple[Address, ...]:
    """The addresses that services listen on; their host's own beside its others where a client is on it."""
    local = (LOCALHOST,) if any(each.on_server for each in topology.site.clients) else ()
    return (*topology.server.addresses.each, *local)


def ssh_setups(topology: Topology, found: Sequence[Scenario], host_key: Path | None) -> tuple[SshSetup, ...]:
    """The stand-in for each service of SSH file transfer."""
    addresses = listened_on(topology)
    return tuple(
        SshSetup(guests, tuple((str(each), service.control_port.number) for each in addresses), host_key)
        for service, guests in served_services(found, "sftp")
        if host_key is not None
    )


def _setup(
    topology: Topology, service: Service, guests: tuple[Guest, ...], served: Path | None, patience_seconds: float
) -> StandInSetup:
    passive = service.passive or Passive()
    inside = passive.announce_inside
    return StandInSetup(
        guests=guests,
        addresses=tuple(map(str, listened_on(topology))),
        control_port=service.control_port.number,
        passive_ports=passive.ports,
        announce=_announce_for(topology, passive, inside=False),
        announce_inside=_announce_for(topology, passive, inside=True),
        inside=inside_peers(topology) if inside is not None else AddressSet(),
        certificate=served if service.tls.mode != "none" else None,
        tls=service.tls.mode,
        tls_required=service.tls.required,
        protects_data=service.tls.protects_data,
        reuse_required=service.tls.reuse_required,
        from_port=service.active.from_port.number if service.active and service.active.from_port else 0,
        accepts_other_address=bool(service.active and service.active.accepts_other_address),
        repairs_private=bool(service.active and service.active.repairs_private),
        peer_must_match=service.peer_must_match,
        speaks_epsv=service.speaks_epsv,
        patience_seconds=patience_seconds,
    )


def _announce_for(topology: Topology, passive: Passive, inside: bool) -> str | None:
    destination = passive.announce_inside if inside and passive.announce_inside else passive.announce
    if destination.own:
        return None
    return next((str(each) for each in resolved(topology, destination).of_family(4)), None)


MOST_SCALED_SECONDS = 12.0


@dataclass(frozen=True)
class Pause:
    """How long a typical transfer and the devices' patience with quiet connections last in the
    lab, where minutes have become seconds."""

    transfer_seconds: float
    idle_seconds: dict[str, int]


def scaled(topology: Topology, forecast: Forecast) -> Pause | None:
    """The kernel counts whole seconds: the shortest scale on which every device's limit and the
    transfer stay apart by one. None where no time matters, or none short enough is found."""
    needed = forecast.service.transfer_seconds
    passed = {step.at for each in forecast.control[:1] for step in each.steps}
    limits = {
        device.name: device.spec.idle_timeout.amount
        for device in topology.devices
        if device.spec.idle_timeout is not None and device.name in passed
    }
    if needed is None or not limits:
        return None
    for tenths in range(10, int(MOST_SCALED_SECONDS * 10)):
        scale = tenths / 10 / min(needed, *limits.values())
        idle = {name: max(1, round(limit * scale)) for name, limit in limits.items()}
        lasts = needed * scale
        apart = all(_told_apart(lasts, idle[name], limits[name], needed) for name in limits)
        if apart and lasts <= MOST_SCALED_SECONDS:
            return Pause(lasts, {name: min(each, 3600) for name, each in idle.items()})
    return None


def _told_apart(lasts: float, idle: int, limit: float, needed: float) -> bool:
    return lasts - idle >= 1 if needed > limit else idle - lasts >= 1
