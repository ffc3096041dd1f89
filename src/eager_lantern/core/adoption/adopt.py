"""A site as it would be with what was read: the same type of value at the same place, and nothing else touched."""

from collections.abc import Iterator, Sequence
from typing import Any

from msgspec.structs import replace

from ..comparison.edits import Edit, Overlay
from ..model.change import Change
from ..model.site import Active, Client, Filter, Gateway, Passive, Rule, Server, Service, Site
from ..values.site_path import SitePath
from .told import Direction, Reading, Told


def adopted(site: Site, device: str, service: str, direction: Direction, readings: Sequence[Reading]) -> Site:
    """The site with everything that was read of a device; settings are of ``service``, rules of the filter in a
    ``direction``. The caller has made sure that there are such a device and such a service."""
    for each in readings:
        if each.subject == "settings":
            site = _with_service(site, service, each.told)
        else:
            site = _with_tables(site, device, direction, each)
    return site


def _with_service(site: Site, name: str, told: Sequence[Told]) -> Site:
    of_accounts = {each.key[1]: each.value for each in told if each.key[0] == "accounts"}
    own = [each for each in told if each.key[0] != "accounts"]
    return replace(
        site,
        services=tuple(_set_all(each, own) if each.name == name else each for each in site.services),
        accounts=tuple(replace(each, **of_accounts) if each.service == name else each for each in site.accounts),
    )


def _set_all(service: Service, told: Sequence[Told]) -> Service:
    found: Any = service
    for each in told:
        found = _set(found, each.key, each.value)
    return found  # type: ignore[no-any-return]


_MADE = {"passive": Passive, "active": Active}


def _set(value: Any, key: tuple[str, ...], new: Any) -> Any:
    """The value with what stands at a key; a mapping that is not there yet is made with its defaults."""
    if not key:
        return new
    inner = getattr(value, key[0])
    if inner is None and len(key) > 1:
        inner = _MADE[key[0]]()
    return replace(value, **{key[0]: _set(inner, key[1:], new)})


def _with_tables(site: Site, name: str, direction: Direction, reading: Reading) -> Site:
    gateways = tuple(_gateway(each, direction, reading) if each.name == name else each for each in site.gateways)
    clients = tuple(_client(each, direction, reading) if each.name == name else each for each in site.clients)
    server = _server(site.server, direction, reading) if site.server.name == name else site.server
    return replace(site, gateways=gateways, clients=clients, server=server)


def _gateway(gateway: Gateway, direction: Direction, reading: Reading) -> Gateway:
    if reading.subject == "forwards":
        return replace(gateway, forwards=reading.forwards)
    if reading.subject == "switches":
        return replace(gateway, **{each.key[0]: each.value for each in reading.told})
    side = "inward" if (reading.direction or direction) == "in" else "outward"
    table = _table(getattr(gateway.filter, side), reading)
    return replace(gateway, filter=replace(gateway.filter, **{side: table}))


def _server(server: Server, direction: Direction, reading: Reading) -> Server:
    if reading.subject == "switches":
        return replace(server, **{each.key[0]: each.value for each in reading.told})
    side = "incoming" if direction == "in" else "outgoing"
    table = _table(getattr(server.filter, side), reading)
    return replace(server, filter=replace(server.filter, **{side: table}))


def _client(client: Client, direction: Direction, reading: Reading) -> Client:
    if reading.subject == "switches":
        return client  # a client in a site has none of them
    side = "incoming" if direction == "in" else "outgoing"
    table = _table(getattr(client.filter, side), reading)
    return replace(client, filter=replace(client.filter, **{side: table}))


def _table(old: Filter, reading: Reading) -> Filter:
    last = reading.default or old
    return Filter(default=last.default, refuses_with=last.refuses_with, rules=_named(old.rules, reading.rules))


def _named(old: Sequence[Rule], read: Sequence[Rule]) -> tuple[Rule, ...]:
    """Rules that were read without a name are called as those that say the same."""
    left = list(old)
    found = []
    for rule in read:
        known = next((each for each in left if not rule.name and replace(each, name="") == rule), rule)
        left = [each for each in left if each is not known]
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
        at = lengths.setdefault(each.before, len(_value(before, each.before) or ()))
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


def _value(site: Any, place: SitePath) -> Any:
    for part in place:
        site = site[part] if isinstance(part, int) else getattr(site, "from_" if part == "from" else part)
    return site
