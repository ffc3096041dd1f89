"""FTP helpers in gateways: they read the control connection and follow it.

A helper understands plain FTP on the control ports that it watches, as the device sees them: before its forwards
move them, or behind. It
rewrites the address in a PASV reply or a PORT command that names the inside host, and lets
the data connection in or out past forwards and filters. An address that is not the inside
host's own it leaves alone, as the packet filter's connection tracking does. Under TLS or on
another port it sees nothing.

Theory: two readings of one conversation
========================================
A reply comes back on the way of the control connection, so its readers are asked in the opposite order,
and each knows the connection twice: as it came to it (``before``) and as it handed it on (``behind``).
The helper next to the server finds the server's own address in the reply, which is where it led the
connection to, and writes where the client had sent it instead; the one before that finds in turn what
it knows as its own goal. A chain breaks at the first helper that finds another address than it expects.

The rewritten reply is half of its work; the other half is a door that it opens beside all rules, for one
connection from the other end of the control connection, and for no one else. So a client that comes for
data by another address than for control stands before a closed door, though all was rewritten well.

>>> from eager_lantern.api import PortSet, Topology, parse_site, trace
>>> topology = Topology(parse_site("pier", '''
... lantern: 1
... site: Pier
... networks: [{name: office, subnet: 10.61.4.0/24}]
... gateways:
...   - name: router
...     outside: {network: internet, address: 198.51.100.61}
...     inside: {network: office, address: 10.61.4.1}
...     translate: outward
...     ftp_helper: true
...     forwards: [{ports: 21, to: 10.61.4.20}]
... server: {name: store, network: office, address: 10.61.4.20}
... services: [{name: tides, protocol: ftp, control_port: 21, passive: {ports: 61200-61203}}]
... ''').site)
>>> flow = Flow("tcp", AddressSet.parse("203.0.113.50"), None, Address.parse("198.51.100.61"), PortSet.parse("21"))
>>> (control,) = trace(topology, "internet", flow)
>>> followed = announced_through(topology, control, "internet", Address.parse("10.61.4.20"), extended=False)
>>> print(followed.address, followed.helped["router"].peers, followed.helped["router"].host)
198.51.100.61 203.0.113.50 10.61.4.20
>>> print(announced_through(topology, control, "internet", Address.parse("10.61.4.99"), extended=False).address)
10.61.4.99
"""

from collections.abc import Sequence
from typing import Literal

from msgspec import Struct, field
from msgspec.structs import replace

from ..values.addresses import Address, AddressSet
from .flow import Flow, Journey
from .journey import Expected
from .topology import Device, Topology


class Followed(Struct, frozen=True):
    """What helpers made of an address on its way, and which gateways expect the data; ``drawn_at`` is a device that
    writes the address of a pool there which it has drawn for the control connection, so that nobody else knows it."""

    address: Address
    helped: dict[str, Expected] = field(default_factory=dict)
    drawn_at: Device | None = None


class _Sight(Struct, frozen=True):
    """The control connection before and behind one device that reads it."""

    device: Device
    way: Literal["inward", "outward", "turned"]
    before: Flow
    behind: Flow


def announced_to_all(
    topology: Topology, controls: Sequence[Journey], start: str, address: Address, extended: bool
) -> Followed | None:
    """Follow the server's reply out to clients whose control connections came on several ways: each helper expects
    the data of all whom it read. None where not all get the same address, or helpers lead them apart."""
    each = [announced_through(topology, control, start, address, extended) for control in controls]
    helped: dict[str, Expected] = {}
    for name, expected in (pair for one in each for pair in one.helped.items()):
        known = helped.setdefault(name, expected)
        helped[name] = replace(known, peers=known.peers | expected.peers)
        if known.host != expected.host:
            return None
    return Followed(each[0].address, helped) if all(one.address == each[0].address for one in each) else None


def announced_through(topology: Topology, control: Journey, start: str, address: Address, extended: bool) -> Followed:
    """Follow the server's reply out to the client.

    ``extended`` is EPSV (RFC 2428), whose reply has no address to rewrite.
    """
    helped: dict[str, Expected] = {}
    for sight in reversed(_readers(topology, control, start)):
        if not extended and address != sight.behind.to:
            continue
        host = None if sight.way == "outward" else sight.behind.to
        helped[sight.device.name] = Expected(sight.before.sources, host)
        if not extended:
            address = sight.before.to
    return Followed(address, helped)


def named_through(topology: Topology, control: Journey, start: str, address: Address) -> Followed:
    """Follow the client's PORT or EPRT command in to the server."""
    helped: dict[str, Expected] = {}
    for sight in _readers(topology, control, start):
        if sight.before.sources.spans != ((address.number, address.number),):
            continue
        hidden = sight.way == "inward" and sight.before.sources != sight.behind.sources
        server, host = AddressSet.single(sight.behind.to), address if hidden or sight.way != "inward" else None
        known_as = None if sight.way == "outward" else sight.before.to
        helped[sight.device.name] = Expected(server, host, known_as, hidden)
        if len(sight.behind.sources) > 1:
            return Followed(address, helped, sight.device)
        address = Address(sight.behind.sources.lowest)
    return Followed(address, helped)


def first_reader(topology: Topology, control: Journey, start: str) -> Device | None:
    """The first device whose helper reads this control connection."""
    return next((each.device for each in _readers(topology, control, start)), None)


def reads_twice(topology: Topology, control: Journey) -> Device | None:
    """A device with a helper that the control connection passes, leaves, and passes again: what its
    two readings of the same words make of each other is decided by no rule of the site."""
    for device in topology.devices:
        steps = [i for i, step in enumerate(control.steps) if step.at == device.name]
        if device.spec.ftp_helper and steps and steps[-1] - steps[0] >= len(steps):
            return device
    return None


def _readers(topology: Topology, control: Journey, start: str) -> list[_Sight]:
    """The devices with a helper that read this control connection, in its direction."""
    found: list[_Sight] = []
    ways = {each.device.name: each.way for each in topology.chain(start, topology.server.network) or ()}
    for device in topology.devices:
        steps = [i for i, step in enumerate(control.steps) if step.at == device.name]
        turned = any(control.steps[i].does == "hairpin" for i in steps)
        way = "turned" if turned else ways.get(device.name)
        if not steps or way is None or not device.spec.ftp_helper:
            continue
        before, behind = control.steps[steps[0] - 1].flow, control.steps[steps[-1]].flow
        read = before if device.spec.helper_sees == "outside" else behind
        if len(read.ports) == 1 and read.ports <= device.spec.helper_ports:
            found.append(_Sight(device, way, before, behind))
    return sorted(found, key=lambda sight: [step.at for step in control.steps].index(sight.device.name))
