"""A real session, rung by rung, with what a visit looked at besides."""

from typing import Literal

from msgspec import Struct

from ..model.site import Right
from ..values.outcomes import Extent, Outcome, Rung
from ..values.ports import PortSet
from .looks import BounceCheck, LoginThrottling, SshFacts, TlsFacts
from .range_estimate import RangeSeen


class RightSeen(Struct, frozen=True):
    """One right that was tried. ``expected`` is what the site states, ``seen`` what the server let
    happen; None where the one is silent or the other could not be tried. ``folder`` is the one that it was tried in,
    as clients see it; empty for where the session begins."""

    right: Right
    expected: bool | None
    seen: bool | None
    detail: str
    folder: str = ""

    @property
    def fits(self) -> bool | None:
        """Whether both say the same; None where one of them states nothing."""
        return None if self.expected is None or self.seen is None else self.expected == self.seen


class RightsSeen(Struct, frozen=True):
    """All rights of an account that were tried, whether it can leave its folder, and what could not
    be removed again."""

    rights: tuple[RightSeen, ...]
    confined_expected: bool | None
    confined: bool | None
    confined_detail: str
    left_behind: tuple[str, ...]


class RungSeen(Struct, frozen=True):
    """One rung of a real session: what happened, in words, and how long it took."""

    rung: Rung
    outcome: Outcome
    detail: str
    milliseconds: float | None = None
    advice: str = ""


Look = Literal["closely", "rights", "bounce", "range", "login-throttling"]


class Missed(Struct, frozen=True):
    """Something that was to be looked at and could not be, with the reason."""

    look: Look
    reason: str


class PassiveReply(Struct, frozen=True):
    """Where the first passive reply of a session sent the client for data; ``extended`` is one to EPSV, which names a
    port alone (RFC 2428, section 3)."""

    port: int
    address: str
    extended: bool


class Dialled(Struct, frozen=True):
    """What a session was made to: the name or address as typed, the address where that is another word, the port."""

    name: str
    address: str | None
    port: int


class Climb(Struct, frozen=True):
    """A real session, rung by rung, with the promise that it stands for where it has one. ``target`` is what it was
    made to, as shown, ``place`` where it was made from, ``proves`` are the rungs of which one has to hold for it to
    work."""

    target: str
    service: str
    client: str
    mode: str
    rungs: tuple[RungSeen, ...]
    holds: Literal["works", "shut"] = "works"
    proves: tuple[Rung, ...] = ("list", "send", "fetch")
    tls: TlsFacts | None = None
    range: RangeSeen | None = None
    planned: PortSet = PortSet()
    rights: RightsSeen | None = None
    caution: BounceCheck | None = None
    ssh: SshFacts | None = None
    pace: LoginThrottling | None = None
    place: str = "here"
    missed: tuple[Missed, ...] = ()
    reply: PassiveReply | None = None
    dialled: Dialled | None = None

    @property
    def observed(self) -> Extent:
        """Works when no rung failed, partly when data moved at least once all the same."""
        tried = [each for each in self.rungs if each.outcome != "untried"]
        if all(each.outcome == "ok" for each in tried):
            return "works" if self.proved else "unknown"
        if any(each.outcome in ("refused", "silent", "wrong") for each in tried):
            return "partly" if self.proved else "fails"
        return "unknown"

    @property
    def proved(self) -> bool:
        """Whether one of the rungs that prove the session holds."""
        return any(each.rung in self.proves and each.outcome == "ok" for each in self.rungs)

    @property
    def kept(self) -> bool | None:
        """Whether what was seen is what is promised; None where it is unknown."""
        if self.observed == "unknown":
            return None
        return (self.observed == "fails") if self.holds == "shut" else self.observed == "works"

    @property
    def stopped_at(self) -> RungSeen | None:
        """The first rung that was tried and is not ok."""
        return next((each for each in self.rungs if each.outcome not in ("ok", "untried")), None)
