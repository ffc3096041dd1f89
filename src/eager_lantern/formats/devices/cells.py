"""What stands in the cells of tables and listings of devices, and their texts as the files hold them."""

import re
from pathlib import Path

from ...core.values.addresses import Address, AddressSet
from ...core.values.ports import EVERY_PORT, PortSet
from ..damage import guarded
from ..reading import read_document

MOST_BYTES = 60_000_000
_MARKS = ((b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"), (b"\xef\xbb\xbf", "utf-8-sig"))
_THOUSANDS = re.compile(r"[0-9]{1,2}[,.' \u00a0\u202f][0-9]{3}")
_RANGE = re.compile(r"(?<=\d)\s*(?:[-:–—]|\b(?:to|bis|à|a|until)\b)\s*(?=\d)")


@guarded
def read_device_text(path: Path) -> str:
    """The text of a file in UTF-8 or UTF-16, or in the encoding that older spreadsheets write (Windows-1252, else
    ISO 8859-1). Raises BadInput."""
    raw = read_document(path, MOST_BYTES)
    encoding = next((name for mark, name in _MARKS if raw.startswith(mark)), "utf-8")
    for each in (encoding, "cp1252"):
        try:
            return raw.decode(each)
        except UnicodeDecodeError:
            continue
    return raw.decode("latin-1")


def tidy_name(text: str) -> str:
    """A name or comment as a site file can have it."""
    if text in ("", "-"):
        return ""
    return " ".join("".join(each if each.isprintable() else " " for each in text).split())[:80]


def ports_of_cell(text: str, plain: bool = False) -> PortSet:
    """Ports and ranges in any usual writing. ``plain`` is whether the table is known to write large numbers without
    separators, so that ``21,990`` are two ports. Raises ValueError, for what may be one number or two as well."""
    tidy = _RANGE.sub("-", text.strip())
    parts = tidy.split("-")
    if not plain and len(parts) <= 2 and all(_THOUSANDS.fullmatch(each.strip()) for each in parts):
        number, pair = re.sub(r"[^0-9-]", "", tidy), re.sub(r"[,.' \u00a0\u202f]", ", ", tidy)
        raise ValueError(f"found “{text[:40]}”, one number or two; expected {number}, or {pair} with a space")
    if tidy.lower() in ("0-65535", "1-65535"):
        return EVERY_PORT
    return PortSet.parse(re.sub(r"\s*[;/+]\s*", ", ", tidy))


def address_of_cell(text: str) -> Address:
    """One address. Raises ValueError."""
    return Address.parse(text.removesuffix("/32").removesuffix("/128"))


def addresses_of_cell(text: str) -> AddressSet:
    """Addresses, networks and ranges between commas, semicolons or spaces. Raises ValueError."""
    return AddressSet.parse(re.sub(r"\s*[;,]\s*|(?<=[0-9a-f])\s+(?=[0-9a-f])", ", ", text.strip().lower()))
