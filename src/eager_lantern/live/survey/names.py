"""What published names lead to: asked of the resolver, and of the name's own servers, which know what stands there now
(RFC 1035)."""

import asyncio
import secrets
from collections.abc import Callable, Sequence

import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rdatatype
from msgspec import Struct

from ...core.observed.survey import NameSeen
from ...core.values.addresses import Address
from ...wire.terminal_safe import printable
from ..common.visit_plan import WORD, not_everybodys
from ..own_process import understood
from ..vantage.base import Failed, Vantage
from .host import Learning
from .router import datagram_answer

PORT = 53
MOST_SERVERS = 3
MOST_LABELS = 20
NEVER = ("loopback", "link-local", "multicast", "unspecified", "reserved")
"""Kinds of addresses that no server of a name has; one that is named so is not asked."""


class Asks(Struct, frozen=True):
    """Whether servers that only a resolver's answer names are asked: printed before, and where they are not everybody's
    only with a word for it."""

    tell: Callable[[str], None]
    even_private: bool = False

    def may(self, address: Address, label: str, learning: Learning) -> bool:
        """Say who is asked, or keep why not."""
        what = not_everybodys(str(address))
        if what and not self.even_private:
            learning.note_unknown("names", f"{label} is at {address}, {what}: not asked", f"repeat it with {WORD}")
            return False
        self.tell(f"asking {label} at {address}, which only the resolver names")
        return True


async def name_seen(
    vantage: Vantage, name: str, resolvers: Sequence[Address], learning: Learning, asks: "Asks"
) -> list[NameSeen]:
    """The name as the first resolver has it, and as each of its own servers has it."""
    if not resolvers:
        learning.note_unknown("names", f"{printable(name)}: no resolver is known", "name one with --resolver")
        return []
    resolver = resolvers[0]
    found = await learning.of(
        "names", f"ask {resolver} for {name}", _asked_of(vantage, name, resolver, f"the resolver {resolver}", own=False)
    )
    if found is None:
        return []
    named = await learning.of("names", f"ask for the NS of {name}", _own_servers(vantage, name, resolver)) or ()
    servers = [(address, label) for address, label in named if asks.may(address, label, learning)]
    works = [
        learning.of("names", f"ask {label} for {name}", _asked_of(vantage, name, server, label, own=True))
        for server, label in servers
    ]
    return [found, *(each for each in await asyncio.gather(*works) if each is not None)]


async def _asked_of(vantage: Vantage, name: str, server: Address, by: str, own: bool) -> NameSeen:
    """Both kinds of addresses of a name, as one server has them. Raises ValueError, OSError and Failed."""
    addresses: list[Address] = []
    seconds = []
    for kind in (dns.rdatatype.A, dns.rdatatype.AAAA):
        chain = await _dns_answer(vantage, name, kind, server, recursive=not own)
        found = chain.answer or ()
        seconds += [each.ttl for each in (*chain.cnames, *((chain.answer,) if chain.answer else ()))]
        addresses += [Address.parse(item.address) for item in found]
    return NameSeen(name, by, own, tuple(dict.fromkeys(addresses)), min(seconds, default=None))


async def _own_servers(vantage: Vantage, name: str, resolver: Address) -> tuple[tuple[Address, str], ...]:
    """The servers of the zone that a name is in, with the names that they bear."""
    zone = dns.name.from_text(name)
    for _ in range(MOST_LABELS):
        chain = await _dns_answer(vantage, zone.to_text(), dns.rdatatype.NS, resolver, recursive=True)
        targets = [item.target.to_text(True) for item in chain.answer or ()]
        if targets:
            return tuple(
                [each for target in targets[:MOST_SERVERS] for each in await _placed(vantage, target, resolver)]
            )
        if zone == dns.name.root:
            break
        zone = zone.parent()
    raise ValueError(f"no server of {printable(name)} itself is named")


async def _placed(vantage: Vantage, server: str, resolver: Address) -> list[tuple[Address, str]]:
    chain = await _dns_answer(vantage, server, dns.rdatatype.A, resolver, recursive=True)
    found = [Address.parse(item.address) for item in chain.answer or ()]
    return [(each, f"its own server {printable(server)}") for each in found[:1] if each.kind not in NEVER]


async def _dns_answer(
    vantage: Vantage, name: str, kind: dns.rdatatype.RdataType, server: Address, recursive: bool
) -> dns.message.ChainingResult:
    """A server's answer to one question, with the aliases on the way to it. Raises ValueError where it states nothing
    that can be taken for an answer, as where its records are another name's."""
    try:
        question = dns.message.make_query(name, kind, use_edns=0, payload=1232, id=secrets.randbelow(65_536))
        if not recursive:
            question.flags &= ~dns.flags.RD
        wire = await datagram_answer(vantage, str(server), PORT, question.to_wire())
        answer = await understood(lambda: dns.message.from_wire(wire))
    except (dns.exception.DNSException, UnicodeError) as error:
        raise ValueError(f"{printable(name)} of {server}: {type(error).__name__}") from None
    if not isinstance(answer, dns.message.QueryMessage) or not question.is_response(answer):
        raise ValueError(f"{server} answers what was not asked")
    if answer.flags & dns.flags.TC:
        raise ValueError(f"{server} does not answer all of what was asked")
    if answer.rcode() not in (dns.rcode.NOERROR, dns.rcode.NXDOMAIN):
        raise Failed("refused", f"{server} answers {dns.rcode.to_text(answer.rcode())} for {printable(name)}")
    try:
        chain = await understood(answer.resolve_chaining)
    except dns.exception.DNSException as error:
        raise ValueError(f"{printable(name)} of {server}: {type(error).__name__}") from None
    foreign = [each for each in answer.answer if each not in (chain.answer, *chain.cnames)]
    if foreign and chain.answer is None:
        raise ValueError(f"{server} answers for {printable(foreign[0].name.to_text(True))}, not for {printable(name)}")
    return chain
