"""Symptoms asked for in a few words, one question after the other, and what the answers tell."""

from collections.abc import Iterator, Mapping

from msgspec import Struct

from ..model.site import Mode, Promise, Site
from ..observed.observation import FAILED, Observation, Situation
from ..values.outcomes import Outcome, Rung
from .next_test import anybody_outside

UNKNOWN = "I do not know"
YES, NO = "yes", "no"
ALWAYS, SOMETIMES, NEVER = "always", "now and then", "never"
FOR_SOME, FOR_NOBODY = "yes, for some", "no, for nobody"
ASK_OUTSIDE = "Does it work from outside at all (for anybody else, or from a phone off the Wi-Fi)?"
HANGS, REFUSED, OTHER = "it hangs, with no answer", "it is refused at once", "something else answers"
_HOW: dict[str, tuple[Outcome, ...]] = {HANGS: ("silent",), REFUSED: ("refused",), OTHER: ("wrong",), UNKNOWN: FAILED}
_AT_ALL = {FOR_SOME: True, FOR_NOBODY: False}
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
    outside = _outside(site)
    if "outside" not in given and outside:
        return SymptomQuestion("outside", ASK_OUTSIDE, (FOR_SOME, FOR_NOBODY, UNKNOWN))
    if given.get("outside") == FOR_SOME and "works for" not in given and len(outside) > 1:
        return SymptomQuestion("works for", "For whom does it work?", (*outside, UNKNOWN))
    if "where" not in given:
        names = tuple(dict.fromkeys(each.client for each in _transfers(site) if each.client != given.get("works for")))
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
    """What the answers tell: of the try itself, of others outside, and of one from inside."""
    own = _told_of_itself(site, given)
    inside, works = _promise_inside(site, given), given.get("inside")
    beside = list(_told_of_others(site, given))
    if inside is not None and works in (YES, NO):
        beside.append(_told_in_short(inside, works == YES))
    return (*(() if own is None else (own,)), *beside)


def _told_of_others(site: Site, given: Answers) -> Iterator[Observation]:
    """Of others outside: one for whom it works, or all, for whom it does not. Who uses several services is left out."""
    alike = [each for each in _transfers(site) if given.get("service") in (None, each.service)]
    for client in _outside(site):
        promises = [each for each in alike if each.client == client]
        works = client == given.get("works for")
        if len(promises) == 1 and client != given.get("where") and (works or given.get("outside") == FOR_NOBODY):
            yield _told_in_short(promises[0], works)
    phone, service = anybody_outside(site), next((each.service for each in alike), None)
    if phone is not None and service is not None and len(_outside(site)) == 1 and given.get("outside") in _AT_ALL:
        works = _AT_ALL[given["outside"]]
        tried = Situation(phone.name, service, stands_in=phone)
        yield Observation(tried, SOURCE, outcomes=() if works else FAILED, works=works)


def _told_in_short(promise: Promise, works: bool) -> Observation:
    tried = Situation(promise.client, promise.service, promise.mode)
    return Observation(tried, SOURCE, outcomes=() if works else FAILED, works=works)


def _outside(site: Site) -> tuple[str, ...]:
    """The clients outside of the server's network that are promised transfers."""
    inside = {each.name for each in site.clients if each.network == site.server.network}
    return tuple(dict.fromkeys(each.client for each in _transfers(site) if each.client not in inside))


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
