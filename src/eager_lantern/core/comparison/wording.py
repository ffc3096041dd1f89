"""Edits in words: what to do, as somebody types it."""

from typing import Any

from msgspec import to_builtins

from ..network.topology import Topology
from ..values.addresses import FAMILIES, AddressSet
from ..values.phrases import quoted
from .access import Reached
from .edits import PLACES, Edit

FEW_OTHERS = 3
"""Spans of addresses that somebody may be told not to be among."""
_ONE = {
    "networks": "network", "gateways": "device", "services": "service", "groups": "group", "accounts": "account",
    "habits": "habits", "clients": "client", "names": "published name", "forwards": "forward", "rules": "rule",
    "pairs": "pair of addresses", "routes": "route", "folders": "folder", "promises": "promise",
}  # fmt: skip


def senders(topology: Topology, reached: Reached) -> str:
    """``anybody on internet``, or which addresses of it."""
    everybody = topology.everybody(reached.network)
    if reached.sources in (everybody, everybody.of_family(4), everybody.of_family(6)):
        return f"anybody on {reached.network}"
    others = AddressSet()
    for family in FAMILIES:
        if reached.sources.of_family(family):
            others = others | (everybody - reached.sources).of_family(family)
    if len(others.spans) <= FEW_OTHERS < len(reached.sources.spans):
        return f"anybody on {reached.network} but {others}"
    return f"{reached.sources} on {reached.network}"


def action(edit: Edit) -> str:
    """``change forward “data”: ports 61200-61327 → 61200-61455``."""
    path = edit.path[2:] if edit.path[0] in PLACES and len(edit.path) > 1 else edit.path
    if not edit.entry:
        return _key(".".join(path), edit.old, edit.new)
    *inside, section = path
    name = quoted(getattr(edit.old or edit.new, "name", "")).rstrip()
    what = " ".join(each for each in (_ONE[section], name, f"of {'.'.join(inside)}" if inside else "") if each)
    if edit.old is not None and edit.new is not None:
        return f"change {what}: {'; '.join(_changes(edit.old, edit.new))}"
    return f"add {what}: {told(edit.new)}" if edit.old is None else f"take out {what}: {told(edit.old)}"


def _key(key: str, old: Any, new: Any) -> str:
    if old is None:
        return f"set {key} to {told(new)}"
    return f"take out {key} ({told(old)})" if new is None else f"set {key} from {told(old)} to {told(new)}"


def _changes(old: Any, new: Any) -> list[str]:
    """The keys in which two entries differ; one that is left out has its default."""
    a, b = _plain(old), _plain(new)
    keys = [key for key in dict.fromkeys((*a, *b)) if a.get(key) != b.get(key)]
    return [f"{key} {_written(a.get(key))} → {_written(b.get(key))}" for key in keys]


def told(value: Any) -> str:
    """A value of the site file on one line."""
    return _written(_plain(value))


def _plain(value: Any) -> Any:
    return to_builtins(value, enc_hook=str)


def _written(value: Any) -> str:
    if isinstance(value, dict):
        return ", ".join(f"{key} {_written(each)}" for key, each in value.items() if key != "name")
    if isinstance(value, (list, tuple)):
        return ", ".join(map(_written, value)) or "nothing"
    if isinstance(value, bool):
        return "true" if value else "false"
    return "its default" if value is None else str(value)
