"""An address that moves: names that lead elsewhere, and the state in which both addresses lead in.

Theory: who remembers the old address
=====================================
A name that gets another address is asked for anew by nobody who still remembers the answer, for as long as its TTL (RFC
1034, section 3.6). In this time some come to the old address and others to the new, so that both have to lead in. That
is a state of its own, between the two that are compared: everything that comes is there already, nothing that goes is
gone yet, and devices whose outside address changes have both. Whether all that holds before and after holds in it is
predicted twice, for those who still go to the old address and for those who go to the new.
"""

from collections.abc import Iterator, Sequence

from msgspec import Struct
from msgspec.structs import replace

from ..model.change import change, changed
from ..model.consistency import problems
from ..model.site import Forward, Gateway, Promise, Rule, Site
from ..network.topology import Topology
from ..predict.forecast import Forecast
from ..predict.session import predict
from ..values.addresses import Addresses, AddressSet
from ..values.quantities import Duration
from .steps import Edit, Overlay


class Move(Struct, frozen=True):
    """A name, or where it has none the clients that type an address, which leads elsewhere afterwards. ``ttl`` is how
    long the old answer is remembered; None where nobody stated it."""

    name: str
    clients: tuple[str, ...]
    old: Addresses
    new: Addresses
    ttl: Duration | None = None


class Bridge(Struct, frozen=True):
    """The state in which the old and the new addresses lead in, with the edits that are made for it. ``by_old`` and
    ``by_new`` are the promises that are not certain to be kept for those who go there; ``wrong`` is what makes it no
    state of a site at all."""

    site: Site
    edits: tuple[Edit, ...]
    by_old: tuple[Forecast, ...] = ()
    by_new: tuple[Forecast, ...] = ()
    wrong: str = ""

    @property
    def holds(self) -> bool:
        """Whether everything that holds before and after holds in it, by either address."""
        return not (self.by_old or self.by_new or self.wrong)


def moves(before: Site, after: Site) -> tuple[Move, ...]:
    """Names and typed addresses that lead elsewhere in the later state."""
    return (*_of_names(before, after), *_of_typed(before, after))


def _of_names(before: Site, after: Site) -> Iterator[Move]:
    later = {each.name: each.addresses for each in after.names}
    for each in before.names:
        new = later.get(each.name)
        if new is not None and any(old not in new for old in each.addresses.each):
            typing = tuple(
                client.name for client in before.clients if client.reaches and client.reaches.name == each.name
            )
            yield Move(each.name, typing, each.addresses, new, each.ttl)


def _of_typed(before: Site, after: Site) -> Iterator[Move]:
    later = {each.name: each.reaches for each in after.clients}
    found: dict[tuple[Addresses, Addresses], list[str]] = {}
    for each in before.clients:
        old, new = each.reaches, later.get(each.name)
        if (
            old
            and new
            and not old.name
            and new.addresses
            and any(one not in new.addresses for one in old.addresses.each)
        ):
            found.setdefault((old.addresses, new.addresses), []).append(each.name)
    for (was, now), clients in found.items():
        yield Move("", tuple(clients), was, now)


def bridge(before: Site, after: Site, held: Sequence[Promise]) -> Bridge:
    """The state between two, of which ``held`` are the promises that are kept in both."""
    overlay = Overlay(before, _with_both(before, after))
    leads = {i for i, each in enumerate(overlay.edits) if _leads_clients(each)}
    made = {i for i, each in enumerate(overlay.edits) if each.new is not None or not each.entry} - leads
    old, new = overlay.between(made), overlay.between(made | leads)
    edits = tuple(overlay.edits[i] for i in sorted(made))
    if wrong := problems(replace(old, promises=tuple(held))):
        return Bridge(old, edits, wrong=wrong[0].message)
    return Bridge(old, edits, _broken(old, held), _broken(new, held))


def _leads_clients(edit: Edit) -> bool:
    """Whether an edit changes where clients go: what they type, or what the name is."""
    return (edit.path[0] == "names" and not edit.entry) or (edit.path[0] == "clients" and edit.path[-1] == "reaches")


def _with_both(before: Site, after: Site) -> Site:
    """The later state with the addresses of both, outside of devices and in lines that name them."""
    site = after
    for edit in Overlay(before, after).edits:
        both = None if edit.old is None or edit.new is None else _joined(edit.old, edit.new)
        if both is not None and (edit.entry or edit.path[-2:] == ("outside", "address")):
            site = changed(site, change(site, edit.after, both))
    gateways = tuple(_with_doors(each, before) for each in site.gateways)
    return replace(site, gateways=gateways)


def _joined(old: object, new: object) -> object:
    """One value for both: addresses of either; of lines, for the addresses of either."""
    if isinstance(old, Addresses) and isinstance(new, Addresses):
        return Addresses((*new.each, *(each for each in old.each if each not in new)))
    if isinstance(old, (Rule, Forward)) and type(old) is type(new):
        sets = {key: (getattr(old, key), getattr(new, key)) for key in ("from_", "to") if hasattr(old, key)}
        whole = {key: a | b for key, (a, b) in sets.items() if isinstance(a, AddressSet) and isinstance(b, AddressSet)}
        return replace(new, **whole)
    return new


def _with_doors(gateway: Gateway, before: Site) -> Gateway:
    """A gateway that keeps the forwards of an outside address that it had."""
    for old in before.gateways:
        if old.name == gateway.name:
            kept = [each for each in old.forwards if each.outside is not None and each.outside in old.outside.address]
            more = tuple(each for each in kept if each not in gateway.forwards)
            gateway = replace(gateway, forwards=(*gateway.forwards, *more))
    return gateway


def _broken(site: Site, held: Sequence[Promise]) -> tuple[Forecast, ...]:
    """The forecasts of promises that are not certain to be kept."""
    topology = Topology(replace(site, promises=tuple(held)))
    found = (predict(topology, each, ("promises", i)) for i, each in enumerate(held))
    return tuple(each for each in found if each.kept is not True)


SHORT_TTL = Duration(300)
"""How long an answer is to be remembered while a name is about to move."""


def move_steps(moved: Sequence[Move], bridge: Bridge) -> Iterator[str]:
    """What is to be done in which order where addresses move, and how long to wait."""
    named = [each for each in moved if each.name]
    for each in named:
        now = f"{each.ttl}, what it is now" if each.ttl else f"as long as it is now (dig {each.name} shows it)"
        yield f"lower the TTL of {each.name} to {SHORT_TTL}, and wait {now}: so long the old answer is remembered"
    if not bridge.holds:
        yield "no state in which both addresses lead in keeps what holds before and after: move while nobody transfers"
        return
    yield "let both addresses lead in, as below: what holds before and after holds then by either (predicted)"
    for each in named:
        yield f"let {each.name} lead to {each.new}, and wait {SHORT_TTL} at least: so long some still go to {each.old}"
    if typing := [client for each in moved if not each.name for client in each.clients]:
        yield f"tell {', '.join(typing)} the new address, and wait until they type it"
    yield "then take away what the new state no longer has: the old address, and what the steps above take out"
