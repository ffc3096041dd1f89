"""The filter of Windows (public interface): its rules, its profiles and the system's own ports, as rules of a site.

Rules stand in no order: a rule that blocks counts before all that allow, whatever their places, and what no rule is
about is blocked inward and allowed outward unless the profile states another default. A rule counts in its profiles,
which are the categories of networks of a site. What cannot be known from a list (on which ports a program or a service
listens, which lines are wireless) comes last, as unknown, so that it decides about nothing that another rule decides.
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Literal, NamedTuple, TypeVar

from msgspec.structs import replace

from ....core.changes.adopted import DeviceConfig, Direction, ParsedValue, Skipped
from ....core.model.site import Client, Filter, Rule, Server
from ....core.values.addresses import AddressSet
from ....core.values.ports import EVERY_PORT, PortSet
from ...damage import guarded
from ...reading import bad_file
from ..cells import ports_of_cell, tidy_name
from ..cloud.tags import near, rules_for, whom
from ..format import DeviceFormat, DeviceTarget
from ..packet_filter.nftables import listening
from ..tables.heads import plain
from .records import Record, is_listing, is_netsh, records_of, split
from .script import ENDING, write_scripts

Action = Literal["allow", "deny", "unknown"]
T = TypeVar("T")
_ANY = ("", "any", "beliebig", "alle", "all", "*", "none", "notapplicable")
_PROFILES = {"domain": 1, "domane": 1, "private": 2, "privat": 2, "public": 4, "offentlich": 4}
_NAMES = {1: "domain", 2: "private", 4: "public"}
_TRUE = {"1": True, "true": True, "yes": True, "ja": True, "2": False, "false": False, "no": False, "nein": False}
_WAYS: Mapping[str, Direction] = {
    "1": "in", "in": "in", "inbound": "in", "eingehend": "in", "2": "out", "out": "out", "outbound": "out",
    "ausgehend": "out",
}  # fmt: skip
_ACTIONS: Mapping[str, Action] = {
    "2": "allow", "allow": "allow", "zulassen": "allow", "4": "deny", "block": "deny", "blockieren": "deny",
    "blocken": "deny", "3": "unknown", "bypass": "unknown", "allowbypass": "unknown", "umgehen": "unknown",
    "umgehung": "unknown",
}  # fmt: skip
_TRANSPORTS: Mapping[str, Literal["tcp", "udp", "any"]] = {"tcp": "tcp", "6": "tcp", "udp": "udp", "17": "udp"}
_KEYWORDS = {
    "rpcepmap": PortSet.single(135),
    "rpc-epmap": PortSet.single(135),
    "rpcendpunktzuordnung": PortSet.single(135),
}
_POLICY = re.compile(r"(Block|Allow)Inbound(?:Always)?,(Block|Allow)Outbound", re.IGNORECASE)


def _is_profiles(text: str) -> bool:
    return _POLICY.search(text) is not None


def _is_category(text: str) -> bool:
    return re.search(r'^\s*"?NetworkCategory"?\s*:', text, re.MULTILINE) is not None


def _is_dynamic_ports(text: str) -> bool:
    begin = text.strip()[:400]
    return re.search(r"(Dynamic Port Range|Dynamischer Portbereich)", begin) is not None


def _is_windows(file: str, text: str) -> bool:
    return any(each(text) for each in (is_netsh, is_listing, _is_profiles, _is_category, _is_dynamic_ports))


def _read(texts: Mapping[str, str], target: DeviceTarget) -> list[DeviceConfig]:
    """All that the files state together: defaults of profiles decide for the rules beside them."""
    if target.gateway is not None:
        raise bad_file(
            next(iter(texts)), "found the filter of a Windows host; expected a server or a client as --device"
        )
    found: list[DeviceConfig] = []
    category = _category_of(target)
    for file, text in texts.items():
        if _is_category(text):
            category = _stated_category(file, text)
            found.append(DeviceConfig(file, "switches", (ParsedValue(("category",), category, 1),)))
        elif _is_dynamic_ports(text):
            found.append(_dynamic_ports(file, text))
    stated = [_profile(file, text, category) for file, text in texts.items() if _is_profiles(text)]
    profile = stated[0] if stated else Profile()
    for file, text in texts.items():
        if is_netsh(text) or is_listing(text):
            read = _filters(file, text, category, profile, near(target.site, target.device))
            found += read if stated else (replace(read[0], skipped=(_USUAL, *read[0].skipped)), *read[1:])
        elif _is_profiles(text) and not any(is_netsh(each) or is_listing(each) for each in texts.values()):
            raise bad_file(file, "found the profiles of the Windows filter; expected its rules beside them")
    return found


def _category_of(target: DeviceTarget) -> str | None:
    hosts: tuple[Server | Client, ...] = (target.site.server, *target.site.clients)
    return next((each.category for each in hosts if each.name == target.device), None)


@guarded
def _stated_category(file: str, text: str) -> str:
    found = {each.lower() for each in re.findall(r'NetworkCategory"?\s*:\s*"?(\w+)', text)}
    numbers = {"0": "public", "1": "private", "2": "domain"}
    words = {numbers.get(each, each.removesuffix("authenticated")) for each in found}
    if len(words) != 1:
        raise bad_file(
            file, f"found {len(words)} categories of networks; expected the line of the server's own network"
        )
    return str(words.pop())


@guarded
def _dynamic_ports(file: str, text: str) -> DeviceConfig:
    """The system's own ports; the second number is how many they are."""
    numbers = [int(each) for each in re.findall(r":\s*(\d{1,5})\s*$", text, re.MULTILINE)]
    if len(numbers) != 2 or not 0 < numbers[1] <= 65_536 - numbers[0]:
        raise bad_file(file, "found no range of ports; expected the first port and how many they are")
    ports = PortSet.of((numbers[0], numbers[0] + numbers[1] - 1))
    return DeviceConfig(file, "switches", (ParsedValue(("local_ports",), ports, 1),))


_USUAL = Skipped(
    1, "profiles", "they are not in this list: read as switched on, with the usual defaults (block in, allow out); "
    "netsh advfirewall show allprofiles tells",
)  # fmt: skip


class Profile(NamedTuple):
    """What a profile does with what no rule is about; switched off it lets everything pass."""

    inward: Literal["allow", "deny"] = "deny"
    outward: Literal["allow", "deny"] = "allow"
    on: bool = True


@guarded
def _profile(file: str, text: str, category: str | None) -> Profile:
    """The profile that counts. Raises BadInput where that depends on a category that the site does not state."""
    found: dict[str, Profile] = {}
    for name, part in _sections(text):
        policy = _POLICY.search(part)
        if policy is None:
            continue
        off = re.search(r"^\s*(State|Status)\s+(OFF|AUS)\s*$", part, re.MULTILINE | re.IGNORECASE)
        inward, outward = ("deny" if each.lower() == "block" else "allow" for each in policy.groups())
        found[name] = Profile(inward, outward, on=not off)  # type: ignore[arg-type]
    if not found:
        raise bad_file(file, "found no profile by its name; expected what netsh advfirewall show allprofiles prints")
    mine = [found[category.lower()]] if category and category.lower() in found else list(found.values())
    if any(each != mine[0] for each in mine):
        raise bad_file(
            file, "found profiles that differ in their defaults; expected the category of the host's network in "
            "the site file (category: public), or Get-NetConnectionProfile beside it",
        )  # fmt: skip
    return mine[0]


def _sections(text: str) -> Iterator[tuple[str, str]]:
    parts = re.split(
        r"^(\S+?)[ -]?(?:Profile Settings|profileinstellungen|profil-Einstellungen)\s*:?.*$",
        text,
        flags=re.MULTILINE | re.IGNORECASE,
    )
    for name, part in zip(parts[1::2], parts[2::2], strict=True):
        for start, profile in (("dom", "domain"), ("priv", "private"), ("publi", "public"), ("offen", "public")):
            if plain(name).startswith(start):
                yield profile, part


@guarded
def _filters(
    file: str, text: str, category: str | None, profile: Profile, beside: AddressSet
) -> tuple[DeviceConfig, ...]:
    records = records_of(file, text)
    if not records:
        raise bad_file(file, "found no rule; expected at least one")
    return filters_of(file, records, category, profile, beside)


def filters_of(
    file: str, records: Sequence[Record], category: str | None, profile: Profile, beside: AddressSet
) -> tuple[DeviceConfig, ...]:
    """Both filters that rules make, of a host on a network of a category, which is ``beside``. Raises BadInput."""
    ways: tuple[Direction, ...] = ("in", "out")
    if not profile.on:
        off = Skipped(1, f"{len(records)} rules", "the filter of this profile is off: nothing is stopped")
        return tuple(DeviceConfig(file, "rules", (), (off,), Filter(default="allow"), direction=way) for way in ways)
    parts: dict[Direction, list[tuple[int, ParsedValue]]] = {"in": [], "out": []}
    skipped: list[Skipped] = []
    for each in records:
        try:
            way = _one_of(each, "direction", _WAYS)
            parts[way] += _rules(each, way, category, beside, skipped)
        except ValueError as error:
            raise bad_file(file, f"{error} (rule “{each['name'][:60]}”)", each.line) from None
    configs = []
    for way in ways:
        values = tuple(value for _, value in sorted(parts[way], key=lambda each: each[0]))
        default = Filter(default=profile.inward if way == "in" else profile.outward)
        told = tuple(skipped) if way == "in" else ()
        configs.append(DeviceConfig(file, "rules", values, told, default, direction=way))
    return tuple(configs)


def _rules(
    record: Record, way: Direction, category: str | None, beside: AddressSet, skipped: list[Skipped]
) -> Iterator[tuple[int, ParsedValue]]:
    """The rules of a site that state the same, each with its rank: blocks first, what is in doubt after what is not."""
    transport = _transport(record)
    if transport is None:
        why = f"{record['protocol']} is neither TCP nor UDP, and carries no file transfer"
        skipped.append(Skipped(record.line, record["name"], why))
        return
    action = _one_of(record, "action", _ACTIONS)
    doubts = [*_doubts(record)]
    categories = _categories(record)
    if categories is not None and category is None:
        doubts.append(f"it is for networks of category {', '.join(categories)}, and the site states none for this host")
        categories = None
    own, other = _ports(record["localport"]), _ports(record["remoteport"])
    ports, came = (own, other) if way == "in" else (other, own)
    if ports is None or came is None:
        doubts.append(f"which ports {record['localport']} stands for is not in this list")
    local, remote = whom(_addresses(record["localaddress"]), beside), whom(_addresses(record["remoteaddress"]), beside)
    sources, targets = (remote, local) if way == "in" else (local, remote)
    if sources.possible or targets.possible:
        doubts.append(f"whom {record['remoteaddress']} stands for is not in this list")
    enabled = _TRUE[_known(record, "enabled", _TRUE)]
    rule = Rule(
        action="unknown" if len(doubts) > bool(sources.possible or targets.possible) else action,
        name=tidy_name(record["name"]),
        protocol=transport,
        ports=EVERY_PORT if ports is None else ports,
        from_ports=None if came in (None, EVERY_PORT) else came,
        categories=_as_stated(categories, category),
        enabled=enabled,
    )
    if doubts and enabled:
        skipped.append(Skipped(record.line, record["name"], f"{'; '.join(doubts)}: what it matches is unknown"))
    for each in rules_for(rule, sources, targets):
        rank = 2 * (action != "deny") + (each.action == "unknown")
        yield rank, ParsedValue(("rules",), each, record.line)


def _as_stated(categories: Sequence[str] | None, category: str | None) -> tuple[str, ...] | None:
    """In the site's own spelling."""
    if categories is None:
        return None
    return tuple(category if category and category.lower() == each else each for each in categories)


def _doubts(record: Record) -> Iterator[str]:
    if record["program"].lower() not in (*_ANY, "system"):
        yield f"it is for the program {record['program'][:80]} alone, whose ports are not in this list"
    elif record["service"].lower() not in _ANY:
        yield f"it is for the service {record['service'][:40]} alone, whose ports are not in this list"
    if record["interfacetype"].lower() not in _ANY:
        yield f"it is for lines of type {record['interfacetype'][:40]} alone"
    if plain(record["security"]).replace(" ", "") not in ("", "notrequired", "none", "0", "nichterforderlich", "keine"):
        yield "it asks for IPsec"


def _known(record: Record, field: str, words: Mapping[str, object]) -> str:
    word = plain(record[field]).replace(" ", "")
    if word not in words:
        raise ValueError(f"found “{record[field][:40]}” for {field}; expected one of: {', '.join(words)}")
    return word


def _one_of(record: Record, field: str, words: Mapping[str, T]) -> T:
    return words[_known(record, field, words)]


def _transport(record: Record) -> Literal["tcp", "udp", "any"] | None:
    word = plain(record["protocol"])
    return "any" if word in _ANY else _TRANSPORTS.get(word)


def _categories(record: Record) -> tuple[str, ...] | None:
    """The profiles by name; None for all of them. Raises ValueError."""
    text = plain(record["profile"])
    if text in (*_ANY, "all") or (text.isdigit() and int(text) in (0, 7, 2_147_483_647)):
        return None
    if text.isdigit():
        bits = int(text)
    else:
        words = [each.strip() for each in re.split("[,;]", text)]
        if unknown := [each for each in words if each not in _PROFILES]:
            raise ValueError(f"found “{unknown[0][:40]}” for a profile; expected domain, private or public")
        bits = sum({_PROFILES[each] for each in words})
    return None if bits == 7 else tuple(name for bit, name in _NAMES.items() if bits & bit)


def _addresses(text: str) -> Sequence[str]:
    return ["any"] if text.lower() in _ANY else split(text)


def _ports(text: str) -> PortSet | None:
    """The ports of a list; None where a keyword stands for some that the list does not state."""
    if text.lower() in _ANY:
        return EVERY_PORT
    found = PortSet()
    for each in split(text):
        known = _KEYWORDS.get(plain(each).replace(" ", ""))
        if known is None and not re.match(r"[0-9]", each):
            return None
        found = found | (known if known is not None else ports_of_cell(each, plain=True))
    return found


FORMAT = DeviceFormat(
    "windows", "rules of the Windows filter (netsh, or PowerShell as JSON or CSV), its profiles and its own ports",
    "netsh advfirewall firewall show rule name=all verbose",
    recognises=_is_windows, reads=_read,
    writes=lambda site: write_scripts(site, listening(site)), endings=(ENDING,),
    omits="ports of programs and services; which lines are wireless; what a domain adds, but in the active store",
)  # fmt: skip
