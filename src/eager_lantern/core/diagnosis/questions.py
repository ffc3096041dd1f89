"""Symptoms asked for in a few words, one question after the other, and what the answers tell."""

from collections.abc import Mapping

from msgspec import Struct

from ..model.site import Mode, Promise, Site
from ..observed.observation import FAILED, Observation, Situation
from ..values.outcomes import Outcome, Rung

UNKNOWN = "I do not know"
YES, NO = "yes", "no"
ALWAYS, SOMETIMES, NEVER = "always", "now and then", "never"
HANGS, REFUSED, OTHER = "it hangs, with no answer", "it is refused at once", "something else answers"
_HOW: dict[str, tuple[Outcome, ...]] = {HANGS: ("silent",), REFUSED: ("refused",), OTHER: ("wrong",), UNKNOWN: FAILED}
SOURCE = "answers"
Answers = Mapping[str, str]
"""What was answered, by the key of the question."""


class SymptomQuestion(Struct, frozen=True):
    """A question and its choices."""

    key: str
    text: str
    choices: tuple[str, ...]


def next_question(site: Site, given: Answers) -> SymptomQuestion | None:
    """What to ask after these answers; None once it is known how far a try came."""
    if "where" not in given:
        names = tuple(dict.fromkeys(each.client for each in _transfers(site)))
        return SymptomQuestion("where", "Where does it fail, or where do you stand?", (*names, UNKNOWN))
    services = tuple(dict.fromkeys(each.service for each in _transfers(site) if each.client == given["where"]))
    if len(services) > 1 and "service" not in given:
        return SymptomQuestion("service", "What does it use there?", services)
    tried = tried_by(site, given)
    if tried is None:
        return None
    if "mode" not in given and tried.mode is None and _is_ftp(site, tried.service):
        return SymptomQuestion("mode", "In which mode does the program transfer?", ("passive", "active", UNKNOWN))
    for key, text, choices, stops in (
        ("greets", "Does the server greet (does it ask for a name and password)?", (YES, NO, UNKNOWN), NO),
        ("login", "Does it take the login?", (YES, NO, UNKNOWN), NO),
        ("listing", "Does the listing come?", (ALWAYS, SOMETIMES, NEVER, UNKNOWN), NEVER),
    ):
        if key not in given:
            return SymptomQuestion(key, text, choices)
        if given[key] in (stops, SOMETIMES):
            asked = f"{key} how"
            if key != "login" and asked not in given:
                return SymptomQuestion(asked, "How does it fail?", tuple(_HOW))
            break
    if "inside" not in given and (inside := _promise_inside(site, given)) is not None:
        return SymptomQuestion("inside", f"Does it work from inside, for {inside.client}?", (YES, NO, UNKNOWN))
    return None


def tried_by(site: Site, given: Answers) -> Situation | None:
    """Who tried what, as far as the answers show; None where the place is unknown."""
    there = (each for each in _transfers(site) if each.client == given.get("where"))
    promise = next((each for each in there if given.get("service") in (None, each.service)), None)
    if promise is None:
        return None
    modes: dict[str, Mode] = {"passive": "passive", "active": "active"}
    mode = modes.get(given.get("mode", "")) if _is_ftp(site, promise.service) else None
    return Situation(promise.client, promise.service, mode)


def _is_ftp(site: Site, name: str) -> bool:
    return any(each.name == name and each.protocol == "ftp" for each in site.services)


def told_by(site: Site, given: Answers) -> tuple[Observation, ...]:
    """What the answers tell: of the try itself, and of one from inside."""
    own = _told_of_itself(site, given)
    inside, works = _promise_inside(site, given), given.get("inside")
    if inside is not None and works in (YES, NO):
        tried = Situation(inside.client, inside.service, inside.mode)
        beside = Observation(tried, SOURCE, outcomes=() if works == YES else FAILED, works=works == YES)
        return (beside,) if own is None else (own, beside)
    return () if own is None else (own,)


def _promise_inside(site: Site, given: Answers) -> Promise | None:
    """What is promised to another client on the server's own network, of the same service where that is known."""
    inside = {each.name for each in site.clients if each.network == site.server.network}
    alike = (each for each in _transfers(site) if given.get("service") in (None, each.service))
    others = (each for each in alike if each.client in inside and each.client != given.get("where"))
    return None if given.get("where") in inside else next(others, None)


def _told_of_itself(site: Site, given: Answers) -> Observation | None:
    tried = tried_by(site, given)
    if tried is None:
        return None
    if given.get("greets") == NO:
        outcomes = _HOW[given.get("greets how", UNKNOWN)]
        return Observation(tried, SOURCE, None, "greet" if outcomes == _HOW[OTHER] else "connect", outcomes)
    if given.get("login") == NO:
        return Observation(tried, SOURCE, "greet", "login", ("refused",))
    listing = given.get("listing")
    if listing in (NEVER, SOMETIMES):
        how = _HOW[given.get("listing how", UNKNOWN)]
        rung: Rung = "data" if _is_ftp(site, tried.service) else "list"
        return Observation(tried, SOURCE, "login", rung, how, sometimes=listing == SOMETIMES)
    if listing == ALWAYS:
        return Observation(tried, SOURCE, "list", works=True)
    reached: Rung | None = "login" if given.get("login") == YES else "greet" if given.get("greets") == YES else None
    return Observation(tried, SOURCE, reached) if reached else None


def _transfers(site: Site) -> list[Promise]:
    files = {each.name for each in site.services if each.protocol != "other"}
    return [each for each in site.promises if each.service in files and each.holds == "works"]
