"""How many data ports a service needs: by the load of an hour, and by the worst burst.

Every listing and every transfer takes a port of its own (RFC 959, section 3.3). It is held
while the data connection stands, and where the server closes first, which it does after what
it sends (section 3.4), it may rest for the TIME-WAIT of the connection: four minutes by RFC
9293, section 3.4.1 (twice a maximum segment lifetime of two), less on real systems.
"""

from collections.abc import Iterator
from itertools import islice

from msgspec import Struct

from ..model.site import Load
from ..values.quantities import Duration
from .erlang import chance_of_none, servers_for

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
    are fetched, each after a listing, all clients come at once, and ports rest as on Linux.

    Raises ValueError for what cannot be left out.
    """
    for key in ("client_count", "files_per_hour", "typical_size", "rate"):
        if getattr(load, key) is None:
            raise ValueError(f"{key} is missing, without which there is no load to size for")
    if load.transfer_seconds is None:
        raise ValueError("a rate of 0 never ends a transfer: write the rate of a typical client, such as 20 Mbit/s")
    assert load.files_per_hour is not None
    assert load.client_count is not None
    return Demand(
        clients=load.client_count,
        files=load.files_per_hour,
        fetched=load.files_per_hour if load.fetched_per_hour is None else load.fetched_per_hour,
        listings=load.files_per_hour if load.listings_per_hour is None else load.listings_per_hour,
        transfer_seconds=load.transfer_seconds,
        handling_seconds=handling.amount,
        rests_seconds=REST_OF_LINUX_SECONDS if load.rests is None else load.rests.amount,
        burst=load.client_count if load.burst is None else load.burst,
    )


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
        raise ValueError(f"{demand.clients} clients make no load: it takes at least 1")
    if demand.files + demand.listings <= 0:
        raise ValueError("no files and no listings in an hour: there is nothing to size")
    if demand.fetched > demand.files:
        raise ValueError(f"{demand.fetched:g} files are fetched of {demand.files:g} in all: at most all of them can be")
    if demand.handling_seconds <= 0:
        raise ValueError("a data connection that stands for no time makes no load: it takes more than 0 s")
    return Sizing(demand, chance, servers_for(demand.offered, chance), demand.burst * demand.most_at_once)
