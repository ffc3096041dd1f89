"""Connections as exact sets: many ports and many sources followed at once, with the sizes of their packets.

A flow is the product of its sets. Every device either treats a flow alike or cuts it into
flows that it treats alike, so that at the end each part is known with the rule that
decided it. Nothing is sampled.

Theory: a hole for full packets
===============================
A TCP sender fills its packets up to the segment size that the other end has named in its SYN (RFC 9293, section
3.7.1): 1,460 bytes behind Ethernet of 1,500. A line in between that takes less (PPPoE 1,492, tunnels 1,280 to 1,440)
cannot pass them. The device before it then sends ICMP “fragmentation needed” (RFC 1191; of IPv6 “packet too big”, RFC
8201), and the sender makes smaller ones. Where that ICMP is dropped, the sender repeats the full packet until it gives
up, while whatever is short goes through: greeting, login and a listing of few files (RFC 2923, section 2.1).
A device may write a smaller segment size into the SYNs that pass it, and both ends keep to that; then nothing
is ever too large.

>>> from msgspec.structs import replace
>>> from eager_lantern.core.model.site import Attachment
>>> from eager_lantern.core.values.addresses import Addresses
>>> line = Attachment(network="internet", address=Addresses.parse("198.51.100.61"), mtu=1492)
>>> inside = Attachment(network="office", address=Addresses.parse("10.61.4.1"))
>>> router = Gateway(name="router", outside=line, inside=inside, too_big="dropped")
>>> swallowing({router: 1492}).name
'router'
>>> print(swallowing({replace(router, clamps_mss=True): 1492}), swallowing({replace(router, too_big="told"): 1492}))
None None

What a device turns back inside never comes on its outside line:

>>> print(swallowing({router: 1500}))
None
"""

from collections.abc import Mapping, Sequence
from typing import Literal

from msgspec import Struct
from msgspec.structs import replace

from ..model.site import ETHERNET_BYTES, Gateway, Refusal, Transport
from ..values.addresses import Address, AddressSet
from ..values.outcomes import Outcome
from ..values.ports import PortSet
from ..values.text_value import SitePath

Verb = Literal["send", "let-out", "let-in", "translate", "forward", "hairpin", "hide", "route", "arrive", "stop"]
Reason = Literal[
    "filter rule",
    "filter default",
    "rule unknown",
    "ports unknown",
    "hairpin unknown",
    "provider blocks",
    "outside the share",
    "no forward",
    "forwarding is off",
    "no hairpin",
    "the device itself",
    "nobody there",
    "no path",
    "no outside address",
    "IPv4 of the inside",
    "no way back",
    "answers bypass it",
    "answers go elsewhere",
    "several ways",
    "not listening",
    "another service",
    "another peer",
    "address refused",
    "session reuse",
    "TLS demanded",
    "EPSV unknown",
    "account barred",
    "login by key alone",
    "root writable",
    "control forgotten",
    "packets too big",
    "client has no address",
    "not filled in",
    "no announced address",
    "no common family",
    "source port may change",
    "source address may change",
    "leads back out",
    "goes in circles",
    "reads it twice",
    "read apart",
    "other family",
]


class Flow(Struct, frozen=True):
    """New connections of one transport to one address.

    ``from_ports`` is None once a translation may have changed the source port, and
    ``pooled`` is true while ``sources`` are candidates of which a device picks one.
    """

    protocol: Transport
    sources: AddressSet
    from_ports: PortSet | None
    to: Address
    ports: PortSet
    pooled: bool = False


class Step(Struct, frozen=True):
    """What one device did, with the flow as it left the device; at a stop that is answered, with what."""

    at: str
    does: Verb
    flow: Flow
    place: SitePath | None = None
    rule: str | None = None
    note: str = ""
    answer: Refusal | None = None


class Passage(Struct, frozen=True):
    """A connection as it came out on a network, and from whom: a device, or, empty, whoever began it."""

    network: str
    sender: str
    sources: AddressSet
    to: Address


class Journey(Struct, frozen=True):
    """A part of a flow that had one fate from end to end.

    ``asked`` is the part as its origin sent it, ``flow`` as it was at the last step. For
    ``ok`` the last step is the arrival at ``steps[-1].at``; otherwise it is the stop. ``trail`` states the
    networks that it came out on, as long as it is under way.
    """

    asked: Flow
    flow: Flow
    outcome: Outcome
    reason: Reason | None
    steps: tuple[Step, ...]
    trail: tuple[Passage, ...] = ()

    @property
    def end(self) -> Step:
        """The step that decided."""
        return self.steps[-1]


class Leg(Struct, frozen=True):
    """A part of a flow under way."""

    asked: Flow
    flow: Flow
    steps: tuple[Step, ...] = ()
    trail: tuple[Passage, ...] = ()

    def narrowed(self, flow: Flow) -> "Leg":
        """The same leg for a part of its flow: what was asked is cut down alike."""
        if flow == self.flow:
            return self
        asked, offset = self.asked, self.flow.ports.lowest - self.asked.ports.lowest
        cut = replace(
            asked,
            ports=asked.ports & flow.ports.shift(-offset),
            sources=flow.sources if self.flow.sources == asked.sources else asked.sources,
            from_ports=flow.from_ports if self.flow.from_ports is not None else asked.from_ports,
        )
        return Leg(cut, flow, self.steps, self.trail)

    def then(self, at: str, does: Verb, flow: Flow, place: SitePath | None = None, rule: str | None = None) -> "Leg":
        """The same leg after one more device."""
        return Leg(self.asked, flow, (*self.steps, Step(at, does, flow, place, rule)), self.trail)

    def out_on(self, network: str, sender: str) -> "Leg":
        """The same leg as it comes out on a network."""
        passage = Passage(network, sender, self.flow.sources, self.flow.to)
        return Leg(self.asked, self.flow, self.steps, (*self.trail, passage))

    def arrived(self, at: str, place: SitePath) -> Journey:
        """The journey that ends at a host that let it in."""
        steps = (*self.steps, Step(at, "arrive", self.flow, place))
        return Journey(self.asked, self.flow, "ok", None, steps, self.trail)

    def stopped(
        self, at: str, outcome: Outcome, reason: Reason, place: SitePath | None, rule: str | None = None
    ) -> Journey:
        """The journey that ends here without arriving, or with an answer that no rule speaks of."""
        stop = Step(at, "stop", self.flow, place, rule, reason)
        return Journey(self.asked, self.flow, outcome, reason, (*self.steps, stop), self.trail)

    def refused(
        self, at: str, reason: Reason, place: SitePath | None, rule: str | None = None, answer: Refusal | None = None
    ) -> Journey:
        """The journey that ends here with a refusal: the usual one of its transport, or another."""
        usual: Refusal = "reset" if self.flow.protocol == "tcp" else "port-unreachable"
        meant = usual if answer in (None, "reset") else answer
        stop = Step(at, "stop", self.flow, place, rule, reason, meant)
        return Journey(self.asked, self.flow, "refused", reason, (*self.steps, stop), self.trail)


HEADERS_BYTES = {4: 40, 6: 60}
"""What IP and TCP take of a packet without options, by family."""


def segment_bytes(gateway: Gateway, family: int) -> int:
    """The TCP segment that just fits the smaller of a device's two lines, in bytes."""
    return gateway.mtu - HEADERS_BYTES[family]


def largest_passing(gateway: Gateway, steps: Sequence[Step]) -> int:
    """The largest packet that passes a device on a way, in bytes; what it turns back stays on its inside line."""
    turned = any(each.at == gateway.name and (each.does == "hairpin" or _by_route(each)) for each in steps)
    return gateway.inside.mtu if turned else gateway.mtu


def _by_route(step: Step) -> bool:
    return step.does == "route" and step.place is not None and step.place[-1] == "routes"


def swallowing(passed: Mapping[Gateway, int]) -> Gateway | None:
    """Of the devices on a way, each with the largest packet that passes it, the first at which full packets vanish
    without a word."""
    sizes = [each.mtu for each in passed if each.clamps_mss]
    kept_to = min([ETHERNET_BYTES, *sizes])
    return next((each for each, size in passed.items() if each.too_big == "dropped" and size < kept_to), None)
