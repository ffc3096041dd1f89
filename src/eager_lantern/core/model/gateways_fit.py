"""Whether what is said of a gateway fits together: addresses that its translation needs, forwards, sizes."""

from collections.abc import Iterator

from ..values.addresses import FAMILIES
from ..values.site_path import SitePath
from .problem import Problem, listed
from .site import ETHERNET_BYTES, Forward, Gateway, Site


def gateway_problems(site: Site) -> Iterator[Problem]:
    """What does not fit of gateways, each by itself."""
    for i, gateway in enumerate(site.gateways):
        place: SitePath = ("gateways", i)
        if gateway.outside.network == gateway.inside.network:
            found = f"“{gateway.inside.network}” is outside and inside of {gateway.name}"
            yield Problem((*place, "inside", "network"), f"{found}; a gateway joins two different networks")
        yield from _translation(gateway, place)
        needs_inside = {"hairpin": gateway.hairpin and gateway.hairpin_source == "inside",
                        "forwards_hide_source": gateway.forwards_hide_source}  # fmt: skip
        for key, needs in needs_inside.items():
            if needs and not gateway.inside.address:
                message = f"{key} needs the gateway's inside address; write inside: {{network: …, address: …}}"
                yield Problem((*place, key), message)
        yield from _exposed(gateway, place)
        yield from _sizes(gateway, place)
        if gateway.inside.ports is not None:
            message = "a share of ports is of an outside address; an inside one has all of them: leave ports out"
            yield Problem((*place, "inside", "ports"), message)
        for j, forward in enumerate(gateway.forwards):
            yield from _forward(forward, (*place, "forwards", j))
            own = gateway.outside_addresses.each
            if forward.outside is not None and forward.outside not in own:
                message = f"{forward.outside} is no outside address of {gateway.name}, which has {listed(own)}"
                yield Problem((*place, "forwards", j, "outside"), message)
            if forward.outside is not None and forward.outside.family != forward.to.family:
                message = f"{forward.outside} and {forward.to} are of different address families"
                yield Problem((*place, "forwards", j, "outside"), f"{message}; a forward joins two of one family")


def _sizes(gateway: Gateway, place: SitePath) -> Iterator[Problem]:
    if gateway.too_big == "dropped" and gateway.mtu >= ETHERNET_BYTES:
        message = f"too_big is about packets larger than a line takes; both of {gateway.name} take {gateway.mtu} bytes"
        yield Problem((*place, "too_big"), f"{message}; give the smaller one its size (outside: {{mtu: 1492}})")


def _exposed(gateway: Gateway, place: SitePath) -> Iterator[Problem]:
    """One host for each family, since all of a device's ports lead to it."""
    for family in FAMILIES:
        if gateway.exposed_host and len(found := gateway.exposed_host.of_family(family)) > 1:
            message = f"exposed_host is one host for each family, found {len(found)}: {gateway.exposed_host}"
            yield Problem((*place, "exposed_host"), f"{message}; keep one")


def _translation(gateway: Gateway, place: SitePath) -> Iterator[Problem]:
    told = {"translate": (gateway.translate, FAMILIES), "translate_ipv6": (gateway.translate_ipv6, (6,))}
    for key, (kind, families) in told.items():
        of_six = " of IPv6" if key == "translate_ipv6" else ""
        if kind == "outward" and not any(gateway.outside.address.of_family(each) for each in families):
            needs = f"needs the gateway's outside address{of_six}; write outside: {{network: …, address: …}}"
            yield Problem((*place, key), f"{key}: outward {needs}")
        if kind == "one-to-one" and not any(each.inside.family in families for each in gateway.pairs):
            yield Problem((*place, key), f"{key}: one-to-one needs pairs{of_six}: [{{outside: …, inside: …}}]")
    if gateway.nat64 is not None and not gateway.outside.address.of_family(4):
        yield Problem(
            (*place, "nat64"), "nat64 needs an outside address of IPv4; write outside: {network: …, address: …}"
        )
    if gateway.nat64 is not None and gateway.ftp_helper:
        message = "what the FTP helper of a NAT64 device rewrites (RFC 6384) is not predicted"
        yield Problem((*place, "ftp_helper"), f"{message}; leave ftp_helper out: EPSV needs none")
    for pair in gateway.pairs:
        if (kind := gateway.translates(pair.inside.family)) != "one-to-one":
            key = "translate" if pair.inside.family == 4 or gateway.translate_ipv6 is None else "translate_ipv6"
            yield Problem((*place, "pairs"), f"pairs need {key}: one-to-one, found {key}: {kind}")
            break
    for j, pair in enumerate(gateway.pairs):
        if pair.outside.family != pair.inside.family:
            message = f"{pair.outside} and {pair.inside} are of different address families"
            yield Problem((*place, "pairs", j), f"{message}; a pair joins two of one family")


def _forward(forward: Forward, place: SitePath) -> Iterator[Problem]:
    if not forward.to_port:
        return
    if len(forward.ports.spans) > 1:
        message = f"to_port is the first inside port of one range, ports has several: {forward.ports}"
        yield Problem((*place, "to_port"), f"{message}; write one forward for each")
    elif forward.ports.highest + forward.offset > 65535:
        message = f"{len(forward.ports)} ports from {forward.to_port} on run past 65535"
        yield Problem((*place, "to_port"), f"{message}; start at {65536 - len(forward.ports)} or lower")
