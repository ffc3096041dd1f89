"""What the columns of a table are, by their heads and by what stands in them.

Words differ from page to page, so a head is read word by word (``data/table-words.yaml``), and where a word has two
meanings the cells decide: “From” over ports is the first of them, over addresses a source. Of a column that means
nothing here, the table is refused by its name: what it states could change every row.
"""

import re
import unicodedata
from collections.abc import Callable, Mapping, Sequence
from functools import cache
from typing import Literal

from msgspec import Struct, convert

from ...shipped import shipped_text
from ...site.yaml_tree import YamlTree
from ..cells import addresses_of_cell, ports_of_cell
from .grid import PastedTable

Meaning = Literal[
    "name", "number", "priority", "protocol", "ports", "first", "last", "to", "inside", "inside first", "inside last",
    "outside", "from", "from ports", "destination", "state", "do", "direction", "profile", "interface", "schedule",
    "program", "service", "harmless",
]  # fmt: skip


class TableWords(Struct, frozen=True, forbid_unknown_fields=True):
    """The words of ``data/table-words.yaml``."""

    heads: Mapping[str, Sequence[str]]
    harmless: Sequence[str]
    any: Sequence[str]
    on: Sequence[str]
    off: Sequence[str]
    allow: Sequence[str]
    deny: Sequence[str]
    refuse: Sequence[str]
    inbound: Sequence[str]
    outbound: Sequence[str]
    both: Sequence[str]
    empty: Sequence[str]


@cache
def table_words() -> TableWords:
    """The words that ship with the program."""
    return convert(YamlTree("table-words.yaml", shipped_text("table-words.yaml")).data, TableWords)


@cache
def _meanings_of_words() -> Mapping[str, frozenset[str]]:
    found: dict[str, set[str]] = {}
    for meaning, words in table_words().heads.items():
        for word in words:
            found.setdefault(word, set()).add(meaning)
    return {word: frozenset(meanings) for word, meanings in found.items()}


def plain(text: str) -> str:
    """In small letters without accents."""
    parts = unicodedata.normalize("NFKD", text.lower())
    return " ".join("".join(each for each in parts if not unicodedata.combining(each)).split())


_OWN = {
    "name and remarks": "name", "ip protocol": "protocol", "only from": "from", "allowed from": "from",
    "on/off": "state",
    "port range": "ports", "service port": "ports", "service name": "name", "allow/deny": "do", "rule #": "number",
    "rule number": "priority", "forward to": "to", "no.": "number", }  # fmt: skip
"""Heads that are more than their words."""
_COMPOUND = re.compile(r"(port|adresse|name|regel)(s|e|en|bereich)?$")


def _words(head: str) -> frozenset[str]:
    """The meanings of the words of a head; those that German joins are taken apart."""
    known = _meanings_of_words()
    found: set[str] = set()
    spaced = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", head)
    for word in re.findall(r"[^\s()./:_,*-]+", plain(spaced)):
        if word in known:
            found |= known[word]
        elif (split := _COMPOUND.search(word)) and word[: split.start()] in known:
            found |= known[word[: split.start()]] | known.get(split[1], frozenset())
        elif word.startswith("port") and word not in ("portal",):
            found.add("port")
    return frozenset(found)


def are_heads(cells: Sequence[str]) -> bool:
    """Whether cells are heads of columns: two or more are known, one of them of ports, a transport or a service."""
    filled = [each for each in cells if each]
    if any(len(each) > 40 or re.fullmatch(r"#.+|[0-9][0-9.:/, -]*", each) for each in filled):
        return False
    words = [_words(each) for each in filled]
    whole = {*_OWN, *table_words().harmless}
    known = sum(bool(mine) or plain(each) in whole for mine, each in zip(words, filled, strict=True))
    return known >= max(2, len(filled) / 2) and any(mine & {"port", "protocol", "service"} for mine in words)


def columns_of(grid: PastedTable) -> tuple[dict[Meaning, int], list[str]]:
    """Where each meaning stands, and the heads that mean nothing here and have something below them."""
    first = {i: _by_head(head) for i, head in enumerate(grid.heads.cells)}
    below = {i: [row.cells[i] for row in grid.rows if i < len(row.cells)] for i in first}
    found: dict[Meaning, int] = {}
    unknown: list[str] = []
    named = {i for i in first if first[i] == "address?" and not any(map(_ADDRESS_LIKE.search, below[i]))}
    order = sorted(first, key=lambda i: (first[i] is None or first[i] in _LATE, i in named, i))
    for i in order:
        cells = below[i]
        meaning = _settled(first[i], cells, found, {each for each in first.values() if each})
        if meaning is not None and meaning not in found:
            found[meaning] = i
        elif meaning not in ("harmless", "name", "number") and not all(_is_any(each) for each in cells):
            unknown.append(grid.heads.cells[i])
    return found, unknown


_ADDRESS_LIKE = re.compile(r"[0-9A-Fa-f][.:]")
_LATE = {"from?", "to?", "port?", "address?", "service?", "application?", "type?", "destination?", "destination port?"}
_SIDES = {"outside", "inside", "source", "destination"}


def _by_head(head: str) -> str | None:
    """A meaning, one with a question mark where the cells decide, or None."""
    if (own := _OWN.get(plain(head))) is not None:
        return own
    if plain(head) in table_words().harmless:
        return "harmless"
    words = _words(head)
    port, edge = "port" in words, next((each for each in ("first", "last") if each in words), None)
    if not port and {"from", "to"} & words and words & (_SIDES | {"first", "last"}) == set() and "address" in words:
        return "to" if "to" in words else "from"
    if port or (edge and not words & {"address", "name", "state"}):
        return _of_ports(words, edge)
    for each in ("protocol", "priority", "direction", "profile", "schedule", "program", "state", "do"):
        if each in words and "address" not in words:
            return each
    if "inside" in words and not words & {"name", "interface"}:
        return "to"
    if "source" in words:
        return "from"
    if "destination" in words:
        return "destination?"
    if "outside" in words and "address" in words:
        return "outside"
    for each in ("name", "interface", "number"):
        if each in words:
            return each
    for each in ("from", "to", "service", "application", "type", "address"):
        if each in words:
            return f"{each}?"
    return None


def _of_ports(words: frozenset[str], edge: str | None) -> str:
    if "inside" in words:
        return f"inside {edge}" if edge else "inside"
    if "source" in words:
        return "from ports"
    if edge or {"from", "to"} & words:
        return edge or ("first" if "from" in words else "last")
    if "destination" in words:
        return "destination port?"
    return "ports" if "outside" in words else "port?"


def _settled(
    meaning: str | None, cells: Sequence[str], found: Mapping[Meaning, int], heads: set[str]
) -> Meaning | None:
    """The meaning that the cells leave."""
    forwards = "to" in heads or "inside" in heads
    ports_known = "ports" in found or "first" in found
    match meaning:
        case "to" if "do" in heads:
            return "destination"
        case "inside" if "do" in heads and not ports_known:
            return "ports"
        case "from?":
            return "first" if _all(cells, _is_ports) and "first" not in found else "from"
        case "to?":
            if _all(cells, _is_ports) and "last" not in found:
                return "last"
            return "to" if "to" not in found and "do" not in heads and _all(cells, _is_address) else "destination"
        case "destination?":
            alone = "to" not in found and "do" not in heads and "outside" not in heads
            return "to" if alone and _all(cells, _is_address) and not _all(cells, _is_any) else "destination"
        case "destination port?":
            return "inside" if ports_known and "do" not in heads else "ports"
        case "port?":
            return "inside" if ports_known else "ports"
        case "address?":
            if "to" in found and "do" not in heads and not any(map(_ADDRESS_LIKE.search, cells)):
                return "harmless"  # what the host is called whose address stands beside it
            return "to" if "to" not in found and "do" not in heads else None
        case "service?":
            if forwards and ports_known:
                return "name"
            return "service" if not ports_known or not _all(cells, _is_any) else "harmless"
        case "application?":
            return "program" if "do" in heads and any(re.search(r"[\\/]|\.exe$", each) for each in cells) else "name"
        case "type?":
            if _all(cells, _is_transport) and "protocol" not in found:
                return "protocol"
            return "harmless" if "protocol" in found else "service"
        case None:
            return None if "protocol" in found or not _all(cells, _is_transport) else "protocol"
        case _:
            return meaning  # type: ignore[return-value]


def _all(cells: Sequence[str], holds: Callable[[str], bool]) -> bool:
    filled = [each for each in cells if each]
    return bool(filled) and all(map(holds, filled))


def _is_any(text: str) -> bool:
    return text.lower() in table_words().any


def _is_ports(text: str) -> bool:
    return _reads(ports_of_cell, text) or text == "0"


def _is_address(text: str) -> bool:
    return "." in text or ":" in text if _reads(addresses_of_cell, text) else False


def _is_transport(text: str) -> bool:
    return text.lower() in ("tcp", "udp", "any", "all", "icmp", *table_words().both)


def _reads(read: Callable[[str], object], text: str) -> bool:
    try:
        read(text)
    except ValueError:
        return False
    return True
