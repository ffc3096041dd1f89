"""A filter of 10,000 random rules: exact for all ports and every source, beside plain evaluation.

The plain way is rule by rule for one packet; what it would take for one packet a port from a
single source is measured on a sample and scaled. The exact answer is compared with it on
10,000 sampled packets. Prefixes are /12 to /32 and /20 to /64,
as address lists have them. The growth from 1,000 to 100,000 rules is printed as an exponent.
Exit code 1 when an answer differs, the gain is below 20 or the exponent 1.4 or more (1.25 to 1.31 were measured of the
same code; what grows with the square has 2).
"""

import math
import random
import sys
import time
from collections.abc import Sequence
from ipaddress import ip_address, ip_network

from eager_lantern.core.network.filters import Action, Match, Ruling, Table, rulings
from eager_lantern.core.network.flow import Flow
from eager_lantern.core.values.addresses import EVERY_ADDRESS, Address, AddressSet
from eager_lantern.core.values.ports import EVERY_PORT, PortSet

SEED, RULES, SAMPLE, LEAST_GAIN, MOST_EXPONENT = 61, 10_000, 10_000, 20, 1.4
ACTIONS: list[Action] = ["allow", "deny", "refuse"]
TARGETS = {4: Address.parse("198.51.100.61"), 6: Address.parse("2001:db8::61")}


def random_table(rules: int, chance: random.Random) -> Table:
    matches = []
    for i in range(rules):
        if chance.random() < 0.5:
            network = ip_network((chance.getrandbits(32), chance.randint(12, 32)), strict=False)
        else:
            network = ip_network((chance.getrandbits(128), chance.randint(20, 64)), strict=False)
        low = chance.randint(1, 65535)
        ports = PortSet.of((low, min(65535, low + chance.choice([0, 0, 9, 255, 20_000]))))
        action: Action = chance.choice(ACTIONS)
        matches.append(Match(action, "any", ports, AddressSet.parse(str(network)), None, None, ("rules", i), str(i)))
    return Table(tuple(matches), "deny", ("default",))


def exactly(table: Table) -> list[Ruling]:
    return [
        ruling
        for family in (4, 6)
        for ruling in rulings(
            table,
            Flow("tcp", EVERY_ADDRESS.of_family(family), EVERY_PORT, TARGETS[family], EVERY_PORT),
        )
    ]


def plainly(rules: Sequence[tuple[int, int, int, int, str]], source: int, port: int) -> str:
    for low, high, first, last, action in rules:
        if low <= source <= high and first <= port <= last:
            return action
    return "deny"


def sampled(table: Table, chance: random.Random, packets: int) -> list[tuple[int, int]]:
    """Packets of which half come from inside some rule, where the rules matter."""
    found = []
    for _ in range(packets):
        match = chance.choice(table.matches)
        assert match.sources is not None
        low, high = match.sources.spans[0]
        anywhere = Address.parse(str(ip_address(chance.getrandbits(32)))).number
        source = chance.randint(low, high) if chance.random() < 0.5 else anywhere
        found.append((source, chance.randint(1, 65535)))
    return found


def answers(found: Sequence[Ruling], packets: Sequence[tuple[int, int]]) -> list[str]:
    """The exact answer to each packet: in order of sources, among the parts that hold the source."""
    starts = sorted(
        ((low, high, each) for each in found for low, high in each.flow.sources.spans), key=lambda each: each[0]
    )
    told, nearby, at = {}, [], 0
    for source, port in sorted(packets):
        while at < len(starts) and starts[at][0] <= source:
            nearby.append(starts[at])
            at += 1
        nearby = [each for each in nearby if each[1] >= source]
        told[source, port] = next(each.action for _, _, each in nearby if port in each.flow.ports)
    return [told[each] for each in packets]


def timed(table: Table) -> tuple[float, list[Ruling]]:
    started = time.perf_counter()
    found = exactly(table)
    return time.perf_counter() - started, found


def main() -> int:
    chance = random.Random(SEED)
    table = random_table(RULES, chance)
    seconds, found = timed(table)
    plain = [
        (*each.sources.spans[0], each.ports.lowest, each.ports.highest, each.action)
        for each in table.matches
        if each.sources
    ]
    packets = sampled(table, chance, SAMPLE)
    differing = sum(plainly(plain, *each) != told for each, told in zip(packets, answers(found, packets), strict=True))
    source = packets[0][0]
    some_ports = chance.sample(range(1, 65536), 300)
    started = time.perf_counter()
    for port in some_ports:
        plainly(plain, source, port)
    scaled = (time.perf_counter() - started) * 65_536 / len(some_ports)
    small, large = (min(timed(random_table(n, chance))[0] for _ in range(r)) for n, r in ((1_000, 9), (100_000, 2)))
    exponent = math.log(large / small) / math.log(100)
    gain = scaled / seconds
    print(f"exact, all ports, every source   {seconds:8.2f} s   ({RULES} rules, {len(found)} parts)")
    print(f"plain, one packet a port, scaled {scaled:8.2f} s   (a single source)")
    print(f"gain                             {gain:8.1f}     (at least {LEAST_GAIN})")
    print(f"answers that differ              {differing:8}     (of {len(packets)} packets)")
    print(
        f"1,000 to 100,000 rules           {small:8.3f} to {large:.2f} s: exponent {exponent:.2f}"
        f" (below {MOST_EXPONENT})"
    )
    return int(differing > 0 or gain < LEAST_GAIN or exponent >= MOST_EXPONENT)


if __name__ == "__main__":
    sys.exit(main())
