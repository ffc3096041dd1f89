"""How many data ports a service needs, and where such a range may lie.

Every listing and every transfer takes a port of its own (RFC 959, section 3.3). It is held
while the data connection stands, and where the server closes first, which it does after what
it sends (section 3.4), it may rest for the TIME-WAIT of the connection: four minutes by RFC
9293, section 3.4.1 (twice a maximum segment lifetime of two), less on real systems.

A. K. Erlang, “Solution of some problems in the theory of probabilities of significance in
automatic telephone exchanges” (1917): where requests come independently, at random, and one
that finds no server free is lost, the share lost among ``n`` servers at an offered load of
``a`` erlang is

    B(n, a) = (a^n / n!) / (sum of a^k / k! for k from 0 to n)

It depends on how long servers are held only through the mean (Sevastyanov, 1957), so that
long transfers, short listings and resting ports may be added up. It is computed by
1 / B(n) = 1 + (n / a) / B(n - 1), which neither overflows nor loses digits. With few clients
the true chance is smaller (Engset, 1918), so that the formula errs on the safe side.
"""

from collections.abc import Iterator
from itertools import count, islice
from typing import Literal

from msgspec import Struct

from ..model.site import Load, Site
from ..network.topology import listens_on
from ..values.ports import HIGHEST_PORT, PortSet
from ..values.quantities import Duration

HOUR_SECONDS = 3600
REST_BY_LETTER_SECONDS = 240.0
REST_OF_LINUX_SECONDS = 60.0
MOST_STEPS = 20_000


class ConnectionKind(Struct, frozen=True):
    """One kind of data connection: how often it comes, and how long it holds a port."""

    name: str
    per_hour: float
    stands_seconds: float
    rests_seconds: float

    @property
    def held_seconds(self) -> float:
        """From the passive reply until the port may be handed out again."""
        return self.stands_seconds + self.rests_seconds

    @property
    def offered(self) -> float:
        """Its load in erlang: how many ports it holds on average."""
        return self.per_hour * self.held_seconds / HOUR_SECONDS


class Demand(Struct, frozen=True):
    """What a service has to carry. Counts are of an hour, over all clients; ``handling_seconds`` is
    how long a data connection stands beside its bytes, ``rests_seconds`` how long a port rests."""

    clients: int
    files: float
    fetched: float
    listings: float
    transfer_seconds: float
    handling_seconds: float
    rests_seconds: float
    burst: int

    @property
    def kinds(self) -> tuple[ConnectionKind, ...]:
        """Listings and fetched files, after which the server closes first; files that are sent to it."""
        stands = self.transfer_seconds + self.handling_seconds
        return (
            ConnectionKind("listings", self.listings, self.handling_seconds, self.rests_seconds),
            ConnectionKind("files fetched", self.fetched, stands, self.rests_seconds),
            ConnectionKind("files sent", self.files - self.fetched, stands, 0),
        )

    @property
    def offered(self) -> float:
        """The whole load in erlang."""
        return sum(each.offered for each in self.kinds)

    @property
    def most_at_once(self) -> int:
        """The most ports that one client holds at a time when it does its hour's work in one go."""
        ends: list[float] = []
        most, now = 0, 0.0
        for step in islice(self._visit(), MOST_STEPS):
            ends = [each for each in ends if each > now]
            ends.append(now + step.held_seconds)
            most = max(most, len(ends))
            now += step.stands_seconds
        return most

    def _visit(self) -> Iterator[ConnectionKind]:
        """What one client does in turn: a listing before each file, the fetched ones first."""
        listing, fetched, sent = self.kinds
        left = {each: -int(-each.per_hour // self.clients) for each in self.kinds}
        while any(left.values()):
            for each in (listing, fetched if left[fetched] else sent):
                if left[each]:
                    left[each] -= 1
                    yield each


def ports_at_once(clients: int) -> int:
    """How many ports so many clients may hold that start at the same moment, where nothing more is known of their
    work than that each lists and fetches: one port while another of its own rests."""
    return clients * _VISIT.most_at_once


def demand_of(load: Load, handling: Duration) -> Demand:
    """The demand that a load describes; what it leaves out is taken on the cautious side: all files
    are fetched, each after a listing, all clients come at once, and ports rest as on Linux. Where no files are stated,
    those who come at once fetch one each (:func:`assumed` names what is taken so).

    Raises ValueError for what cannot be left out: how many come.
    """
    burst = load.client_count if load.burst is None else load.burst
    if burst is None:
        raise ValueError(
            "found no client_count and no burst; expected one: how many clients there are, or come at once"
        )
    sized_by_rate = load.typical_size is not None and load.rate is not None
    if sized_by_rate and load.transfer_seconds is None:
        raise ValueError(
            "found a rate of 0, which never ends a transfer; expected that of a typical client, such as 20 Mbit/s"
        )
    files = float(burst if load.files_per_hour is None else load.files_per_hour)
    return Demand(
        clients=burst if load.files_per_hour is None or load.client_count is None else load.client_count,
        files=files,
        fetched=files if load.fetched_per_hour is None else load.fetched_per_hour,
        listings=files if load.listings_per_hour is None else load.listings_per_hour,
        transfer_seconds=_VISIT.transfer_seconds if load.transfer_seconds is None else load.transfer_seconds,
        handling_seconds=handling.amount,
        rests_seconds=REST_OF_LINUX_SECONDS if load.rests is None else load.rests.amount,
        burst=burst,
    )


Assumed = Literal["one file each", "one second each"]
"""What a size is made from where the load does not state it: the files of an hour, or how long a transfer takes."""


def assumed(load: Load) -> tuple[Assumed, ...]:
    """What a size is made from that the load does not state."""
    files: tuple[Assumed, ...] = ("one file each",) if load.files_per_hour is None else ()
    return (*files, "one second each") if load.transfer_seconds is None else files


_VISIT = Demand(1, 1, 1, 1, 1.0, 1.0, REST_OF_LINUX_SECONDS, 1)
"""One client that lists and fetches a file."""


class Sizing(Struct, frozen=True):
    """The sizes that two rules ask for; the larger decides."""

    demand: Demand
    chance: float
    by_load: int
    by_burst: int

    @property
    def size(self) -> int:
        """So many ports satisfy both rules."""
        return max(self.by_load, self.by_burst)

    def lost(self, ports: int) -> float:
        """The share of data connections that find no port, spread over the hour."""
        return chance_of_none(ports, self.demand.offered)

    def lost_in_burst(self, ports: int) -> float:
        """The share of the worst burst's ports that are missing."""
        return max(0.0, 1 - ports / self.by_burst) if self.by_burst else 0.0


def sized(demand: Demand, chance: float) -> Sizing:
    """The sizes for a demand, with this chance to find no port in an hour's steady load.

    Raises ValueError for a demand or a chance that makes no sense.
    """
    if demand.clients < 1:
        raise ValueError(f"found {demand.clients} clients; expected at least 1")
    if demand.files + demand.listings <= 0:
        raise ValueError("found no files and no listings in an hour; expected some, or there is nothing to size")
    if demand.fetched > demand.files:
        raise ValueError(f"found {demand.fetched:g} files to fetch; expected at most the {demand.files:g} in all")
    if demand.handling_seconds <= 0:
        raise ValueError("found a data connection of 0 s; expected more, or there is no load")
    return Sizing(demand, chance, servers_for(demand.offered, chance), demand.burst * demand.most_at_once)


def chances(offered: float) -> Iterator[float]:
    """B(0), B(1), B(2), … at an offered load in erlang. Raises ValueError for a negative load."""
    if offered < 0:
        raise ValueError(f"found an offered load of {offered:g} erlang; expected 0 or more")
    inverse = 1.0
    yield 1.0
    for servers in count(1):
        # Past the largest float, the chance is 0 for every purpose.
        inverse = 1 + servers / offered * inverse if offered else float("inf")
        yield 1 / inverse


def chance_of_none(servers: int, offered: float) -> float:
    """The share of requests that find all of so many servers taken."""
    return next(islice(chances(offered), servers, None))


def servers_for(offered: float, chance: float) -> int:
    """The fewest servers with which at most this share of requests is lost.

    Raises ValueError for a chance that is not between 0 and 1, and for a load beyond all ports there are.
    """
    if not 0 < chance < 1:
        raise ValueError(f"found a chance of {chance:g}; expected one between 0 and 1, as in 0.1 %")
    for servers, lost in enumerate(islice(chances(offered), HIGHEST_PORT)):
        if lost <= chance:
            return servers
    raise ValueError(
        f"found a load of {offered:.0f} ports in use on average; expected at most the {HIGHEST_PORT} that there are"
    )


DYNAMIC = PortSet.of((49152, 65535))
"""Ports that are never registered to a service (RFC 6335, section 6)."""
USER, LOW = PortSet.of((10000, 49151)), PortSet.of((1024, 9999))
"""Ports that services are registered for (RFC 6335, section 6); the low ones are crowded with services that are
not registered, and are taken only where nothing else is left."""
ROUND = 100


class ClearRange(Struct, frozen=True):
    """A range, the part of the ports that it was taken from, and how many were left to choose from."""

    ports: PortSet
    among: Literal["dynamic", "user", "low"]
    clear: PortSet


def clear_range(size: int, taken: PortSet, registered: PortSet) -> ClearRange:
    """A range of so many ports, clear of what is taken, and of registered ports.

    The dynamic ports come first. Raises ValueError that names the largest range there is.
    """
    dynamic, user, low_ones = DYNAMIC - taken, USER - taken - registered, LOW - taken - registered
    for among, clear in (("dynamic", dynamic), ("user", user), ("low", low_ones)):
        for low, high in clear.spans:
            even = -(-low // ROUND) * ROUND
            start = even if even + size - 1 <= high else low
            if start + size - 1 <= high:
                return ClearRange(PortSet.of((start, start + size - 1)), among, clear)  # type: ignore[arg-type]
    gaps = (*dynamic.spans, *user.spans, *low_ones.spans)
    widest = PortSet.of(*sorted(gaps, key=lambda span: span[1] - span[0])[-1:])
    raise ValueError(
        f"found no {size} ports together that are clear of the system's own ports and of services; expected at most "
        f"{len(widest)}, as {widest} has: let ports rest for less time, spread the burst, or use two services"
    )


def taken_by(site: Site, except_for: str) -> PortSet:
    """Ports that a new range of one service must keep clear of: the system's own and other services'."""
    others = [each for each in site.services if each.name != except_for]
    taken = site.server.own_ports
    for each in others:
        taken = taken | listens_on(each)
    return taken


class Estimate(Struct, frozen=True):
    """The share lost, and an interval that holds the true one with 95 % confidence."""

    share: float
    low: float
    high: float
    arrivals: int
    lost: int


class SizeTried(Struct, frozen=True):
    """A size, and what the simulation gives for it."""

    ports: int
    estimate: Estimate


class Sized(Struct, frozen=True):
    """What two rules ask for, what the simulation gives, and which range to take. ``by_rest`` is the
    size for each time, in seconds, that a port may rest; ``assumed`` is what the load does not state, ``present`` the
    range of the site, if any."""

    title: str
    sizing: Sizing
    tried: tuple[SizeTried, ...]
    by_rest: tuple[tuple[float, int], ...]
    assumed: tuple[Assumed, ...]
    proposed: ClearRange
    present: PortSet
    local_ports: PortSet

    @property
    def keeps(self) -> bool:
        """Whether the present range is wide enough and clear of the system's own ports."""
        return len(self.present) >= self.sizing.size and not self.present & self.local_ports
