"""The stand-in: a real file transfer server that behaves as a service says.

pyftpdlib speaks the protocol. Configured here is what a site describes: control port,
passive range, announced addresses, TLS, the port that active mode comes from, and which
peers and addresses are taken. Where the library answers otherwise than RFC 959 has it
(it connects at PORT already, and rejects a stranger unasked), the subclasses here wait for
the transfer command.
"""

import contextlib
import itertools
import logging
import socket
import threading
from collections.abc import Iterator
from pathlib import Path
from typing import Any, Self

from OpenSSL import SSL
from pyftpdlib.authorizers import DummyAuthorizer
from pyftpdlib.handlers import FTPHandler, TLS_FTPHandler
from pyftpdlib.handlers.ftp.dispatchers import ActiveDTP, PassiveDTP
from pyftpdlib.handlers.ftps.data import TLS_DTPHandler
from pyftpdlib.ioloop import IOLoop
from pyftpdlib.servers import FTPServer

from ...core.values.addresses import Address
from .setup import Guest, StandInSetup

_LOG = logging.getLogger("pyftpdlib")
_TRANSFERS = {"LIST", "NLST", "MLSD", "RETR", "STOR", "STOU", "APPE"}
_MOST_CONNECTIONS = 8192


class StandIn:
    """A running server of one or more services; use it as a context manager."""

    def __init__(self, *setups: StandInSetup) -> None:
        _LOG.addHandler(logging.NullHandler())
        _LOG.propagate = False
        self._loop = IOLoop()
        self._servers = [
            FTPServer((address, setup.control_port), _handler(setup), ioloop=self._loop)
            for setup in setups
            for address in setup.addresses
        ]
        for each in self._servers:
            each.max_cons = _MOST_CONNECTIONS
        self._stopping = threading.Event()
        self._thread = threading.Thread(target=self._serve, name="stand-in", daemon=True)

    @property
    def port(self) -> int:
        """The control port that the first service listens on."""
        return int(self._servers[0].address[1])

    def _serve(self) -> None:
        while not self._stopping.is_set():
            self._loop.loop(timeout=0.05, blocking=False)
        self._servers[0].close_all()

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stopping.set()
        self._thread.join(timeout=5)


class _Handout:
    """The data ports of one account, in order; one that is in use is passed over."""

    def __init__(self, ports: tuple[int, ...]) -> None:
        self._count = len(ports)
        self._ports = itertools.cycle(ports)

    def next_free(self, address: str, held: frozenset[int]) -> int | None:
        """The port to hand out next; ``held`` are those of listeners and data connections of the server."""
        candidates = itertools.islice(self._ports, self._count)
        return next((port for port in candidates if port not in held and _is_free(address, port)), None)


def _is_free(address: str, port: int) -> bool:
    with contextlib.closing(socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET)) as tried:
        tried.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        with contextlib.suppress(OSError):
            tried.bind((address, port))
            return True
    return False


def _open_ports(loop: IOLoop) -> frozenset[int]:
    """The ports of all sockets that the server has open."""
    found = set()
    for each in list(loop.socket_map.values()):
        with contextlib.suppress(OSError, AttributeError):
            found.add(each.socket.getsockname()[1])
    return frozenset(found)


class _Passive(PassiveDTP):  # type: ignore[misc]
    """Turns a stranger away only when the transfer is asked for (RFC 959, section 5.4)."""

    def __init__(self, cmd_channel: Any, extmode: bool = False) -> None:
        super().__init__(cmd_channel, extmode)
        cmd_channel.waits = self

    def handle_accepted(self, sock: socket.socket, addr: tuple[str, int]) -> None:
        """A data connection has come."""
        channel = self.cmd_channel
        held, channel.held = channel.held, None
        if channel.setup.peer_must_match and channel.remote_ip != channel.setup.known(addr[0]):
            sock.close()
            self.close()
            channel.turn_away(held is not None)
            return
        super().handle_accepted(sock, addr)
        if held is not None and channel.data_channel is not None:
            channel.process_command(*held)

    def close(self) -> None:
        """Wait no more."""
        if self.cmd_channel.waits is self:
            self.cmd_channel.waits = self.cmd_channel.held = None
        super().close()


class _Active(ActiveDTP):  # type: ignore[misc]
    """Connects out from the port that the service says, and states nothing when that works."""

    def create_socket(self, *args: Any, **kwargs: Any) -> None:
        """A socket that may share its port with earlier data connections."""
        super().create_socket(*args, **kwargs)
        self.set_reuse_addr()

    def connect_af_unspecified(self, addr: tuple[str, int], source_address: Any = None) -> Any:
        """Connect from the service's port."""
        setup: StandInSetup = self.cmd_channel.setup
        way = setup.reach(*addr, source_port=setup.from_port)
        return super().connect_af_unspecified(
            (way.address, way.port), (way.source or source_address[0], 0 if way.source else setup.from_port)
        )

    def handle_connect(self) -> None:
        """The connection stands, or has failed. The library's word for the first answers PORT, which was answered."""
        self.cmd_channel.unsaid = 1
        try:
            super().handle_connect()
        finally:
            self.cmd_channel.unsaid = 0

    def initiate_send(self) -> None:
        """Nothing to send: the socket has gone over to the data channel, events and all."""

    def handle_timeout(self) -> None:
        """Nobody answered."""
        self.cmd_channel.respond("425 Data connection timed out.")
        self.close()


class _ResumedData(TLS_DTPHandler):  # type: ignore[misc]
    """A data connection under TLS that has to resume the control connection's session.

    Under TLS 1.2, which such a service is held to, connections of one session share their
    master secret (RFC 5246, section 7.3).
    """

    def handle_ssl_established(self) -> None:
        """The handshake is done."""
        if self.socket.master_key() != self.cmd_channel.socket.master_key():
            self.cmd_channel.respond("522 The data connection must resume the TLS session.")
            self.close()


class _Habits:
    """What all handlers of the stand-in do otherwise than the library."""

    setup: StandInSetup
    handouts: dict[str, _Handout]
    passive_ports: list[int] | None = None
    named: tuple[str, int] | None = None
    rejected = False
    waits: _Passive | None = None
    connects: _Active | None = None
    held: tuple[Any, ...] | None = None
    unsaid = 0
    last = ""

    def respond(self: Any, resp: str, *args: Any, **kwargs: Any) -> None:
        """Say a reply, and remember it; one that another has said before is left out."""
        if self.unsaid:
            self.unsaid -= 1
            return
        self.last = resp
        super().respond(resp, *args, **kwargs)  # type: ignore[misc]

    def ftp_PASV(self: Any, line: str) -> None:
        """Answer with the next free port, or with a refusal where there is none."""
        if self.has_port():
            super().ftp_PASV(line)  # type: ignore[misc]

    def ftp_EPSV(self: Any, line: str) -> None:
        """The same."""
        if self.has_port():
            super().ftp_EPSV(line)  # type: ignore[misc]

    def has_port(self: Any) -> bool:
        """Choose the port that is handed out next; refuse where all are taken."""
        if self.setup.passive_ports is not None:
            if self.waits is not None:
                self.waits.close()
            handout: _Handout = self.handouts[self.username]
            port = handout.next_free(self.socket.getsockname()[0], _open_ports(self.ioloop))
            if port is None:
                self.respond("425 No data port is free.")
                return False
            self.passive_ports = [port]
        return True

    @property
    def announced(self: Any) -> str | None:
        """The address to name in a passive reply; None is the server's own."""
        setup: StandInSetup = self.setup
        inside = Address.parse(self.remote_ip).number in setup.inside
        return (setup.announce_inside if inside else setup.announce) or setup.known(self.socket.getsockname()[0])

    @property
    def remote_ip(self) -> str:
        """The address that the peer is known by."""
        return str(self.__dict__["remote_ip"])

    @remote_ip.setter
    def remote_ip(self, address: str) -> None:
        self.__dict__["remote_ip"] = self.setup.known(address)  # the library formats its log with this

    def turn_away(self: Any, asked: bool) -> None:
        """Refuse the transfer that is asked for, or the next one."""
        self.rejected = not asked
        if asked:
            self.respond("425 The data connection came from another address.")

    def ftp_PORT(self: Any, line: str) -> None:
        """Remember where to connect to: six numbers (RFC 959, section 4.1.2)."""
        numbers = line.split(",")
        if len(numbers) == 6 and all(each.strip().isdecimal() and int(each) < 256 for each in numbers):
            self.will_connect(".".join(each.strip() for each in numbers[:4]), int(numbers[4]) * 256 + int(numbers[5]))
        else:
            self.respond("501 That is no address and port.")

    def ftp_EPRT(self: Any, line: str) -> None:
        """The same: family, address and port between delimiters (RFC 2428, section 2)."""
        parts = line.split(line[:1]) if line else []
        if len(parts) == 5 and parts[1] in ("1", "2") and parts[3].isdecimal() and 0 < int(parts[3]) < 65_536:
            self.will_connect(parts[2], int(parts[3]))
        else:
            self.respond("501 That is no address and port.")

    def will_connect(self: Any, ip: str, port: int) -> None:
        """Whether the next transfer goes there."""
        try:
            ip = str(Address.parse(ip))  # a helper on the way may write it in full
        except ValueError:
            self.respond("501 That is no address.")
            return
        if self.setup.repairs_private and Address.parse(ip).kind != "public":
            ip = self.remote_ip
        if ip != self.remote_ip and not self.setup.accepts_other_address:
            self.respond("501 That is not your address.")
            return
        self.named = (ip, port)
        self.respond("200 Will connect there.")

    def process_command(self: Any, cmd: str, *args: Any, **kwargs: Any) -> None:
        """Answer a command; a transfer brings the active data connection with it."""
        if cmd in ("EPSV", "EPRT") and not self.setup.speaks_epsv:
            self.respond(f"500 {cmd} is not understood.")
            return
        transfers = cmd in _TRANSFERS
        if transfers and self.rejected:
            self.rejected = False
            self.respond("425 The data connection came from another address.")
            return
        if transfers and self.waits is not None:
            self.held = (cmd, *args)  # until its data connection comes, from whomever that is
            return
        super().process_command(cmd, *args, **kwargs)  # type: ignore[misc]
        if transfers and self.named is not None:
            (ip, port), self.named = self.named, None
            if self.last.startswith("150"):
                self.connects = self.active_dtp(ip, port, self)

    def close(self: Any) -> None:
        """The session is over, and whatever it waited for."""
        for each in (self.waits, self.connects):
            if each is not None:
                each.close()
        super().close()  # type: ignore[misc]


class _Plain(_Habits, FTPHandler):  # type: ignore[misc]
    """A service without TLS, or with TLS on request."""


class _Secured(_Habits, TLS_FTPHandler):  # type: ignore[misc]
    """A service with explicit TLS."""


class _Implicit(_Secured):
    """A service that greets only under TLS."""

    def handle(self) -> None:
        """A client has connected."""
        self.secure_connection(self.ssl_context)

    def handle_ssl_established(self) -> None:
        """The handshake is done: now the greeting."""
        super().handle()


def _handler(setup: StandInSetup) -> type[Any]:
    authorizer = DummyAuthorizer()
    for guest in setup.guests:
        authorizer.add_user(guest.user, guest.password, str(guest.folder), perm=guest.rights)
    active: type[Any] = type("Active", (_Active,), {"timeout": setup.patience_seconds})
    settings: dict[str, Any] = {
        "setup": setup,
        "handouts": {each.user: _Handout(tuple(_offered(setup, each))) for each in setup.guests},
        "authorizer": authorizer,
        "banner": "stand-in ready",
        "masquerade_address": _Habits.announced,  # public interface: the address in passive replies
        "permit_foreign_addresses": True,
        "active_dtp": active,
        "passive_dtp": _Passive,
    }
    if setup.certificate is None:
        return type("Handler", (_Plain,), settings)
    secured = {
        "ssl_context": _context(setup, setup.certificate),
        "tls_control_required": setup.tls_required,
        "tls_data_required": setup.tls_required and setup.protects_data,
    }
    if setup.reuse_required:
        secured["dtp_handler"] = _ResumedData
    base = _Implicit if setup.tls == "implicit" else _Secured
    return type("SecuredHandler", (base,), {**settings, **secured})


def _offered(setup: StandInSetup, guest: Guest) -> Iterator[int]:
    return iter(guest.ports or setup.passive_ports or ())


def _context(setup: StandInSetup, certificate: Path) -> SSL.Context:
    context = SSL.Context(SSL.TLS_SERVER_METHOD)
    context.use_certificate_chain_file(str(certificate))
    context.use_privatekey_file(str(certificate))
    context.set_session_id(b"stand-in")
    if setup.reuse_required:
        context.set_max_proto_version(SSL.TLS1_2_VERSION)
    return context
