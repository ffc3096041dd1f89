"""One key of the site file, told."""

from msgspec import Struct


class KeyPage(Struct, frozen=True):
    """Its meaning, what may stand there, the default (empty where it has to be written), a line of an example, and
    the keys below it with their meanings."""

    path: str
    means: str
    holds: str
    default: str
    required: bool
    example: str
    below: tuple[tuple[str, str], ...]
