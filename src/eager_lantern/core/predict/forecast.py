"""What is predicted of a promise, as values and in plain sentences."""

from collections.abc import Iterable
from fractions import Fraction
from typing import assert_never

from msgspec import Struct, field
from msgspec.structs import replace

from ..model.site import CompleteClient, Promise, Refusal, Service
from ..network.flow import Flow, Journey, Reason
from ..network.journey import Helped
from ..network.topology import Host
from ..values.addresses import Address, AddressSet, Family, address_or_none
from ..values.outcomes import Extent, Outcome, Rung
from ..values.phrases import ports_named
from ..values.ports import PortSet
from ..values.text_value import SitePath


class Stop(Struct, frozen=True):
    """Ports of a connection that do not get through, what is to blame, and the refusal that is sent, if any."""

    ports: PortSet
    outcome: Outcome
    at: str
    rule: str | None
    reason: Reason | None
    place: SitePath | None
    answer: Refusal | None = None


class Data(Struct, frozen=True):
    """What becomes of each data port that may be used, with the journeys that tell."""

    asked: PortSet
    works: PortSet
    fails: PortSet
    unknown: PortSet
    stops: tuple[Stop, ...]
    journeys: tuple[Journey, ...]

    @property
    def share(self) -> float:
        """The part of the ports that work, 0 to 1; a server picks any of its range."""
        return len(self.works) / len(self.asked) if self.asked else 0.0


class ClientPosition(Struct, frozen=True):
    """Who connects: a client of the site, or anybody on a network."""

    name: str
    origin: Host | str
    network: str
    sources: AddressSet
    spec: CompleteClient


class Forecast(Struct, frozen=True):
    """What is predicted of one promise.

    ``control`` holds the journeys of the control connection to ``target``; ``announced`` is
    the address that the client gets for data. ``data_flow`` is what is sent for data, and
    ``helped`` the gateways whose helper expects it. ``banned`` are those of whoever is promised it
    whom rules stop by their addresses, and who are left out.
    """

    promise: Promise
    place: SitePath
    position: ClientPosition
    service: Service
    predicted: Extent
    target: Address | None
    control: tuple[Journey, ...]
    rung: Rung | None = None
    stops: tuple[Stop, ...] = ()
    data: Data | None = None
    announced: Address | None = None
    data_flow: Flow | None = None
    helped: Helped = field(default_factory=dict)
    banned: AddressSet = AddressSet()

    @property
    def kept(self) -> bool | None:
        """Whether the promise holds; None where it is unknown."""
        if self.promise.holds == "shut":
            return None if self.predicted == "unknown" else self.predicted == "fails"
        if self.data and self.data.fails:
            return False
        return None if self.predicted == "unknown" else self.predicted == "works"


def rung_of(reason: Reason | None) -> Rung:
    """The rung at which a data connection shows that it was stopped for this reason: where the
    server itself turns it away, it has opened and fails when the listing is asked for."""
    return "list" if reason in ("another peer", "session reuse") else "data"


def stops_of(journeys: tuple[Journey, ...]) -> tuple[Stop, ...]:
    """What did not arrive, one stop for each thing to blame: what is certain first, then the most ports."""
    ports: dict[tuple[Outcome, str, str | None, Reason | None, SitePath | None, Refusal | None], PortSet] = {}
    for each in journeys:
        if each.outcome != "ok":
            key = (each.outcome, each.end.at, each.end.rule, each.reason, each.end.place, each.end.answer)
            ports[key] = ports.get(key, PortSet()) | each.asked.ports
    stops = [Stop(each, *key) for key, each in ports.items()]
    return tuple(sorted(stops, key=lambda stop: (stop.outcome == "unknown", -len(stop.ports))))


def data_of(flows: tuple[Flow, ...], journeys: tuple[Journey, ...], at: str) -> Data:
    """Sort ports by their fate: a port works where all of its journeys arrived, over every transport that
    is asked for; one that fails for a single source fails. What no journey covers is unknown, for
    want of an address of the family at ``at``."""
    asked = flows[0].ports
    fails, unknown = PortSet(), PortSet()
    for each in journeys:
        if each.outcome == "unknown":
            unknown = unknown | each.asked.ports
        elif each.outcome != "ok":
            fails = fails | each.asked.ports
    familyless = PortSet()
    for flow in flows:
        familyless = familyless | flow.ports - _ports_of_transport(flow, journeys)
    stops = stops_of(journeys)
    if familyless:
        stops = (*stops, Stop(familyless, "unknown", at, None, "no common family", None))
    unknown = (unknown | familyless) - fails
    return Data(asked, _arrived(flows, journeys) - fails - unknown, fails, unknown, stops, journeys)


def _ports_of_transport(flow: Flow, journeys: tuple[Journey, ...]) -> PortSet:
    """The ports that a journey of this transport covers."""
    return _union(each.asked.ports for each in journeys if each.asked.protocol == flow.protocol)


def _arrived(flows: tuple[Flow, ...], journeys: tuple[Journey, ...]) -> PortSet:
    """The ports on which a journey of every transport arrived."""
    arrived = flows[0].ports
    for flow in flows:
        arrived = arrived & _ports_of_transport(flow, tuple(each for each in journeys if each.outcome == "ok"))
    return arrived


def _union(parts: Iterable[PortSet]) -> PortSet:
    found = PortSet()
    for each in parts:
        found = found | each
    return found


def extent_of(data: Data) -> Extent:
    """The verdict on a data connection that may use any of its ports."""
    if data.works and data.fails:
        return "partly"
    if data.unknown:
        return "unknown"
    return "works" if data.works else "fails"


_NUMBERS = {2: "two", 3: "three", 4: "four", 5: "five", 6: "six", 7: "seven", 8: "eight", 9: "nine", 10: "ten"}
_HOW = {"silent": "hangs", "refused": "is refused", "wrong": "ends up elsewhere"}
_MANNER = {"silent": ", silently", "refused": ", with a refusal", "wrong": "", "unknown": ""}
REFUSED = "connection refused"


def share_that(part: int, whole: int, outcome: str) -> str:
    """``every second transfer hangs``; a server picks any port of its range with equal chance."""
    if outcome == "unknown":
        return "whether transfers work is unknown" if part == whole else f"{part} of {whole} ports are unknown"
    how = _HOW[outcome]
    share = Fraction(part, whole) if whole else Fraction(1)
    if share == 1:
        return f"every transfer {how}"
    if share == Fraction(1, 2):
        return f"every second transfer {how}"
    if share.numerator == 1 and share.denominator <= 10:
        return f"one transfer in {_NUMBERS[share.denominator]} {how}"
    if share.denominator <= 10:
        return f"{_NUMBERS.get(share.numerator, share.numerator)} transfers in {_NUMBERS[share.denominator]} fail"
    percent = 100 * part / whole
    return f"about {percent:.0f} transfers in 100 fail" if percent >= 1 else f"{part} of {whole} transfers fail"


def error_of(answer: Refusal, family: Family, told_in: Family | None = None) -> str:
    """What the system of a client calls a refusal, as Linux does: ICMP destination unreachable with codes 1, 3 and 13
    (RFC 792; RFC 1812, section 5.2.7.1), of ICMPv6 3, 4 and 1 (RFC 4443, section 3.1). ``family`` is the client's;
    what was ``told_in`` IPv4 to a client of IPv6 has been translated (RFC 7915, section 4.2)."""
    match answer:
        case "reset" | "port-unreachable":
            return REFUSED
        case "host-unreachable":
            return "network is unreachable" if family == 6 and told_in == 4 else "no route to host"
        case "prohibited":
            return "no route to host" if family == 4 else "permission denied"
        case _ as never:
            assert_never(never)


def manner(stop: Stop, family: Family) -> str:
    """How a stop shows to whoever connects."""
    error = error_of(stop.answer, family) if stop.answer else REFUSED
    return _MANNER[stop.outcome] if error == REFUSED else f", with “{error}”"


def blame(stop: Stop, goes_to: str = "") -> str:
    """Who stops it and why, in one clause; ``goes_to`` is the address that it was on its way to."""
    target_text = goes_to or "that address"
    rule = f"rule “{stop.rule}”" if stop.rule else "a rule"
    match stop.reason:
        case "filter rule":
            return f"{rule} of {stop.at} blocks it"
        case "filter default":
            return f"{stop.at} allows only what a rule allows, and no rule does"
        case "rule unknown":
            return f"the effect of {rule} of {stop.at} is unknown"
        case "ports unknown":
            return f"the destination of {ports_named(stop.ports)} on {stop.at} is unknown"
        case "hairpin unknown":
            return f"whether and how {stop.at} hairpins connections to {target_text} from inside is unknown"
        case "provider blocks":
            return f"the provider of {stop.at} blocks it"
        case "outside the share":
            return f"{stop.at} shares its outside address and owns other ports of it"
        case "no forward":
            return f"{stop.at} has no forward for {ports_named(stop.ports)}"
        case "forwarding is off":
            return f"{stop.at} has forwarding switched off"
        case "no hairpin":
            return f"{stop.at} does not hairpin connections to {target_text} from inside"
        case "the device itself":
            return f"{target_text} is {stop.at} itself"
        case "nobody there":
            return f"no host on {stop.at} has the address it was sent to"
        case "no path":
            return _unreachable(goes_to)
        case "no way back":
            return "it leaves with a private source address: replies cannot be routed back"
        case "answers bypass it":
            return f"{stop.at} hairpins it without rewriting the source, so replies go straight to the client"
        case "answers go elsewhere":
            return f"{stop.at} sends its replies by another route than the connection came"
        case "several ways":
            return f"several gateways lead on from {stop.at}, and the site file does not state which one is used"
        case "no outside address":
            return f"{stop.at} has no outside address for it"
        case "IPv4 of the inside":
            return f"{stop.at} translates only to outside addresses, and {target_text} stands for an inside one"
        case "not listening":
            return f"it arrives at {stop.at} on a port with no listener"
        case "another service":
            return f"it arrives at another service of {stop.at}"
        case "another peer":
            return f"{stop.at} sees another source address than on the control connection"
        case "address refused":
            return f"{stop.at} refuses to connect to {target_text}, which is not the address it sees"
        case "session reuse":
            return f"{stop.at} requires data to resume the TLS session, and this client does not"
        case "TLS demanded":
            return f"{stop.at} requires TLS, and this client does not use it"
        case "account barred":
            return f"{stop.at} does not let this account log in"
        case "login by key alone":
            return f"the account on {stop.at} has a key and no password, and FTP knows no keys"
        case "root writable":
            return f"{stop.at} confines nobody to a folder that is not root's, or that others may write into"
        case "EPSV unknown":
            return f"{stop.at} supports neither EPSV nor EPRT, and this client uses nothing else"
        case "control forgotten":
            return f"{stop.at} drops the idle control connection before a typical transfer ends"
        case "packets too big":
            return f"{stop.at} drops packets that exceed the MTU of its line, and does not notify their sender"
        case "client has no address":
            return f"the site file has no usable address for {stop.at}"
        case "not filled in":
            return f"the site file has a ? for {stop.at}"
        case "no announced address":
            return f"the site file has no IPv4 address for {stop.at} to announce, and PASV carries nothing else"
        case "no common family":
            return f"{stop.at} has no address of the same family as {target_text}"
        case "source port may change":
            return f"{rule} of {stop.at} matches a source port that a device before it may change"
        case "source address may change":
            return f"{stop.at} filters by source address, and a pool of addresses may change it"
        case "leads back out":
            return f"a forward of {stop.at} leads back outside"
        case "goes in circles":
            return "forwards or routes send it in circles"
        case "other family":
            return f"the FTP helper of {stop.at} drops a command that names an address of the other family"
        case "reads it twice":
            return f"the control connection passes the FTP helper of {stop.at} out and in again"
        case "read apart":
            return f"the control connections to {stop.at} pass helpers on several ways that read them otherwise"
        case None:
            return f"{stop.at} stops it"
        case _ as never:
            assert_never(never)


def _unreachable(address: str) -> str:
    known = address_or_none(address)
    special = known is not None and known.kind != "public"
    return f"no route to {address or 'it'}" + (f", a {known.kind} address" if known and special else "")


MOST_NAMED = 4
"""Spans of addresses that are named in a sentence."""
NOT_NAMED = "the addresses"


def because(forecast: Forecast) -> str:
    """Why a promise is kept or broken, in one sentence."""
    if stated := forecast.promise.except_for:
        rest = because(replace(forecast, promise=replace(forecast.promise, except_for=AddressSet())))
        but = f"save for {_named(stated)}, as the promise states"
        return f"{but}; of the others: {rest}" if rest else but
    if forecast.promise.holds == "shut":
        return _shut_text(forecast)
    if forecast.banned:
        named = _named(forecast.banned.among(forecast.position.sources))
        but = f"save for {named}{',' * (named != NOT_NAMED)} which a rule bans"
        rest = because(replace(forecast, banned=AddressSet()))
        return f"{but}; of the others: {rest}" if rest else but
    if not forecast.stops:
        return ""
    stop = forecast.stops[0]
    if stop.reason == "not filled in":
        return f"unknown: {blame(stop)}"
    if stop.reason == "packets too big":
        shielded = forecast.service.protocol == "sftp" or forecast.position.spec.secures(forecast.service.tls)
        first = "short messages pass" if shielded else "login and a short listing work"
        hangs = "what needs a full packet, sometimes the handshake itself," if shielded else "every longer transfer"
        return f"{first}, {hangs} hangs: {blame(stop)}"
    if forecast.rung == "send":
        return f"every typical transfer breaks at its end: {blame(stop)}"
    if forecast.data and forecast.data.asked:
        goes_to = str(forecast.data_flow.to) if forecast.data_flow else ""
        failing = forecast.data.fails or forecast.data.unknown
        announced_only = (
            goes_to == str(forecast.announced) != str(forecast.target) and forecast.promise.mode == "passive"
        )
        target_text = ", sent to the announced address" if announced_only else ""
        share = share_that(len(failing), len(forecast.data.asked), stop.outcome)
        share = f"{_for_whom(forecast, goes_to)}{share}{target_text}"
        return f"{share}: {blame(stop, goes_to)}{_unknown_besides(forecast.data, goes_to)}"
    if forecast.rung == "announce":
        return f"no transfer starts: {blame(stop, str(forecast.announced or ''))}"
    goes_to = str(forecast.target or "")
    family = forecast.target.family if forecast.target else 4
    if stop.outcome == "unknown":
        return f"unknown: {blame(stop, goes_to)}"
    whom = _for_whom(forecast, goes_to)
    return f"{whom}no connection to {goes_to or forecast.service.name}{manner(stop, family)}: {blame(stop, goes_to)}"


def _named(addresses: AddressSet) -> str:
    return str(addresses) if len(addresses.spans) <= MOST_NAMED else NOT_NAMED


def _for_whom(forecast: Forecast, goes_to: str) -> str:
    """Of many to whom a promise is made, those of whom some connection is stopped, and what share of them that is;
    empty where it is all of them, or one."""
    target = address_or_none(goes_to)
    if target is None or forecast.position.spec.address or forecast.promise.mode == "active":
        return ""
    everyone, stopped = forecast.position.sources.of_family(target.family), AddressSet()
    for each in (*forecast.control, *(forecast.data.journeys if forecast.data else ())):
        stopped = stopped | (each.asked.sources & everyone if each.outcome != "ok" else AddressSet())
    passing = everyone - stopped
    if not passing or not stopped:
        return ""
    part, whole = (sum(high - low + 1 for low, high in each.spans) for each in (stopped, everyone))
    percent = 100 * part / whole
    share = "less than 1 %" if percent < 1 else "over 99 %" if percent > 99 else f"{percent:.0f} %"
    named, others = stopped.among(everyone), passing.among(everyone)
    if len(others.spans) < len(named.spans) and len(others.spans) <= MOST_NAMED:
        return f"for all but {others} ({share} of the addresses): "
    return f"for {named if len(named.spans) <= MOST_NAMED else 'some'} ({share} of the addresses): "


def _unknown_besides(data: Data, goes_to: str) -> str:
    """What is unknown where other ports certainly fail."""
    doubt = next((each for each in data.stops if each.outcome == "unknown" and each.ports & data.unknown), None)
    if doubt is None or not data.fails:
        return ""
    return f"; {share_that(len(data.unknown), len(data.asked), 'unknown')}: {blame(doubt, goes_to)}"


def _few(addresses: AddressSet) -> str:
    return str(addresses) if len(addresses.spans) <= 2 else "some addresses"


def _shut_text(forecast: Forecast) -> str:
    if forecast.predicted == "works":
        opened = next(each.asked for each in forecast.control if each.outcome == "ok")
        everybody = forecast.position.sources.of_family(opened.to.family)
        whom = "" if opened.sources == everybody else f", for {_few(opened.sources)}"
        return f"it is open: {opened.to} {ports_named(opened.ports)} leads to it{whom}"
    if forecast.predicted == "unknown":
        return f"unknown: {blame(forecast.stops[0])}"
    if not forecast.stops:
        return "no route to it"
    stop = forecast.stops[0]
    return f"{stop.at} {'refuses' if stop.outcome == 'refused' else 'does not answer'}"
