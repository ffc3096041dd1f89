"""What was observed of a session: who tried what, and how far it came.

What was seen may be less than all: a log that breaks off shows how far it came at least, somebody's answer that the
listing does not come does not show how. So an observation has the last rung that was well, and what may have
been the matter at the next.
"""

from typing import Literal

from msgspec import Struct

from ..model.site import Client, Mode
from ..values.addresses import Address, address_or_none
from ..values.outcomes import ORDER, Outcome, Rung
from ..values.ports import PortSet
from .climb import Climb, RungSeen

FAILED: tuple[Outcome, ...] = ("refused", "silent", "wrong")


class Situation(Struct, frozen=True):
    """One try. ``client`` is a client of the site, a network for anybody on it, or ``stands_in``, who is on no site
    file. A mode of None is the client's first. ``extended`` and ``secured`` tell of EPSV and of TLS where they are
    known; ``reports`` is a visit, which goes on to the server when another address is announced. ``lit`` are ports of
    an address that were tried while a lamp burnt on the server: there nothing but the way counts. ``dialled`` is
    where the control connection was made to, ``trusts`` whether the client goes where the reply sends it, ``names`` the
    address that it names in active mode, where these are known. A program that is not known may or may not resume
    TLS sessions."""

    client: str
    service: str
    mode: Mode | None = None
    holds: Literal["works", "shut"] = "works"
    extended: bool | None = None
    secured: bool | None = None
    reports: bool = False
    stands_in: Client | None = None
    lit: tuple[Address, PortSet] | None = None
    dialled: Address | None = None
    trusts: bool | None = None
    names: Address | None = None
    known_program: bool = True


class PortFate(Struct, frozen=True):
    """Data ports of which it is known what became of them: they carried data, or ended at a rung in one of some
    ways. Those ``drawn`` were picked by the server, the others by whoever tried."""

    ports: PortSet
    rung: Rung | None = None
    outcomes: tuple[Outcome, ...] = ("ok",)
    drawn: bool = False


class Observation(Struct, frozen=True):
    """What was seen of a try: ``reached`` is the last rung that was well. It ended at ``rung`` with one of
    ``outcomes``, or it worked, or, with neither, nothing more is known; with outcomes and no rung it ended somewhere.
    ``sometimes`` is a try that was made again and again and ended so now and then. ``more`` is how many further data
    connections carried data. ``source`` states where this is from, ``typed`` the name or address that was typed, where
    that is known. Where it may have ended later than at ``rung``, it did so at ``latest`` at most. ``opened`` is
    that the data connection of the transfer that ended there was made. ``words`` are what the server answered to
    what it refused. The connection that ended it came to the devices and hosts of ``came_to``, not to those of
    ``missed``; the control connection came to the port ``landed`` of the server, where that was seen.
    ``named`` are kinds of faults that whoever wrote it down names; ``user`` is who logged in, ``dialled_port`` the port
    that the client connected to. Of a refusal ``error`` is what the client's system called it, where that is known:
    ``connection refused`` is a reset, the others are messages of a device on the way. ``line`` is where a log
    states how it ended, without words of the server. What is ``one_sided`` was seen
    at the server alone: it shows how far its half came."""

    tried: Situation
    source: str
    reached: Rung | None = None
    rung: Rung | None = None
    outcomes: tuple[Outcome, ...] = ()
    works: bool = False
    sometimes: bool = False
    elsewhere: bool | None = None
    announced: Address | None = None
    fates: tuple[PortFate, ...] = ()
    more: int = 0
    typed: str = ""
    latest: Rung | None = None
    opened: bool = False
    words: tuple[str, ...] = ()
    came_to: tuple[str, ...] = ()
    missed: tuple[str, ...] = ()
    landed: int | None = None
    named: tuple[str, ...] = ()
    user: str = ""
    dialled_port: int | None = None
    one_sided: bool = False
    error: str = ""
    line: str = ""

    @property
    def fails(self) -> bool:
        """Whether something was seen that is not as it should be: of what is to stay shut, that it is open."""
        if self.tried.holds == "shut":
            return self.works
        return bool(self.outcomes or self.elsewhere) or any(each.rung is not None for each in self.fates)

    @property
    def rungs(self) -> tuple[Rung, ...]:
        """Where it may have ended; none where that is not known at all."""
        if self.rung is None:
            return ()
        return ORDER[ORDER.index(self.rung) : ORDER.index(self.latest or self.rung) + 1]

    @property
    def settles(self) -> bool:
        """Whether it shows how the try ended: a session seen to work or to fail, or ports of which it is known what
        became of them. What ends before shows nothing of the rest."""
        return bool(self.works or self.outcomes or self.fates or self.elsewhere) or self.rung is not None


_WITH_DATA: tuple[Rung, ...] = ("list", "send", "fetch")


def observation_of(climb: Climb, client: str, service: str, source: str) -> Observation:
    """A visit as a client of the site made it. Rungs that tell nothing end what is known."""
    tried_rungs = _tried_rungs(climb)
    mode: Mode | None = "active" if climb.mode == "active" else "passive" if climb.mode else None
    stopped = next((each for each in tried_rungs if each.outcome != "ok"), None)
    well = [each.rung for each in tried_rungs if each.outcome == "ok"]
    reached = _last_good_rung(tried_rungs, stopped)
    only_knocked = climb.proves == ("connect",)
    tried = Situation(
        client,
        service,
        mode,
        climb.holds,
        extended=_extended(climb),
        secured=_under_tls(climb),
        reports=not only_knocked,
        dialled=_dialled(climb),
    )
    failed = stopped is not None and stopped.outcome in FAILED
    moved = sum(each in _WITH_DATA for each in well)
    return Observation(
        tried,
        source,
        reached,
        stopped.rung if stopped is not None and failed else None,
        _outcomes_at(climb, stopped) if stopped is not None and failed else (),
        works=stopped is None and bool(well) and (not only_knocked or climb.holds == "shut"),
        elsewhere=_names_another_host(climb),
        announced=Address.parse(climb.reply.address) if climb.reply and not climb.reply.extended else None,
        fates=tuple(_port_fates(climb, stopped, well)),
        more=max(0, moved - 1),
        typed=climb.target,
    )


def _tried_rungs(climb: Climb) -> list[RungSeen]:
    """The rungs that were tried; another address in the passive reply did not stop the visit."""
    return [
        each
        for each in climb.rungs
        if each.outcome != "untried" and not (each.rung == "announce" and each.outcome == "wrong")
    ]


def _last_good_rung(tried_rungs: list[RungSeen], stopped: RungSeen | None) -> Rung | None:
    well = tried_rungs if stopped is None else tried_rungs[: tried_rungs.index(stopped)]
    return well[-1].rung if well else None


def _outcomes_at(climb: Climb, stopped: RungSeen) -> tuple[Outcome, ...]:
    """What is to stay shut may be turned away in one way at one port, and in another at another."""
    return FAILED if climb.holds == "shut" else (stopped.outcome,)


def _extended(climb: Climb) -> bool | None:
    return None if climb.reply is None else climb.reply.extended


def _dialled(climb: Climb) -> Address | None:
    """Where the control connection was made to; None for a name of which that is not kept."""
    found = address_or_none(climb.dialled.address or climb.dialled.name) if climb.dialled else None
    return None if found is None or found.kind == "loopback" else found


def _under_tls(climb: Climb) -> bool | None:
    """Whether the session was under TLS; None where it did not come so far."""
    secure = next((each for each in climb.rungs if each.rung == "secure"), None)
    login = next((each for each in climb.rungs if each.rung == "login"), None)
    if secure is not None and secure.outcome != "untried":
        return True
    return False if secure is not None and login is not None and login.outcome != "untried" else None


def _names_another_host(climb: Climb) -> bool | None:
    announced = next((each for each in climb.rungs if each.rung == "announce"), None)
    if climb.mode != "passive" or announced is None or announced.outcome == "untried" or climb.reply is None:
        return None
    return announced.outcome == "wrong"


def _port_fates(climb: Climb, stopped: RungSeen | None, well: list[Rung]) -> list[PortFate]:
    """What became of the port of the first passive reply."""
    if climb.reply is None or climb.mode != "passive":
        return []
    port = PortSet.single(climb.reply.port)
    if "list" in well:
        return [PortFate(port, drawn=True)]
    if stopped is not None and stopped.rung in ("data", "list"):
        return [PortFate(port, stopped.rung, (stopped.outcome,), drawn=True)]
    return []


_WHAT: dict[Rung, str] = {
    "name": "the name is looked up",
    "connect": "the connection is made",
    "greet": "the server greets",
    "secure": "TLS begins",
    "host-key": "the host key is shown",
    "login": "the login is tried",
    "announce": "data is asked for",
    "data": "the data connection is made",
    "list": "the listing is asked for",
    "send": "a file is sent",
    "fetch": "a file is fetched",
    "tidy": "the file is removed",
}
_FAILED: dict[Rung, str] = {
    "name": "the lookup of the name", "connect": "the connection", "greet": "the greeting", "secure": "TLS",
    "host-key": "the host key", "login": "the login", "announce": "the request for a data connection",
    "data": "the data connection", "list": "the listing", "send": "the upload", "fetch": "the download",
    "tidy": "the removal of the file",
}  # fmt: skip
_HOW: dict[Outcome, str] = {"refused": "a refusal", "silent": "no answer", "wrong": "something else"}


def ending_phrase(rung: Rung, outcomes: tuple[Outcome, ...], error: str = "") -> str:
    """How a try ended; ``error`` is what the system called it, where that shows more.

    >>> ending_phrase("data", ("silent",))
    'no answer when the data connection is made'
    >>> ending_phrase("data", ("refused",), "no route to host")
    '“no route to host” when the data connection is made'
    >>> ending_phrase("data", ("refused", "silent", "wrong"))
    'the data connection failed (how is not in the log)'
    """
    if not error and len(outcomes) != 1:
        return f"{_FAILED[rung]} failed (how is not in the log)"
    how = f"“{error}”" if error else _HOW.get(outcomes[0], outcomes[0])
    return f"{how} when {_WHAT[rung]}"
