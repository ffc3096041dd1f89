"""What goes wrong with a device besides its forwards and rules: its provider, its addresses, what it does unasked."""

from collections.abc import Iterator

from ..model.change import Change, change
from ..model.entries import BlockedPorts
from ..model.site import ETHERNET_BYTES, INTERNET, Attachment, Gateway, Network, Site
from ..network.free_address import free_address
from ..network.packet_size import HEADERS_BYTES
from ..network.topology import Topology
from ..values.addresses import Address, Addresses, AddressSet
from ..values.ports import PortSet
from ..values.quantities import Duration
from ..values.site_path import SitePath
from .fault import Fault, Variants, setting

FRONTS = tuple(map(AddressSet.parse, ("100.64.220.0/24", "192.168.222.0/24", "10.222.222.0/24")))
"""Networks that may lie between a device and a second one in front of it (RFC 6598, RFC 1918)."""
TUNNEL_BYTES = 1400
"""A packet size that many tunnels come near."""


def gateway_faults(topology: Topology) -> Iterator[Fault]:
    """Of every device."""
    for i, gateway in enumerate(topology.site.gateways):
        place: SitePath = ("gateways", i)
        if gateway.outside.network == INTERNET:
            yield from _provider(topology, place, gateway)
        if gateway.outside.network == INTERNET and gateway.translate != "none" and gateway.outside.address:
            yield from _outside(topology, place, gateway)
        yield from _habits(topology.site, place, gateway)
        yield from _line(topology.site, place, gateway)


def _provider(topology: Topology, place: SitePath, gateway: Gateway) -> Iterator[Fault]:
    """Blocks of what the services of files need."""
    blocked = gateway.provider_blocks.ports
    for each in topology.site.services:
        if each.protocol == "other":
            continue
        ranges = [each.passive.ports] if each.passive else []
        for ports in (PortSet.single(each.control_port.number), *ranges):
            written = f"port {ports}" if len(ports) == 1 else f"ports {ports}"
            yield Fault(
                "provider-blocks",
                (*place, "provider_blocks"),
                f"the provider of {gateway.name}",
                f"the provider of {gateway.name} does not let in {written}",
                f"does a lamp on {written} get any light from outside, and what does the provider say of it?",
                f"use other ports than {ports}, or ask the provider to let them in",
                setting(topology.site, (*place, "provider_blocks"), BlockedPorts(blocked | ports)),
            )


def _outside(topology: Topology, place: SitePath, gateway: Gateway) -> Iterator[Fault]:
    own = gateway.outside.address.each[0]
    shown = f"which outside address does the status page of {gateway.name} show"
    other = free_address(topology, INTERNET, own.family)
    address: SitePath = (*place, "outside", "address")
    if other is not None:
        yield Fault(
            "outside-address-changed",
            address,
            gateway.name,
            f"{gateway.name} has another outside address than {own} by now",
            f"{shown}: {own}?",
            f"write the present one in place of {own}, in the site file, at the server and into every name, or ask the "
            "provider for an address that stays",
            setting(topology.site, address, Addresses((other, *gateway.outside.address.each[1:]))),
        )
    if own.family == 4 and (changes := _behind_another(topology, place, gateway)):
        yield Fault(
            "second-translation",
            (*place, "outside"),
            gateway.name,
            f"another device that translates stands between {gateway.name} and the internet",
            f"{shown}: {own}, or one of a private or shared range?",
            f"forward at the device in front to {gateway.name} as well, or have it bridge; of a provider's, ask for a "
            "public address",
            (changes,),
        )


def _behind_another(topology: Topology, place: SitePath, gateway: Gateway) -> tuple[Change, ...]:
    """The device's outside address moved to one in front of it."""
    site = topology.site
    between = next((each for each in FRONTS if not any(each & known for known in topology.subnets.values())), None)
    if between is None:
        return ()
    name = f"in front of {gateway.name}"
    front = Gateway(
        name=f"device {name}",
        outside=gateway.outside,
        inside=Attachment(network=name, address=Addresses((Address(between.lowest + 1),))),
        translate="outward",
    )
    return (
        change(site, ("networks", len(site.networks)), Network(name=name, subnet=between)),
        change(site, ("gateways", len(site.gateways)), front),
        change(site, (*place, "outside"), Attachment(network=name, address=Addresses((Address(between.lowest + 61),)))),
    )


def _habits(site: Site, place: SitePath, gateway: Gateway) -> Iterator[Fault]:
    name = gateway.name

    def switch(key: str, new: object) -> Variants:
        return setting(site, (*place, key), new)

    if gateway.hairpin:
        yield Fault(
            "hairpin-missing",
            (*place, "hairpin"),
            name,
            f"{name} does not turn connections to its outside address back inside",
            f"does {name} have hairpin (NAT loopback), and is it on?",
            f"switch it on at {name}, or let inside clients go to the server's own address",
            switch("hairpin", False),
        )
    if gateway.ftp_helper:
        yield Fault(
            "helper-off",
            (*place, "ftp_helper"),
            name,
            f"{name} does not follow FTP sessions",
            f"is the FTP helper of {name} on?",
            f"switch it on at {name}, or forward the whole passive range",
            switch("ftp_helper", False),
        )
    elif gateway.translate != "none":
        yield Fault(
            "helper-on",
            (*place, "ftp_helper"),
            name,
            f"{name} reads FTP sessions and rewrites addresses and ports in them",
            f"is an FTP helper (ALG) of {name} on?",
            f"switch it off at {name}",
            switch("ftp_helper", True),
        )
    slowest = max((each.transfer_seconds or 0 for each in site.services), default=0)
    if slowest > 1 and (gateway.idle_timeout is None or gateway.idle_timeout.amount >= slowest):
        yield Fault(
            "idle-too-short",
            (*place, "idle_timeout"),
            name,
            f"{name} forgets quiet connections before a transfer ends",
            f"after how long does {name} forget a quiet TCP connection?",
            f"raise that at {name}, or let clients keep the control connection alive",
            switch("idle_timeout", Duration(slowest / 2)),
        )


def _line(site: Site, place: SitePath, gateway: Gateway) -> Iterator[Fault]:
    """A line that takes smaller packets than the file says, where nobody tells their senders."""
    outside: SitePath = (*place, "outside", "mtu")
    if gateway.clamps_mss or gateway.mtu < TUNNEL_BYTES:
        return
    narrow = change(site, outside, TUNNEL_BYTES), change(site, (*place, "too_big"), "dropped")
    yield Fault(
        "full-packets-lost",
        outside,
        gateway.name,
        f"full packets are lost at the outside line of {gateway.name}, and nobody tells their sender",
        f"does a packet of {ETHERNET_BYTES} bytes that may not be cut pass {gateway.name}, and does one of "
        f"{TUNNEL_BYTES}?",
        f"let {gateway.name} clamp the segment size (MSS) to {TUNNEL_BYTES - HEADERS_BYTES[4]} bytes, or let ICMP that "
        "tells of packets too big pass",
        (narrow,),
    )
