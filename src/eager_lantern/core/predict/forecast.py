"""What is predicted of a promise, as values."""

from collections.abc import Iterable

from msgspec import Struct, field

from ..model.site import Client, Promise, Refusal, Service
from ..network.flow import Flow, Journey, Reason
from ..network.journey import Helped
from ..network.topology import Host
from ..values.addresses import Address, AddressSet
from ..values.outcomes import Extent, Outcome, Rung
from ..values.ports import PortSet
from ..values.site_path import SitePath


class Stop(Struct, frozen=True):
    """Ports of a connection that do not get through, what is to blame, and the answer that says so, if any does."""

    ports: PortSet
    outcome: Outcome
    at: str
    rule: str | None
    reason: Reason | None
    place: SitePath | None
    answer: Refusal | None = None


class Data(Struct, frozen=True):
    """What becomes of each data port that may be used, with the journeys that tell."""

    asked: PortSet
    works: PortSet
    fails: PortSet
    unknown: PortSet
    stops: tuple[Stop, ...]
    journeys: tuple[Journey, ...]

    @property
    def share(self) -> float:
        """The part of the ports that work, 0 to 1; a server picks any of its range."""
        return len(self.works) / len(self.asked) if self.asked else 0.0


class Stand(Struct, frozen=True):
    """Who connects: a client of the site, or anybody on a network."""

    name: str
    origin: Host | str
    network: str
    sources: AddressSet
    spec: Client


class Forecast(Struct, frozen=True):
    """What is predicted of one promise.

    ``control`` holds the journeys of the control connection to ``target``; ``announced`` is
    the address that the client is told for data. ``data_flow`` is what is sent for data, and
    ``helped`` the gateways whose helper expects it.
    """

    promise: Promise
    place: SitePath
    stand: Stand
    service: Service
    predicted: Extent
    target: Address | None
    control: tuple[Journey, ...]
    rung: Rung | None = None
    stops: tuple[Stop, ...] = ()
    data: Data | None = None
    announced: Address | None = None
    data_flow: Flow | None = None
    helped: Helped = field(default_factory=dict)

    @property
    def kept(self) -> bool | None:
        """Whether the promise holds; None where it cannot be told."""
        if self.promise.holds == "shut":
            return None if self.predicted == "unknown" else self.predicted == "fails"
        if self.data and self.data.fails:
            return False
        return None if self.predicted == "unknown" else self.predicted == "works"


def rung_of(reason: Reason | None) -> Rung:
    """The rung at which a data connection shows that it was stopped for this reason: where the
    server itself turns it away, it has opened and fails when the listing is asked for."""
    return "list" if reason in ("another peer", "session reuse") else "data"


def stops_of(journeys: tuple[Journey, ...]) -> tuple[Stop, ...]:
    """What did not arrive, one stop for each thing to blame, the most ports first."""
    ports: dict[tuple[Outcome, str, str | None, Reason | None, SitePath | None, Refusal | None], PortSet] = {}
    for each in journeys:
        if each.outcome != "ok":
            key = (each.outcome, each.end.at, each.end.rule, each.reason, each.end.place, each.end.answer)
            ports[key] = ports.get(key, PortSet()) | each.asked.ports
    stops = [Stop(each, *key) for key, each in ports.items()]
    return tuple(sorted(stops, key=lambda stop: -len(stop.ports)))


def data_of(flows: tuple[Flow, ...], journeys: tuple[Journey, ...], at: str) -> Data:
    """Sort ports by their fate: a port works where all of its journeys arrived, over every transport that
    is asked for; one that fails for a single source fails. What no journey tells of is unknown, for
    want of an address of the family at ``at``."""
    asked = flows[0].ports
    fails, unknown = PortSet(), PortSet()
    for each in journeys:
        if each.outcome == "unknown":
            unknown = unknown | each.asked.ports
        elif each.outcome != "ok":
            fails = fails | each.asked.ports
    untold = PortSet()
    for flow in flows:
        untold = untold | flow.ports - _told_of(flow, journeys)
    stops = stops_of(journeys)
    if untold:
        stops = (*stops, Stop(untold, "unknown", at, None, "no common family", None))
    unknown = (unknown | untold) - fails
    return Data(asked, _arrived(flows, journeys) - fails - unknown, fails, unknown, stops, journeys)


def _told_of(flow: Flow, journeys: tuple[Journey, ...]) -> PortSet:
    """The ports of which a journey of this transport tells."""
    return _union(each.asked.ports for each in journeys if each.asked.protocol == flow.protocol)


def _arrived(flows: tuple[Flow, ...], journeys: tuple[Journey, ...]) -> PortSet:
    """The ports on which a journey of every transport arrived."""
    arrived = flows[0].ports
    for flow in flows:
        arrived = arrived & _told_of(flow, tuple(each for each in journeys if each.outcome == "ok"))
    return arrived


def _union(parts: Iterable[PortSet]) -> PortSet:
    found = PortSet()
    for each in parts:
        found = found | each
    return found


def extent_of(data: Data) -> Extent:
    """The verdict on a data connection that may use any of its ports."""
    if data.works and data.fails:
        return "partly"
    if data.unknown:
        return "unknown"
    return "works" if data.works else "fails"
