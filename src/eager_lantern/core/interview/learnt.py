"""A first site file from observations alone: answers to its questions, each with its source.

A survey of the server shows the host and the router; a visit shows how the service speaks and its passive range.
What nobody has seen stays a proposal, and is marked as one.

An address that a server names in its passive reply is its own where it is private. Where it is public, it is what
clients come by, unless it was seen what they type.
"""

from collections.abc import Iterator, Mapping, Sequence
from typing import TypeVar

from msgspec import Struct

from ..model.site import Site
from ..observed.conclusions import OF_ROUTERS, forwards_of, outside_of
from ..observed.observation import Observation
from ..observed.survey import OwnAddress, Survey
from ..values.addresses import Address
from ..values.outcomes import ORDER
from ..values.ports import PortSet
from ..values.text_value import SitePath

PLACES: Mapping[str, SitePath] = {
    "site": ("site",),
    "clients_can": ("services", 0, "tls"),
    "control_port": ("services", 0, "control_port"),
    "server": ("server", "name"),
    "address": ("server", "address"),
    "lease": ("server", "lease"),
    "system": ("server", "system"),
    "client_count": ("services", 0, "load", "client_count"),
    "burst": ("services", 0, "load", "burst"),
    "ports": ("services", 0, "passive", "ports"),
    "subnet": ("networks", 0, "subnet"),
    "device": ("gateways", 0, "name"),
    "device_inside": ("gateways", 0, "inside", "address"),
    "outside": ("gateways", 0, "outside", "address"),
    "outside_lease": ("gateways", 0, "outside", "lease"),
    "typed": ("clients", 0, "reaches"),
    "account": ("accounts", 0, "name"),
    "folder": ("accounts", 0, "home"),
    "rights": ("accounts", 0, "rights"),
}
"""Where the answer to a question stands in the file that is written from it."""


NEVER_SEEN: Mapping[str, SitePath] = {
    "its filter": ("server", "filter", "incoming", "default"),
    "hairpin": ("gateways", 0, "hairpin"),
}
"""What the file states as well, and no survey or visit shows."""
T = TypeVar("T")
Said = tuple[str, str, str]
"""Key, answer, and doubt."""


class VisitFacts(Struct, frozen=True):
    """What a visit or the log of one shows of a site without a file: what was typed, by which means it came in, the
    control port, the address in its passive reply, the name of the account, and the data ports that were handed out
    (``sure`` where hardly more are)."""

    typed: str = ""
    means: str = ""
    port: int | None = None
    announced: Address | None = None
    ports: PortSet = PortSet()
    sure: bool = False
    account: str = ""


class Learnt(Struct, frozen=True):
    """An answer, and the file that it was seen in; ``doubt`` states why a person should look at it all the same."""

    answer: str
    source: str
    doubt: str = ""


def learnt_of(surveys: Sequence[tuple[str, Survey]], visits: Sequence[tuple[str, VisitFacts]]) -> dict[str, Learnt]:
    """What was seen, by the key of its question; the first who saw something is believed."""
    found: dict[str, Learnt] = {}
    learnt_here = [(source, each) for source, survey in surveys for each in _of_survey(survey)]
    learnt_here += [(source, each) for source, facts in visits for each in _of_visit(facts)]
    learnt_here += [(source, each) for source, survey in surveys for each in _of_mappings(survey)]
    for source, (key, answer, doubt) in learnt_here:
        found.setdefault(key, Learnt(answer, source, doubt))
    return found


def _of_mappings(survey: Survey) -> Iterator[Said]:
    """The widest forwarded range, which is that of the data ports if anything is."""
    ranges = [each for each in forwards_of(survey.mappings) if each.protocol == "tcp" and len(each.ports) > 1]
    if ranges:
        widest = max(ranges, key=lambda each: len(each.ports))
        yield "ports", str(widest.ports), "as the router forwards them; look at the server's setting"


def _of_survey(survey: Survey) -> Iterator[Said]:
    return ((key, answer, "") for key, answer in _host_answers(survey))


def _host_answers(survey: Survey) -> Iterator[tuple[str, str]]:
    host = survey.host
    yield "site", host.name
    yield "server", host.name
    yield "system", host.kind if host.kind in ("linux", "windows") else "other"
    own = _outgoing_address(survey)
    if own is not None:
        yield "address", str(own.address)
        if own.network is not None:
            yield "subnet", str(own.network)
        if own.lease is not None:
            yield "lease", "dynamic" if own.lease else "static"
        yield "behind", "nothing" if own.address.kind == "public" and not survey.mappings else "router"
    if survey.router is not None:
        yield "device_inside", str(survey.router)
    learnt_here = [each.address for each in survey.outside if each.means in OF_ROUTERS]
    if outside := [*learnt_here, *outside_of(survey)]:
        yield "outside", str(outside[0])
    transfers = [each for each in host.listeners if each.protocol == "tcp" and "ftp" in each.program]
    if transfers:
        yield "control_port", str(min(each.port for each in transfers))
    if survey.names:
        yield "typed", survey.names[0].name


def _outgoing_address(survey: Survey) -> OwnAddress | None:
    """The address that the host goes out by, else its only one of IPv4."""
    way = survey.way_out(4)
    four = [each for each in survey.host.addresses if each.address.family == 4]
    by_way = [each for each in four if way is not None and each.address == way.source]
    return by_way[0] if by_way else four[0] if len(four) == 1 else None


def _of_visit(facts: VisitFacts) -> Iterator[Said]:
    if facts.means:
        yield "clients_can", facts.means, ""
    if facts.port is not None:
        usual = facts.port in (21, 22, 990)
        yield "control_port", str(facts.port), "" if usual else "as from outside; on the server it may be another"
    if len(facts.ports) > 1:
        spanned = PortSet.of((facts.ports.lowest, facts.ports.highest))
        yield "ports", str(spanned), "" if facts.sure else "the ends may lie further out; look at the server's setting"
    if facts.account:
        yield "account", facts.account, ""
    if facts.announced is not None and facts.announced.kind == "private":
        yield "address", str(facts.announced), ""
    if facts.announced is not None and facts.announced.kind == "public":
        yield "outside", str(facts.announced), "as the server announces it"
        yield "typed", facts.typed or str(facts.announced), "" if facts.typed else "as the server announces it"
    elif facts.typed:
        yield "typed", facts.typed, ""


def facts_of(site: Site, observations: Sequence[Observation]) -> VisitFacts:
    """What all observations together show, as one visit; what was seen in two ways is left out."""
    return VisitFacts(
        typed=_agreed({each.typed for each in observations if each.typed}) or "",
        means=_agreed({_means(site, each) for each in observations} - {""}) or "",
        port=_agreed({each.dialled_port for each in observations if each.dialled_port is not None}),
        announced=_agreed({each.announced for each in observations if each.announced is not None}),
        ports=PortSet.of(*(span for each in observations for fate in each.fates for span in fate.ports.spans)),
        account=_agreed({each.user for each in observations if each.user}) or "",
    )


def _agreed(values: set[T]) -> T | None:
    return next(iter(values)) if len(values) == 1 else None


def _means(site: Site, seen: Observation) -> str:
    """What a client was seen to be able to do; one that came in without TLS may know it all the same."""
    if any(each.name == seen.tried.service and each.protocol == "sftp" for each in site.services):
        return "ssh"
    under_tls = seen.reached is not None and ORDER.index(seen.reached) >= ORDER.index("secure")
    return "tls" if seen.tried.secured and under_tls else ""
