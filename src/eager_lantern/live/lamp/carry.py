"""The carried probe as one file: the plan and the modules that it is made of, as they stand here."""

import inspect
import pprint
import re
from collections.abc import Sequence

from msgspec import Struct, to_builtins

from ...core.model.site import Transport
from ...wire import lamp
from . import asking, probe

WIDTH = 100
_ELSEWHERE = re.compile(r"^from (?:__future__|\.[.\w]*) import .*\n", re.MULTILINE)
_FUTURE = "from __future__ import annotations"
_EMPTY = "PLAN: dict[str, Any] = {}\n"
_HEAD = "#!/usr/bin/env python3\n# Run it on the computer that is to test: python3 {name}   (Windows: py {name})\n"


class ProbePlan(Struct, frozen=True):
    """Whom a probe asks, as whom, and with which secret. ``ports`` are spans of data ports, asked at ``data_address``,
    or where that is empty at the address of ``host``."""

    site: str
    service: str
    client: str
    host: str
    control: int
    data_address: str
    ports: Sequence[tuple[int, int]]
    protocols: Sequence[Transport]
    secret: str


def probe_source(plan: ProbePlan, name: str) -> str:
    """The text of a probe that is called so: the docstring and imports of :mod:`.probe`, the plan, and the rest."""
    meant = pprint.pformat(to_builtins(plan), width=WIDTH, sort_dicts=False)
    own, *others = (_ELSEWHERE.sub("", inspect.getsource(each)).strip() for each in (probe, lamp, asking))
    docstring, _, below = own.partition('"""\n\n')
    imports, _, rest = below.partition(_EMPTY)
    parts = (f'{docstring}"""', _FUTURE, imports.strip(), f"PLAN: dict[str, Any] = {meant}", *others, rest.strip())
    return _HEAD.format(name=name if name.isprintable() else "FILE") + "\n\n".join(parts) + "\n"
