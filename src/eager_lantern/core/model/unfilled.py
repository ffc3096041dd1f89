"""What of a site somebody has still to fill in: the places of its question marks."""

from collections.abc import Iterator
from typing import Any

from msgspec import Struct

from ..values.addresses import OUTSIDE_NOT_KNOWN, SENDER_NOT_KNOWN, Address, Addresses, AddressSet
from ..values.text_value import SitePath
from .entries import Destination

_OPEN = AddressSet.single(OUTSIDE_NOT_KNOWN, SENDER_NOT_KNOWN)


def open_places(part: Any, place: SitePath = ()) -> Iterator[SitePath]:
    """The places below a part of a site, in the order of the file, where a question mark stands for an address."""
    if isinstance(part, Struct):
        for name, key in zip(part.__struct_fields__, part.__struct_encode_fields__, strict=True):
            yield from open_places(getattr(part, name), (*place, key))
    elif isinstance(part, tuple):
        for i, each in enumerate(part):
            yield from open_places(each, (*place, i))
    elif _is_open(part):
        yield place


def _is_open(value: Any) -> bool:
    match value:
        case Address():
            return value.number in _OPEN
        case Addresses():
            return any(each.number in _OPEN for each in value.each)
        case Destination():
            return _is_open(value.addresses)
        case AddressSet():
            return bool(value) and value <= _OPEN
        case _:
            return False
