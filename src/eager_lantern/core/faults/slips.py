"""Slips of the hand in a range of ports: a part of it, a digit off, or the whole of it elsewhere.

>>> [str(each) for each in cut(PortSet.parse("61200-61299"), PortSet.parse("61210"))[:2]]
['61200-61204', '61205-61299']
>>> [str(each) for each in digit_off(PortSet.parse("21"))]
['12', '20', '22', '11', '31']
"""

from collections.abc import Iterator
from itertools import pairwise

from ..values.ports import HIGHEST_PORT, PortSet

_QUARTERS = 4
MOVED_BY = (100, -100, 1000)


def cut(ports: PortSet, seen: PortSet) -> tuple[PortSet, ...]:
    """The lower and the upper parts of a set, ending halfway between ports that are known and at each quarter."""
    listed = list(ports)
    at = {len(listed) * i // _QUARTERS for i in range(1, _QUARTERS)}
    marks = [0, *(i for i, port in enumerate(listed) if port in seen), len(listed)]
    at |= {(low + high + 1) // 2 for low, high in pairwise(marks)}
    places = sorted(each for each in at if 0 < each < len(listed))
    return tuple(part for i in places for part in (_of(listed[:i]), _of(listed[i:])))


def _of(ports: list[int]) -> PortSet:
    return PortSet.of(*((each, each) for each in ports))


def digit_off(ports: PortSet) -> tuple[PortSet, ...]:
    """What a set becomes by one wrong digit at one of its ends; of a single port, by one in it."""
    low, high = ports.lowest, ports.highest
    if low == high:
        found = [PortSet.single(each) for each in _miswritten(low)]
    else:
        found = [PortSet.of((each, high)) for each in _miswritten(low) if each <= high]
        found += [PortSet.of((low, each)) for each in _miswritten(high) if each >= low]
    return tuple(dict.fromkeys(each for each in found if each != ports))


def moved(ports: PortSet) -> tuple[PortSet, ...]:
    """The whole of a set some way off."""
    return tuple(ports.shift(by) for by in MOVED_BY if ports.lowest + by > 0 and ports.highest + by <= HIGHEST_PORT)


def _miswritten(port: int) -> Iterator[int]:
    """A port with two neighbouring digits swapped, then with one digit one too high or low."""
    digits = str(port)
    texts = [f"{digits[:i]}{digits[i + 1]}{digits[i]}{digits[i + 2 :]}" for i in range(len(digits) - 1)]
    numbers = [int(each) for each in texts if each[0] != "0"]
    numbers += [port + sign * 10**i for i in range(min(3, len(digits))) for sign in (-1, 1)]
    yield from (each for each in dict.fromkeys(numbers) if 0 < each <= HIGHEST_PORT and each != port)
