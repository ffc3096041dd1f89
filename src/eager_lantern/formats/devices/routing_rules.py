"""What ``ip rule`` prints (public interface of iproute2): which marks of packets choose their way. It states nothing of
a site by itself, and with a rule set that marks packets, where these go."""

from collections.abc import Mapping

from ...core.changes.adopted import DeviceConfig
from ..reading import bad_file
from .format import DeviceFormat, DeviceTarget
from .packet_filter.routing import is_routing


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
