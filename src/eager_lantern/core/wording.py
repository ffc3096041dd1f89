"""Plain sentences about what happens to connections."""

from fractions import Fraction

from .addresses import Address
from .forecast import Forecast, Stop
from .ports import PortSet

_NUMBERS = {2: "two", 3: "three", 4: "four", 5: "five", 6: "six", 7: "seven", 8: "eight", 9: "nine", 10: "ten"}
_HOW = {"silent": "hangs", "refused": "is refused", "wrong": "ends up elsewhere", "unknown": "cannot be told"}
_MANNER = {"silent": ", silently", "refused": ", with a refusal", "wrong": "", "unknown": ""}


def share_that(part: int, whole: int, outcome: str) -> str:
    """``every second transfer hangs``; a server picks any port of its range with equal chance."""
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


def ports_named(ports: PortSet) -> str:
    """``port 21``, ``ports 61200-61455``; many of them are counted."""
    text = str(ports) if len(ports.spans) <= 3 else f"{ports.lowest} to {ports.highest} ({len(ports)} of them)"
    return f"port {text}" if len(ports) == 1 else f"ports {text}"


def blame(stop: Stop, goes_to: str) -> str:
    """Who stops it and why, in one clause."""
    rule = f"rule “{stop.rule}”" if stop.rule else "a rule"
    clauses = {
        "filter rule": f"{rule} of {stop.at} shuts it",
        "filter default": f"{stop.at} lets through only what a rule allows",
        "provider blocks": f"the provider of {stop.at} blocks it",
        "no forward": f"{stop.at} has no forward for {ports_named(stop.ports)}",
        "forwarding is off": f"{stop.at} has forwarding switched off",
        "no hairpin": f"{stop.at} does not turn back connections to {goes_to} from inside",
        "the device itself": f"{goes_to} is {stop.at} itself",
        "nobody there": f"nobody on {stop.at} has the address it was sent to",
        "no path": _unreachable(goes_to),
        "no way back": "it leaves with a private address, to which no answer finds back",
        "no outside address": f"{stop.at} has no outside address for it",
        "not listening": f"it comes out at {stop.at} on a port where nothing waits",
        "another service": f"it comes out at {stop.at} at another service",
        "another peer": f"{stop.at} sees it come from another address than the control connection",
        "address refused": f"{stop.at} refuses to connect to {goes_to}, which is not the address it sees",
        "session reuse": f"{stop.at} demands that data resumes the TLS session, this client does not",
        "control forgotten": f"{stop.at} forgets the quiet control connection before a typical transfer ends",
        "client has no address": f"the site file gives {stop.at} no address that would do",
        "source port may change": f"{rule} of {stop.at} asks for a source port that a device before it may change",
        "source address may change": f"{stop.at} judges by source, which a pool of addresses may change",
        "leads back out": f"a forward of {stop.at} leads back outside",
        "goes in circles": "forwards send it in circles",
        "other family": f"the FTP helper of {stop.at} drops a command that names an address of the other family",
        "reads it twice": f"the control connection passes the FTP helper of {stop.at} out and in again",
    }
    return clauses[stop.reason] if stop.reason else f"{stop.at} stops it"


def _unreachable(address: str) -> str:
    kind = Address.parse(address).kind
    return f"no way leads to {address}" + (f", a {kind} address" if kind != "public" else "")


def because(forecast: Forecast) -> str:
    """Why a promise is kept or broken, in one sentence."""
    if forecast.promise.holds == "shut":
        return _shut(forecast)
    if not forecast.stops:
        return ""
    stop = forecast.stops[0]
    if forecast.rung == "send":
        return f"every typical transfer breaks at its end: {blame(stop, '')}"
    if forecast.data and forecast.data.asked:
        goes_to = str(forecast.data_flow.to) if forecast.data_flow else ""
        failing = forecast.data.fails or forecast.data.unknown
        told = goes_to == str(forecast.announced) != str(forecast.target) and forecast.promise.mode == "passive"
        whither = ", sent to the announced address" if told else ""
        share = share_that(len(failing), len(forecast.data.asked), stop.outcome)
        return f"{share}{whither}: {blame(stop, goes_to)}"
    if forecast.rung == "announce":
        return f"no transfer starts: {blame(stop, str(forecast.announced))}"
    goes_to = str(forecast.target)
    return f"no connection to {goes_to}{_MANNER[stop.outcome]}: {blame(stop, goes_to)}"


def _shut(forecast: Forecast) -> str:
    if forecast.predicted == "works":
        open_ports = next(each.asked for each in forecast.control if each.outcome == "ok")
        return f"it is open: {open_ports.to} {ports_named(open_ports.ports)} leads to it"
    if forecast.predicted == "unknown":
        return f"cannot be told: {blame(forecast.stops[0], '')}"
    if not forecast.stops:
        return "no way leads to it"
    stop = forecast.stops[0]
    return f"{stop.at} {'refuses' if stop.outcome == 'refused' else 'answers nothing'}"
