"""What a gateway changes in a connection: which ports it accepts, where it sends them, and which source it gives them.

The engine, the relays of the loopback lab, the text for the kernel and the findings read this list; how each matches a
connection with it is its own affair, so that they can be held against each other.
"""

from collections.abc import Iterator
from typing import assert_never

from msgspec import Struct
from msgspec.structs import replace

from ..model.site import Forward, Gateway, Transport
from ..values.addresses import Address, AddressSet
from ..values.ports import EVERY_PORT, PortSet
from ..values.text_value import SitePath
from .flow import Flow, Journey, Leg
from .routes import sent_back_inside
from .topology import Device, Topology


class Rewrite(Struct, frozen=True):
    """What is led where. ``outside`` is the one address that it is about, ``protocol`` the one transport, ``sources``
    the only ones; None is any. Ports are moved by ``offset``. A ``forwarded`` connection may pass the filter, a
    pair of addresses joins them and asks it. ``place`` is below the gateway's own."""

    place: SitePath
    name: str
    forwarded: bool
    protocol: Transport | None
    outside: Address | None
    ports: PortSet
    sources: AddressSet | None
    to: Address
    offset: int


def rewrites(gateway: Gateway) -> tuple[Rewrite, ...]:
    """What the device rewrites as it stands: with the master switch off its pairs alone."""
    return tuple(each for each in entries(gateway) if gateway.forwarding or not each.forwarded)


def entries(gateway: Gateway) -> tuple[Rewrite, ...]:
    """The forwards that the device holds, in the order in which they win, then its pairs, then the host that gets
    everything else, whatever the master switch is set to. Forwards that are switched off are no entries: only the
    pages to work from name them, as the site file has them."""
    forwards = in_order(gateway, gateway.entered_forwards())
    exposed = gateway.exposed_host.each if gateway.exposed_host else ()
    pairs = enumerate(gateway.pairs)
    return (
        *(
            Rewrite(("forwards", i), f.name, True, f.protocol, f.outside, f.ports, f.from_, f.to, f.offset)
            for i, f in forwards
        ),
        *(Rewrite(("pairs", i), "", False, None, pair.outside, EVERY_PORT, None, pair.inside, 0) for i, pair in pairs),
        *(Rewrite(("exposed_host",), "", True, None, None, EVERY_PORT, None, each, 0) for each in exposed),
    )


def in_order(gateway: Gateway, forwards: list[tuple[int, Forward]]) -> list[tuple[int, Forward]]:
    """Forwards of a device with their indexes, the one that wins before those that it wins over."""
    match gateway.forward_order:
        case "first":
            return forwards
        case "last":
            return forwards[::-1]
        case "narrowest":
            return sorted(forwards, key=lambda pair: len(pair[1].ports))
        case _ as never:
            assert_never(never)


def matching(rewrite: Rewrite, flow: Flow) -> Flow | None:
    """The part of a flow that is rewritten so."""
    ports = flow.ports & rewrite.ports
    sources = flow.sources & rewrite.sources if rewrite.sources is not None else flow.sources
    meant = rewrite.protocol in (None, flow.protocol) and rewrite.outside in (None, flow.to)
    if not meant or not ports or not sources or rewrite.to.family != flow.to.family:
        return None
    return replace(flow, ports=ports, sources=sources)


def rest_of(flow: Flow, taken: Flow) -> list[Flow]:
    """What is left of a flow: the other ports, and these ports from other sources."""
    others = replace(flow, ports=flow.ports - taken.ports)
    strangers = replace(taken, sources=flow.sources - taken.sources)
    return [each for each in (others, strangers) if each.ports and each.sources]


def of_share(leg: Leg, device: Device) -> Iterator[Leg | Journey]:
    """What comes to a device that has its outside address for some ports alone: the provider leads the others to
    other customers (RFC 7597, RFC 7596)."""
    share = device.spec.outside.ports
    if share is None or leg.flow.to not in device.spec.outside.address:
        yield from past_provider(leg, device)
        return
    if others := leg.flow.ports - share:
        place = (*device.place, "outside", "ports")
        part = leg.narrowed(replace(leg.flow, ports=others))
        yield part.stopped(device.name, "silent", "outside the share", place)
    if own := leg.flow.ports & share:
        yield from past_provider(leg.narrowed(replace(leg.flow, ports=own)), device)


def past_provider(leg: Leg, device: Device) -> Iterator[Leg | Journey]:
    """What comes past the ports that the device's provider never lets in."""
    blocks = device.spec.provider_blocks.ports
    if not blocks:
        yield leg
        return
    for ports, passes in ((leg.flow.ports - blocks, True), (leg.flow.ports & blocks, False)):
        if ports:
            part = leg.narrowed(replace(leg.flow, ports=ports))
            place = (*device.place, "provider_blocks")
            yield part if passes else part.stopped(device.name, "silent", "provider blocks", place)


def translated(topology: Topology, leg: Leg, device: Device) -> Iterator[Leg | Journey]:
    """Source translation on the way out."""
    spec = device.spec
    if spec.nat64 is not None and (inner := spec.nat64.within(leg.flow.to)) is not None:
        yield _into_ipv4(topology, leg, device, inner)
        return
    if device.spec.translates(leg.flow.to.family) == "none":
        yield leg.then(device.name, "route", leg.flow, device.place)
        return
    sources = leg.flow.sources
    for i, pair in enumerate(device.spec.pairs):
        if pair.inside.number in sources:
            part = leg.narrowed(replace(leg.flow, sources=AddressSet.single(pair.inside)))
            flow = replace(part.flow, sources=AddressSet.single(pair.outside))
            yield part.then(device.name, "translate", flow, (*device.place, "pairs", i))
    others = sources - AddressSet.single(*(pair.inside for pair in device.spec.pairs))
    if others:
        yield _pooled(leg.narrowed(replace(leg.flow, sources=others)), device)


def _into_ipv4(topology: Topology, leg: Leg, device: Device, inner: Address) -> Leg | Journey:
    """An IPv6 connection to an address that stands for an IPv4 one goes on in IPv4 (RFC 6146, section 3.5)."""
    outside = AddressSet.single(*device.spec.outside.address.of_family(4))
    place = (*device.place, "nat64")
    if not outside:
        return leg.stopped(device.name, "silent", "no outside address", place)
    crossings = topology.crossings(device.spec.inside.network, inner)
    own = inner.number in device.outside_addresses or inner in device.spec.inside.address
    elsewhere = crossings == () or (crossings and crossings[0].device is not device)
    if own or elsewhere or sent_back_inside(topology, device, inner):
        return leg.stopped(device.name, "unknown", "IPv4 of the inside", place)
    flow = replace(leg.flow, to=inner, sources=outside, from_ports=None, pooled=len(outside) > 1)
    return leg.then(device.name, "translate", flow, place)


def _pooled(leg: Leg, device: Device) -> Leg | Journey:
    outside = AddressSet.single(*device.spec.outside.address.of_family(leg.flow.to.family))
    place = (*device.place, "outside", "address")
    if not outside:
        return leg.stopped(device.name, "silent", "no outside address", device.place)
    flow = replace(leg.flow, sources=outside, from_ports=None, pooled=len(outside) > 1)
    return leg.then(device.name, "translate", flow, place)
