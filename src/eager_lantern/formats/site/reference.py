"""The reference of the site file: what each key means, what it may hold, its default, and an example, from the very
types that read it and from a shipped site that uses every key."""

import re
from collections.abc import Iterator
from typing import Annotated, Any, Literal, cast, get_args, get_origin

import msgspec
from msgspec import Struct

from ...core.model.entries import KeyPage
from ...core.model.site import Client, Habits, Site
from ..shipped import shipped_text
from .types import mapping_in, meant, plain_type
from .yaml_tree import YamlTree

EXAMPLES = "every-key.site.yaml"
Words = dict[str, dict[str, str]]


def key_page(path: str) -> KeyPage | None:
    """The page of a key as ``gateways.hairpin`` or ``gateways[0].hairpin``; None where there is no such key."""
    words = cast(Words, YamlTree("keys.yaml", shipped_text("keys.yaml")).data)
    kind: Any = Site
    means, field, owner = "", None, None
    keys = [each for each in re.sub(r"\[[0-9]+\]", "", path).split(".") if each]
    for key in keys:
        struct = mapping_in(kind)
        if struct is None:
            return None
        field = next((each for each in msgspec.structs.fields(struct) if each.encode_name == key), None)
        if field is None:
            return None
        kind, means, owner = field.type, words[struct.__name__][key], struct
    if field is None:
        return None
    struct = mapping_in(kind)
    below = tuple(words[struct.__name__].items())[1:] if struct else ()
    example = next((found for each in _same_keys(owner, keys) if (found := _example(each))), "")
    return KeyPage(".".join(keys), means, _kind_text(kind), _default_text(owner, field), field.required, example, below)


def _same_keys(owner: type[Struct] | None, keys: list[str]) -> Iterator[list[str]]:
    """The keys themselves, then those of the same name in mappings of the same type elsewhere."""
    yield keys
    for path, other in _owned(Site, ""):
        if other is owner and path.rpartition(".")[2] == keys[-1]:
            yield path.split(".")


def _owned(struct: type[Struct], prefix: str) -> Iterator[tuple[str, type[Struct]]]:
    for field in msgspec.structs.fields(struct):
        yield f"{prefix}{field.encode_name}", struct
        if inner := mapping_in(field.type):
            yield from _owned(inner, f"{prefix}{field.encode_name}.")


def key_paths() -> Iterator[tuple[str, str]]:
    """Every key of the site file with its meaning, in the order of the file."""
    words = cast(Words, YamlTree("keys.yaml", shipped_text("keys.yaml")).data)
    yield from _below(Site, "", words)


def _below(struct: type[Struct], prefix: str, words: Words) -> Iterator[tuple[str, str]]:
    for field in msgspec.structs.fields(struct):
        path = f"{prefix}{field.encode_name}"
        yield path, words[struct.__name__][field.encode_name]
        if inner := mapping_in(field.type):
            yield from _below(inner, f"{path}.", words)


def _kind_text(kind: Any) -> str:
    kind = plain_type(kind)
    if get_origin(kind) is tuple:
        return f"a list, each {_kind_text(get_args(kind)[0])}"
    if get_origin(kind) is Literal:
        return " | ".join(map(str, get_args(kind)))
    if get_origin(kind) is Annotated:
        kind = get_args(kind)[0]
    if isinstance(kind, type) and issubclass(kind, Struct):
        return "a mapping"
    return meant(kind)


def _default_text(owner: Any, field: Any) -> str:
    if field.required:
        return ""
    shared = {each.name: each for each in msgspec.structs.fields(Habits)}
    if owner is Client and field.default is None and field.name in shared:
        return f"as its habits; without habits {_default_text(Habits, shared[field.name])}"
    value = field.default
    if value is None or value is msgspec.NODEFAULT or isinstance(value, Struct):
        return "nothing"
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, tuple):
        return f"[{', '.join(map(str, value))}]"
    return str(value) or "nothing"


def _example(keys: list[str]) -> str:
    """The line of the shipped example in which the key stands."""
    text = shipped_text(EXAMPLES)
    tree = YamlTree(EXAMPLES, text)
    place = _first_place(tree.data, keys)
    return text.splitlines()[tree.line(place) - 1].strip() if place else ""


def _first_place(data: Any, keys: list[str]) -> tuple[str | int, ...]:
    """Where the keys lead to first, whichever entry of a list has them."""
    if not keys:
        return ()
    if isinstance(data, list):
        for i, each in enumerate(data):
            if found := _first_place(each, keys):
                return (i, *found)
        return ()
    if not isinstance(data, dict) or keys[0] not in data:
        return ()
    if len(keys) == 1:
        return (keys[0],)
    rest = _first_place(data[keys[0]], keys[1:])
    return (keys[0], *rest) if rest else ()
