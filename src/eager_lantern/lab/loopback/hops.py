"""What one gateway or host does with one connection, by the rules as they are written.

Plain loops over the site's own lists, one connection at a time: the loopback lab asks here
at every hop, and nothing of the prediction's sets is used.
"""

import random
from typing import Literal

from msgspec import Struct
from msgspec.structs import replace

from ...core.model.site import INTERNET, Client, Filter, Gateway, Server
from ...core.network.topology import Host, Side, Topology, listens_on
from ...core.network.translation import rewrites
from ...core.values.addresses import Address
from ...core.values.ports import PortSet

End = Literal["refused", "silent", "unknown"]


class Caller(Struct, frozen=True):
    """One TCP connection as it is at one place."""

    source: Address
    source_port: int
    to: Address
    port: int


class Onward(Struct, frozen=True):
    """The connection as a gateway hands it on, and where; ``through`` is set after it came in."""

    caller: Caller
    network: str
    at: str
    through: str | None = None


class Arrival(Struct, frozen=True):
    """The connection has reached a host, which lets it in."""

    caller: Caller
    host: str


class Ended(Struct, frozen=True):
    """The connection goes no further."""

    outcome: End
    at: str


Hop = Onward | Arrival | Ended
_ENDS: dict[str, End] = {"deny": "silent", "refuse": "refused", "unknown": "unknown"}


def leaves(topology: Topology, host: Server | Client, caller: Caller) -> Onward | Ended:
    """A host sends."""
    verdict = _says(topology, host.filter.outgoing, host.category, caller)
    return Onward(caller, host.network, host.name) if verdict == "allow" else Ended(_ENDS[verdict], host.name)


def _says(topology: Topology, table: Filter, category: str | None, caller: Caller) -> str:
    """The first rule that matches decides, else the default."""
    for rule in table.rules:
        if not rule.enabled or (rule.categories is not None and category not in rule.categories):
            continue
        if rule.protocol == "udp" or caller.port not in rule.ports:
            continue
        if rule.program is not None and caller.port not in _program(topology, rule.program):
            continue
        if rule.from_ is not None and caller.source.number not in rule.from_:
            continue
        if rule.to is not None and caller.to.number not in rule.to:
            continue
        if rule.from_ports is not None and caller.source_port not in rule.from_ports:
            continue
        return rule.action
    return table.default


def _program(topology: Topology, name: str) -> PortSet:
    return next((listens_on(each) for each in topology.site.services if each.name == name), PortSet())


def hop(topology: Topology, here: Onward) -> Hop:
    """What becomes of a connection that has come out on a network."""
    caller, network = here.caller, here.network
    if network == INTERNET and caller.to.kind != "public":
        return Ended("silent", network)
    holder = topology.holder(network, caller.to)
    if isinstance(holder, Host):
        return _enters(topology, holder, caller)
    if isinstance(holder, Side):
        gateway = holder.device.spec
        return (
            Ended(_unmatched_end(gateway), gateway.name)
            if holder.side == "inside"
            else _inward(topology, gateway, caller)
        )
    ways = topology.crossings(network, caller.to)
    if ways is None:
        ways = topology.chain(network, INTERNET) or ()
        if any(each.way == "inward" for each in ways):
            return Ended("silent", network)
    if not ways:
        return Ended("silent" if network == INTERNET or _cloud(topology, here.at) else "refused", network)
    gateway = ways[0].device.spec
    if ways[0].way == "inward":
        return _routed_in(topology, gateway, caller)
    if here.through == gateway.name:
        return Ended("unknown", gateway.name)
    if caller.to.number in ways[0].device.outside_addresses:
        return _hairpin(topology, gateway, caller)
    return _outward(topology, gateway, caller)


def _cloud(topology: Topology, name: str) -> bool:
    """Whether a device of this name is a cloud's, which sends nothing about an address that no host has."""
    return any(each.name == name and not each.tells_of_nobody for each in topology.site.gateways)


def _unmatched_end(gateway: Gateway) -> End:
    return "silent" if gateway.unmatched == "silent" else "refused"


def _enters(topology: Topology, host: Host, caller: Caller) -> Hop:
    hosts: tuple[Server | Client, ...] = (topology.site.server, *topology.site.clients)
    spec = next(each for each in hosts if each.name == host.name)
    verdict = _says(topology, spec.filter.incoming, spec.category, caller)
    return Arrival(caller, host.name) if verdict == "allow" else Ended(_ENDS[verdict], host.name)


def _after_rewrite(gateway: Gateway, caller: Caller) -> tuple[Caller | None, bool]:
    """By the first forward that takes it, else by a pair; and whether it was a forward."""
    for each in rewrites(gateway):
        if each.protocol == "udp" or caller.port not in each.ports or each.to.family != caller.to.family:
            continue
        if each.outside is not None and each.outside != caller.to:
            continue
        if each.sources is None or caller.source.number in each.sources:
            return replace(caller, to=each.to, port=caller.port + each.offset), each.forwarded
    return None, False


def _inward(topology: Topology, gateway: Gateway, caller: Caller) -> Hop:
    if caller.port in gateway.provider_blocks.ports:
        return Ended("silent", gateway.name)
    share = gateway.outside.ports
    if share is not None and caller.to in gateway.outside.address and caller.port not in share:
        return Ended("silent", gateway.name)
    before = gateway.filter_sees == "outside"
    if before and (verdict := _says(topology, gateway.filter.inward, None, caller)) != "allow":
        return Ended(_ENDS[verdict], gateway.name)
    if caller.port in gateway.unknown_ports.ports:
        return Ended("unknown", gateway.name)
    changed, forwarded = _after_rewrite(gateway, caller)
    if changed is None:
        return Ended(_unmatched_end(gateway), gateway.name)
    passed = before or (forwarded and gateway.forwards_pass_filter)
    if not passed and (verdict := _says(topology, gateway.filter.inward, None, changed)) != "allow":
        return Ended(_ENDS[verdict], gateway.name)
    if forwarded and gateway.forwards_hide_source:
        changed = replace(changed, source=gateway.inside.address.of_family(changed.to.family)[0])
    return Onward(changed, gateway.inside.network, gateway.name, gateway.name)


def _filtered_in(topology: Topology, gateway: Gateway, caller: Caller) -> Hop:
    verdict = _says(topology, gateway.filter.inward, None, caller)
    if verdict != "allow":
        return Ended(_ENDS[verdict], gateway.name)
    return Onward(caller, gateway.inside.network, gateway.name, gateway.name)


def _routed_in(topology: Topology, gateway: Gateway, caller: Caller) -> Hop:
    if caller.port in gateway.provider_blocks.ports:
        return Ended("silent", gateway.name)
    if caller.to in gateway.inside.address:
        return Ended(_unmatched_end(gateway), gateway.name)
    return _filtered_in(topology, gateway, caller)


def _hairpin(topology: Topology, gateway: Gateway, caller: Caller) -> Hop:
    if gateway.hairpin and (gateway.hairpin_source == "unknown" or caller.port in gateway.unknown_ports.ports):
        return Ended("unknown", gateway.name)
    changed = _after_rewrite(gateway, caller)[0] if gateway.hairpin else None
    side = gateway.inside if gateway.hairpin_source == "inside" else gateway.outside
    own = side.address.of_family(caller.to.family)
    if changed is None or not own:
        return Ended(_unmatched_end(gateway), gateway.name)
    if gateway.hairpin_source == "kept":
        network = gateway.inside.network
        if topology.holder(network, changed.to) is None and topology.holds(network, changed.to):
            return Ended("refused" if gateway.tells_of_nobody else "silent", network)
        return Ended("silent", gateway.name)  # whoever answers does so past the device, to nobody who waits for it
    turned = replace(changed, source=own[0])
    return Onward(turned, gateway.inside.network, gateway.name, gateway.name)


def _outward(topology: Topology, gateway: Gateway, caller: Caller) -> Hop:
    verdict = _says(topology, gateway.filter.outward, None, caller)
    if verdict != "allow":
        return Ended(_ENDS[verdict], gateway.name)
    if gateway.translates(caller.to.family) == "none":
        unanswered = gateway.outside.network == INTERNET and caller.source.kind != "public"
        return Ended("silent", INTERNET) if unanswered else Onward(caller, gateway.outside.network, gateway.name)
    source = next((pair.outside for pair in gateway.pairs if pair.inside == caller.source), None)
    pool = gateway.outside.address.of_family(caller.to.family)
    if source is None and pool:
        paired = caller.source.number % len(pool)
        source = pool[paired] if gateway.pooling == "paired" else random.choice(pool)
    if source is None:
        return Ended("silent", gateway.name)
    return Onward(replace(caller, source=source), gateway.outside.network, gateway.name)
