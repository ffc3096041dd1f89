"""Foreign text made safe to print: whatever a server sends cannot steer a terminal."""


def printable(text: str, most: int = 200) -> str:
    """The text with all that is not plainly visible written out (control, format and direction
    characters, odd spaces), and cut to ``most`` characters of the original."""
    shown = "".join(each if each.isprintable() else _escaped(each) for each in text[:most])
    return shown if len(text) <= most else shown + "…"


def _escaped(character: str) -> str:
    number = ord(character)
    return f"\\x{number:02x}" if number < 0x100 else f"\\u{number:04x}"


def decoded(raw: bytes) -> str:
    """Bytes of a reply as text: UTF-8 (RFC 2640), anything else written out."""
    return raw.decode("utf-8", errors="backslashreplace")
