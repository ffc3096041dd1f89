"""Cures that no single layer asks for: of the server where all other places agree, and of clients.

Theory: the odd one out
=======================
A range that the router, the cloud and the host's filter all pass, and the server does not use, is three findings, each
with a cure on another device. One change of the server does instead. So each layer of the way is asked which ports it
passes, wanted or not (:mod:`..predict.ledger`), and a range that all of them pass is a cure. The same holds for the
address that every forward leads to, and for the category that its rules are written for.
"""

from collections.abc import Collection, Iterator, Sequence

from ..model.change import change, value_at
from ..model.entries import OWN, Destination, Port, Typed
from ..model.site import Forward, Rule, Service, Site
from ..network.topology import Topology, listens_on
from ..predict.endpoints import entrances, is_inside
from ..predict.forecast import Forecast
from ..predict.ledger import Study, measure
from ..sizing.demand import clear_range, taken_by
from ..values.addresses import Address, Addresses
from ..values.ports import EVERY_PORT, UNPRIVILEGED, PortSet
from .all import Studied
from .cause import is_foreign, mismatch_kind, words_of
from .finding import Finding, FindingKind, own_gateways
from .gateways import by_ipv4_alone
from .server import ports_needed
from .session import MOST_ACTIVE_PORTS

WIDEST = 4096
FIRST_DOOR = 2121
"""Where a control port is looked for that no provider blocks."""
MOST_MEASURED = 24
FIRST_ACTIVE, ACTIVE = 50000, 16
"""Ports that a client is to wait on in active mode: as many transfers at once."""
USUAL = 128
"""Ports of a range where the load states nothing: enough for most, and few enough to be entered."""


def server_cures(known: Studied, found: Sequence[Finding]) -> Iterator[Finding]:
    """Findings with cures of the server, for a site where some are found already."""
    kinds: set[FindingKind] = {each.kind for each in found}
    site = known.topology.site
    for i, service in enumerate(site.services):
        broken = [each for each in known.promises if _is_broken(each, service)]
        if broken and service.passive is not None:
            yield from _range_cures(known, i, service)
    if kinds & {"provider-blocks-port", "port-outside-share"}:
        yield from _other_doors(known)
    if "active-cannot-return" in kinds:
        yield from _active_ports(known)
    if kinds & {"forward-wrong-host", "no-way-in"}:
        yield from _address_cures(known.topology)
    if kinds & {"announces-private-address", "announces-stale-address"}:
        yield from _announced_apart(known)
    if "rule-wrong-category" in kinds:
        yield from _category_cures(site)
    if "control-port-differs" in kinds:
        yield from _control_cures(site, found)
    yield from _without_six(known)
    yield from _lifted_bans(site, found)


def _is_broken(study: Study, service: Service) -> bool:
    forecast = study.forecast
    return forecast.service.name == service.name and forecast.promise.mode == "passive" and forecast.kept is not True


def _range_cures(known: Studied, index: int, service: Service) -> Iterator[Finding]:
    assert service.passive is not None
    site, present = known.topology.site, service.passive.ports
    for wanted in dict.fromkeys(_ranges(known, service, present)):
        message = f"the passive range of {service.name} is {present}, and other devices pass {wanted}"
        if not wanted & (_passed(known, service) | present) and wanted not in _named_ranges(site):
            message = f"the passive range of {service.name}, {present}, holds ports that it cannot have to itself"
        if wanted == _digit_put_back(present, _named_ranges(site)):
            message = f"the passive range of {service.name}, {present}, seems to lack a digit"
        if present == UNPRIVILEGED:
            message = f"{service.name} has no fixed passive range"
        place = ("services", index, "passive", "ports")
        cure, advice = change(site, place, wanted), f"set passive ports of {service.name} to {wanted}"
        yield Finding("range-mismatch", "breaks", message, advice, place, (cure,))


def _ranges(known: Studied, service: Service, present: PortSet) -> Iterator[PortSet]:
    """Ranges that the server could use instead: what all else passes, what entries name that seem to be for it, and a
    new one where it has none. A smaller one will do where the load allows that, where the present one differs from it
    by a slip, or where two other entries agree on it."""
    site = known.topology.site
    stated = ports_needed(service)[0]
    named = _named_ranges(site)
    passed = _passed(known, service)
    complete = _digit_put_back(present, named)
    if complete is not None and not is_foreign(site, service, complete):
        yield complete
    for whole in (*(PortSet.of(span) for span in passed.spans), *named):
        enough = len(whole) >= (stated or len(present)) and present != UNPRIVILEGED
        slip = mismatch_kind(present, whole) == "range-typo"
        votes, others = named.get(whole, 0), named.get(present, 0) + 1
        if whole == present or is_foreign(site, service, whole) or len(whole) > WIDEST:
            continue
        if stated and whole <= present and enough:
            yield whole
        if votes < others or (votes == others and len(whole) > len(present)):
            continue
        if enough or slip or votes > 1 or (present == UNPRIVILEGED and len(whole) >= (stated or 2)):
            yield whole
    elsewhere = _of_others(site) | _blocked(site)
    if present == UNPRIVILEGED or present & elsewhere:
        size = stated or (USUAL if present == UNPRIVILEGED else min(len(present), USUAL))
        try:
            yield clear_range(size, taken_by(site, service.name) | elsewhere, PortSet()).ports
        except ValueError:
            return


def _digit_put_back(present: PortSet, named: Collection[PortSet]) -> PortSet | None:
    """A range whose first number has a digit less than its last, with one of the last put back, where no entry names
    what was meant: one that holds the range of an entry, else the narrowest."""
    low, high = str(present.lowest), str(present.highest)
    lacks = len(present.spans) == 1 and len(low) == len(high) - 1 and present != UNPRIVILEGED
    if not lacks or any(mismatch_kind(present, each) == "range-typo" for each in named):
        return None
    firsts = {int(low[:i] + high[i] + low[i:]) for i in range(len(high))}
    whole = [PortSet.of((each, present.highest)) for each in firsts if each < present.highest]
    holding = [each for each in whole if any(one <= each for one in named)]
    return min(holding or whole, key=len, default=None)


def _blocked(site: Site) -> PortSet:
    """Ports that providers never let in, or that others have of an address that is shared."""
    found = PortSet()
    for each in site.gateways:
        found = found | each.provider_blocks.ports
        found = found | (EVERY_PORT - each.outside.ports if each.outside.ports is not None else PortSet())
    return found


def _other_doors(known: Studied) -> Iterator[Finding]:
    """Another outside port for the control connection, which clients type, where a provider blocks the usual one."""
    site = known.topology.site
    used = _blocked(site)
    for gateway in site.gateways:
        for each in gateway.forwards:
            used = used | each.ports
    for service in site.services:
        used = used | listens_on(service)
    free = UNPRIVILEGED - used
    port = next((low for low, high in (free - PortSet.of((1, FIRST_DOOR - 1))).spans), free.lowest if free else None)
    for study in known.promises:
        forecast = study.forecast
        client = known.topology.client(forecast.promise.client)
        never = ("provider blocks", "outside the share")
        blocked = forecast.rung == "connect" and any(each.reason in never for each in forecast.stops)
        if port is None or client is None or client.reaches is None or not blocked:
            continue
        port = _known_door(site, forecast.service) or port
        place = ("clients", known.topology.client_index(client.name), "reaches")
        cure = change(site, place, Typed(client.reaches.addresses, client.reaches.name, Port(port)))
        message = f"port {forecast.service.control_port} never comes in on the way of {client.name}"
        advice = (
            f"let {client.name} type port {port} ({cure.new}), and forward that to port {forecast.service.control_port}"
        )
        yield Finding("provider-blocks-port", "breaks", message, advice, place, (cure,))


def _known_door(site: Site, service: Service) -> int | None:
    """An outside port that leads to a control port already, and that nobody blocks."""
    blocked, control = _blocked(site), service.control_port.number
    for gateway in site.gateways:
        for each in gateway.forwards:
            outside = control - each.offset
            if each.enabled and each.protocol == "tcp" and outside in each.ports and outside not in blocked:
                return outside
    return None


def _active_ports(known: Studied) -> Iterator[Finding]:
    """A few ports for a client in active mode to wait on, so that a device on its side can forward them."""
    site = known.topology.site
    for study in known.promises:
        forecast, name = study.forecast, study.forecast.promise.client
        client = known.topology.client(name)
        broken = forecast.promise.mode == "active" and forecast.kept is False and forecast.data is not None
        if client is None or not broken or len(client.active_ports) <= MOST_ACTIVE_PORTS:
            continue
        few = PortSet.of((FIRST_ACTIVE, FIRST_ACTIVE + ACTIVE - 1))
        cure = change(site, ("clients", known.topology.client_index(name), "active_ports"), few)
        message = f"{name} waits on any port in active mode, and no device on its side can forward them all"
        advice = f"let {name} use ports {few} in active mode (active_ports), and forward those to it"
        yield Finding("active-cannot-return", "breaks", message, advice, cure.place, (cure,))


def _without_six(known: Studied) -> Iterator[Finding]:
    """Clients that get in by IPv6 and fail there later, for which IPv4 would be tried if there were nothing else."""
    for study in known.promises:
        forecast = study.forecast
        by_six = forecast.kept is not True and forecast.target is not None and forecast.target.family == 6
        cure = by_ipv4_alone(known.topology, forecast.position) if by_six else None
        if cure is not None:
            message = f"{forecast.position.name} prefers {forecast.target}, gets in there, and no further"
            advice = f"let IPv6 through as well, or take {forecast.target} out of the name"
            yield Finding("ipv6-without-path", "breaks", message, advice, cure.place, (cure,))


def _of_others(site: Site) -> PortSet:
    """Outside ports that gateways lead to other hosts of the site."""
    elsewhere = {address for each in site.clients for address in each.address.each}
    found = PortSet()
    for gateway in site.gateways:
        for each in gateway.forwards:
            found = found | (each.ports if each.enabled and each.to in elsewhere else PortSet())
    return found


def _named_ranges(site: Site) -> dict[PortSet, int]:
    """Ranges that rules and forwards on the ways to the server name, and how many do. One on somebody else's device
    counts for two: who is not at the server was given the numbers, and does not type the same slip."""
    control = PortSet.of(*((each.control_port.number,) * 2 for each in site.services))
    own = own_gateways(site)
    tables = [(site.server.filter.incoming, 1), *((each.filter.inward, 1) for each in site.gateways)]
    tables += [(each.filter.outward, 1 if each.name in own else 2) for each in site.gateways
               if each.inside.network != site.server.network]  # fmt: skip
    entries: list[tuple[Rule | Forward, int]] = [
        (each, votes) for table, votes in tables for each in table.rules if each.action == "allow"
    ]
    entries += [(each, 1) for gateway in site.gateways for each in gateway.forwards]
    found: dict[PortSet, int] = {}
    for entry, votes in entries:
        for span in (entry.ports - control).spans:
            ports = PortSet.of(span)
            if 1 < len(ports) <= WIDEST and ports <= UNPRIVILEGED:
                found[ports] = found.get(ports, 0) + votes
    return found


def _passed(known: Studied, service: Service) -> PortSet:
    """Ports that every layer on the way of every passive session of a service passes, but for its own range."""
    found = UNPRIVILEGED
    for i, each in enumerate(known.promises):
        forecast = each.forecast
        if i >= MOST_MEASURED or forecast.service.name != service.name or forecast.promise.mode != "passive":
            continue
        study = each if each.data else measure(known.topology, forecast)
        if not study.data:
            return PortSet()
        for layer in study.data:
            if layer.aspect not in ("hands-out", "control", "address"):
                found = found & layer.ports
    return found - PortSet.of(*((each.control_port.number,) * 2 for each in known.topology.site.services))


def _address_cures(topology: Topology) -> Iterator[Finding]:
    """Addresses to which forwards lead, or which clients beside the server type, and at which nobody is."""
    site, server = topology.site, topology.server
    own = set(server.addresses.each)
    led: dict[Address, None] = {}
    for gateway in site.gateways:
        if gateway.inside.network == server.network:
            led |= {each.to: None for each in gateway.forwards if each.to not in own}
    for client in topology.clients:
        typed = site.clients[topology.client_index(client.name)].reaches
        if typed is not None and client.network == server.network:
            led |= {each: None for each in typed.addresses.each if each not in own}
    for address in led:
        same = [each for each in server.addresses.each if each.family == address.family]
        lies_there = topology.holds(server.network, address) and topology.holder(server.network, address) is None
        if len(same) == 1 and lies_there:
            new = Addresses(tuple(address if each == same[0] else each for each in server.addresses.each))
            message = f"forwards or clients go to {address}, and {server.name} has {same[0]}"
            place = ("server", "address")
            cure = change(site, place, new)
            advice = f"give {server.name} the address {address}"
            yield Finding("forward-wrong-host", "breaks", message, advice, place, (cure,))


def _announced_apart(known: Studied) -> Iterator[Finding]:
    """The outside address for clients outside, and for those inside, whose transfers work now, what they have: the
    second first, since the outside address alone would send them where nobody turns them back."""
    topology, server = known.topology, known.topology.server.name
    for i, service in enumerate(topology.site.services):
        if service.passive is None or service.passive.announce_inside is not None:
            continue
        own = [each.forecast for each in known.promises if each.forecast.service.name == service.name]
        inside = next((each for each in own if _is_sent(each, True) and is_inside(topology, each.control[0])), None)
        outside = next((each for each in own if _is_sent(each, False)), None)
        ways = entrances(topology, outside.position.network) if outside is not None else ()
        address = next((each for each in ways if each.family == 4), None)
        if inside is None or outside is None or address is None:
            continue
        place = ("services", i, "passive")
        message = f"{inside.position.name}, which is inside, needs another address than clients outside"
        apart = change(topology.site, (*place, "announce_inside"), OWN)
        yield Finding("announces-outside-to-inside", "breaks", message, words_of(apart), apart.place, (apart,))
        message = f"{server} announces {outside.announced} to {outside.position.name}, but is reached at {address}"
        right = change(topology.site, (*place, "announce"), Destination(addresses=Addresses((address,))))
        yield Finding("announces-stale-address", "breaks", message, words_of(right), right.place, (right,))


def _is_sent(forecast: Forecast, kept: bool) -> bool:
    """Whether a passive session is sent to an announced address, and is kept or not."""
    return forecast.promise.mode == "passive" and forecast.announced is not None and forecast.kept is kept


def _control_cures(site: Site, found: Sequence[Finding]) -> Iterator[Finding]:
    """The control port that several entries agree on, where the server has another."""
    for i, service in enumerate(site.services):
        named = [value_at(site, each.place) for each in found if each.kind == "control-port-differs"]
        ports = {each for each in named if isinstance(each, PortSet) and len(each) == 1}
        others = {each.control_port.number for each in site.services}
        if len(named) > 1 and len(ports) == 1 and not any(each in next(iter(ports)) for each in others):
            number = next(iter(ports)).lowest
            cure = change(site, ("services", i, "control_port"), Port(number))
            message = f"entries are for port {number}, and {service.name} has {service.control_port}"
            advice = f"set control_port of {service.name} to {number}"
            yield Finding("control-port-differs", "breaks", message, advice, cure.place, (cure,))


def _lifted_bans(site: Site, found: Sequence[Finding]) -> Iterator[Finding]:
    """Bans of many that stand against a promise to all of them, taken out: that nobody meant them is for the author to
    state, so a plan with one does harm (:mod:`..mending.effect`) and is shown as such."""
    for each in found:
        rule = value_at(site, each.place)
        if isinstance(rule, Rule) and rule.from_ is not None and rule.action != "allow" and not each.cures:
            off = change(site, (*each.place, "enabled"), False)
            yield Finding(each.kind, each.severity, each.message, "take this rule out", each.place, (off,))


def _category_cures(site: Site) -> Iterator[Finding]:
    """The categories that rules of the server are written for."""
    present = site.server.category
    tables = (site.server.filter.incoming, site.server.filter.outgoing)
    named = dict.fromkeys(name for table in tables for rule in table.rules for name in rule.categories or ())
    for name in named:
        if name != present:
            message = f"rules of {site.server.name} are for a network of category {name}, its own is {present}"
            place = ("server", "category")
            cure = change(site, place, name)
            advice = f"set the category of the network to {name}"
            yield Finding("rule-wrong-category", "breaks", message, advice, place, (cure,))
