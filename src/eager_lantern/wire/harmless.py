"""Foreign text made safe to print: whatever a server sends cannot steer a terminal."""

import unicodedata

_UNSAFE = {"Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp"}


def harmless(text: str, most: int = 200) -> str:
    """The text with control, format and direction characters written out, and cut to ``most``."""
    shown = "".join(_escaped(each) if unicodedata.category(each) in _UNSAFE else each for each in text[: most + 1])
    return shown if len(text) <= most else shown[:most] + "…"


def _escaped(character: str) -> str:
    number = ord(character)
    return f"\\x{number:02x}" if number < 0x100 else f"\\u{number:04x}"


def decoded(raw: bytes) -> str:
    """Bytes of a reply as text: UTF-8 (RFC 2640), anything else written out."""
    return raw.decode("utf-8", errors="backslashreplace")
