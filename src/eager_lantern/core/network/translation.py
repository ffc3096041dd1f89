"""What a device does to the ends of a connection: which ports come to it at all, what it rewrites on the way in, and
which source it gives on the way out."""

from collections.abc import Iterator

from msgspec.structs import replace

from ..values.addresses import Address, AddressSet
from .flow import Flow, Journey, Leg
from .rewrites import Rewrite
from .routes import sent_back_inside
from .topology import Device, Topology


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
