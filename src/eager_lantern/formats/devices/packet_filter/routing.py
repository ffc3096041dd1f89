"""Rules by which a packet's mark chooses its way, as ``ip rule`` and ``ip -6 rule`` print them (public interface of
iproute2). They state nothing of a site by themselves, and with a rule set that marks packets, where these go.

A mark leads another way if the rules that ask for marks answer it otherwise than 0, which a packet has that no rule
marked. Where that way leads is not read: of such a connection nothing is known.

>>> routing = Routing.of("0:\\tfrom all lookup local\\n100:\\tfrom all fwmark 0x1/0xff lookup 7\\n")
>>> [family for family, _ in routing.ways_of(0x100)], [family for family, _ in routing.ways_of(0x101)]
(['ip6'], ['ip', 'ip6'])
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Literal

from msgspec import Struct

from ....core.changes.adopted import DeviceConfig
from ...reading import bad_file
from ..format import DeviceFormat, DeviceTarget

_LINE = re.compile(r"(\d{1,10}):\s+(?P<not>not )?(?P<what>from .{1,300})")
_ASKED = re.compile(r"fwmark (0x[\da-f]{1,8}|\d{1,10})(?:/(0x[\da-f]{1,8}|\d{1,10}))?(?= |\Z)")
_WHOLE = 0xFFFF_FFFF

_Family = Literal["ip", "ip6"]
_COMMANDS: dict[_Family, str] = {"ip": "ip rule", "ip6": "ip -6 rule"}


class _RoutingRule(Struct, frozen=True):
    """A rule that asks for a mark, among other things perhaps."""

    text: str
    value: int
    mask: int
    is_negated: bool

    def takes(self, mark: int) -> bool:
        return (mark & self.mask == self.value) != self.is_negated


class Routing(Struct, frozen=True):
    """The rules that ask for marks, and of how many listings they are: the first is that of IPv4, the second of IPv6;
    without any nothing is known."""

    rules: tuple[_RoutingRule, ...] = ()
    listings: int = 0

    @classmethod
    def of(cls, *texts: str) -> "Routing":
        """What of some texts is such a listing, or several."""
        lines = [found for text in texts if is_routing(text) for each in text.splitlines()
                 if (found := _LINE.match(each.strip()))]  # fmt: skip
        asked = ((each, mark) for each in lines if (mark := _ASKED.search(each["what"])))
        rules = tuple(
            _RoutingRule(each["what"], int(mark[1], 0), int(mark[2] or hex(_WHOLE), 0), each["not"] is not None)
            for each, mark in asked
        )
        return cls(rules, sum(each["what"].startswith("from all lookup local") for each in lines))

    def ways_of(self, mark: int | None) -> Iterator[tuple[_Family, str]]:
        """The families of which packets with a mark go another way than without, or may, and why; None is any mark."""
        named = f"{'a mark' if mark is None else f'mark {mark:#x}'}, by which a routing rule may send it another way"
        sent = [each for each in self.rules if mark is None or each.takes(mark) != each.takes(0)]
        for at, (family, command) in enumerate(_COMMANDS.items()):
            if sent:
                yield family, f"{named}: {sent[0].text[:80]}"
            elif at >= self.listings:
                yield family, f"{named}: give what {command} lists as well"


def is_routing(text: str) -> bool:
    """Whether a text is such a listing."""
    first: Sequence[str] = text.lstrip().splitlines()[:1]
    return bool(first) and _LINE.fullmatch(first[0].strip()) is not None


def _read(texts: Mapping[str, str], target: DeviceTarget) -> list[DeviceConfig]:
    if len(texts) == len(target.beside):
        message = "found routing rules alone; expected the rule set of the packet filter beside them"
        raise bad_file(next(iter(texts)), message)
    return []


def _instead(text: str) -> str:
    return "found ip rule as JSON; expected what ip rule prints without -j" if text.startswith('[{"priority":') else ""


FORMAT = DeviceFormat(
    "routing-rules", "what ip rule and ip -6 rule print", "ip rule; ip -6 rule",
    recognises=lambda file, text: is_routing(text), reads=_read, relative=_instead,
    omits="where a way leads: connections that a mark sends another way are unknown",
)  # fmt: skip
