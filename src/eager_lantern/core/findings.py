"""Findings: what is wrong or unwise in a site, each cause once, with its place and its cure.

A layer that does not pass what it ought to is a shortfall. Shortfalls are traced to causes
(:mod:`.causes`), equal causes are joined, and each becomes one finding here.
"""

from collections.abc import Iterator
from typing import Literal

from msgspec import Struct
from msgspec.structs import replace

from .causes import Cause, causes_of, not_public
from .ledger import Study
from .place import Place
from .ports import PortSet
from .site import INTERNET, Gateway, Rule, Site
from .topology import Topology

Severity = Literal["breaks", "risks", "note"]
_RANK: dict[Severity, int] = {"breaks": 0, "risks": 1, "note": 2}


class Finding(Struct, frozen=True):
    """Something wrong or unwise, where it stands, and what to do about it."""

    kind: str
    severity: Severity
    message: str
    advice: str
    place: Place


def findings(topology: Topology, studies: tuple[Study, ...]) -> tuple[Finding, ...]:
    """All findings of a site, what breaks promises first, then in the order of the file."""
    broken = [each for each in studies if each.forecast.kept is False]
    causes = _joined(cause for study in broken for cause in causes_of(topology, study))
    found = [Finding(each.kind, "breaks", each.message, each.advice, each.place) for each in causes]
    taken = {(each.kind, each.place) for each in found}
    found += [each for each in _lint(topology.site) if (each.kind, each.place) not in taken]
    return tuple(sorted(found, key=lambda each: _RANK[each.severity]))


def _joined(causes: Iterator[Cause]) -> list[Cause]:
    """One cause for each kind and place, with all the ports that it stops."""
    joined: dict[tuple[str, Place], Cause] = {}
    for cause in causes:
        key = (cause.kind, cause.place)
        first = joined.get(key)
        ports = cause.ports | first.ports if first else cause.ports
        joined[key] = replace(first or cause, ports=ports)
    return list(joined.values())


def _lint(site: Site) -> Iterator[Finding]:
    """What can be told from the file alone, whatever is promised."""
    for i, gateway in enumerate(site.gateways):
        yield from _not_public(gateway, ("gateways", i))
    yield from _port_20(site)


def _not_public(gateway: Gateway, place: Place) -> Iterator[Finding]:
    forwards = [each for each in gateway.forwards if each.enabled]
    special = any(each.kind != "public" for each in gateway.outside.address.each)
    if gateway.outside.network == INTERNET and special and forwards:
        cause = not_public(gateway, place, PortSet())
        yield Finding(cause.kind, "risks", cause.message, cause.advice, cause.place)


def _port_20(site: Site) -> Iterator[Finding]:
    """Port 20 open inward: in active mode the server connects from 20, nobody connects to it."""
    needed = PortSet.of(*((each.control_port.number,) * 2 for each in site.services))
    if 20 in needed:
        return
    for i, gateway in enumerate(site.gateways):
        for j, forward in enumerate(gateway.forwards):
            if forward.enabled and 20 in forward.ports and forward.protocol == "tcp":
                yield _needless(gateway.name, "forwards", ("gateways", i, "forwards", j, "ports"), forward.ports)
    for j, rule in enumerate(site.server.filter.incoming.rules):
        if _opens_20(rule):
            place = ("server", "filter", "incoming", "rules", j, "ports")
            yield _needless(site.server.name, "lets in", place, rule.ports)


def _opens_20(rule: Rule) -> bool:
    """A rule that names 20, not one that lets in nearly everything."""
    return rule.enabled and rule.action == "allow" and 20 in rule.ports and len(rule.ports) <= 1024


def _needless(at: str, does: str, place: Place, ports: PortSet) -> Finding:
    left = ports - PortSet.single(20)
    return Finding(
        "port-20-needless",
        "risks",
        f"{at} {does} port 20, which neither mode needs: in active mode the server connects out from 20",
        f"set ports to {left}" if left else "remove it",
        place,
    )
