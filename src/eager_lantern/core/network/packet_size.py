"""Packets that are too large for a line, where nobody says so to their sender.

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

from ..model.site import ETHERNET_BYTES, Gateway
from .flow import Step

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
