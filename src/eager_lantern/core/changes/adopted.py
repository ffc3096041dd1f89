"""What was read of a device, and the site file with these values in it."""

from collections.abc import Iterator, Sequence
from typing import Any, Literal

from msgspec import Struct
from msgspec.structs import replace

from ..findings.finding import Finding, Severity
from ..model.change import Change, changed, value_at
from ..model.site import Client, Filter, Forward, Gateway, Rule, Server, Site
from ..predict.access import Reached, access, more, with_unknown_open
from ..values.addresses import FAMILIES, Family
from ..values.phrases import ports_phrase
from ..values.ports import PortSet
from ..values.text_value import SitePath
from ..verdict import judge
from .steps import Edit, Overlay

Subject = Literal["forwards", "rules", "settings", "switches", "listeners"]
Direction = Literal["in", "out"]
Key = tuple[str, ...]


class ParsedValue(Struct, frozen=True):
    """A value that was read: of forwards and rules one entry each, of settings a key of a service."""

    key: Key
    value: Any
    line: int


class Skipped(Struct, frozen=True):
    """What was read and is not taken over, and why."""

    line: int
    text: str
    why: str


class DeviceConfig(Struct, frozen=True):
    """A file that was read: forwards of a device, rules of one filter with their ``default`` where it states one,
    settings of a service, which speaks ``protocol`` where that is told, or listeners, which a site does not state.
    ``of_ruleset`` are rules of the kernel's own packet filter, ``of_families`` those that it states."""

    file: str
    subject: Subject
    values: tuple[ParsedValue, ...]
    skipped: tuple[Skipped, ...] = ()
    default: Filter | None = None
    protocol: Literal["ftp", "sftp"] | None = None
    of_ruleset: bool = False
    of_families: frozenset[Family] = frozenset(FAMILIES)
    direction: Direction | None = None

    @property
    def forwards(self) -> tuple[Forward, ...]:
        """The forwards, in their order."""
        return tuple(each.value for each in self.values) if self.subject == "forwards" else ()

    @property
    def rules(self) -> tuple[Rule, ...]:
        """The rules, in their order."""
        return tuple(each.value for each in self.values) if self.subject == "rules" else ()


def adopted(site: Site, device: str, service: str, direction: Direction, configs: Sequence[DeviceConfig]) -> Site:
    """The site with everything that was read of a device; settings are of ``service``, rules that state no direction
    of the filter in this ``direction``. The caller has made sure that there are such a device and such a service."""
    for each in configs:
        if each.subject == "settings":
            site = _with_service(site, service, each.values)
        elif each.subject != "listeners":
            site = _with_tables(site, device, direction, each)
    return site


def _with_service(site: Site, name: str, values: Sequence[ParsedValue]) -> Site:
    at = next(i for i, each in enumerate(site.services) if each.name == name)
    own = [i for i, each in enumerate(site.accounts) if each.service == name]
    places: list[tuple[SitePath, Any]] = []
    for each in values:
        if each.key[0] == "accounts":  # of one by its name, or of all of them
            mine = [i for i in own if len(each.key) == 2 or site.accounts[i].name == each.key[1]]
            places += [(("accounts", i, each.key[-1]), each.value) for i in mine]
        else:
            places.append((("services", at, *each.key), each.value))
    return changed(site, *(Change(place, None, value) for place, value in places))


def _with_tables(site: Site, name: str, direction: Direction, config: DeviceConfig) -> Site:
    gateways = tuple(_adopted_gateway(each, direction, config) if each.name == name else each for each in site.gateways)
    clients = tuple(_adopted_client(each, direction, config) if each.name == name else each for each in site.clients)
    server = _server(site.server, direction, config) if site.server.name == name else site.server
    return replace(site, gateways=gateways, clients=clients, server=server)


def _adopted_gateway(gateway: Gateway, direction: Direction, config: DeviceConfig) -> Gateway:
    if config.subject == "forwards":
        return replace(gateway, forwards=config.forwards)
    if config.subject == "switches":
        return replace(gateway, **{each.key[0]: each.value for each in config.values})
    side = "inward" if (config.direction or direction) == "in" else "outward"
    table = _adopted_filter(getattr(gateway.filter, side), config)
    return replace(gateway, filter=replace(gateway.filter, **{side: table}))


def _server(server: Server, direction: Direction, config: DeviceConfig) -> Server:
    if config.subject == "switches":
        return replace(server, **{each.key[0]: each.value for each in config.values})
    side = "incoming" if (config.direction or direction) == "in" else "outgoing"
    table = _adopted_filter(getattr(server.filter, side), config)
    return replace(server, filter=replace(server.filter, **{side: table}))


def _adopted_client(client: Client, direction: Direction, config: DeviceConfig) -> Client:
    if config.subject == "switches":
        return client  # a client in a site has none of them
    side = "incoming" if (config.direction or direction) == "in" else "outgoing"
    table = _adopted_filter(getattr(client.filter, side), config)
    return replace(client, filter=replace(client.filter, **{side: table}))


def filter_differs(site: Site, configs: Sequence[DeviceConfig], file: str, next_line: str) -> Finding | None:
    """Where the server's filter, as it was read, lets in otherwise than the site states: it breaks what is kept by the
    file and not by the filter. ``next_line`` is the command that takes it over."""
    rules = [each for each in configs if each.subject == "rules" and each.direction == "in"]
    found, stated = adopted(site, site.server.name, "", "in", rules), access(site)
    gained = _ports_of(more(stated, access(found)), site.server.name)
    lost = _ports_of(more(access(with_unknown_open(found)), stated), site.server.name)
    parts = [f"lets in {ports_phrase(gained)}, which the file does not"] if gained else []
    parts += [f"stops {ports_phrase(lost)}, which the file lets in"] if lost else []
    if not parts:
        return None
    message = f"the filter of {site.server.name} {', and '.join(parts)} ({file})"
    severity: Severity = "breaks" if _belies(site, found) else "risks"
    return Finding("filter-differs", severity, message, f"take it over: {next_line}", ("server", "filter"))


def _belies(site: Site, found: Site) -> bool:
    """Whether a promise, or a way in, that is kept by the one is not by the other."""
    stated, seen = judge(site), judge(found)
    before, after = ((*each.forecasts, *each.ways_in) for each in (stated, seen))
    return any(a.kept is True and b.kept is not True for a, b in zip(before, after, strict=True))


def _ports_of(reached: Sequence[Reached], host: str) -> PortSet:
    found = PortSet()
    for each in reached:
        found = found | (each.ports if each.host == host else PortSet())
    return found


def _adopted_filter(old: Filter, config: DeviceConfig) -> Filter:
    last = config.default or old
    return Filter(default=last.default, refuses_with=last.refuses_with, rules=_keep_names(old.rules, config.rules))


def _keep_names(old: Sequence[Rule], read: Sequence[Rule]) -> tuple[Rule, ...]:
    """Rules that were read without a name are called as those that say the same."""
    skipped = list(old)
    found = []
    for rule in read:
        known = next((each for each in skipped if not rule.name and replace(each, name="") == rule), rule)
        skipped = [each for each in skipped if each is not known]
        found.append(known)
    return tuple(found)


def changes_between(before: Site, overlay: Overlay) -> tuple[Change, ...]:
    """The changes of single values that lead from a site to the one that is laid over it, as a file of the one can
    follow them: what stays is changed in its place, what comes is added behind, what goes is taken out from the end.
    The order of a list may not come out so."""
    kept = [each for each in overlay.edits if each.old is not None and each.new is not None]
    keys = [each for each in overlay.edits if not each.entry and each not in kept]
    goes = sorted((each for each in overlay.edits if each.entry and each.new is None), key=lambda e: e.before)
    comes = [each for each in overlay.edits if each.entry and each.old is None]
    found = [change for each in (*kept, *keys) for change in _in_place(each)]
    lengths: dict[SitePath, int] = {}
    for each in comes:
        at = lengths.setdefault(each.before, len(value_at(before, each.before) or ()))
        lengths[each.before] += 1
        found.append(Change((*each.before, at), None, each.new))
    found += [Change(each.before, each.old, None) for each in reversed(goes)]
    return tuple(found)


def _in_place(edit: Edit) -> Iterator[Change]:
    """An entry that stays is changed key by key."""
    if not edit.entry:
        yield Change(edit.before, edit.old, edit.new)
        return
    for name, key in zip(edit.old.__struct_fields__, edit.old.__struct_encode_fields__, strict=True):
        old, new = getattr(edit.old, name), getattr(edit.new, name)
        if old != new:
            yield Change((*edit.before, key), old, new)
