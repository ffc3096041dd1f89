"""The chance to find every port taken, by Erlang's loss formula.

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

from ..values.ports import HIGHEST_PORT


def chances(offered: float) -> Iterator[float]:
    """B(0), B(1), B(2), … at an offered load in erlang. Raises ValueError for a negative load."""
    if offered < 0:
        raise ValueError(f"an offered load of {offered:g} erlang makes no sense: it is 0 or more")
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
        raise ValueError(f"a chance of {chance:g} makes no sense here: it lies between 0 and 1, as 0.1 %")
    for servers, lost in enumerate(islice(chances(offered), HIGHEST_PORT)):
        if lost <= chance:
            return servers
    raise ValueError(f"a load of {offered:.0f} ports in use on average is more than the {HIGHEST_PORT} that there are")
