"""Stand-ins for a router (NAT-PMP, PCP, UPnP), a STUN server and a greeting port, for rehearsals and tests."""

import asyncio
import contextlib
import socket
import struct
import threading
from collections.abc import Callable, Iterator, Sequence
from ipaddress import ip_address
from typing import cast
from xml.sax.saxutils import escape

from msgspec import Struct

from ...core.observed.survey import MappingSeen
from ...core.values.addresses import Address

MAPPING_PORT, SEARCH_PORT = 5351, 1900
SERVICE = "urn:schemas-upnp-org:service:WANIPConnection:1"
_ENVELOPE = (
    '<?xml version="1.0"?><s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body>{}</s:Body>'
    "</s:Envelope>"
)
_PAGE = f"""<?xml version="1.0"?>
<root xmlns="urn:schemas-upnp-org:device-1-0"><device><deviceList><device><serviceList><service>
<serviceType>{SERVICE}</serviceType><controlURL>/mappings</controlURL>
</service></serviceList></device></deviceList></device></root>"""
MOST_REQUEST = 65_536


class RouterSetup(Struct, frozen=True):
    """What the router states: where it stands, its outside address, and its mappings."""

    address: str
    outside: Address
    mappings: tuple[MappingSeen, ...] = ()


class StandInRouter:
    """A router of these words, as an asynchronous context manager. ``asked`` keeps what it was asked, in words."""

    def __init__(self, setup: RouterSetup) -> None:
        self.setup = setup
        self.asked: list[str] = []
        self.mapped: dict[int, int] = {}
        self._page: asyncio.Server | None = None
        self._transports: list[asyncio.DatagramTransport] = []
        self._page_port = 0

    async def __aenter__(self) -> "StandInRouter":
        self._page = await asyncio.start_server(self._served, self.setup.address, 0, limit=MOST_REQUEST)
        self._page_port = self._page.sockets[0].getsockname()[1]
        for port, answer in ((MAPPING_PORT, self._of_mapping), (SEARCH_PORT, self._of_search)):
            transport, _ = await answering_datagrams(self.setup.address, port, answer)
            self._transports.append(transport)
        return self

    async def __aexit__(self, *_: object) -> None:
        for each in self._transports:
            each.close()
        if self._page is not None:
            self._page.close()

    def _of_mapping(self, question: bytes, _: object) -> bytes:
        outside = ip_address(str(self.setup.outside)).packed
        if question == b"\0\0":
            self.asked.append("outside address")
            return struct.pack("!BBHI", 0, 128, 0, 61) + outside
        if len(question) < 24 or question[0] != 2:
            return b""
        head = struct.pack("!BBBBII12x", 2, 0x80 | question[1], 0, 0, int.from_bytes(question[4:8]), 61)
        if question[1] == 0:
            self.asked.append("whether it speaks PCP")
            return head
        if question[1] != 1 or len(question) < 60:
            return head[:3] + b"\x04" + head[4:]
        seconds, port = int.from_bytes(question[4:8]), int.from_bytes(question[40:42])
        self.asked.append(f"a mapping of port {port} for {seconds} s")
        if seconds:
            self.mapped[port] = seconds
        else:
            self.mapped.pop(port, None)
        mapped = b"\0" * 10 + b"\xff\xff" + outside if len(outside) == 4 else outside
        return head + question[24:42] + question[40:42] + mapped

    def _of_search(self, question: bytes, _: object) -> bytes:
        if not question.startswith(b"M-SEARCH * HTTP/1.1\r\n"):
            return b""
        self.asked.append("its description")
        page = f"http://{self.setup.address}:{self._page_port}/device.xml"
        lines = ("HTTP/1.1 200 OK", f"LOCATION: {page}", "EXT:", "", "")
        return "\r\n".join(lines).encode()

    async def _served(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            head = (await reader.readuntil(b"\r\n\r\n")).decode("latin-1")
            lengths = [line.split(":")[1] for line in head.lower().splitlines() if line.startswith("content-length:")]
            body = await reader.readexactly(min(int(lengths[0]), MOST_REQUEST) if lengths else 0)
            writer.write(self._answered(head, body.decode("latin-1")))
            await writer.drain()
        except (OSError, ValueError, asyncio.IncompleteReadError, asyncio.LimitOverrunError):
            pass
        finally:
            writer.close()

    def _answered(self, head: str, body: str) -> bytes:
        status, page = "200 OK", _PAGE
        if "GetExternalIPAddress" in body:
            page = _soap_answer("GetExternalIPAddress", (("NewExternalIPAddress", str(self.setup.outside)),))
        elif "GetGenericPortMappingEntry" in body:
            number = int(body.partition("<NewPortMappingIndex>")[2].partition("<")[0])
            if number < len(self.setup.mappings):
                page = _soap_answer("GetGenericPortMappingEntry", _values(self.setup.mappings[number]))
            else:
                status, page = "500 Internal Server Error", _ENVELOPE.format(_NO_MORE)
        elif not head.startswith("GET /device.xml "):
            status, page = "404 Not Found", ""
        return f"HTTP/1.1 {status}\r\nContent-Length: {len(page.encode())}\r\nConnection: close\r\n\r\n{page}".encode()


_NO_MORE = (
    "<s:Fault><faultcode>s:Client</faultcode><detail><UPnPError><errorCode>713</errorCode><errorDescription>no more"
    "</errorDescription></UPnPError></detail></s:Fault>"
)


def _soap_answer(action: str, values: Sequence[tuple[str, str]]) -> str:
    inside = "".join(f"<{name}>{escape(value)}</{name}>" for name, value in values)
    return _ENVELOPE.format(f'<u:{action}Response xmlns:u="{SERVICE}">{inside}</u:{action}Response>')


def _values(each: MappingSeen) -> tuple[tuple[str, str], ...]:
    return (
        ("NewExternalPort", str(each.port)),
        ("NewProtocol", each.protocol.upper()),
        ("NewInternalPort", str(each.to_port)),
        ("NewInternalClient", str(each.to)),
        ("NewEnabled", str(int(each.enabled))),
        ("NewPortMappingDescription", each.name),
        ("NewLeaseDuration", str(each.lease_seconds)),
    )


_COOKIE = 0x2112A442


class StandInStun:
    """A STUN server at an address, as an asynchronous context manager; ``seen_as`` is what it tells everybody."""

    def __init__(self, address: str, port: int = 0, seen_as: Address | None = None) -> None:
        self._address, self.port, self._seen_as = address, port, seen_as
        self._transport: asyncio.DatagramTransport | None = None

    async def __aenter__(self) -> "StandInStun":
        self._transport, self.port = await answering_datagrams(self._address, self.port, self._answered)
        return self

    async def __aexit__(self, *_: object) -> None:
        if self._transport is not None:
            self._transport.close()

    def _answered(self, question: bytes, sender: tuple[str, int]) -> bytes:
        if len(question) < 20 or struct.unpack_from("!HHI", question) != (1, len(question) - 20, _COOKIE):
            return b""
        address = ip_address(str(self._seen_as or sender[0]))
        mask = question[4:20]
        xored = bytes(a ^ b for a, b in zip(address.packed, mask, strict=False))
        family = 1 if address.version == 4 else 2
        value = struct.pack("!BBH", 0, family, sender[1] ^ (_COOKIE >> 16)) + xored
        body = struct.pack("!HH", 0x0020, len(value)) + value
        return struct.pack("!HH", 0x0101, len(body)) + mask + body


@contextlib.contextmanager
def greeter(address: str, port: int, line: str) -> Iterator[None]:
    """Answer on a port until the context ends. Raises OSError where the port is taken."""
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    server = socket.create_server((address, port), family=family)
    thread = threading.Thread(target=_greet_callers, args=(server, line), daemon=True)
    thread.start()
    try:
        yield
    finally:
        server.shutdown(socket.SHUT_RDWR)
        server.close()
        thread.join(timeout=5)


def _greet_callers(server: socket.socket, line: str) -> None:
    with contextlib.suppress(OSError):  # the server is closed
        while True:
            caller, _ = server.accept()
            with caller, contextlib.suppress(OSError):
                caller.sendall(line.encode())


Answer = Callable[[bytes, tuple[str, int]], bytes]
"""What is said to a datagram and its sender; nothing where that is empty."""


async def answering_datagrams(address: str, port: int, answer: Answer) -> tuple[asyncio.DatagramTransport, int]:
    """Answer at a port, any free one for 0, until the transport is closed. Raises OSError."""
    transport, _ = await asyncio.get_running_loop().create_datagram_endpoint(
        lambda: _Answering(answer), local_addr=(address, port)
    )
    return transport, int(transport.get_extra_info("sockname")[1])


class _Answering(asyncio.DatagramProtocol):
    def __init__(self, answer: Answer) -> None:
        self._answer = answer

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        """Keep where answers go."""
        self._transport = cast(asyncio.DatagramTransport, transport)

    def datagram_received(self, data: bytes, sender: tuple[str, int]) -> None:
        """Answer, or state nothing."""
        if reply := self._answer(data, sender):
            self._transport.sendto(reply, sender)
