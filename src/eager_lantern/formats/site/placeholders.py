"""Addresses that are not known yet: a ``?`` in the file.

Who plans a server often does not know which address the line will get, or from where the administrator will come. A
made-up address in its place ends up in a rule file and locks somebody out. So a ``?`` may stand where an address from
outside is meant, and is read as one that nobody has (:data:`..core.values.addresses.OUTSIDE_NOT_KNOWN`,
:data:`..core.values.addresses.SENDER_NOT_KNOWN`); what depends on it is unknown.
"""

from collections.abc import Sequence
from typing import Any

from ...core.values.addresses import OUTSIDE_NOT_KNOWN, SENDER_NOT_KNOWN, UNKNOWN_TEXT, Address
from ...core.values.text_value import SitePath

_ANY = "*"
_PLACES: tuple[tuple[SitePath, Address], ...] = (
    (("gateways", _ANY, "outside", "address"), OUTSIDE_NOT_KNOWN),
    (("gateways", _ANY, "pairs", _ANY, "outside"), OUTSIDE_NOT_KNOWN),
    (("gateways", _ANY, "forwards", _ANY, "outside"), OUTSIDE_NOT_KNOWN),
    (("gateways", _ANY, "forwards", _ANY, "from"), SENDER_NOT_KNOWN),
    (("gateways", _ANY, "filter", _ANY, "rules", _ANY, "from"), SENDER_NOT_KNOWN),
    (("server", "filter", _ANY, "rules", _ANY, "from"), SENDER_NOT_KNOWN),
    (("services", _ANY, "passive", "announce"), OUTSIDE_NOT_KNOWN),
    (("clients", _ANY, "address"), SENDER_NOT_KNOWN),
    (("clients", _ANY, "reaches"), OUTSIDE_NOT_KNOWN),
    (("names", _ANY, "addresses"), OUTSIDE_NOT_KNOWN),
)
"""Where a ``?`` may stand, and the address that it is read as."""


def with_placeholders(data: Any) -> Any:
    """What a file holds, with the address of nobody for each ``?`` in its place; the rest is the same."""
    for place, address in _PLACES:
        data = _replaced(data, place, address.digits)
    return data


def _replaced(value: Any, place: Sequence[str | int], address: str) -> Any:
    if not place:
        return _filled(value, address)
    first, *rest = place
    if isinstance(value, list) and first == _ANY:
        parts = [_replaced(each, rest, address) for each in value]
        return value if all(a is b for a, b in zip(parts, value, strict=True)) else parts
    if isinstance(value, dict):
        keys = list(value) if first == _ANY else [first] if first in value else []
        found = {key: _replaced(value[key], rest, address) for key in keys}
        return value if all(found[key] is value[key] for key in keys) else value | found
    return value


def _filled(value: Any, address: str) -> Any:
    """An address in place of a question mark, alone or before a port."""
    if isinstance(value, str) and (value == UNKNOWN_TEXT or value.startswith(f"{UNKNOWN_TEXT}:")):
        return address + value.removeprefix(UNKNOWN_TEXT)
    return value
