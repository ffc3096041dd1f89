"""Settings of a Linux system as ``sysctl`` prints them (public interface): whether it forwards packets, and the local
ports of its own connections."""

import re
from collections.abc import Mapping

from ...core.changes.adopted import DeviceConfig, ParsedValue
from ...core.values.ports import PortSet
from ..damage import guarded
from ..reading import bad_file
from .format import DeviceFormat, DeviceTarget

_LINE = re.compile(r"net\.ipv4\.(ip_forward|ip_local_port_range)\s*=\s*(\S.*)")


def _is_sysctl(file: str, text: str) -> bool:
    return any(_LINE.fullmatch(line.strip()) for line in text.splitlines())


@guarded
def read_sysctl(file: str, text: str, of_gateway: bool) -> DeviceConfig:
    """The master switch of a gateway, or the own ports of a host. Raises BadInput for a value that is none."""
    found: dict[str, ParsedValue] = {}
    for number, line in enumerate(text.splitlines(), start=1):
        match = _LINE.fullmatch(line.strip())
        if match is None or (match[1] == "ip_forward") != of_gateway:
            continue
        try:
            key, value = ("forwarding", _switch(match[2])) if of_gateway else ("local_ports", _port_range(match[2]))
        except ValueError as error:
            raise bad_file(file, f"{match[1]}: {error}", number) from None
        found[key] = ParsedValue((key,), value, number)
    if not found:
        expected = "net.ipv4.ip_forward" if of_gateway else "net.ipv4.ip_local_port_range"
        raise bad_file(file, f"found no line with {expected}; expected one")
    return DeviceConfig(file, "switches", tuple(found.values()))


def _switch(text: str) -> bool:
    if text not in ("0", "1"):
        raise ValueError(f"found “{text[:40]}”; expected 0 or 1")
    return text == "1"


def _port_range(text: str) -> PortSet:
    first, *last = text.split()
    if len(last) != 1:
        raise ValueError(f"found “{text[:40]}”; expected the first and the last port")
    return PortSet.parse(f"{first}-{last[0]}")


def _read(texts: Mapping[str, str], target: DeviceTarget) -> list[DeviceConfig]:
    return [read_sysctl(file, text, target.gateway is not None) for file, text in texts.items()]


FORMAT = DeviceFormat(
    "sysctl", "what sysctl prints", "sysctl net.ipv4.ip_forward, sysctl net.ipv4.ip_local_port_range",
    recognises=_is_sysctl, reads=_read,
    omits="every other value",
)  # fmt: skip
