"""What real devices print, with what the devices do: how what was read of a file compares with the truth beside it
(public interface of the programs that printed them)."""

import json
from collections.abc import Iterable, Iterator
from json import dumps
from pathlib import Path
from typing import Any, NamedTuple

from eager_lantern.core.changes.adopted import DeviceConfig
from eager_lantern.core.model.site import Filter, Forward, Site
from eager_lantern.core.network.filters import compiled, rulings
from eager_lantern.core.network.flow import Flow
from eager_lantern.core.values.addresses import Address, AddressSet
from eager_lantern.core.values.ports import PortSet
from eager_lantern.formats.devices.cells import read_device_text
from eager_lantern.formats.devices.format import DeviceTarget
from eager_lantern.formats.devices.register import read_files, recognised
from eager_lantern.formats.reading import BadInput
from eager_lantern.formats.site.site_file import parse_site

Point = tuple[str, str]
"""Right, unknown or wrong, and what it is about."""


def site_of(truth: dict[str, Any], category: str) -> Site:
    """A site whose server is the host that the files are of, or stands behind the gateway that they are of."""
    host = truth["shape"] != "gateway"
    addresses = truth.get("host_address", ["10.61.4.20"]) if host else ["10.61.4.20"]
    near = truth.get("local_subnet", f"{addresses[0].rpartition('.')[0]}.0/24")
    outside = truth.get("outside_address", truth.get("host_address", ["192.0.2.10"])[0])
    gateway = {
        "name": "router",
        "outside": {"network": "internet", "address": outside},
        "inside": {"network": "quay", "address": f"{near.rpartition('.')[0]}.1"},
        "translate": "outward",
    }
    data: dict[str, Any] = {
        "lantern": 1,
        "site": "a device of the evidence",
        "networks": [
            {
                "name": "quay",
                "subnet": ", ".join([near, *(f"{a.rpartition(':')[0]}:/64" for a in addresses if ":" in a)]),
            }
        ],
        "gateways": [] if host else [gateway],
        "server": {
            "name": "tide",
            "network": "quay",
            "address": ", ".join(addresses),
            **({"category": category.lower()} if category else {}),
        },
        "services": [{"name": "tides", "protocol": "ftp", "control_port": 21, "passive": {"ports": "61200-61455"}}],
        "clients": [
            {"name": "desk", "network": "quay", "address": f"{near.rpartition('.')[0]}.99", "reaches": addresses[0]}
        ],
        "promises": [],
    }
    return parse_site("truth", dumps(data)).site


def answer(configs: list[DeviceConfig], case: dict[str, Any], truth: dict[str, Any]) -> str:
    """What the configuration that was read does with a connection: allowed, blocked or unknown."""
    source, port = Address.parse(case["from"]), case["port"]
    own = [a for a in truth.get("host_address", ("10.61.4.20",)) if (":" in a) == (source.family == 6)]
    target = Address.parse(case["to"] or (own[0] if own else "2001:db8::20"))
    if truth["shape"] == "gateway" and str(target) in (truth.get("outside_address"), *truth.get("host_address", ())):
        if case["port"] in switch(configs, "unknown_ports", PortSet()):
            return "unknown"
        forward = next((each for each in forwards_of(configs) if _carries(each, case, source)), None)
        if forward is None:
            stated = any(each.subject == "forwards" for each in configs)
            return (
                "blocked" if stated and case["answer"] == "blocked" else "nothing"
            )  # a gateway's own ports are in no site
        target, port = forward.to, port + forward.offset
        if switch(configs, "forwards_pass_filter", False):
            return "allowed"
    rules = [each for each in configs if each.subject == "rules" and (each.direction or "in") == case["direction"]]
    if not rules:
        return "allowed" if forwards_of(configs) and case["direction"] == "in" else "nothing"
    (config,) = rules
    table = Filter(default=(config.default or Filter(default="deny")).default, rules=config.rules)
    came = PortSet.single(case["from_port"]) if "from_port" in case else None
    flow = Flow(case["protocol"], AddressSet.single(source), came, target, PortSet.single(port))
    category = case.get("profile", truth.get("active_profile", "")).lower()
    found = {each.action for each in rulings(compiled(table, (), category, {}), flow)}
    words = {"allow": "allowed", "deny": "blocked", "refuse": "blocked", "unknown": "unknown"}
    return "unknown" if len(found) > 1 else words[found.pop()]


def switch(configs: list[DeviceConfig], key: str, otherwise: Any) -> Any:
    """The value of a key of the gateway, where it was read."""
    found = [v.value for each in configs if each.subject == "switches" for v in each.values if v.key == (key,)]
    return getattr(found[0], "ports", found[0]) if found else otherwise


def _carries(forward: Forward, case: dict[str, Any], source: Address) -> bool:
    fits = (
        forward.enabled
        and forward.to.family == source.family
        and forward.protocol == case["protocol"]
        and case["port"] in forward.ports
    )
    return fits and (forward.from_ is None or source.number in forward.from_)


def forwards_of(configs: list[DeviceConfig]) -> tuple[Forward, ...]:
    """All forwards that were read."""
    return tuple(forward for each in configs for forward in each.forwards)


Entry = tuple[str, int, str, int, str, bool]


def _entries(forwards: Iterable[tuple[str, PortSet, str, int | None, str | None, bool]]) -> set[Entry]:
    """Forwards port by port, so that one row and several compare."""
    found = set()
    for protocol, ports, to, to_port, whom, enabled in forwards:
        for port in ports:
            inside = port if to_port is None else to_port + port - ports.lowest
            found.add((protocol, port, to, inside, whom or "any", enabled))
    return found


def _of_truth(each: dict[str, Any]) -> tuple[str, PortSet, str, int | None, str | None, bool]:
    first = None if each["to_port"] is None else int(str(each["to_port"]).partition("-")[0])
    return each["protocol"], PortSet.parse(each["ports"]), each["to"], first, each["from"], each["enabled"]


def _of_forward(each: Forward) -> tuple[str, PortSet, str, int | None, str | None, bool]:
    whom, to_port = str(each.from_) if each.from_ else None, each.to_port.number if each.to_port else None
    return each.protocol, each.ports, str(each.to), to_port, whom, each.enabled


def _forward_points(configs: list[DeviceConfig], truth: dict[str, Any]) -> Iterator[Point]:
    if not any(each.subject == "forwards" for each in configs):
        yield "unknown", "the forwards are not stated"
        return
    mine, theirs = _entries(map(_of_forward, forwards_of(configs))), _entries(map(_of_truth, truth["forwards"]))
    unknown = switch(configs, "unknown_ports", PortSet())
    for each in sorted(theirs | mine):
        unread = each not in mine and each[1] in unknown
        yield "unknown" if unread else "right" if each in mine & theirs else "wrong", f"forward {each}"


_KEYS = {
    "passive_range": "passive.ports", "announced_address": "passive.announce", "tls_mode": "tls.mode",
    "tls_demanded": "tls.required", "session_reuse_demanded": "tls.reuse_required",
    "data_protection_demanded": "tls.protects_data", "local_ports": "local_ports",
    "peer_must_match_in_passive": "peer_must_match",
}  # fmt: skip


def _setting_points(configs: list[DeviceConfig], truth: dict[str, Any], file: str) -> Iterator[Point]:
    """What is stated of the service at its port, or of the system; what is not stated has its default."""
    values = {
        ".".join(v.key): str(v.value)
        for each in configs
        for v in each.values
        if each.subject not in ("rules", "forwards", "listeners")
    }
    stated = truth["settings"].get(values.get("control_port", "21"), truth["settings"].get(file, {}))
    if "control_ports" in truth["settings"]:
        right = int(values.get("control_port", 0)) in truth["settings"]["control_ports"]
        yield "right" if right else "wrong", f"control port {values.get('control_port')}"
    for name, key in _KEYS.items():
        if (
            key in values
            and stated.get(name) is not None
            and values[key] != "own"
            and not (key == "passive.announce" and values[key][0].isalpha())
        ):
            found = values[key].lower()
            yield "right" if found == str(stated[name]).lower() else "wrong", f"{name}: {found}, not {stated[name]}"


def _listener_points(configs: list[DeviceConfig], truth: dict[str, Any]) -> Iterator[Point]:
    """Every listener and none besides; what listens at all addresses is shown as a star, or as those of IPv6."""
    read = [each.value for config in configs if config.subject == "listeners" for each in config.values]
    mine = {(each.protocol, str(each.address or "*"), each.port): each.program for each in read}
    for each in truth["listeners"]:
        address = each["address"].partition("%")[0]
        keys = [(each["protocol"], one, each["port"]) for one in ((address, "::") if address == "*" else (address,))]
        programs = [mine.pop(key) for key in keys if key in mine]
        yield "right" if programs and programs[0] in ("", each["program"]) else "wrong", f"listener {each}"
    yield from (("wrong", f"no listener: {each}") for each in mine)


def _points(configs: list[DeviceConfig], truth: dict[str, Any], file: str) -> Iterator[Point]:
    if "forwards" in truth:
        yield from _forward_points(configs, truth)
    if "listeners" in truth:
        yield from _listener_points(configs, truth)
    if "settings" in truth:
        yield from _setting_points(configs, truth, file)
    for case in truth.get("cases", ()):
        found = answer(configs, case, truth)
        state = "right" if found == case["answer"] else "unknown" if found in ("unknown", "nothing") else "wrong"
        way = f"{case['direction']} {case['from']} → {case['to']} {case['protocol']} {case['port']}"
        yield state, f"{way}: {found}, not {case['answer']}: {case['why']}"


class Judged(NamedTuple):
    """A file that was recorded: its format and each point of the truth, or why it was refused."""

    file: str
    format: str
    points: tuple[Point, ...] = ()
    refused: str = ""


BESIDE = ("truth.json", "how.txt", "ip6tables-save.txt")


def judged(folder: Path) -> Iterator[Judged]:
    """Every file of a folder, read without being told what it is; lists of both families together."""
    truth = json.loads((folder / "truth.json").read_text())
    gateway, lines, cases = truth["shape"] == "gateway", truth.get("interfaces", {}), truth.get("cases", [])
    sides = (lines.get("outside", ""), lines.get("inside", "")) if gateway else ("", lines.get("outside", ""))
    for file in sorted(folder.rglob("*")):
        if not file.is_file() or file.name in BESIDE:
            continue
        files = [file, *([file.with_name("ip6tables-save.txt")] if file.name == "iptables-save.txt" else [])]
        if file.name == "proftpd.conf":
            files += [each for each in sorted(folder.rglob("*.conf*")) if each != file]
        points: list[Point] = []
        try:
            texts = {str(each.relative_to(folder)): read_device_text(each) for each in files}
            form = recognised(file.name, texts[str(file.relative_to(folder))]).name
            for category in sorted({each.get("profile", "") for each in cases} or {""}):
                mine = [each for each in cases if each.get("profile", "") == category]
                target = DeviceTarget(site_of(truth, category), "router" if gateway else "tide", None, *sides)
                points += _points(read_files(texts, target), {**truth, "cases": mine}, file.name)
        except BadInput as error:
            yield Judged(str(file.relative_to(folder)), "", (), str(error))
            continue
        yield Judged(str(file.relative_to(folder)), form, tuple(points))
