"""How careful a server is with what it is asked to connect to, and with whom it takes data from."""

import re
from collections.abc import Iterator

from msgspec import Struct

from .tls_facts import Remark

_VERSION = re.compile(r"[0-9]++\.[0-9]++(\.[0-9]++)*[a-z0-9]*")


class Caution(Struct, frozen=True):
    """What was seen. ``bounces`` is whether it connects to another address than the client's own on PORT
    (RFC 2577, section 3), ``takes_strangers`` whether data may come from another peer (section 5); None
    where it could not be tried, with the reason."""

    greeting: str
    bounces: bool | None
    bounce_detail: str
    takes_strangers: bool | None
    stranger_detail: str


def cautions(seen: Caution) -> Iterator[Remark]:
    """The facts in words."""
    version = _VERSION.search(seen.greeting)
    told = f"the greeting tells a version ({version[0]}): it need not" if version else "the greeting tells no version"
    yield Remark("greeting", not version, told)
    yield Remark("PORT", None if seen.bounces is None else not seen.bounces, seen.bounce_detail)
    yield Remark("data from", None if seen.takes_strangers is None else not seen.takes_strangers, seen.stranger_detail)
