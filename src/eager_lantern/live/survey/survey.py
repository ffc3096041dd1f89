"""A survey: the host first, then everybody who can tell of its outside, all at once."""

import asyncio
import secrets
from collections.abc import Sequence

from msgspec import Struct
from msgspec.structs import replace

from ...core.observed.survey import ClockState, NameSeen, OutsideSeen, Survey, SurveyedHost, Topic
from ...core.values.addresses import Address
from ...wire import stun
from ...wire.ftp import Endpoint
from ...wire.linux_host import name_servers
from ..own_process import understood
from ..vantage.base import Failed, Vantage
from ..vantage.far import FarVantage
from ..vantage.local import HERE
from .accounts import linux_accounts, own_accounts
from .host import Learning, clock_offset, is_linux, linux_host, source_towards, this_machine
from .names import Asks, name_seen
from .router import Asking, RouterAnswers, Tell, datagram_answer, router_answers

OUTSIDE: Topic = "outside-address"
CLOCK: Topic = "clock"


class SurveyPlan(Struct, frozen=True):
    """What to ask beside the host: the router where it is named, STUN servers, names, the resolver where it is named;
    ``known`` is what was seen from outside before, ``even_private`` whether servers of names are asked at addresses
    that no host on the internet has. Of ``accounts`` the host's own system is asked."""

    router: Address | None = None
    stun: tuple[Endpoint, ...] = ()
    names: tuple[str, ...] = ()
    resolver: Address | None = None
    known: tuple[OutsideSeen, ...] = ()
    even_private: bool = False
    accounts: tuple[str, ...] = ()


async def survey(vantage: Vantage, wanted: SurveyPlan, observers: Sequence[FarVantage], tell: Tell) -> Survey:
    """What is there, as seen from a place. ``observers`` are hosts outside that see this machine."""
    learning = Learning()
    host = await _survey_host(vantage, wanted.accounts, learning)
    return await outside_of_host(vantage, host, wanted, observers, tell, learning)


async def outside_of_host(
    vantage: Vantage,
    host: SurveyedHost,
    wanted: SurveyPlan,
    observers: Sequence[FarVantage],
    tell: Tell,
    learning: Learning,
) -> Survey:
    """What others report about a known host: its router, servers outside, names."""
    way = next((each for each in host.ways_out if each.gateway is not None), None)
    router = wanted.router or (way.gateway if way else None)
    router_facts, by_stun, by_ssh, names = await asyncio.gather(
        _of_router(vantage, host, router, tell, learning),
        asyncio.gather(*(learning.of(OUTSIDE, f"ask {each}", _by_stun(vantage, each)) for each in wanted.stun)),
        asyncio.gather(*(learning.of(OUTSIDE, f"ssh {each.name}", _by_ssh(each)) for each in observers)),
        _survey_names(vantage, wanted, tell, learning),
    )
    clock_state = await _clock_beside(host, observers, learning)
    outside = [each for each in (*router_facts.outside, *by_stun, *by_ssh, *wanted.known) if each is not None]
    if not any(each.means in ("stun", "ssh", "seen") for each in outside):
        why = "nobody outside was asked"
        learning.note_unknown(OUTSIDE, why, "name a STUN server (--stun) or an SSH host outside (--seen-by)")
    return Survey(clock_state, router, tuple(outside), names, router_facts.mappings, tuple(learning.unknown))


async def _survey_host(vantage: Vantage, accounts: Sequence[str], learning: Learning) -> SurveyedHost:
    if await is_linux(vantage):
        host = await linux_host(vantage, vantage is not HERE, learning)
        return replace(host, accounts=await linux_accounts(vantage, accounts, learning))
    if vantage is HERE:
        host = this_machine(learning)
        return replace(host, accounts=await own_accounts(host.kind, accounts, learning))
    if accounts:
        learning.note_unknown("accounts", f"{vantage.name} is no Linux", "run the survey on it")
    learning.note_unknown("addresses", f"{vantage.name} is no Linux, and is not read from afar", "run the survey on it")
    return SurveyedHost(vantage.name, "unknown", "other")


async def _of_router(
    vantage: Vantage, host: SurveyedHost, router: Address | None, tell: Tell, learning: Learning
) -> RouterAnswers:
    if router is None:
        learning.note_unknown("mappings", "no router is known", "name it with --router")
        return RouterAnswers((), ())
    own = source_towards(router) if vantage is HERE else _source_there(host, router)
    used = frozenset(each.port for each in host.listeners)
    return await router_answers(vantage, Asking(router, own, used), tell, learning)


def _source_there(host: SurveyedHost, router: Address) -> Address | None:
    """The address from which a host far away would ask its router."""
    sources = [each.source for each in host.ways_out if each.gateway == router]
    beside = [each.address for each in host.addresses if each.network and router.number in each.network]
    return next((each for each in (*sources, *beside) if each is not None), None)


async def _by_stun(vantage: Vantage, server: Endpoint) -> OutsideSeen:
    """Raises OSError, ValueError and Failed."""
    try:
        address = str(Address.parse(server.address))
    except ValueError:
        address = await vantage.find(server.address, server.port)
    transaction = secrets.token_bytes(stun.TRANSACTION_BYTES)
    try:
        answer = await datagram_answer(vantage, address, server.port, stun.binding_request(transaction))
        seen = await understood(lambda: stun.mapped_address(answer, transaction))
        return OutsideSeen(seen.address, "stun", f"the STUN server {server}")
    except (ValueError, Failed) as error:
        raise ValueError(f"STUN {server}: {error}") from None


async def _by_ssh(observer: FarVantage) -> OutsideSeen:
    router_facts = await observer.seen_as()
    return OutsideSeen(Address.parse(router_facts), "ssh", f"{observer.name}, reached over SSH")


async def _clock_beside(host: SurveyedHost, observers: Sequence[FarVantage], learning: Learning) -> SurveyedHost:
    """The host, its clock held against that of the first who sees it from outside, where nobody has yet."""
    if not observers or (host.clock is not None and host.clock.offset_seconds is not None):
        return host
    offset = await learning.of(CLOCK, "date +%s, beside a clock that you trust", clock_offset(observers[0]))
    if offset is None:
        return host
    learning.unknown = [each for each in learning.unknown if each.topic != CLOCK]
    kept = host.clock.kept if host.clock is not None else None
    return replace(host, clock=ClockState(f"beside the clock of {observers[0].name}", round(-offset, 1), kept))


async def _survey_names(vantage: Vantage, wanted: SurveyPlan, tell: Tell, learning: Learning) -> tuple[NameSeen, ...]:
    if not wanted.names:
        return ()
    resolvers: tuple[Address, ...] = (wanted.resolver,) if wanted.resolver is not None else ()
    if not resolvers:
        written = await learning.of("names", "name a resolver with --resolver", vantage.read("/etc/resolv.conf"))
        resolvers = name_servers(written) if written else ()
    asks = Asks(tell, wanted.even_private)
    found = await asyncio.gather(*(name_seen(vantage, each, resolvers, learning, asks) for each in wanted.names))
    return tuple(each for several in found for each in several)
