"""Settings of a Linux system as ``sysctl`` prints them (public interface): whether it hands packets on, and the ports
of its own connections."""

import re

from ...core.changes.adopted import DeviceConfig, ParsedValue
from ...core.values.ports import PortSet
from ..damage import guarded
from ..reading import BadInput, InputProblem

_LINE = re.compile(r"net\.ipv4\.(ip_forward|ip_local_port_range)\s*=\s*(\S.*)")


def is_sysctl(text: str) -> bool:
    """Whether a text looks like what the command prints of these settings."""
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
            raise BadInput(file, InputProblem(number, f"{match[1]}: {error}")) from None
        found[key] = ParsedValue((key,), value, number)
    if not found:
        what = "whether it hands packets on (net.ipv4.ip_forward)" if of_gateway else "net.ipv4.ip_local_port_range"
        raise BadInput(file, InputProblem(0, f"does not say {what}"))
    return DeviceConfig(file, "switches", tuple(found.values()))


def _switch(text: str) -> bool:
    if text not in ("0", "1"):
        raise ValueError(f"“{text[:40]}” where 0 or 1 is meant")
    return text == "1"


def _port_range(text: str) -> PortSet:
    first, *last = text.split()
    if len(last) != 1:
        raise ValueError(f"“{text[:40]}” where the first and the last port are meant")
    return PortSet.parse(f"{first}-{last[0]}")
