"""Data connections played through, one after the other: how many find every port taken.

The formula's answer found in another way: arrivals at random (a Poisson process), file sizes
scattered exponentially about the typical one, ports that stay taken while a connection stands
and rests.

Theory: batch means
===================
The share lost of n connections is easily counted; how far it may be off is not. Losses come in clusters: the one that
finds every port taken is followed by others, since no port has become free. So the n results are no n independent
tries, and the textbook's standard error of a share is too small, the more so the busier the ports.

Cut into a few long stretches (batches), each much longer than a cluster, the means of the stretches are nearly
independent, and nearly normal as means of many. Their own scatter then gives the error of the whole: with b batches of
standard deviation s, half the interval is t s / sqrt(b), with Student's t of b - 1 degrees of freedom (A. M. Law,
“Simulation Modeling and Analysis”, section 9.5.3). Twenty batches are few enough to be long and many enough for t to be
near its limit. A first tenth is played and not counted: it starts with every port free, as no busy hour does.

Where nothing was lost, there is no scatter to measure, and an error of zero would be a lie: in n tries without a loss
the share is with 95 % confidence below 3 / n, since (1 - p)^n falls below 5 % there (the rule of three).

A hundred losses in ten thousand, scattered and in one cluster: the same share, known much worse.

>>> scattered = np.zeros(10_000, dtype=np.int8)
>>> scattered[::100] = 1
>>> clustered = np.sort(scattered)
>>> [round(each, 4) for each in (estimated(scattered).low, estimated(scattered).share, estimated(scattered).high)]
[0.01, 0.01, 0.01]
>>> [round(each, 4) for each in (estimated(clustered).low, estimated(clustered).share, estimated(clustered).high)]
[0.0, 0.01, 0.0309]
>>> estimated(np.zeros(10_000, dtype=np.int8)).high
0.0003
"""

import heapq

import numpy as np

from .demand import HOUR_SECONDS, Demand, Estimate

BATCHES = 20
STUDENT_95 = 2.0930240544083087
"""The quantile of Student's t with 19 degrees of freedom, one less than batches, that 95 % lie within."""
Losses = np.ndarray[tuple[int], np.dtype[np.int8]]


def simulated(demand: Demand, ports: int, seed: int, arrivals: int) -> Estimate:
    """Play so many data connections through, after a tenth as many that only fill the ports."""
    warm = arrivals // 10
    return estimated(_losses(*_arrivals(demand, seed, warm + arrivals), ports)[warm:])


def estimated(lost: Losses, quantile: float = STUDENT_95) -> Estimate:
    """The share lost of connections in their order, 1 for each that found no port, and its interval: so
    many standard errors of the batches' mean to either side."""
    count, arrivals = int(lost.sum()), len(lost)
    if not count:  # nothing seen in n tries: with 95 % confidence less than 3 in n (the rule of three)
        return Estimate(0.0, 0.0, 3 / arrivals, arrivals, 0)
    means = np.array([batch.mean() for batch in np.array_split(lost, BATCHES)])
    half = float(quantile * means.std(ddof=1) / BATCHES**0.5)
    share = count / arrivals
    return Estimate(share, max(0.0, share - half), min(1.0, share + half), arrivals, count)


def _arrivals(demand: Demand, seed: int, count: int) -> tuple[list[float], list[float]]:
    """When each connection comes and for how long it takes its port, in seconds."""
    chance = np.random.default_rng(seed)
    rates = np.array([each.per_hour for each in demand.kinds]) / HOUR_SECONDS
    comes = np.cumsum(chance.exponential(1 / rates.sum(), count))
    kinds = chance.choice(len(rates), size=count, p=rates / rates.sum())
    fixed = np.array([demand.handling_seconds + each.rests_seconds for each in demand.kinds])
    moves = np.array([each.stands_seconds - demand.handling_seconds for each in demand.kinds])
    takes = fixed[kinds] + moves[kinds] * chance.exponential(1, count)
    return comes.tolist(), takes.tolist()


def _losses(comes: list[float], takes: list[float], ports: int) -> Losses:
    """For each connection, 1 where it found no port."""
    taken: list[float] = []
    lost = np.zeros(len(comes), dtype=np.int8)
    for i, (start, holds) in enumerate(zip(comes, takes, strict=True)):
        while taken and taken[0] <= start:
            heapq.heappop(taken)
        if len(taken) < ports:
            heapq.heappush(taken, start + holds)
        else:
            lost[i] = 1
    return lost
