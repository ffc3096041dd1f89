"""Logs of the server's own daemons: how sessions of clients ended, as far as a daemon writes that down.

Most daemons write little by default: of a good session often nothing, of a data connection that never came nothing at
all. So silence shows nothing, and a line counts for what it states alone. Whose session a line is of stands in it as an
address; where none does, what the line names counts for the server as a whole.
"""

import re
from functools import cache
from pathlib import Path
from typing import Literal

from msgspec import Struct, convert

from ...core.diagnosis.fault import FaultKind
from ...core.diagnosis.words import Testimony
from ...core.model.site import Site
from ...core.observed.observation import Observation, Situation
from ...core.values.outcomes import Outcome, Rung
from ...wire.logs.lines import said
from ..damage import guarded
from ..results.observations import service_for
from ..shipped import shipped_text
from ..site.yaml_tree import YamlTree
from .session_logs import alike
from .whose import client_at

LONGEST_LINE = 2000
_ADDRESS = re.compile(r"(?<![\w.:])(?:::ffff:)?((?:\d{1,3}\.){3}\d{1,3}|[0-9A-Fa-f]{0,4}:[0-9A-Fa-f:]{2,39})(?![\w.])")
_DAEMON = re.compile(
    r"\b(?:proftpd|mod_tls/|vsftpd|pure-ftpd|sshd|pam_unix)\b|"  # public interface: how daemons sign their lines
    r"\[pid \d+\]|\bCONNECT: Client|\bOK LOGIN: Client",
    re.I,
)


class Sign(Struct, forbid_unknown_fields=True):
    """Words of a daemon, how a session ended where it writes them, and the kinds of faults that they name."""

    says: tuple[str, ...]
    rung: Rung
    outcome: Outcome
    means: tuple[FaultKind, ...] = ()


@cache
def _signs() -> tuple[Sign, ...]:
    return convert(YamlTree("server-logs.yaml", shipped_text("server-logs.yaml")).data, tuple[Sign, ...])


def is_server_log(text: str) -> bool:
    """Whether a daemon of the server wrote a text."""
    return sum(bool(_DAEMON.search(line[:LONGEST_LINE])) for line in text.splitlines()[:200]) > 0


@guarded
def read_server_log(
    path: Path, text: str, site: Site, protocol: Literal["ftp", "sftp"]
) -> tuple[tuple[Observation, ...], tuple[Testimony, ...]]:
    """What the lines of a log show of each client, and what they name without a client."""
    found: list[Observation] = []
    named: dict[tuple[FaultKind, ...], Testimony] = {}
    for line in text.splitlines():
        sign = _sign_in(line[:LONGEST_LINE])
        if sign is None:
            continue
        client = next((each for match in _ADDRESS.finditer(line) if (each := client_at(site, match[1]))), "")
        if not client and sign.means:
            named.setdefault(sign.means, Testimony(said(line), path.name, frozenset(sign.means)))
        elif client:
            found.append(_observed(sign, line, path, site, client, protocol))
    return alike(found, len(found), path.name), tuple(named.values())


def _sign_in(line: str) -> Sign | None:
    lower = line.lower()
    return next((each for each in _signs() if any(words in lower for words in each.says)), None)


def _observed(
    sign: Sign, line: str, path: Path, site: Site, client: str, protocol: Literal["ftp", "sftp"]
) -> Observation:
    tried = Situation(client, service_for(path, site, client, protocol), known_program=False)
    if sign.outcome == "ok":
        return Observation(tried, path.name, sign.rung, one_sided=True)  # what the client got is not in it
    return Observation(tried, path.name, None, sign.rung, (sign.outcome,), words=(said(line),), named=sign.means)
