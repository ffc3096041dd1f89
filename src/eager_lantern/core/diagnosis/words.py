"""What the server's own words, and the client's, make likely.

A reply code alone is coarse: 530 stands for a wrong password, for too many sessions and for TLS that is demanded
(RFC 959, section 4.2). The words beside it are every server's own. A table of them is data; here is what it means for
a hypothesis: where words are known, one that they name keeps its likelihood, and any other has next to none of it,
since words may be misread or be about something else.

>>> table = (Meaning(("maximum number of",), ("too-many-connections",), (421, 530)),)
>>> named_by(("530 Sorry, the maximum number of clients (2) are already connected.",), ("login",), table)
frozenset({'too-many-connections'})
>>> named_by(("226 the maximum number of lines",), ("login",), table)
frozenset()
>>> fit({"account-mistyped"}, frozenset({"too-many-connections"})), fit({"account-mistyped"}, frozenset())
(0.01, 1.0)
"""

from collections.abc import Collection, Sequence

from msgspec import Struct

from ..values.outcomes import Rung
from ..values.text_value import SitePath
from .fault import Fault, FaultKind

OTHERWISE = 0.01
"""How likely words are that name another fault than the one that is there."""
CONTRARY = 0.001
"""How likely a fact is that another fault accounts for."""


class Meaning(Struct, frozen=True):
    """Words in small letters, the kinds of faults that they name, the reply codes that carry them (without codes, they
    are a client's), and the rungs at which they mean that; all, where none is listed."""

    says: tuple[str, ...]
    means: tuple[FaultKind, ...]
    codes: tuple[int, ...] = ()
    rungs: tuple[Rung, ...] = ()


class Testimony(Struct, frozen=True):
    """What somebody states about the server or a device and no try shows: the kinds of faults that it names, and those
    that it excludes; ``at`` these places of the site file, or wherever they are."""

    text: str
    source: str
    names: frozenset[FaultKind] = frozenset()
    excludes: frozenset[FaultKind] = frozenset()
    at: tuple[SitePath, ...] = ()


def borne_out(faults: Collection[Fault], testimonies: Sequence[Testimony]) -> float:
    """How likely testimonies are where these faults are there."""
    chance = 1.0
    for each in testimonies:
        if each.names and not faults:
            return 0.0
        there = {fault.kind for fault in faults if not each.at or any(_within(fault, place) for place in each.at)}
        contrary = bool(each.names) and each.names.isdisjoint(there)
        chance *= CONTRARY if contrary or not each.excludes.isdisjoint(there) else 1.0
    return chance


def _within(fault: Fault, place: SitePath) -> bool:
    return fault.place[: len(place)] == place


def named_by(words: Sequence[str], rungs: Sequence[Rung], table: Sequence[Meaning]) -> frozenset[FaultKind]:
    """The kinds of faults that any of the words name, which were met at one of some rungs; none where no entry fits. An
    entry for whatever words counts where none for certain words fits."""
    there = [each for each in table if not each.rungs or not set(rungs).isdisjoint(each.rungs)]
    fitting = [each for text in words for each in there if _fits(each, text.lower())]
    certain = [each for each in fitting if "" not in each.says]
    return frozenset(kind for each in certain or fitting for kind in each.means)


def _fits(meaning: Meaning, text: str) -> bool:
    code = int(text[:3]) if text[:3].isdigit() and text[3:4] in ("", " ", "-") else None
    if meaning.codes and code not in meaning.codes:
        return False
    return any(each in text for each in meaning.says)


def fit(kinds: Collection[FaultKind], named: frozenset[FaultKind]) -> float:
    """How likely words that name these faults are, where faults of these kinds are there."""
    return 1.0 if not named or not named.isdisjoint(kinds) else OTHERWISE
