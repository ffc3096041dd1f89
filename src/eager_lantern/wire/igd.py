"""UPnP Internet Gateway Device: how a router's page of port mappings is found and read (public interface of the UPnP
Device Architecture 1.1 and of WANIPConnection). Text in, values out; XML of strangers is read by defusedxml."""

from collections.abc import Iterator
from email.parser import BytesHeaderParser
from urllib.parse import urljoin, urlsplit
from xml.etree.ElementTree import Element, ParseError

from defusedxml import DefusedXmlException
from defusedxml.ElementTree import fromstring
from msgspec import Struct

from ..core.observed.survey import MappingSeen
from ..core.values.addresses import Address

SEARCH_PORT = 1900
GATEWAY = "urn:schemas-upnp-org:device:InternetGatewayDevice:1"
SERVICES = tuple(
    f"urn:schemas-upnp-org:service:{each}" for each in ("WANIPConnection:2", "WANIPConnection:1", "WANPPPConnection:1")
)
NO_SUCH_ENTRY = 713
MOST_OF_A_NAME = 200
_SOAP = "http://schemas.xmlsoap.org/soap/envelope/"


class ControlUrl(Struct, frozen=True):
    """Where a router takes questions about its mappings, and for which service."""

    url: str
    service: str


class Url(Struct, frozen=True):
    """A plain HTTP address, in the parts that a request needs."""

    host: str
    port: int
    target: str


class Declined(ValueError):
    """The router's answer to an action is an error; ``code`` is its number."""

    def __init__(self, code: int, text: str) -> None:
        super().__init__(f"it answers error {code} {text}".rstrip())
        self.code = code


def search_request(host: str) -> bytes:
    """The question for a gateway device, to the group or to one host (UDA 1.1, section 1.3.2)."""
    lines = ("M-SEARCH * HTTP/1.1", f"HOST: {host}:{SEARCH_PORT}", 'MAN: "ssdp:discover"', "MX: 1", f"ST: {GATEWAY}")
    return "".join(f"{each}\r\n" for each in (*lines, "")).encode("ascii")


def location_of(answer: bytes, host: str) -> Url:
    """Where the device that answered describes itself, which has to be on the host that was asked. Raises
    ValueError."""
    first, _, rest = answer.partition(b"\r\n")
    if not first.startswith(b"HTTP/1.1 200"):
        raise ValueError("an answer that is none to a search")
    return on_host(str(BytesHeaderParser().parsebytes(rest).get("LOCATION", "")).strip(), host)


def on_host(url: str, host: str) -> Url:
    """The parts of an address of plain HTTP on this host. Raises ValueError for any other: nobody is asked on a
    stranger's word."""
    parts = urlsplit(url)
    try:
        same = parts.hostname is not None and Address.parse(parts.hostname) == Address.parse(host)
    except ValueError:
        same = False
    if parts.scheme != "http" or not same or any(not 0x20 < ord(each) < 0x7F for each in url):
        raise ValueError("it leads to another host, or to none")
    target = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
    return Url(host, parts.port or 80, target)


def control_of(description: bytes, location: str) -> ControlUrl:
    """Where the first service of mappings takes actions, as the device describes itself. Raises ValueError.

    A service names its kind and its address in elements of its own (UDA 1.1, section 2.3): only these are looked at,
    so that services nested into each other cost no more than services in a row."""
    root = _parsed(description)
    base = _element_text(root, "URLBase") or location
    found = {_own_text(each, "serviceType"): _own_text(each, "controlURL") for each in _all_elements(root, "service")}
    for service in SERVICES:
        if found.get(service):
            return ControlUrl(urljoin(base, found[service]), service)
    raise ValueError("its description has no service of port mappings")


def soap_body(service: str, name: str, **arguments: str | int) -> bytes:
    """The SOAP body of an action; names and values are the tool's own, numbers and plain words."""
    inside = "".join(f"<{key}>{value}</{key}>" for key, value in arguments.items())
    return (
        f'<?xml version="1.0"?><s:Envelope xmlns:s="{_SOAP}" s:encodingStyle="http://schemas.xmlsoap.org/soap/encoding/">'
        f'<s:Body><u:{name} xmlns:u="{service}">{inside}</u:{name}></s:Body></s:Envelope>'
    ).encode("ascii")


def answered(body: bytes) -> dict[str, str]:
    """The values of an action's answer. Raises Declined, and ValueError for what is no answer."""
    root = _parsed(body)
    for error in _all_elements(root, "UPnPError"):
        code = _element_text(error, "errorCode")
        raise Declined(
            int(code) if code.isascii() and code.isdecimal() else 0, _element_text(error, "errorDescription")
        )
    return {_local(each.tag): (each.text or "").strip() for each in root.iter() if not len(each)}


def mapping(values: dict[str, str], by: str) -> MappingSeen:
    """A mapping as the router lists it. Raises ValueError for one that is none."""
    protocol = values.get("NewProtocol", "").lower()
    if protocol not in ("tcp", "udp"):
        raise ValueError("a mapping of no known protocol")
    return MappingSeen(
        protocol="tcp" if protocol == "tcp" else "udp",
        port=_port(values.get("NewExternalPort", "")),
        to=Address.parse(values.get("NewInternalClient", "")),
        to_port=_port(values.get("NewInternalPort", "")),
        name=values.get("NewPortMappingDescription", "")[:MOST_OF_A_NAME],
        enabled=values.get("NewEnabled", "1") not in ("0", "false", "no"),
        lease_seconds=_seconds(values.get("NewLeaseDuration", "0")),
        by=by,
    )


def _port(text: str) -> int:
    if not (text.isascii() and text.isdecimal() and len(text) < 6 and 0 < int(text) < 65_536):
        raise ValueError("a mapping without a port")
    return int(text)


def _seconds(text: str) -> int:
    return int(text) if text.isascii() and text.isdecimal() and len(text) < 11 else 0


def _parsed(body: bytes) -> Element:
    try:
        found: Element = fromstring(body, forbid_dtd=True)
    except (ParseError, DefusedXmlException, LookupError, RecursionError) as error:
        raise ValueError(f"XML that is not read: {type(error).__name__}") from None
    return found


def _all_elements(root: Element, name: str) -> Iterator[Element]:
    return (each for each in root.iter() if _local(each.tag) == name)


def _element_text(root: Element, name: str) -> str:
    return next(((each.text or "").strip() for each in _all_elements(root, name)), "")


def _own_text(parent: Element, name: str) -> str:
    return next(((each.text or "").strip() for each in parent if _local(each.tag) == name), "")


def _local(tag: object) -> str:
    return str(tag).rpartition("}")[2]
