"""A phone's browser as the place to test from: what it can try of a lit service, where it stands, what it came to.

Theory: what a browser shows
============================
A page may ask every port of the host that it came from, and learns one of three things: an answer of the lamp; an error
at once, which is a refusal or an answer that is none of the lamp's; or nothing until it stops waiting. So

- a port that no browser goes to (the Fetch standard's bad ports, 21, 22 and 990 among them) is never tried;
- a port arrives where the lamp itself has seen the page's key come to it, and nowhere else. What the page reports
  counts only for ports at which nothing was seen: a page may be wrong, or be forged, about nothing but these;
- an error at a port that another program holds on the server is that program's answer (``wrong``).

A phone on the server's own network proves nothing of the way from outside. It is known by its address as the lamp sees
it: of a network whose way to the server is not by the internet, or of a gateway that turned it back (hairpin).
"""

from collections.abc import Iterable, Iterator, Mapping
from typing import Literal

from msgspec import Struct
from msgspec.structs import replace

from ..model.problem import network_names
from ..model.site import INTERNET, Promise, Service
from ..network.flow import Flow
from ..network.journey import trace
from ..network.topology import Side, Topology
from ..predict.endpoints import position_of, targets, typed_port
from ..predict.forecast import ClientPosition
from ..predict.ledger import Ledger, measure
from ..predict.session import predict_from
from ..values.addresses import Address, AddressSet, network_around
from ..values.ports import UNPRIVILEGED, PortSet
from .compared import LitOutcome, LitPort, Sweep

MOST_FIRST = 1_024
"""Ports that are tried before the rest: of a large range a spread of so many."""
MOST_PAGES = 3
"""Ports at which the page is to be had, one after the other, where the first does not arrive."""
LINK_BITS = 64
"""How much of their addresses hosts on one link share (RFC 4291, section 2.5.1)."""

Standing = Literal["outside", "inside", "hairpin", "unknown"]


class PhonePlan(Struct, frozen=True):
    """What a phone tries at ``target``: ``ports`` in one sweep, ``barred`` not, since no browser goes there; of them
    ``held`` are another program's on the server. ``control`` is the control port as a client types it. The page is at
    one of ``pages``, the likeliest first, which ``arrive`` by the site file or do not."""

    service: Service
    target: Address
    control: int
    ports: PortSet
    barred: PortSet
    held: PortSet
    pages: tuple[int, ...]
    arrive: bool


class ExpectedPorts(Struct, frozen=True):
    """What is predicted of the ports of a plan from one place: those that arrive at the lamp, and those of which it
    cannot be known."""

    arrives: PortSet = PortSet()
    unknown: PortSet = PortSet()


def phone_plan(
    topology: Topology,
    service: Service,
    position: ClientPosition,
    at: Address | None,
    lit: PortSet,
    held: PortSet,
    barred: PortSet,
) -> PhonePlan | None:
    """What a phone can try of a service whose ports are ``lit`` or ``held`` by another program, at the address that
    clients dial from ``position``, or ``at`` another; None where there is no such address, or no lit port that a
    browser goes to. A control port that the running server holds is left to that server."""
    target = at or next(iter(targets(topology, position)), None)
    own, control = service.control_port.number, PortSet.single(typed_port(topology, position, service))
    inside = PortSet.single(own)
    outside = (lit | held) - inside | (control if own in lit else PortSet())
    ready = lit - inside - barred | (control - barred if own in lit else PortSet())
    if target is None or not ready:
        return None
    ports = outside - barred
    arrives = expected(topology, position, target, ports, lit).arrives
    pages = _spread(arrives - control or arrives or ready, MOST_PAGES)
    return PhonePlan(
        service, target, control.lowest, ports, outside & barred, held & ports, tuple(pages), bool(arrives)
    )


def order_of(ports: PortSet) -> tuple[int, ...]:
    """The order in which they are tried: all, or of many a spread first.

    >>> order_of(PortSet.parse("61200-61203"))
    (61200, 61201, 61202, 61203)
    """
    first = tuple(sorted(_spread(ports, MOST_FIRST)))
    sooner = frozenset(first)
    return (*first, *(each for each in ports if each not in sooner))


def _spread(ports: PortSet, most: int) -> list[int]:
    """So many of the ports, the first and the last among them, at even distances; the first, the last, then others."""
    every = list(ports)
    if len(every) <= most:
        return every
    chosen = [every[i * (len(every) - 1) // (most - 1)] for i in range(most)]
    return [chosen[0], chosen[-1], *chosen[1:-1]]


def expected(
    topology: Topology, position: ClientPosition, target: Address, ports: PortSet, lit: PortSet
) -> ExpectedPorts:
    """What becomes of new connections to these ports, where the lamp is all that listens."""
    well, lost, unknown = PortSet(), PortSet(), PortSet()
    flow = Flow("tcp", position.sources, UNPRIVILEGED, target, ports)
    for journey in trace(topology, position.origin, flow):
        asked = journey.asked.ports
        offset = journey.flow.ports.lowest - asked.lowest
        if journey.outcome == "ok" and journey.end.at == topology.server.name:
            well, lost = well | asked & lit.shift(-offset), lost | asked - lit.shift(-offset)
        elif journey.outcome == "unknown":
            unknown = unknown | asked
        else:
            lost = lost | asked
    return ExpectedPorts(well - lost - unknown, unknown | well & lost)


def standing_of(topology: Topology, source: Address) -> Standing:
    """Where somebody stands whom the lamp sees come from an address."""
    between = [each.device for each in topology.chain(topology.server.network, INTERNET) or ()]
    holder = topology.holder(topology.server.network, source)
    if any(source.number in each.outside_addresses for each in between) or isinstance(holder, Side):
        return "hairpin"
    own = topology.server.addresses.each
    linked = (network_around(each, LINK_BITS) for each in own if each.family == source.family == 6)
    if source in own or _home_of(topology, source) or any(source.number in each for each in linked):
        return "inside"
    if source.kind == "public":
        return "outside"
    return "unknown" if source.kind == "carrier" else "inside"


def _home_of(topology: Topology, source: Address) -> str:
    """The network of the site that holds an address and from which the way to the server is not by the internet; empty
    where there is none."""
    for name in network_names(topology.site):
        crossings = topology.chain(name, topology.server.network)
        if crossings is not None and source.number in topology.subnets.get(name, ()):
            passed = {name, *(each.device.far(each.way) for each in crossings)}
            if INTERNET not in passed:
                return name
    return ""


def phone_position(topology: Topology, source: Address | None, client: str) -> ClientPosition:
    """Who a phone stands for: ``client`` where one is named, else anybody on the internet with its address; on the
    server's own side of the gateways, somebody there."""
    standing = standing_of(topology, source) if source is not None else "outside"
    if source is None or standing == "unknown":
        return position_of(topology, client or INTERNET)
    if standing == "outside":
        position = position_of(topology, client or INTERNET)
        return position if client else replace(position, sources=AddressSet.single(source))
    home = _home_of(topology, source) if standing == "inside" else ""
    position = position_of(topology, home or topology.server.network)
    return replace(position, sources=AddressSet.single(source)) if standing == "inside" else position


def phone_ledger(topology: Topology, service: Service, position: ClientPosition) -> Ledger | None:
    """The ledger of data ports at the address of the control connection, which is where a page tries them, whatever
    the passive reply would name."""
    if service.protocol != "ftp" or service.passive is None:
        return None
    there = replace(position, spec=replace(position.spec, trusts_announced=False))
    promise = Promise(client=position.name, service=service.name, mode="passive")
    return measure(topology, predict_from(topology, promise, there)).ledger


def announced_elsewhere(topology: Topology, service: Service, position: ClientPosition, target: Address) -> str:
    """The address that the server announces to whoever stands there, where it is another than the one that a phone
    tries; empty where it is the same, or none is known."""
    if service.protocol != "ftp" or service.passive is None:
        return ""
    promise = Promise(client=position.name, service=service.name, mode="passive")
    announced = predict_from(topology, promise, position).announced
    return "" if announced in (None, target) else str(announced)


class SeenAtPort(Struct, frozen=True):
    """A connection with the page's key: the port of the server at which it came, and from where."""

    port: int
    source: str


def phone_sweep(plan: PhonePlan, arrivals: Mapping[int, SeenAtPort], refused: PortSet, silent: PortSet) -> Sweep:
    """The sweep as it stands: what the lamp saw, by the port that was asked for, and for the rest what the page
    reports."""
    held = plan.held
    seen = [LitPort(port, "ok", each.port, each.source) for port, each in arrivals.items()]
    lost = (*_lost(refused - held, "refused"), *_lost(refused & held, "wrong"), *_lost(silent - refused, "silent"))
    found = (*seen, *(each for each in lost if each.port not in arrivals))
    return Sweep(str(plan.target), "tcp", tuple(sorted(found, key=lambda each: each.port)))


def _lost(ports: Iterable[int], outcome: LitOutcome) -> Iterator[LitPort]:
    return (LitPort(port, outcome) for port in ports)
