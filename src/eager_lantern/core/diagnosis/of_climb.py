"""What a visit saw, as a sighting."""

from ..model.site import Mode
from ..observed.climb import Climb, RungSeen
from ..values.addresses import Address
from ..values.outcomes import Outcome, Rung
from ..values.ports import PortSet
from .sighting import FAILED, PortFate, Sighting
from .situation import Situation

_WITH_DATA: tuple[Rung, ...] = ("list", "send", "fetch")


def sighting_of(climb: Climb, client: str, service: str, source: str) -> Sighting:
    """A visit as a client of the site made it. Rungs that tell nothing end what is known."""
    told = _told(climb)
    mode: Mode | None = "active" if climb.mode == "active" else "passive" if climb.mode else None
    stopped = next((each for each in told if each.outcome != "ok"), None)
    well = [each.rung for each in told if each.outcome == "ok"]
    reached = _before(told, stopped)
    only_knocked = climb.proves == ("connect",)
    tried = Situation(
        client,
        service,
        mode,
        climb.holds,
        extended=_extended(climb),
        secured=_secured(climb),
        reports=not only_knocked,
    )
    failed = stopped is not None and stopped.outcome in FAILED
    moved = sum(each in _WITH_DATA for each in well)
    return Sighting(
        tried,
        source,
        reached,
        stopped.rung if stopped is not None and failed else None,
        _outcomes(climb, stopped) if stopped is not None and failed else (),
        works=stopped is None and bool(well) and (not only_knocked or climb.holds == "shut"),
        elsewhere=_elsewhere(climb),
        announced=Address.parse(climb.reply.address) if climb.reply and not climb.reply.extended else None,
        fates=tuple(_fates(climb, stopped, well)),
        more=max(0, moved - 1),
        typed=climb.target,
    )


def _told(climb: Climb) -> list[RungSeen]:
    """The rungs that were tried; another address in the passive reply did not stop the visit."""
    return [
        each
        for each in climb.rungs
        if each.outcome != "untried" and not (each.rung == "announce" and each.outcome == "wrong")
    ]


def _before(told: list[RungSeen], stopped: RungSeen | None) -> Rung | None:
    well = told if stopped is None else told[: told.index(stopped)]
    return well[-1].rung if well else None


def _outcomes(climb: Climb, stopped: RungSeen) -> tuple[Outcome, ...]:
    """What is to stay shut may be turned away in one way at one port, and in another at another."""
    return FAILED if climb.holds == "shut" else (stopped.outcome,)


def _extended(climb: Climb) -> bool | None:
    return None if climb.reply is None else climb.reply.extended


def _secured(climb: Climb) -> bool | None:
    """Whether the session was under TLS; None where it did not come so far."""
    secure = next((each for each in climb.rungs if each.rung == "secure"), None)
    login = next((each for each in climb.rungs if each.rung == "login"), None)
    if secure is not None and secure.outcome != "untried":
        return True
    return False if secure is not None and login is not None and login.outcome != "untried" else None


def _elsewhere(climb: Climb) -> bool | None:
    announced = next((each for each in climb.rungs if each.rung == "announce"), None)
    if climb.mode != "passive" or announced is None or announced.outcome == "untried" or climb.reply is None:
        return None
    return announced.outcome == "wrong"


def _fates(climb: Climb, stopped: RungSeen | None, well: list[Rung]) -> list[PortFate]:
    """What became of the port of the first passive reply."""
    if climb.reply is None or climb.mode != "passive":
        return []
    port = PortSet.single(climb.reply.port)
    if "list" in well:
        return [PortFate(port, drawn=True)]
    if stopped is not None and stopped.rung in ("data", "list"):
        return [PortFate(port, stopped.rung, (stopped.outcome,), drawn=True)]
    return []
