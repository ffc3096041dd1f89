"""Where in a site something stands: the keys and indexes that lead to it from the top.

The core knows no lines and no files. It points with a place, and whoever read the file
knows which line that is.
"""

SitePath = tuple[str | int, ...]


def dotted(place: SitePath) -> str:
    """``gateways[0].forwards[1].ports``."""
    text = ""
    for part in place:
        text += f"[{part}]" if isinstance(part, int) else f".{part}"
    return text.removeprefix(".")
