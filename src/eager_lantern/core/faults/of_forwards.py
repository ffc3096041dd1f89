"""What goes wrong with the forwards of a device."""

from collections.abc import Iterator

from ..model.change import Change, change
from ..model.entries import Port
from ..model.site import Forward, Gateway, Site
from ..network.free_address import free_address
from ..network.topology import Topology
from ..values.phrases import ports_phrase, the
from ..values.ports import PortSet
from ..values.site_path import SitePath
from .fault import Fault, FaultKind, Variants, setting
from .slips import cut, digit_off, moved

OTHER_INSIDE_PORTS = 1000
"""How far off the inside port of a forward is taken to be."""


def forward_faults(topology: Topology, seen: PortSet) -> Iterator[Fault]:
    """Of every forward that is switched on; ``seen`` are ports that are known to work or not, between which a range
    may end."""
    for i, gateway in enumerate(topology.site.gateways):
        for j, forward in enumerate(gateway.forwards):
            if forward.enabled:
                yield from _of_one(topology, i, j, gateway, forward, seen)
        if gateway.forwards and gateway.forwarding:
            yield _master_switch(topology.site, i, gateway)


def _master_switch(site: Site, i: int, gateway: Gateway) -> Fault:
    place: SitePath = ("gateways", i, "forwarding")
    return Fault(
        "forwarding-off",
        place,
        gateway.name,
        f"{gateway.name} has forwarding as a whole switched off",
        f"is the switch above the forwards of {gateway.name} on?",
        f"switch forwarding on at {gateway.name}",
        setting(site, place, False),
    )


def _of_one(topology: Topology, i: int, j: int, gateway: Gateway, forward: Forward, seen: PortSet) -> Iterator[Fault]:
    site, name = topology.site, gateway.name
    place: SitePath = ("gateways", i, "forwards", j)
    what = the("forward", forward.name)
    entry = f"{forward.protocol} {forward.ports} → {forward.to}{_inside(forward)}"
    look = f"is there an entry {entry} on {name}"
    off = setting(site, (*place, "enabled"), False)  # what is not there does what is switched off does

    def fault(kind: FaultKind, message: str, look: str, cure: str, variants: Variants) -> Fault:
        return Fault(kind, place, name, f"{name} {message}", look, f"{cure} at {name}", variants)

    yield fault(
        "forward-missing",
        f"has no forward for {ports_phrase(forward.ports)}",
        f"{look}?",
        f"enter {entry}",
        off,
    )
    yield fault(
        "forward-off",
        f"has {what} switched off",
        f"{look}, and is it on?",
        f"switch {what} on",
        off,
    )
    if (nobody := free_address(topology, gateway.inside.network, forward.to.family)) is not None:
        yield fault(
            "forward-old-address",
            f"forwards {ports_phrase(forward.ports)} to another address than {forward.to}",
            f"does {what} point at {forward.to}?",
            f"let {what} point at {forward.to}",
            setting(site, (*place, "to"), nobody),
        )
    ports: SitePath = (*place, "ports")
    if len(forward.ports) > 1:
        yield fault(
            "forward-in-part",
            f"forwards only a part of {forward.ports}",
            f"does {what} cover {forward.ports}, from end to end?",
            f"set {what} to {forward.ports}",
            _kept(site, place, forward, cut(forward.ports, seen)),
        )
        yield fault(
            "forward-shifted",
            f"forwards a range beside {forward.ports}",
            f"does {what} begin at {forward.ports.lowest} and end at {forward.ports.highest}?",
            f"set {what} to {forward.ports}",
            setting(site, ports, *moved(forward.ports)),
        )
    yield fault(
        "forward-digit-off",
        f"forwards ports that differ from {forward.ports} by a digit",
        f"is {forward.ports} what {what} says, digit by digit?",
        f"set {what} to {forward.ports}",
        setting(site, ports, *digit_off(forward.ports)),
    )
    yield fault(
        "forward-other-inside-port",
        f"hands {ports_phrase(forward.ports)} on to other ports of {forward.to}",
        f"is the inside port of {what} {forward.ports.lowest + forward.offset}?",
        f"set the inside port of {what} to {forward.ports.lowest + forward.offset}",
        setting(site, (*place, "to_port"), *_elsewhere(forward)),
    )
    other = "udp" if forward.protocol == "tcp" else "tcp"
    yield fault(
        "forward-other-protocol",
        f"forwards {ports_phrase(forward.ports)} over {other} instead of {forward.protocol}",
        f"does {what} say {forward.protocol}?",
        f"set {what} to {forward.protocol}",
        setting(site, (*place, "protocol"), other),
    )


def _inside(forward: Forward) -> str:
    return f":{forward.to_port}" if forward.to_port else ""


def _elsewhere(forward: Forward) -> tuple[Port, ...]:
    """Inside ports that a forward may lead to by mistake."""
    first = forward.ports.lowest + forward.offset
    last = forward.ports.highest + forward.offset
    return (Port(first + OTHER_INSIDE_PORTS if last + OTHER_INSIDE_PORTS <= 65535 else first - OTHER_INSIDE_PORTS),)


def _kept(site: Site, place: SitePath, forward: Forward, parts: tuple[PortSet, ...]) -> Variants:
    """A variant for each part of the ports; each port keeps its inside port."""
    return tuple(tuple(_narrowed(site, place, forward, part)) for part in parts)


def _narrowed(site: Site, place: SitePath, forward: Forward, part: PortSet) -> Iterator[Change]:
    yield change(site, (*place, "ports"), part)
    if forward.to_port is not None:
        yield change(site, (*place, "to_port"), Port(part.lowest + forward.offset))
