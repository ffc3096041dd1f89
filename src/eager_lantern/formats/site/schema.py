"""The site file's JSON Schema (2020-12), made from the very types that read it.

What cannot be said in a schema (that names refer to something, that addresses lie inside their
networks) remains for `check`.
"""

from types import NoneType, UnionType
from typing import Annotated, Any, Literal, Union, cast, get_args, get_origin

import msgspec

from ...core.model.entries import BlockedPorts, Destination, FolderMode, Port, Typed
from ...core.model.site import Site
from ...core.values.addresses import Address, Addresses, AddressSet, Prefix96
from ...core.values.ports import HIGHEST_PORT, LOWEST_PORT, PortSet
from ...core.values.quantities import Duration, Quantity, Rate, Size
from ..shipped import shipped_text
from .yaml_tree import YamlTree

DIALECT = "https://json-schema.org/draft/2020-12/schema"
Schema = dict[str, Any]

_PLAIN: dict[type, str] = {bool: "boolean", int: "integer", str: "string", NoneType: "null"}
_PORT = r"[0-9]{1,5}"
_PORTS = rf"\s*{_PORT}\s*(-\s*{_PORT}\s*)?(,\s*{_PORT}\s*(-\s*{_PORT}\s*)?)*"
_PORT_NUMBER: Schema = {"type": "integer", "minimum": LOWEST_PORT, "maximum": HIGHEST_PORT}
_ADDRESS = r"\s*(\?|[0-9]{1,3}(\.[0-9]{1,3}){3}|[0-9A-Fa-f:]*:[0-9A-Fa-f:.]*)"
_PREFIX = rf"{_ADDRESS}(\s*/\s*[0-9]{{1,3}})?(\s*-{_ADDRESS})?\s*"


def site_schema() -> Schema:
    """The whole schema; each key with its description."""
    words = cast(dict[str, dict[str, str]], YamlTree("keys.yaml", shipped_text("keys.yaml")).data)
    parts: dict[str, Schema] = {}
    reference = _schema(Site, parts, words)
    return {"$schema": DIALECT, "title": "Eager Lantern site file", **reference, "$defs": parts}


def result_schema(kind: type[msgspec.Struct]) -> Schema:
    """The schema of a result, from the type that writes it."""
    found: Schema = msgspec.json.schema(kind, schema_hook=lambda kind: {"type": "string"})
    return {"$schema": DIALECT, **found}


def _schema(kind: Any, parts: dict[str, Schema], words: dict[str, dict[str, str]]) -> Schema:
    """The schema of a type; the mappings that it is made of are added to ``parts``."""
    origin, inside = get_origin(kind), get_args(kind)
    if origin is Annotated:
        return {**_schema(inside[0], parts, words), **_bounds(inside[1])}
    if origin is Literal:
        return {"enum": list(inside)}
    if origin is tuple:
        return {"type": "array", "items": _schema(inside[0], parts, words)}
    if origin in (Union, UnionType):
        return {"anyOf": [_schema(each, parts, words) for each in inside]}
    if issubclass(kind, msgspec.Struct):
        return _mapping(kind, parts, words)
    return {"type": _PLAIN[kind]} if kind in _PLAIN else _of_text(kind)


def _mapping(kind: type[msgspec.Struct], parts: dict[str, Schema], words: dict[str, dict[str, str]]) -> Schema:
    name = kind.__name__
    if name not in parts:
        parts[name] = {}
        fields = msgspec.structs.fields(kind)
        parts[name] = {
            "description": words[name]["self"],
            "type": "object",
            "properties": {
                each.encode_name: {
                    "description": words[name][each.encode_name],
                    **_schema(each.type, parts, words),
                    **_default_schema(each.default),
                }
                for each in fields
            },
            "required": [each.encode_name for each in fields if each.required],
            "additionalProperties": False,
        }
    return {"$ref": f"#/$defs/{name}"}


def _bounds(meta: msgspec.Meta) -> Schema:
    named = {"minimum": meta.ge, "maximum": meta.le, "minLength": meta.min_length, "maxLength": meta.max_length}
    pattern = meta.pattern and meta.pattern.replace(r"\Z", "$")  # as ECMA-262 ends a pattern, which JSON Schema uses
    return {key: value for key, value in {**named, "pattern": pattern}.items() if value is not None}


def _default_schema(value: Any) -> Schema:
    """The default where it is a plain word or number, or a value type that writes itself as one."""
    if isinstance(value, PortSet | Port | BlockedPorts | Destination):
        return {"default": str(value)} if str(value) else {}
    return {"default": value} if isinstance(value, bool | int | str) and value != "" else {}


def _of_text(kind: type) -> Schema:
    """The schema of a value type: the texts that it reads."""
    if issubclass(kind, Quantity):
        units = "|".join(kind.units)
        return {
            "type": "string",
            "pattern": rf"^\s*[0-9]{{1,12}}(\.[0-9]{{1,6}})?\s*({units})\s*$",
            "examples": _EXAMPLES[kind],
        }
    return {**_TEXTS[kind], "examples": _EXAMPLES[kind]}


def _one_or_list(*single: Schema) -> Schema:
    return {"anyOf": [*single, {"type": "array", "minItems": 1, "items": {"anyOf": list(single)}}]}


def _text_schema(pattern: str) -> Schema:
    return {"type": "string", "pattern": f"^{pattern}$"}


_TEXTS: dict[type, Schema] = {
    PortSet: _one_or_list(_PORT_NUMBER, _text_schema(_PORTS)),
    BlockedPorts: _one_or_list(_PORT_NUMBER, _text_schema(rf"({_PORTS}|\s*none\s*)")),
    Port: {"anyOf": [_PORT_NUMBER, _text_schema(rf"\s*{_PORT}\s*")]},
    FolderMode: {"anyOf": [{"type": "integer", "minimum": 100, "maximum": 7777}, _text_schema(r"\s*[0-7]{3,4}\s*")]},
    Address: _text_schema(rf"{_ADDRESS}\s*"),
    Addresses: _one_or_list(_text_schema(rf"{_ADDRESS}\s*(,{_ADDRESS}\s*)*")),
    AddressSet: _one_or_list(_text_schema(rf"{_PREFIX}(,{_PREFIX})*")),
    Prefix96: _text_schema(r"\s*[0-9A-Fa-f:.]*:[0-9A-Fa-f:.]*/96\s*"),
    Destination: _one_or_list({"type": "string", "minLength": 1, "pattern": r"\S"}),
    Typed: _one_or_list({"type": "string", "minLength": 1, "pattern": r"\S"}),
}
_EXAMPLES: dict[type, list[str | int]] = {
    PortSet: [21, "61200-61455", "20-21, 990"],
    BlockedPorts: ["none", "25, 445"],
    Port: [21],
    FolderMode: [750, "0750"],
    Address: ["10.61.4.20", "2001:db8:61::20"],
    Addresses: ["10.61.4.20", "10.61.4.20, 2001:db8:61::20"],
    AddressSet: ["10.61.4.0/24", "203.0.113.9"],
    Prefix96: ["64:ff9b::/96"],
    Destination: ["own", "tides.saltmarsh.example", "198.51.100.61"],
    Typed: ["tides.saltmarsh.example", "tides.saltmarsh.example:2121", "198.51.100.61"],
    Duration: ["90 s", "15 min", "2 h"],
    Size: ["40 MB"],
    Rate: ["20 Mbit/s"],
}
