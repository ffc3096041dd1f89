"""The log of sessions in a file, as what was seen of a client's tries."""

import re
from codecs import BOM_UTF16_BE, BOM_UTF16_LE
from collections.abc import Sequence
from functools import cache
from pathlib import Path

from msgspec import convert
from msgspec.structs import replace

from ...core.diagnosis.situation import doors_of
from ...core.model.site import Site
from ...core.network.topology import Topology
from ...core.observed.observation import Observation, PortFate, Situation
from ...core.values.addresses import Address, address_or_none
from ...core.values.outcomes import ORDER
from ...core.values.ports import PortSet
from ...wire.logs.lines import OUTCOMES, Error, Errors
from ...wire.logs.session import NoSessionLog, SessionTold, read_log
from ..damage import guarded
from ..reading import bad_file, read_end
from ..results.observations import service_for
from ..shipped import shipped_text
from ..site.yaml_tree import YamlTree

MOST_BYTES = 8_000_000
_ESCAPES = re.compile(r"\x1b(?:\[[0-?]{0,40}[ -/]{0,8}[@-~]|[@-Z\\-_])|[\x00-\x08\x0b\x0c\x0e-\x1f\x7f]")
"""What colours a terminal or steers it (ECMA-48, section 5.4), and other control characters."""


@guarded
def read_session_logs(path: Path, site: Site, client: str) -> tuple[Observation, ...]:
    """What a log shows of a client's tries, those that are alike as one. Raises BadInput for what is no log of a
    session, or not of a service of this site. Of the log addresses, ports, names of accounts and the server's replies
    are kept, never a password."""
    try:
        sessions = read_log(text_of_log(path), _system_errors())
    except NoSessionLog as error:
        raise bad_file(path, str(error)) from None
    return alike(_current([observed(each, path, site, client) for each in sessions]), len(sessions), path.name)


def text_of_log(path: Path) -> str:
    """A log in the encoding that it was written in (UTF-8, UTF-16 with its mark, else Windows-1252), without what
    steers a terminal; of a long one the end, from a whole line on."""
    head, raw, size = read_end(path, MOST_BYTES)
    wide = {BOM_UTF16_LE: "utf-16-le", BOM_UTF16_BE: "utf-16-be"}.get(head[:2])
    try:
        text = raw.decode(wide or "utf-8", errors="replace" if wide or size > MOST_BYTES else "strict")
    except UnicodeDecodeError:
        text = raw.decode("cp1252", errors="replace")
    if size > MOST_BYTES:
        text = text.partition("\n")[2]
    return _ESCAPES.sub("", text.removeprefix("\ufeff"))


def shortened(path: Path) -> str:
    """What is to be said of a log that is not read in whole; empty where it is."""
    size = read_end(path, 0).size
    if size <= MOST_BYTES:
        return ""
    return f"has {size / 1e6:.0f} MB, of which the last {MOST_BYTES / 1e6:g} MB are read"


def observed(log: SessionTold, path: Path, site: Site, client: str) -> Observation:
    """What a session of a client shows. Raises BadInput where it fits no service of the site."""
    service = service_for(path, site, client, log.protocol)
    last = log.endpoints[-1] if log.endpoints and log.mode == "passive" else None
    announced = address_or_none(last.address) if last and last.address else None
    dialled = address_or_none(log.dialled[0]) if log.dialled else None
    tried = Situation(
        client,
        service,
        log.mode,
        extended=log.extended,
        secured=_logged_under_tls(log, site, service),
        dialled=None if dialled is None or dialled.kind == "loopback" else dialled,
        trusts=_trusts(log, announced, dialled, site),
        names=address_or_none(log.names) if log.names else None,
        known_program=False,
    )
    return Observation(
        tried,
        path.name,
        log.reached,
        log.rung,
        log.outcomes,
        log.works,
        announced=announced,
        fates=_logged_fates(log),
        more=max(0, len(log.carried) - sum(each >= 0 for each in log.carried)),
        latest=log.latest,
        opened=log.opened,
        words=tuple(log.words),
        line=log.line,
        user=log.user,
        typed=log.dialled[0] if log.dialled else "",
        error=log.error if log.error and OUTCOMES[log.error] == ("refused",) else "",
        dialled_port=log.dialled[1] if log.dialled else None,
    )


def _trusts(log: SessionTold, announced: Address | None, dialled: Address | None, site: Site) -> bool | None:
    """Whether the client was seen to go where the reply sent it; None where that is not seen or no matter."""
    if log.replaced:
        return False
    went = address_or_none(log.data_dialled) if log.data_dialled else None
    if log.works and went is None and announced is not None and announced != dialled:
        strange = announced.kind == "private" or announced not in doors_of(Topology(site))
        return False if strange else None  # else it would hardly have worked
    if announced is None or went is None or announced == dialled:
        return None
    return went == announced


def _current(seen: Sequence[Observation]) -> list[Observation]:
    """Of sessions that all worked up to one and all failed from then on, the latter: something has changed since."""
    works = [each.works for each in seen]
    turn = works.index(False) if False in works else 0
    changed = turn > 1 and not any(works[turn:]) and len(works) - turn > 1
    return list(seen[turn:]) if changed else list(seen)


def alike(seen: Sequence[Observation], total: int, name: str) -> tuple[Observation, ...]:
    """Sessions that came to the same, as one observation each, with how many they are."""
    groups: dict[Observation, list[Observation]] = {}
    for each in seen:
        groups.setdefault(replace(each, fates=(), words=(), more=0, line=""), []).append(each)
    return tuple(_united(alike, total, name) for alike in groups.values())


def _united(alike: Sequence[Observation], total: int, name: str) -> Observation:
    source = name if total == 1 else f"{name}, {len(alike)} of {total} sessions"
    return replace(
        alike[0],
        source=source,
        fates=tuple(dict.fromkeys(fate for each in alike for fate in each.fates)),
        words=tuple(dict.fromkeys(word for each in alike for word in each.words)),
        more=sum(each.more for each in alike),
    )


@cache
def _system_errors() -> Errors:
    """What systems call their errors in every language of ``data/system-errors.yaml``."""
    found = convert(YamlTree("system-errors.yaml", shipped_text("system-errors.yaml")).data, dict[Error, list[str]])
    return {text.lower(): error for error, texts in found.items() for text in texts}


def _logged_under_tls(log: SessionTold, site: Site, name: str) -> bool | None:
    """Whether it was under TLS. Who was let in where nobody is without it had it, if the log lacks the lines."""
    tls = next(each.tls for each in site.services if each.name == name)
    let_in = log.reached is not None and ORDER.index(log.reached) >= ORDER.index("login")
    return None if tls.demanded and let_in and log.secured is False else log.secured


def _logged_fates(log: SessionTold) -> tuple[PortFate, ...]:
    """What became of each data port that the server named."""
    carried = [log.endpoints[i].port for i in log.carried if 0 <= i < len(log.endpoints)]
    found = [PortFate(PortSet.single(port), drawn=True) for port in dict.fromkeys(carried)]
    last = log.endpoints[-1].port if log.endpoints else None
    if log.rung in ("data", "list") and not log.opened and last is not None and last not in carried:
        found.append(PortFate(PortSet.single(last), log.rung, log.outcomes, drawn=True))
    return tuple(found)
