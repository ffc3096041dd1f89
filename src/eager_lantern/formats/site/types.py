"""What does not fit the types of the model: every fault, with its place and what would be right.

A validation that stops at the first fault costs its user a round for each; so the data is gone through once
more, type by type, and each part that does not fit is told.
"""

import re
from collections.abc import Iterable, Iterator
from types import NoneType, UnionType
from typing import Annotated, Any, Literal, Union, get_args, get_origin

import msgspec

from ...core.model.entries import BlockedPorts, Destination, FolderMode, Port, Typed
from ...core.model.problem import did_you_mean
from ...core.model.site import Site
from ...core.values.addresses import Address, Addresses, AddressSet, Prefix96
from ...core.values.ports import PortSet
from ...core.values.quantities import Duration, Rate, Size
from ...core.values.text_value import SitePath

_TEXT_TYPES = (
    PortSet,
    AddressSet,
    Address,
    Addresses,
    Port,
    BlockedPorts,
    FolderMode,
    Destination,
    Typed,
    Duration,
    Size,
    Rate,
    Prefix96,
)


def from_text(kind: type, value: object) -> object:
    """Build one of the core's value types from what YAML has in its place."""
    if type(value) in (str, int):
        text = str(value)
    else:
        parts = value if isinstance(value, list) else [value]
        if not parts or any(isinstance(each, (list, dict, bool)) or each is None for each in parts):
            raise ValueError(f"found {_found_text(value)}; expected {meant(kind)}")
        text = ", ".join(str(each) for each in parts)
    if not text.strip():
        raise ValueError(f"found nothing; expected {meant(kind)}")
    return kind.parse(text)  # type: ignore[attr-defined]


def meant(kind: object) -> str:
    """What would be right, by example."""
    examples: dict[object, str] = {
        PortSet: "a port set (21, 61200-61455 or 20-21, 990)",
        BlockedPorts: "a port set or none",
        Port: "one port (21)",
        FolderMode: "a mode (750)",
        Address: "one address (10.61.4.20)",
        Addresses: "an address (10.61.4.20), or a list of them",
        AddressSet: "a network (10.61.4.0/24) or an address",
        Destination: "an address or a name",
        Typed: "an address or a name, with a port where it is another outside (tides.saltmarsh.example:2121)",
        Duration: f"a duration ({Duration.example})",
        Size: f"a size ({Size.example})",
        Prefix96: "an IPv6 network of /96 (64:ff9b::/96)",
        Rate: f"a rate ({Rate.example})",
        bool: "true or false",
        int: "a whole number",
        str: "text",
    }
    return examples.get(kind, "something else")


def _found_text(value: object) -> str:
    if value is None:
        return "nothing"
    if isinstance(value, dict):
        return "a mapping"
    if isinstance(value, list):
        return "a list" if value else "an empty list"
    if isinstance(value, bool):
        return str(value).lower()
    return f"“{str(value)[:60]}”"


def faults(kind: object, value: object, place: SitePath) -> Iterator[tuple[SitePath, str]]:
    """Everything in a value that does not fit its type, each with its place."""
    if value is None and get_origin(kind) in (Union, UnionType) and NoneType in get_args(kind):
        return
    kind = plain_type(kind)
    if get_origin(kind) in (Union, UnionType):
        yield from _choice_faults(kind, value, place)
    elif isinstance(kind, type) and issubclass(kind, msgspec.Struct):
        yield from _struct_faults(kind, value, place)
    elif get_origin(kind) is tuple:
        if not isinstance(value, list):
            yield (
                place,
                f"found {_found_text(value)}; expected a list: {_last_key(place)}: [{_item(kind, value)}]",
            )
            return
        for i, each in enumerate(value):
            yield from faults(get_args(kind)[0], each, (*place, i))
    else:
        yield from _leaf_faults(kind, value, place)


def _last_key(place: SitePath) -> str:
    return next((str(part) for part in reversed(place) if isinstance(part, str)), "")


def _item(kind: object, value: object) -> str:
    item = get_args(kind)[0]
    mapping = isinstance(item, type) and issubclass(item, msgspec.Struct)
    return str(value) if isinstance(value, (str, int)) and not mapping else "…"


def plain_type(kind: Any) -> Any:
    """The type without “or None”."""
    if get_origin(kind) in (Union, UnionType) and NoneType in get_args(kind):
        return Union[tuple(each for each in get_args(kind) if each is not NoneType)]  # noqa: UP007  (made of a tuple)
    return kind


def mapping_in(kind: Any) -> type[msgspec.Struct] | None:
    """The mapping that a key holds, alone or in a list."""
    kind = plain_type(kind)
    if get_origin(kind) is tuple:
        kind = plain_type(get_args(kind)[0])
    return kind if isinstance(kind, type) and issubclass(kind, msgspec.Struct) else None


def key_at(place: SitePath) -> str:
    """The key that a place of a site is at, as far as there is one of that name: ``gateways.forwards.ports``."""
    keys: list[str] = []
    kind: Any = Site
    for part in place:
        if isinstance(part, int):
            continue
        fields = {each.encode_name: each.type for each in msgspec.structs.fields(kind)} if kind else {}
        if part not in fields:
            break
        keys.append(part)
        kind = mapping_in(fields[part])
    return ".".join(keys)


def _choice_faults(kind: object, value: object, place: SitePath) -> Iterator[tuple[SitePath, str]]:
    """A key that is true or false, or a word for what lies between."""
    words = [word for each in get_args(kind) for word in get_args(each)]
    if not isinstance(value, bool) and value not in words:
        yield place, f"{_last_key(place)}: found {_found_text(value)}; expected true, false or {' or '.join(words)}"


def _struct_faults(kind: type[msgspec.Struct], value: object, place: SitePath) -> Iterator[tuple[SitePath, str]]:
    fields = {each.encode_name: each for each in msgspec.structs.fields(kind)}
    if not isinstance(value, dict):
        if not place:
            # What stands there may be any file of this machine, which nobody wants to read in a message.
            yield place, "found no site file; expected a mapping that starts with: lantern: 1"
        else:
            meant = _as_mapping(fields.values(), value, _last_key(place)) or f" with the keys {', '.join(fields)}"
            yield place, f"found {_found_text(value)}; expected a mapping{meant}"
        return
    for key in value:
        if key not in fields:
            yield (*place, key), _unknown_key(key, value[key], fields)
    for name, each in fields.items():
        if name in value:
            yield from faults(each.type, value[name], (*place, name))
        elif each.required:
            yield place, f"found no key “{name}”; expected one{_expected_kind(each.type)}"


def _as_mapping(fields: Iterable[Any], value: object, key: str) -> str:
    """The mapping that somebody meant who wrote the value of one key alone; empty where it could be any text."""
    if isinstance(value, (list, bool)) or value is None or not key:
        return ""
    for each in fields:
        kind = plain_type(each.type)
        is_text = get_origin(kind) is Annotated or kind is str
        if not is_text and not any(faults(each.type, value, ())):
            return f": {key}: {{{each.encode_name}: {str(value)[:60]}}}"
    return ""


_OTHER_KEYS = {
    "routers": "gateways", "firewalls": "gateways", "devices": "gateways", "hosts": "clients", "users": "accounts",
    "dns": "names", "tests": "promises", "rules": "filter", "ip": "address", "host": "server",
    "port_forwards": "forwards", "nat": "translate",
}  # fmt: skip
"""What somebody may call a key that has another name here."""


_OTHER_WORDS = {
    "ftps": "ftp, with tls: {mode: explicit} or {mode: implicit}", "ftpes": "ftp, with tls: {mode: explicit}",
    "ssh": "sftp", "scp": "sftp", "tls": "explicit or implicit", "ssl": "explicit or implicit", "off": "none",
    "nat": "outward", "masquerade": "outward", "snat": "outward", "1:1": "one-to-one", "drop": "deny",
    "block": "deny", "reject": "refuse", "accept": "allow", "permit": "allow", "pass": "allow",
    "dhcp": "dynamic, or reserved where it always gives the same address", "fixed": "static",
    "pasv": "passive", "port": "active", "open": "works", "closed": "shut", "both": "any",
}  # fmt: skip
"""What somebody may write for a choice that has another word here."""


def _unknown_key(key: str, value: object, fields: Iterable[str]) -> str:
    if value is None and re.fullmatch(r"[0-9]{1,5}(\s*-\s*[0-9]{1,5})?", key):
        return (
            f'found “{key}” as a key; expected quotes around a list of ports between braces, as in ports: "21, {key}"'
        )
    if value is None and (joined := re.fullmatch(r"([a-z_]+):(\S.*)", key)) and joined[1] in fields:
        return f"found no space after the colon; expected {joined[1]}: {joined[2][:40]}"
    other = _OTHER_KEYS.get(key.lower())
    if other is not None and other in fields:
        return f"found the key “{key}”; expected “{other}”"
    return f"found the key “{key}”; expected one that is known here: {did_you_mean(key, fields)}"


def _expected_kind(kind: object) -> str:
    if get_origin(kind) is Literal:
        return f", with {_choice(kind)}"
    expected = meant(get_args(kind)[0] if get_origin(kind) is Annotated else kind)
    return "" if expected in ("something else", "text") else f", with {expected}"


def _choice(kind: object) -> str:
    *most, last = map(str, get_args(kind))
    return f"{', '.join(most)} or {last}" if most else last


def _meant_word(kind: object, value: object) -> str:
    """Which of the choices somebody means by another word."""
    word, choices = str(value).strip().lower(), list(map(str, get_args(kind)))
    if word in choices:
        return word
    other = _OTHER_WORDS.get(word, "")
    return other if any(each in other for each in choices) else ""


def _leaf_faults(kind: object, value: object, place: SitePath) -> Iterator[tuple[SitePath, str]]:
    try:
        msgspec.convert(value, kind, dec_hook=from_text)
    except msgspec.ValidationError as error:
        yield place, f"{_last_key(place)}: {_leaf_message(kind, value, str(error))}"


def _leaf_message(kind: object, value: object, error: str) -> str:
    if get_origin(kind) is Literal:
        word = _meant_word(kind, value)
        return f"found {_found_text(value)}; expected {_choice(kind)}{f'; meant is: {word}' if word else ''}"
    if kind in _TEXT_TYPES:
        return error
    base = get_args(kind)[0] if get_origin(kind) is Annotated else kind
    if base is str and isinstance(value, str):
        return (
            f"found {_found_text(value)}; expected 1 to 80 characters, "
            "with no space at either end and no control characters"
        )
    if base is str and isinstance(value, (int, bool)):
        return f"found {_found_text(value)}; expected text: put it in quotes"
    if base is int and isinstance(value, int) and not isinstance(value, bool):
        bounds = next(each for each in get_args(kind)[1:] if isinstance(each, msgspec.Meta))
        return f"found {_found_text(value)}; expected {bounds.ge} to {bounds.le}"
    return f"found {_found_text(value)}; expected {meant(base)}"
