"""What listings of cloud filters (public interface) have in common: JSON that was printed, and its entries as rules."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any, Literal

import msgspec
from msgspec import Struct

from ....core.changes.adopted import DeviceConfig, Direction, ParsedValue, Skipped
from ....core.model.site import Filter, Rule
from ....core.values.addresses import AddressSet
from ....core.values.ports import EVERY_PORT, PortSet
from ...damage import guarded
from ...reading import bad_file
from ..cells import ports_of_cell, tidy_name
from ..format import DeviceTarget
from .tags import ANYBODY, near, rules_for, whom

Action = Literal["allow", "deny", "unknown"]
TRANSPORTS: Mapping[str, Literal["tcp", "udp", "any"]] = {
    "tcp": "tcp", "6": "tcp", "udp": "udp", "17": "udp", "-1": "any", "*": "any", "all": "any", "any": "any",
}  # fmt: skip


class Entry(Struct, frozen=True):
    """One line of a cloud filter, in the words of the listing."""

    way: Direction
    action: Action
    protocol: str
    ports: Sequence[str] = ()
    sources: Sequence[str] = ()
    targets: Sequence[str] = ()
    from_ports: Sequence[str] = ()
    name: str = ""
    remark: str = ""
    enabled: bool = True


def json_of(text: str) -> Any:
    """What the text holds; None for what is no JSON."""
    if text.lstrip()[:1] not in ("{", "["):
        return None
    try:
        return msgspec.json.decode(text)
    except (ValueError, RecursionError):
        return None


def listed(data: Any, key: str) -> list[dict[str, Any]]:
    """The objects of a listing: under its key, one alone, or a list of them."""
    inner = data.get(key) if isinstance(data, dict) and key in data else data
    several = inner if isinstance(inner, list) else [inner]
    return [each for each in several if isinstance(each, dict)]


def reader(
    entries_of: Callable[[Any, AddressSet], Iterable[Entry]], defaults: Mapping[Direction, Literal["allow", "deny"]]
) -> Callable[[Mapping[str, str], DeviceTarget], list[DeviceConfig]]:
    """The reader of a format whose listing is made of entries."""

    def read(texts: Mapping[str, str], target: DeviceTarget) -> list[DeviceConfig]:
        beside = near(target.site, target.device)
        return [each for file, text in texts.items() for each in _configs(file, text, entries_of, defaults, beside)]

    return read


@guarded
def _configs(
    file: str, text: str, entries_of: Callable[[Any, AddressSet], Iterable[Entry]],
    defaults: Mapping[Direction, Literal["allow", "deny"]], beside: AddressSet,
) -> list[DeviceConfig]:  # fmt: skip
    try:
        entries = list(entries_of(json_of(text), beside))
        found = {way: list(_values(way, entries, beside)) for way in defaults}
    except (KeyError, TypeError, AttributeError, IndexError) as error:
        raise bad_file(
            file, f"found a listing that breaks off ({error!r:.60}); expected all that was printed"
        ) from None
    except ValueError as error:
        raise bad_file(file, str(error)) from None
    configs = []
    for way, parts in found.items():
        values = tuple(each for each in parts if isinstance(each, ParsedValue))
        skipped = tuple(each for each in parts if isinstance(each, Skipped))
        default = Filter(default=defaults[way])
        configs.append(DeviceConfig(file, "rules", values, skipped, default, direction=way))
    return configs


def _values(way: Direction, entries: Sequence[Entry], beside: AddressSet) -> Iterator[ParsedValue | Skipped]:
    for each in entries:
        if each.way != way or not each.enabled:
            continue
        protocol = TRANSPORTS.get(each.protocol.lower())
        if protocol is None:
            why = f"{each.protocol} is neither TCP nor UDP, and carries no file transfer"
            yield Skipped(0, each.name or each.protocol, why)
            continue
        sources = whom(each.sources, beside) if each.sources else ANYBODY
        targets = whom(each.targets, beside) if each.targets else ANYBODY
        if each.remark or sources.possible or targets.possible:
            whose = ", ".join((*each.sources, *each.targets))
            why = each.remark or f"whom {whose} stands for is not in this file: what it matches is unknown for those"
            yield Skipped(0, each.name or whose, why)
        rule = Rule(
            action=each.action,
            name=tidy_name(each.name),
            protocol=protocol,
            ports=_ports(each.ports),
            from_ports=None if (came := _ports(each.from_ports)) == EVERY_PORT else came,
        )
        for one in rules_for(rule, sources, targets):
            yield ParsedValue(("rules",), one, 0)


def _ports(texts: Sequence[str]) -> PortSet:
    if not texts or any(each.strip() in ("*", "0-65535", "-1", "") for each in texts):
        return EVERY_PORT
    found = PortSet()
    for each in texts:
        found = found | ports_of_cell(str(each), plain=True)
    return found
