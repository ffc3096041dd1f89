"""The desk at which a lamp receives phones: keys, the page, and what becomes of each port.

Theory: one visitor, two keys
=============================
A *token* stands in the address that is shown. It gets the page, as often as it is asked for (whoever sends an address
by a messenger has it looked at by that messenger first), and can begin one sweep; with that it is used up. The sweep
has a *key* of its own, which the page alone has been given; the page may begin again with it, until another phone does.
Both are 128 bits from the system's own source, and both end with the lamp; a token that nobody used ends sooner. While
a sweep is under way no token is on offer, so there is one visitor at a time.

What is not asked with one of them, at the right host and by the page itself, gets no answer: it is for :mod:`.listener`
to close the connection without a byte.
"""

import asyncio
import hmac
import secrets
from base64 import b32encode
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from email.utils import formatdate
from typing import Annotated

import msgspec
from msgspec import Meta, Struct

from ...core.observed.compared import Sweep
from ...core.observed.phone import PhonePlan, SeenAtPort, Standing, order_of, phone_sweep
from ...core.values.ports import PortSet
from ...wire.phone import HttpHead

TOKEN_SECONDS = 900.0
QUIET_SECONDS = 30.0
"""A sweep of which nothing was heard for so long is over."""
PATIENCE_SECONDS = 3.0
"""For each port, twice: a radio that sleeps takes a second to wake."""
AT_ONCE = 64
MOST_VISITS = 100
MOST_ADDRESSES = 64
"""Addresses that one phone is seen at; a carrier may have several for one subscriber."""
KEY_BYTES = 16

_PORT = Annotated[int, Meta(ge=1, le=65_535)]


class Fates(Struct, frozen=True):
    """What a page reports of ports that do not arrive, and whether it is through."""

    refused: Annotated[tuple[_PORT, ...], Meta(max_length=65_535)]
    silent: Annotated[tuple[_PORT, ...], Meta(max_length=65_535)]
    done: bool


@dataclass
class PhoneVisit:
    """One sweep of one phone, as it stands."""

    key: str
    origin: str
    began: float
    heard: float
    addresses: dict[str, None] = field(default_factory=dict)
    arrivals: dict[int, SeenAtPort] = field(default_factory=dict)
    refused: PortSet = field(default_factory=PortSet)
    silent: PortSet = field(default_factory=PortSet)
    done: bool = False
    over: bool = False
    knocks: int = 0


@dataclass(frozen=True, slots=True)
class PageReply:
    """An answer for the wire."""

    headers: dict[str, str]
    body: bytes


@dataclass(frozen=True)
class DeskSetup:
    """What a desk needs to know: the plan, the page with its rules for the browser, where an address stands, and the
    clock (seconds)."""

    plan: PhonePlan
    page: bytes
    policy: str
    standing: Callable[[str], Standing]
    clock: Callable[[], float]


class PhoneDesk:
    """Who may ask what of a lamp, and what is known of each visit. ``changed`` is set whenever there is news."""

    def __init__(self, desk: DeskSetup) -> None:
        self._desk = desk
        address = str(desk.plan.target)
        self._host = f"[{address}]" if ":" in address else address
        self.visits: list[PhoneVisit] = []
        self.changed = asyncio.Event()
        self.asked_for_page = False
        self.tls_from = ""
        self._offer()

    def _offer(self) -> None:
        self._token, self._since = new_key(), self._desk.clock()
        self.asked_for_page = False
        self.changed.set()

    @property
    def token(self) -> str:
        """The token on offer; empty while a phone sweeps."""
        return "" if self.busy else self._token

    @property
    def busy(self) -> bool:
        """Whether a sweep is under way."""
        return bool(self.visits) and not self.visits[-1].over

    def address_at(self, port: int) -> str:
        """What to type into a browser for the page at a port."""
        return f"http://{self._host}:{port}/{self.token}"

    def look_at_clock(self) -> None:
        """End what has taken too long: a token that nobody used, a sweep that went silent."""
        now = self._desk.clock()
        if self.busy and now - self.visits[-1].heard > QUIET_SECONDS:
            self._end(self.visits[-1])
        elif not self.busy and now - self._since > TOKEN_SECONDS:
            self._offer()

    def _end(self, visit: PhoneVisit) -> None:
        visit.over = True
        self._offer()

    def came(self, address: str, port: int) -> None:
        """A connection has come to a port of the server. At the control port, from where the phone is, it counts."""
        if port == self._desk.plan.service.control_port.number and self.visits and address in self.visits[-1].addresses:
            self.visits[-1].knocks += 1
            self.changed.set()

    def met_tls(self, address: str, port: int) -> None:
        """Something asked for TLS where the page is, and may be a browser that wants no other."""
        if not self.asked_for_page and not self.tls_from and port in self._desk.plan.pages:
            self.tls_from = address
            self.changed.set()

    def sweep_of(self, visit: PhoneVisit) -> Sweep:
        """What is known of each port by now."""
        return phone_sweep(self._desk.plan, visit.arrivals, visit.refused, visit.silent)

    def admits(self, head: HttpHead) -> bool:
        """Whether a question comes with a key that is good for it, to the host that was shown, from the page itself."""
        self.look_at_clock()
        visit = self.visits[-1] if self.visits else None
        invited = bool(self.token) and _same(head.key, self.token)
        sweeping = visit is not None and _same(head.key, visit.key)
        pages = [self._at(each) for each in self._desk.plan.pages]
        by_page = head.origin in [f"http://{each}" for each in pages]
        match head.question:
            case "page":
                return invited and head.host in pages and (by_page or not head.origin)
            case "begin":  # a page that had a key may start again
                return (invited or sweeping) and head.host in pages and by_page
            case "here":  # of its own port a page asks without an origin (Fetch, section 3.2)
                own = head.host in pages and not head.origin
                return sweeping and self._port_of(head.host) is not None and (by_page or own)
            case "fates":
                return sweeping and head.host in pages and by_page

    def reply(self, head: HttpHead, body: bytes, peer: str, port: int) -> PageReply | None:
        """The answer to a question that was admitted; ``port`` is the one of the server at which it came. None where
        its body is none."""
        match head.question:
            case "page":
                self.asked_for_page = True
                self.changed.set()
                return self._in_full("text/html; charset=utf-8", self._desk.page, self._desk.policy)
            case "begin":
                return self._json(self._begun(head.origin, peer))
            case "here":
                return self._json(self._arrived(head, peer, port), self.visits[-1].origin)
            case "fates":
                try:
                    fates = msgspec.json.decode(body, type=Fates)
                except msgspec.DecodeError:
                    return None
                return self._json(self._reported(fates, peer))

    def _begun(self, origin: str, peer: str) -> Mapping[str, object]:
        now = self._desk.clock()
        if self.busy:
            self._end(self.visits[-1])
        visit = PhoneVisit(new_key(), origin, now, now, {peer: None})
        self.visits = [*self.visits[1 - MOST_VISITS :], visit]
        self.changed.set()
        ports = order_of(self._desk.plan.ports)
        return {"key": visit.key, "ports": ports, "patience": PATIENCE_SECONDS, "at_once": AT_ONCE}

    def _heard(self, peer: str) -> PhoneVisit:
        """The visit whose key came with a question."""
        visit = self.visits[-1]
        visit.heard = self._desk.clock()
        visit.addresses.setdefault(peer)
        if len(visit.addresses) > MOST_ADDRESSES:
            del visit.addresses[next(iter(visit.addresses))]
        self.changed.set()
        return visit

    def _arrived(self, head: HttpHead, peer: str, port: int) -> Mapping[str, object]:
        visit, asked = self._heard(peer), self._port_of(head.host)
        if asked is not None and asked in self._desk.plan.ports:
            visit.arrivals[asked] = SeenAtPort(port, peer)
        return {"port": port, "from": peer}

    def _reported(self, fates: Fates, peer: str) -> Mapping[str, object]:
        visit = self._heard(peer)
        planned = self._desk.plan.ports
        visit.refused, visit.silent = (_ports(each) & planned for each in (fates.refused, fates.silent))
        if fates.done and not visit.done:
            visit.done = True
            self._end(visit)
        sweep = self.sweep_of(visit)
        return {
            "arrives": [each.port for each in sweep.ports if each.outcome == "ok"],
            "refused": [each.port for each in sweep.ports if each.outcome in ("refused", "wrong")],
            "silent": [each.port for each in sweep.ports if each.outcome == "silent"],
            "moved": {str(each.port): each.arrived_port for each in sweep.rewritten},
            "stands": self._desk.standing(peer),
            "address": peer,
            "knocks": visit.knocks,
        }

    def _port_of(self, host: str) -> int | None:
        """The port of a ``Host`` that is the one that was shown (RFC 9110, section 7.2); None for another."""
        if host == self._host:
            return 80
        name, _, digits = host.rpartition(":")
        return int(digits) if name == self._host and digits.isdecimal() and len(digits) < 6 else None

    def _at(self, port: int) -> str:
        return self._host if port == 80 else f"{self._host}:{port}"

    def _json(self, found: Mapping[str, object], origin: str = "") -> PageReply:
        reply = self._in_full("application/json", msgspec.json.encode(found), "default-src 'none'")
        if origin:
            reply.headers.update({"Access-Control-Allow-Origin": origin, "Vary": "Origin"})
        return reply

    def _in_full(self, kind: str, body: bytes, policy: str) -> PageReply:
        return PageReply(
            {
                "Date": formatdate(usegmt=True),
                "Content-Type": kind,
                "Cache-Control": "no-store",
                "Content-Security-Policy": policy,
                "Referrer-Policy": "no-referrer",
                "X-Content-Type-Options": "nosniff",
            },
            body,
        )


def new_key() -> str:
    """A key that nobody guesses, in letters and digits that nobody mistakes (RFC 4648, section 6)."""
    return b32encode(secrets.token_bytes(KEY_BYTES)).decode().rstrip("=").lower()


def _same(given: str, known: str) -> bool:
    return hmac.compare_digest(given.encode(), known.encode())


def _ports(numbers: Sequence[int]) -> PortSet:
    return PortSet.of(*((each, each) for each in numbers))
