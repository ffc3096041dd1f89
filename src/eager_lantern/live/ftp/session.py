"""One FTP session on real sockets: the state machine of :mod:`eager_lantern.wire.ftp`, fed by asyncio, and its
transfers.

A visit gives each of these steps a rung, a sweep gives each a wait of its own; what a step is, they share.
"""

import asyncio
import contextlib
import re
import ssl
from collections import deque
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager, closing

from ...core.values.addresses import Address
from ...wire.ftp import (
    Control,
    Endpoint,
    Event,
    Farewell,
    Preliminary,
    ProtocolFault,
    Reply,
    State,
    eprt_argument,
    extended_port,
    passive_endpoint,
    port_argument,
)
from ..common.channel import Channel, connected, packets_note
from ..common.visit_plan import WORD, VisitPlan, not_everybodys
from ..vantage.base import Connected, Door, Failed

MOST_LISTING_BYTES = 4_000_000


class Session:
    """The control connection of a visit and the data connections that it opens."""

    def __init__(self, plan: VisitPlan) -> None:
        self.plan = plan
        self.channel: Channel | None = None
        self.control = Control(plan.credentials.password.hide_in)
        self.context = _context(plan)
        self.data_protected: bool | None = None
        self.data_resumed: bool | None = None
        self.demands_resuming: bool | None = None
        self._events: deque[Event] = deque()

    @property
    def wire(self) -> Channel:
        """The control channel of a session that is connected."""
        assert self.channel is not None
        return self.channel

    async def connect(self, address: str) -> str:
        """Open the control connection."""
        endpoint = Endpoint(address, self.plan.target.port)
        connection = await connected(self.plan, endpoint)
        self.channel = await Channel.over(connection)
        return f"{endpoint} answers{packets_note(connection.sock)}"

    async def greet(self) -> str:
        """Wait for the greeting."""
        while isinstance(event := await self._event(), Preliminary):
            continue
        if isinstance(event, Farewell):
            raise Failed("refused", f"the server replied {event.reply}")
        return str(event.reply)

    async def secure(self) -> str:
        """Put the control connection under TLS, and ask for data to be protected (RFC 4217)."""
        if self.plan.security.mode == "explicit":
            await self.ask_for_tls()
        await self._handshake(self.wire)
        if self.plan.security.mode == "explicit":
            return await self.protect()
        return self._shield()

    async def ask_for_tls(self) -> None:
        """AUTH, and nothing but the handshake behind its answer. Raises Failed, ProtocolFault."""
        reply = await self.ask("AUTH", "TLS")
        if reply.code != 234:
            raise Failed("refused", f"AUTH TLS: the server replied {reply}")
        self.control.shielded()

    def _shield(self) -> str:
        assert self.wire.tls is not None
        return f"{self.wire.tls.version()}, {_trust_text(self.plan)}"

    async def protect(self) -> str:
        """PBSZ and PROT: data connections under TLS as well, or in clear where planned so."""
        await self.ask("PBSZ", "0")
        level = "P" if self.plan.security.protects_data else "C"
        reply = await self.ask("PROT", level)
        if reply.kind != 2:
            raise Failed("refused", f"PROT {level}: the server replied {reply}")
        return self._shield()

    async def login(self) -> str:
        """USER and PASS, once."""
        reply = await self.ask("USER", self.plan.credentials.user)
        if reply.kind == 3:
            reply = await self.ask("PASS", self.plan.credentials.password.reveal())
        if reply.kind == 3:
            raise Failed("refused", f"the server asks for more than a password: {reply}")
        if reply.kind != 2:
            raise Failed("refused", f"the server replied {reply}{_wants_tls(reply, self.plan)}")
        return f"as {self.plan.credentials.user}"

    async def enter(self, address: str) -> None:
        """Everything up to and with the login."""
        await self.arrive(address)
        await self.login()

    async def arrive(self, address: str) -> None:
        """Everything up to the login."""
        await self.connect(address)
        if self.plan.security.mode == "implicit":
            await self.secure()
        await self.greet()
        if self.plan.security.mode == "explicit":
            await self.secure()
        elif self.plan.security.mode == "implicit":
            await self.protect()

    async def ask(self, verb: str, argument: str = "") -> Reply:
        """Send a command and wait for its completion."""
        await self.send(verb, argument)
        return await self.completion()

    async def send(self, verb: str, argument: str = "") -> None:
        """Send a command. What is still unread then is a late word about an earlier one, and answers nothing."""
        command = self.control.command(verb, argument)
        self._events.clear()
        await self.wire.write(command)

    async def completion(self) -> Reply:
        """The completion of the command that is under way."""
        while isinstance(event := await self._event(), Preliminary):
            continue
        return self._or_gone(event)

    async def opening(self) -> Reply:
        """The preliminary reply of a transfer. Raises Failed when it is refused instead."""
        event = await self._event()
        reply = self._or_gone(event)
        if not isinstance(event, Preliminary):
            raise Failed("refused", f"{event.verb}: the server replied {reply}{_reuse_hint(reply)}")
        return reply

    def _or_gone(self, event: Event) -> Reply:
        if isinstance(event, Farewell):
            raise Failed("refused", f"the server ends the session: {event.reply}")
        return event.reply

    async def _event(self) -> Event:
        await self._heard()
        return self._events.popleft()

    async def _heard(self) -> Event:
        """The next event, which stays the next."""
        while not self._events:
            if self.control.state is State.CLOSED:
                raise Failed("wrong", "the server has closed the control connection")
            self._events.extend(self.control.receive(await self.wire.read()))
        return self._events[0]

    async def _handshake(self, channel: Channel, session: ssl.SSLSession | None = None) -> None:
        try:
            await channel.start_tls(self.context, self.plan.target.name, session)
        except ssl.SSLCertVerificationError as error:
            raise Failed("wrong", f"the certificate is not trusted here: {error.verify_message}") from None
        except (ssl.SSLError, EOFError) as error:
            reason = getattr(error, "reason", None) or str(error)
            raise Failed("wrong", f"TLS handshake: {reason}") from None

    async def passive(self) -> tuple[Endpoint, Reply]:
        """Ask for a data port; at the address of the reply."""
        peer = self.wire.peer
        if self.plan.data.extended or ":" in peer:
            reply = await self.ask("EPSV")
            if reply.code == 229:
                return Endpoint(peer, extended_port(reply)), reply
            if self.plan.data.extended != "first" or ":" in peer or reply.kind != 5:
                raise Failed("refused", f"EPSV: the server replied {reply}")
        reply = await self.ask("PASV")
        if reply.code != 227:
            raise Failed("refused", f"PASV: the server replied {reply}")
        return passive_endpoint(reply), reply

    async def dialled(self, endpoint: Endpoint) -> Channel:
        """The data connection of passive mode."""
        try:
            return await opened(self.plan, endpoint)
        except Failed as failed:
            raise Failed(failed.outcome, f"data port {endpoint.port}: {failed.detail}") from None

    async def name_port(self, endpoint: Endpoint) -> str:
        """Tell the server where to connect to, with PORT or EPRT."""
        extended = self.plan.data.extended or ":" in endpoint.address
        verb = "EPRT" if extended else "PORT"
        reply = await self.ask(verb, eprt_argument(endpoint) if extended else port_argument(endpoint))
        if self.plan.data.extended == "first" and ":" not in endpoint.address and reply.kind == 5:
            verb, reply = "PORT", await self.ask("PORT", port_argument(endpoint))
        if reply.kind != 2:
            raise Failed("refused", f"{verb} {endpoint}: the server replied {reply}")
        return f"{verb} {endpoint} accepted"

    async def arrival(self, listener: "Listener") -> Channel:
        """The server's data connection of active mode. Raises Failed where it comes from elsewhere,
        and where the server states instead that it finds no way."""
        data = asyncio.ensure_future(listener.arrival(self.wire.peer))
        heard = asyncio.ensure_future(self._heard())
        try:
            await asyncio.wait((data, heard), return_when=asyncio.FIRST_COMPLETED)
            if heard.done() and (await heard).reply.kind != 2:
                raise Failed("refused", f"the server replied {await self.completion()}")
            return await data
        finally:
            for each in (data, heard):
                each.cancel()
            await asyncio.gather(data, heard, return_exceptions=True)

    async def shield_data(self, data: Channel) -> None:
        """TLS on a data connection, resuming the control connection's session."""
        self.data_protected = self.wire.tls is not None and self.plan.security.protects_data
        if self.wire.tls is not None and self.plan.security.protects_data:
            await self._handshake(data, self.wire.tls.session if self.plan.security.resumes else None)
            self.data_resumed = data.tls is not None and data.tls.session_reused

    async def leave(self) -> None:
        """QUIT where that is possible, and close."""
        if self.channel is None:
            return
        with contextlib.suppress(Failed, ProtocolFault, OSError, ssl.SSLError, TimeoutError):
            async with asyncio.timeout(2):
                if self.control.state is State.READY:
                    await self.ask("QUIT")
        await self.channel.close()


class Listener:
    """A port that waits for the server's data connection in active mode."""

    def __init__(self, door: Door, arrivals: "asyncio.Queue[Connected]", checks_peer: bool) -> None:
        self._door = door
        self._checks_peer = checks_peer
        self.port = door.port
        self._arrivals = arrivals

    @classmethod
    async def on(cls, address: str, plan: VisitPlan) -> "Listener":
        """Listen on an address, on any free port or on one that the plan allows."""
        arrivals: asyncio.Queue[Connected] = asyncio.Queue()
        wanted = [0] if len(plan.data.active_ports) > 60_000 else plan.data.active_ports
        for port in wanted:
            try:
                door = await plan.vantage.listen(address, port, arrivals.put_nowait)
            except OSError:
                continue
            return cls(door, arrivals, plan.data.checks_peer)
        raise Failed("unknown", f"none of the ports {plan.data.active_ports} is free on {address}, {plan.vantage.name}")

    async def arrival(self, peer: str) -> Channel:
        """The server's connection. Raises Failed when it comes from elsewhere than ``peer``."""
        data = await Channel.over(await self._arrivals.get())
        if self._checks_peer and data.peer != peer:
            data.abort()
            raise Failed("wrong", f"a data connection came from {data.peer}, the server is {peer}")
        return data

    def close(self) -> None:
        """Stop listening."""
        self._door.close()


async def opened(plan: VisitPlan, endpoint: Endpoint) -> Channel:
    """A connection as a channel. Raises Failed with the network's error."""
    return await Channel.over(await connected(plan, endpoint))


async def received(data: Channel, most: int) -> AsyncIterator[bytes]:
    """The bytes of a transfer. Raises Failed when there are more than ``most``."""
    total = 0
    while chunk := await data.read():
        total += len(chunk)
        if total > most:
            raise Failed("wrong", f"more than {most} bytes came; given up")
        yield chunk


def _context(plan: VisitPlan) -> ssl.SSLContext:
    context = ssl.create_default_context(cafile=str(plan.security.trusts) if plan.security.trusts else None)
    if plan.security.any_certificate:
        context.check_hostname = False
        context.verify_mode = ssl.CERT_NONE
    return context


def _trust_text(plan: VisitPlan) -> str:
    return "certificate not examined" if plan.security.any_certificate else f"certificate good for {plan.target.name}"


_PROTECTION = re.compile(r"\b(TLS|SSL|FTPS|AUTH)\b", re.IGNORECASE)
"""Words that stand for protection, whole ones: “authentication failed” asks for none."""


def _wants_tls(reply: Reply, plan: VisitPlan) -> str:
    hint = _PROTECTION.search(reply.text)
    return "; it wants TLS first: visit with --security explicit" if hint and plan.security.mode == "none" else ""


def _reuse_hint(reply: Reply) -> str:
    return " (it may demand that data resumes the TLS session)" if reply.code == 522 else ""


def followed(plan: VisitPlan, announced: Endpoint, peer: str) -> Endpoint:
    """Where a passive reply leads: to the address that it names only where the plan follows it, reported before.
    Raises Failed where that needs a word more than was given."""
    own = plan.target.address or peer
    repaired = Address.parse(announced.address).kind != "public" == Address.parse(own).kind
    follows = plan.data.announced == "follow" or (plan.data.announced == "follow-public" and not repaired)
    if not follows or announced.address == peer:
        return Endpoint(peer, announced.port)
    if not plan.data.even_private and (what := not_everybodys(announced.address)):
        named = f"the reply names {announced.address}, {what}"
        raise Failed("wrong", f"{named}: not followed ({WORD} beside --follow-announced does)")
    plan.notice(f"data goes to {announced.address}, which only the server's reply names")
    return announced


@asynccontextmanager
async def awaited_at(session: Session, plan: VisitPlan) -> AsyncIterator[tuple[Listener, Endpoint]]:
    """A port that waits for active data, and the endpoint to name for it. Raises Failed where none is free."""
    local = session.wire.local
    with closing(await Listener.on(local, plan)) as listener:
        yield listener, Endpoint(plan.data.active_address or local, listener.port)


async def commanded(session: Session, verb: str, argument: str = "") -> None:
    """Send the command, and wait until the server begins. Raises Failed where it refuses."""
    await session.send(verb, argument)
    await session.opening()


async def taken_in(session: Session, data: Channel, verb: str, most: int = MOST_LISTING_BYTES) -> bytes:
    """All that the server sends, and its word that this was all. Raises Failed."""
    await session.shield_data(data)
    came = b"".join([chunk async for chunk in received(data, most)])
    await completed(session, data, verb)
    return came


async def completed(session: Session, data: Channel, verb: str) -> None:
    """Close the data connection, and hear how the transfer ended. Raises Failed."""
    await data.close()
    reply = await session.completion()
    if reply.kind != 2:
        raise Failed("refused", f"{verb}: the server replied {reply}")
