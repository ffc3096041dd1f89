"""What follows from a survey alone: what translates on the way outside, and which ports the router forwards.

A router knows the address of its own outside; whoever stands outside knows the address that packets come from. Where
both are the same, nothing else translates on the way; where they are not, something does, and the kind of the
router's address shows what: one of RFC 6598 is a carrier's, one of RFC 1918 another router's.
"""

from collections.abc import Iterator, Sequence
from typing import Literal

from msgspec import Struct

from ..model.entries import Port
from ..model.site import Forward
from ..values.addresses import Address
from ..values.phrases import listed
from ..values.ports import PortSet
from ..values.quantities import Duration
from .survey import MappingSeen, Means, NameSeen, OutsideSeen, Survey

ConclusionKind = Literal[
    "one-outside-address",
    "no-translation",
    "carrier-translates",
    "second-router",
    "tunnel-in-the-way",
    "seen-elsewhere",
    "means-disagree",
    "name-lags",
    "name-leads-elsewhere",
    "name-leads-nowhere",
    "ipv6-without-path",
    "address-will-change",
]
Translator = Literal["carrier-translates", "second-router"]
OF_ROUTERS: tuple[Means, ...] = ("pcp", "nat-pmp", "upnp")


class Conclusion(Struct, frozen=True):
    """What follows, whether it is well (True), a hindrance (False) or neither, and what to do about it."""

    kind: ConclusionKind
    message: str
    advice: str = ""
    good: bool | None = False


def outside_of(survey: Survey) -> tuple[Address, ...]:
    """The outside addresses of IPv4 as they are known best: what somebody outside saw, else what the router reports, if
    that can be anybody's own; nothing where a tunnel makes them somebody else's."""
    way = survey.way_out(4)
    if way is not None and way.tunnel:
        return ()
    seen = _distinct_addresses(_seen_by_outsiders(survey))
    return seen or tuple(each for each in _distinct_addresses(_by_router(survey)) if each.kind == "public")


def conclusions(survey: Survey) -> tuple[Conclusion, ...]:
    """All that follows, what hinders first."""
    found = [*_of_translation(survey), *_name_conclusions(survey), *_of_ipv6(survey), *_of_lease(survey)]
    return tuple(sorted(found, key=lambda each: (each.good is not False, each.good is None)))


def translated_before(survey: Survey) -> Translator | None:
    """What stands before the router and translates too, by the kind of the router's own outside address."""
    kinds = {each.kind for each in _distinct_addresses(_by_router(survey))}
    if kinds & {"carrier", "reserved"}:  # 192.0.0.0/29 is a carrier's as well (RFC 6333)
        return "carrier-translates"
    return "second-router" if "private" in kinds else None


def _of_translation(survey: Survey) -> Iterator[Conclusion]:
    way, router, seen = survey.way_out(4), _by_router(survey), _seen_by_outsiders(survey)
    if way is not None and way.tunnel:
        yield Conclusion(
            "tunnel-in-the-way",
            f"the way to the internet leads through the tunnel {way.interface}: the outside address is that of its"
            " other end, where nothing is forwarded to this host",
            "let the server's packets go past the tunnel, or serve from where the tunnel comes out",
        )
        return
    yield from _disagreeing(router, "the router reports")
    yield from _disagreeing(seen, "seen from outside are")
    before = translated_before(survey)
    if before is not None:
        yield _translated(before, router[0], seen)
    elif router and seen and not set(_distinct_addresses(router)) & set(_distinct_addresses(seen)):
        yield Conclusion(
            "seen-elsewhere",
            f"the router reports {router[0].address} as its outside address, and from outside {seen[0].address} is"
            f" seen ({seen[0].by})",
            "is there a second line, or a rule that sends this host's packets another way?",
        )
    elif way is not None and way.source is not None and way.source in _distinct_addresses(seen):
        yield Conclusion("no-translation", f"{way.source} is this host's own, and seen from outside", good=True)
    elif router:
        yield from _agreeing([*router, *seen])
    elif len(_distinct_addresses(seen)) == 1:
        yield _seen_alone(seen)


def _translated(kind: Translator, reported: OutsideSeen, seen: Sequence[OutsideSeen]) -> Conclusion:
    further = f"; from outside {seen[0].address} is seen" if seen else ""
    if kind == "carrier-translates":
        return Conclusion(
            kind,
            f"the router's outside address {reported.address} is its carrier's, which translates once more{further}: no"
            " forward of the router is reached from the internet",
            "get a public address from the provider, publish IPv6, or serve from a host outside",
        )
    return Conclusion(
        kind,
        f"the router's outside address {reported.address} is private: another router stands before it{further}",
        "forward the same ports on that one too, or let it pass everything on (as a bridge)",
    )


def _disagreeing(reported: Sequence[OutsideSeen], how: str) -> Iterator[Conclusion]:
    if len(_distinct_addresses(reported)) > 1:
        each = listed([f"{one.address} ({one.by})" for one in reported])
        yield Conclusion("means-disagree", f"{how} several addresses: {each}", "which of them is reached? Visit each")


def _agreeing(reported: Sequence[OutsideSeen]) -> Iterator[Conclusion]:
    if len(_distinct_addresses(reported)) == 1:
        by = listed([each.by for each in reported])
        yield Conclusion(
            "one-outside-address", f"the outside address is {reported[0].address}, reported by {by}", good=True
        )


def _seen_alone(seen: Sequence[OutsideSeen]) -> Conclusion:
    by = listed(each.by for each in seen)
    return Conclusion(
        "one-outside-address",
        f"from outside {seen[0].address} is seen ({by}); whether that is the router's own was not learnt",
        "read the router's own outside address off its status page: if it is another, something translates before it",
        good=None,
    )


def _name_conclusions(survey: Survey) -> Iterator[Conclusion]:
    outside = outside_of(survey)
    for name in dict.fromkeys(each.name for each in survey.names):
        answers = [each for each in survey.names if each.name == name]
        own = [each for each in answers if each.own]
        yield from _lagging(name, [each for each in answers if not each.own], own)
        known = own or answers
        four = {address for each in known for address in each.addresses if address.family == 4}
        if not any(each.addresses for each in known):
            yield Conclusion("name-leads-nowhere", f"{name} has no address", f"add an A record for {name}, or drop it")
        if outside and four and not four & set(outside):
            there, here = listed(sorted(map(str, four))), listed(map(str, outside))
            message = f"{name} leads to {there}, and the outside address is {here}"
            yield Conclusion("name-leads-elsewhere", message, f"set the A record of {name} to {outside[0]}")
        if any(address.family == 6 for each in known for address in each.addresses) and _no_way_by_six(survey):
            yield Conclusion(
                "ipv6-without-path",
                f"{name} has an AAAA record, and no packet of IPv6 leaves this host",
                "take the AAAA record out until IPv6 works here",
            )


def _no_way_by_six(survey: Survey) -> bool:
    return survey.learnt("way-out") and survey.way_out(6) is None


def _lagging(name: str, cached: Sequence[NameSeen], own: Sequence[NameSeen]) -> Iterator[Conclusion]:
    """A resolver that has another answer than the name's own servers, and own servers that differ."""
    theirs = {frozenset(each.addresses) for each in own}
    if len(theirs) > 1:
        differ = listed([f"{_led_to(one)} ({one.by})" for one in own])
        yield Conclusion(
            "name-lags", f"the servers of {name} differ: {differ}", "wait, or have the zone handed on anew"
        )
    for each in cached:
        if theirs and frozenset(each.addresses) not in theirs:
            for_long = f"for up to {each.seconds} s more" if each.seconds is not None else "for a while"
            yield Conclusion(
                "name-lags",
                f"{each.by} still has {_led_to(each)} for {name}, {for_long}; its own servers have {_led_to(own[0])}",
                "wait that long, and lower the TTL before the next change",
            )


def _led_to(seen: NameSeen) -> str:
    return listed(map(str, seen.addresses)) or "nothing"


def _of_ipv6(survey: Survey) -> Iterator[Conclusion]:
    six = [each for each in survey.host.addresses if each.address.family == 6 and each.address.kind == "public"]
    if six and all(each.temporary for each in six):
        yield Conclusion(
            "address-will-change",
            f"every IPv6 address of this host changes by itself ({six[0].address}; RFC 8981)",
            "give the server an address that stays, and publish that",
        )


def _of_lease(survey: Survey) -> Iterator[Conclusion]:
    for each in survey.host.addresses:
        if each.lease and each.address.family == 4:
            yield Conclusion(
                "address-will-change",
                f"{each.address} is leased: the server may have another after its next start",
                "reserve it where leases are given, or set it fixed",
                good=None,
            )


def _by_router(survey: Survey) -> list[OutsideSeen]:
    return [each for each in survey.outside if each.means in OF_ROUTERS and each.address.family == 4]


def _seen_by_outsiders(survey: Survey) -> list[OutsideSeen]:
    return [each for each in survey.outside if each.means not in OF_ROUTERS and each.address.family == 4]


def _distinct_addresses(reported: Sequence[OutsideSeen]) -> tuple[Address, ...]:
    return tuple(dict.fromkeys(each.address for each in reported))


def forwards_of(mappings: Sequence[MappingSeen]) -> tuple[Forward, ...]:
    """The same as forwards: neighbouring ports to one host with one shift are one range, in the order of the first.

    >>> from eager_lantern.core.values.addresses import Address
    >>> host = Address.parse("10.61.4.20")
    >>> found = forwards_of([MappingSeen("tcp", port, host, port, "x") for port in (21, 61200, 61201, 61202)])
    >>> [str(each.ports) for each in found]
    ['21', '61200-61202']
    """
    alike: dict[tuple[object, ...], list[MappingSeen]] = {}
    for each in mappings:
        key = (each.protocol, each.to, each.to_port - each.port, each.enabled, each.name, bool(each.lease_seconds))
        alike.setdefault(key, []).append(each)
    return tuple(_forward(span, same) for same in alike.values() for span in PortSet.of(*_single(same)).spans)


def _single(mappings: Sequence[MappingSeen]) -> list[tuple[int, int]]:
    return [(each.port, each.port) for each in mappings if each.port and each.to_port]


def _forward(span: tuple[int, int], same: Sequence[MappingSeen]) -> Forward:
    """One range of mappings that are alike; of leases that end the shortest counts."""
    one = same[0]
    shift = one.to_port - one.port
    lasting = min(each.lease_seconds for each in same)
    return Forward(
        name=one.name,
        protocol=one.protocol,
        ports=PortSet.of(span),
        to=one.to,
        to_port=Port(span[0] + shift) if shift else None,
        enabled=one.enabled,
        lifetime=Duration(lasting) if lasting else None,
    )
