"""Data that ships with the program: finding pages, costs, weights, registered ports (RFC 6335)."""

import re
from collections.abc import Mapping
from functools import cache
from typing import cast

from msgspec import convert

from ..core.model.entries import Symptom
from ..core.model.site import Transport
from ..core.values.outcomes import Advice
from ..core.values.ports import PortSet
from .site.yaml_tree import YamlTree

Page = dict[str, str]


def shipped_text(name: str) -> str:
    """A file of the ``data`` folder."""
    from importlib.resources import files  # it loads slowly, and few commands need such a text

    return (files("eager_lantern") / "data" / name).read_text(encoding="utf-8")


def finding_pages() -> dict[str, Page]:
    """The page of each kind of finding: ``means``, ``shows``, ``cure``."""
    return cast(dict[str, Page], YamlTree("findings.yaml", shipped_text("findings.yaml")).data)


@cache
def shipped_advice() -> Advice:
    """The advice of ``data/advice.yaml`` for rungs of a visit that fail."""
    return convert(YamlTree("advice.yaml", shipped_text("advice.yaml")).data, Advice)


@cache
def browser_ports() -> PortSet:
    """The ports to which no browser connects (Fetch standard, section 2.9)."""
    return PortSet.parse(YamlTree("browser-ports.yaml", shipped_text("browser-ports.yaml")).data["bad"])


MOST_NAMES = 3


@cache
def _service_rows() -> tuple[tuple[int, int, str, str], ...]:
    import csv  # only for who asks what usually listens somewhere

    lines = [line for line in shipped_text("services.csv").splitlines() if not line.startswith("#")]
    return tuple((int(row[0]), int(row[1]), row[2], row[3]) for row in csv.reader(lines[1:]))


@cache
def registered(protocol: Transport = "tcp") -> PortSet:
    """Every port that is registered for a service."""
    return PortSet.of(*((low, high) for low, high, transports, _ in _service_rows() if protocol in transports))


@cache
def _ports_by_name() -> Mapping[str, Mapping[Transport, PortSet]]:
    found: dict[str, dict[Transport, PortSet]] = {}
    for low, high, transports, name in _service_rows():
        for protocol in ("tcp", "udp"):
            if protocol in transports:
                mine = found.setdefault(name.lower(), {})
                mine[protocol] = mine.get(protocol, PortSet()) | PortSet.of((low, high))
    return found


def ports_called(name: str) -> Mapping[Transport, PortSet]:
    """The ports that are registered for a service, by transport; empty for a name that is not."""
    return _ports_by_name().get(name.lower(), {})


def usual_names(ports: PortSet, protocol: Transport) -> str:
    """The names of what usually listens on ports: ``ssh``, ``smtp, domain, http and 400 more``, or nothing."""
    found = [
        name
        for low, high, transports, name in _service_rows()
        if protocol in transports and any(low <= b and a <= high for a, b in ports.spans)
    ]
    names = list(dict.fromkeys(found))
    more = f" and {len(names) - MOST_NAMES} more" if len(names) > MOST_NAMES else ""
    return ", ".join(names[:MOST_NAMES]) + more


@cache
def terms() -> dict[str, tuple[str, ...]]:
    """Words that people search for, in small letters, with the keys and kinds of findings that they mean."""
    tree = cast(dict[str, list[str]], YamlTree("terms.yaml", shipped_text("terms.yaml")).data)
    return {word: tuple(meant) for word, meant in tree.items()}


@cache
def symptoms() -> dict[str, Symptom]:
    """All that the tool knows to say of what people see, by a short name."""
    return convert(YamlTree("symptoms.yaml", shipped_text("symptoms.yaml")).data, dict[str, Symptom])


MOST_SYMPTOMS = 2


def symptoms_like(text: str) -> dict[str, Symptom]:
    """What people mean by a text: those with the longest phrase in it, or with a phrase that it is a part of."""
    asked = _words_of(text)
    scored = {
        name: max(_in_common(asked, _words_of(each)) for each in symptom.words) for name, symptom in symptoms().items()
    }
    best = max(scored.values(), default=0)
    found = [name for name, score in scored.items() if score and score == best]
    return {name: symptoms()[name] for name in found[:MOST_SYMPTOMS]}


def _words_of(text: str) -> list[str]:
    return re.findall(r"[a-z0-9_.]+", text.lower().replace("'", "").replace("’", ""))


def _in_common(asked: list[str], phrase: list[str]) -> int:
    """How many words a phrase and a text share, where the one holds the other; more where they are the same."""
    short, long = sorted((asked, phrase), key=len)
    holds = any(long[i : i + len(short)] == short for i in range(len(long) - len(short) + 1))
    is_phrase = len(phrase) <= len(asked) or len(asked) > 1
    return 2 * len(short) + (asked == phrase) if short and holds and is_phrase else 0


MOST_FOUND = 12
_ALIKE = {
    "hang": ("hang", "silence", "no answer", "wait"), "timeout": ("hang", "no answer", "silence"),
    "timed": ("hang", "no answer", "silence"), "stuck": ("hang",), "freeze": ("hang",), "freezes": ("hang",),
    "refused": ("refus",), "reset": ("refus", "break"), "dir": ("listing",), "ls": ("listing",), "list": ("listing",),
    "folder": ("listing", "folder"), "directory": ("listing", "folder"), "upload": ("transfer",),
    "download": ("transfer",), "password": ("password", "login", "account"), "530": ("login", "account"),
    "425": ("data", "listing"), "certificate": ("certificate",), "outside": ("outside",), "home": ("inside",),
}  # fmt: skip
"""What people say, and the words that the pages have for it."""
_SMALL = {"the", "a", "an", "is", "it", "and", "but", "or", "of", "to", "in", "on", "at", "my", "not", "no", "does"}


def showing_like(text: str, pages: Mapping[str, Page]) -> list[str]:
    """The kinds of finding whose “how it shows” has all that is asked for, the closest first."""
    asked = [each for each in re.findall(r"[a-z0-9]+", text.lower()) if each not in _SMALL]
    scored = {kind: _score(asked, page) for kind, page in pages.items()}
    best = max(scored.values(), default=0)
    found = [kind for kind, score in scored.items() if score and score == best]
    return found[:MOST_FOUND] if asked and best >= len(asked) else []


def _score(asked: list[str], page: Page) -> int:
    """How many of the words stand in what shows."""
    shows = page["shows"].lower()
    return sum(any(form in shows for form in _word_forms(word)) for word in asked)


def _word_forms(word: str) -> tuple[str, ...]:
    """A word without its ending, and what else is said for it."""
    stem = re.sub(r"(ings?|ed|es|s)$", "", word) if len(word) > 4 else word
    return (*_ALIKE.get(word, ()), *_ALIKE.get(stem, ()), stem)
