"""Rules of the Windows filter as records of one form (public interface): from ``netsh``, from JSON and from CSV.

The words of ``netsh`` are those of the system's language, English and German here; a key that is not known is refused
by its name. Enumerations of JSON are numbers under Windows PowerShell and words where a script made them so.
"""

import csv
import io
import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import msgspec
from msgspec import Struct

from ...reading import bad_file
from ..tables.heads import plain

FIELDS = (
    "name", "enabled", "profile", "direction", "action", "protocol", "localport", "remoteport", "localaddress",
    "remoteaddress", "program", "service", "interfacetype", "security",
)  # fmt: skip
_NEEDED = {"enabled", "direction", "action", "protocol", "localport", "remoteaddress"}
_KEYS = {
    "rule name": "name", "displayname": "name", "regelname": "name", "enabled": "enabled", "aktiviert": "enabled",
    "direction": "direction", "richtung": "direction", "profiles": "profile", "profile": "profile",
    "localip": "localaddress", "lokalip": "localaddress", "lokale ip": "localaddress", "lokales ip": "localaddress",
    "lokale ip-adresse": "localaddress", "localaddress": "localaddress", "remoteip": "remoteaddress",
    "remote-ip": "remoteaddress", "remoteaddress": "remoteaddress", "remote-ip-adresse": "remoteaddress",
    "protocol": "protocol", "protokoll": "protocol", "localport": "localport", "lokaler port": "localport",
    "remoteport": "remoteport", "remote-port": "remoteport", "program": "program", "programm": "program",
    "service": "service", "dienst": "service", "interfacetypes": "interfacetype", "interfacetype": "interfacetype",
    "schnittstellentypen": "interfacetype", "security": "security", "sicherheit": "security", "action": "action",
    "aktion": "action",
}  # fmt: skip
_DECIDES_NOTHING = {
    "grouping", "gruppierung", "edge traversal", "edgeausnahme", "edgeausbruch", "edge-uberquerung", "rule source",
    "regelquelle", "description", "beschreibung", "defer to application", "defer to user", "id", "displaygroup",
    "group", "edgetraversalpolicy", "policystoresourcetype", "policystoresource", "primarystatus", "status", "owner",
    "instanceid", "creationclassname", "elementname", "rulegroup", "enforcementstatus", "platform", "platforms",
    "type", "typ", "code", "pscomputername", "caption", "systemname", "systemcreationclassname", "commonname",
    "dynamictarget",
}  # fmt: skip
_NAMES = {"name"}
"""Of an object the name is what identifies it, where a display name stands beside it."""


class Record(Struct, frozen=True):
    """One rule, each field as it is written; empty for what is not stated."""

    line: int
    fields: Mapping[str, str]

    def __getitem__(self, field: str) -> str:
        return self.fields.get(field, "")


def is_netsh(text: str) -> bool:
    """Whether a text is what ``netsh advfirewall firewall show rule`` prints."""
    return re.search(r"^(Rule Name|Regelname):\s", text, re.MULTILINE) is not None


def is_listing(text: str) -> bool:
    """Whether a text is JSON or CSV of such rules."""
    begin = text[:2000].lstrip("\ufeff \r\n").lower()
    named = '"displayname"' in begin or begin.startswith("displayname")
    return named and all(each in begin for each in ("direction", "action", "enabled"))


def records_of(file: str, text: str) -> list[Record]:
    """The rules of a text. Raises BadInput."""
    if is_netsh(text):
        return list(_of_netsh(file, text))
    begin = text.lstrip("\ufeff \r\n")
    found = _of_json(file, begin) if begin[:1] in ("{", "[") else _of_csv(file, begin)
    for each in found:
        if missing := _NEEDED - each.fields.keys():
            raise bad_file(
                file, f"found rules without {', '.join(sorted(missing))}; expected each joined with its port, "
                "address and application filters (docs/devices.md has the command)", each.line,
            )  # fmt: skip
    return found


def _of_netsh(file: str, text: str) -> Iterator[Record]:
    fields: dict[str, str] = {}
    start, last = 0, ""
    for number, line in enumerate(text.splitlines(), 1):
        if re.match(r"(Rule Name|Regelname):", line):
            if fields:
                yield Record(start, fields)
            fields, start = {}, number
        if not fields and not start:
            continue
        if not line.strip() or set(line.strip()) == {"-"}:
            continue
        key, colon, value = line.partition(":")
        if line[:1].isspace() or not colon:
            if last and line[:1].isspace():  # a long list goes on
                fields[last] += "," + line.strip() if fields[last] else line.strip()
            last = last if line[:1].isspace() else ""
            continue
        known = _KEYS.get(plain(key))
        if known is None and plain(key) not in _DECIDES_NOTHING:
            raise bad_file(
                file, f"found “{key[:40]}”, a key that is not known; expected those of English or German", number
            )
        last = known or ""
        if known:
            fields[known] = value.strip()
    if fields:
        yield Record(start, fields)


def _of_json(file: str, text: str) -> list[Record]:
    try:
        data = msgspec.json.decode(text)
    except (msgspec.DecodeError, RecursionError) as error:
        raise bad_file(file, f"found JSON that breaks off ({error!s:.60}); expected all that was printed") from None
    objects = data if isinstance(data, list) else [data]
    return [Record(0, _fields(file, each, 0)) for each in objects if isinstance(each, dict)]


def _of_csv(file: str, text: str) -> list[Record]:
    lines = [line for line in text.splitlines() if not line.startswith("#TYPE")]
    separator = max(",;\t", key=(lines or [""])[0].count)
    reader = csv.DictReader(io.StringIO("\n".join(lines)), delimiter=separator)
    return [Record(reader.line_num, _fields(file, row, reader.line_num)) for row in reader]


def _fields(file: str, row: Mapping[Any, Any], line: int) -> dict[str, str]:
    found: dict[str, str] = {}
    named = any(str(key).lower() == "displayname" for key in row)
    for key, value in row.items():
        word = plain(str(key))
        if word in _NAMES and named:
            continue
        known = "name" if word in _NAMES else _KEYS.get(word)
        if known is not None:
            found[known] = _text(value)
        elif word not in _DECIDES_NOTHING and _text(value).lower() not in ("", "any", "none", "false", "notrequired"):
            what = f"found “{str(key)[:40]}”, a column that is not known"
            raise bad_file(file, f"{what}; expected those of the command in docs/devices.md", line)
    return found


def _text(value: Any) -> str:
    if isinstance(value, list):
        return ",".join(map(_text, value))
    if isinstance(value, Mapping):
        return _text(value.get("value", value.get("Value", "")))
    return "" if value is None else str(value).strip()


def split(text: str) -> Sequence[str]:
    """The parts of a list in a field."""
    return [each.strip() for each in re.split(r"[,;]", text) if each.strip()]
